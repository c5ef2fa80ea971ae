"""Equations of rows with several linear predictors: the law of the outcome, one line for each predictor, the units'
effects jointly."""

from __future__ import annotations

from bold_orchard.design.design import UnitCodes
from bold_orchard.inference.notation.symbols import total, upright
from bold_orchard.inference.notation.writer import Writer
from bold_orchard.sentence.tree import MEAN

# own parameters whose law has a squared scale, which the predictor describes by its root
ROOTS = ("lognormal", "student", "gaussian")


class SeveralWriter(Writer):
    """As ``Writer``; coefficients are numbered through all predictors."""

    def combined(self) -> list[tuple[str, str]]:
        return self.predictor_lines()

    def rows_level(self) -> list[tuple[str, str]]:
        return self.predictor_lines()

    def unit_level(self, unit: UnitCodes) -> list[tuple[str, str]]:
        return []  # what varies stands in the predictors already

    def predictor_lines(self) -> list[tuple[str, str]]:
        """The law of the outcome, then every predictor by its link."""
        design, s = self.fit.design, self.at.row
        law, mean = design.kind.written(design.link)
        y = upright(design.outcome.split(" of ")[0] if design.trials is not None else design.outcome)
        lefts = {MEAN: mean} if MEAN in design.predictors else {n: self._left_of_level(n) for n in design.predictors}
        if MEAN in design.predictors:
            for part in design.kind.chosen:  # type: ignore[attr-defined]
                own = next(o for o in design.kind.plain.own if o.place == part.place)  # type: ignore[attr-defined]
                symbol, falls = own.symbol, (part.sign < 0) == (own.back(1.0) > own.back(0.0))
                row = f"{symbol}_{{@}}"
                if part.name == "spread" and design.family in ROOTS:
                    law, row = law.replace(symbol, r"\sigma_{@}^{2}"), r"\sigma_{@}"
                else:
                    law = law.replace(symbol, row)
                what = {
                    "zeros": "the probability of a zero, ",
                    "spread": "the root of " if row == r"\sigma_{@}" else "",
                }[part.name]
                self.where[row.replace("@", s)] = f"{what}{own.meaning}, in a row"
                link = r"\operatorname{logit}" if part.link == "logit" else r"\log"
                lefts[part.name] = f"{'-' if falls else ''}{link} {row}"
        lines = [(f"{y}_{{{s}}}", f"\\sim {law.replace('@', s)}")]
        return lines + [(lefts[n].replace("@", s), total(self._parts_of(n))) for n in design.predictors]

    def _left_of_level(self, level: str) -> str:
        first, own = (f"\\operatorname{{P}}({upright(text)}_{{@}})" for text in (self.fit.design.levels[0], level))
        return f"\\log ({own} / {first})"

    def _parts_of(self, predictor: str) -> list[str]:
        """What one predictor adds up."""
        design, out = self.fit.design, []
        owner = {n: design.fixed.terms[k] for n, k in zip(design.fixed.names, design.fixed.owner)}
        for name in self.fixed:
            if owner[name].outcome == predictor:
                out.append(self._times(self.coefficient(name), name.removeprefix(owner[name].prefix), name))
        if predictor == MEAN and design.offset is not None:
            offset = next((str(t) for t in design.sentence.terms if "offset" in str(t)), "offset")
            out.append(f"{upright(offset)}_{{{self.at.row}}}")
        for clause in self.clauses:
            for name, k in zip(clause.part.names, clause.part.owner):
                term = clause.part.terms[k]
                if term.outcome == predictor:
                    plain = "intercept" if term.bare is not None else name.removeprefix(term.prefix)
                    out.append(self._times(self.effect(clause, name), plain, name))
        return out

    def _times(self, factor: str, plain: str, name: str) -> str:
        if plain == "intercept":
            return factor
        return f"{factor} \\, {upright(plain)}_{{{self.at.subscript(self.values(name))}}}"
