"""A fit in plain sentences: what one more of a column does, how much groups differ, how rows scatter."""

from __future__ import annotations

import itertools
import math
import re
from collections.abc import Iterator, Mapping
from typing import Any

from bold_orchard.errors import a_or_an
from bold_orchard.results.base import Absent
from bold_orchard.results.explain import ExplainResult, Explanation
from bold_orchard.results.fit import FitResult, RandomPart, Smooth
from bold_orchard.wording import Wording

SCHEMA = "bold-orchard/explain/1"
TOP = 700.0  # of an exponent
# what exp(coefficient) multiplies, by link, where the link's scale is the outcome's own logarithm
MULTIPLIED = {"logit": "the odds of", "cloglog": "the hazard of"}


def explain(
    d: FitResult, labels: Mapping[str, str] | None = None, digits: int = 4, wording: Wording | None = None
) -> ExplainResult:
    """The document of ``orchard explain``; ``labels`` are texts for columns and terms, with their units of measurement."""
    words = _Words(d, dict(labels or {}), digits, wording or Wording())
    made = [*words.fit(), *words.fixed(), *words.parts(), *words.random(), *words.residual()]
    return ExplainResult(SCHEMA, d.name, d.model, d.outcome, d.confidence, made, list(d.warnings))


def capital(text: str) -> str:
    """The text with a capital first letter."""
    return text[:1].upper() + text[1:]


class _Words:
    def __init__(self, d: FitResult, labels: dict[str, str], digits: int, wording: Wording) -> None:
        self.d, self.labels, self.digits, self.wording = d, labels, digits, wording
        self.logged = d.outcome.startswith("log(") or d.family == "lognormal"
        plain = d.outcome.removeprefix("log(").removesuffix(")") if d.outcome.startswith("log(") else d.outcome
        self.outcome = labels.get(d.outcome, labels.get(plain, plain))
        self.multiplies = self.logged or d.link in ("log", "logit", "cloglog")
        self.kept = {r.term: r for r in d.fixed}
        self.sds = {(p.group, t): sd for p in d.random for t, sd in zip(p.terms, p.sd)}

    # -- pieces

    def number(self, value: float) -> str:
        text = f"{value:.{self.digits}g}"
        return text if "e" not in text or abs(value) >= 1e9 or abs(value) < 1e-6 else f"{value:,.0f}"

    def factor(self, value: float) -> str:
        return self.number(math.exp(min(value, TOP)))

    def named(self, text: str) -> str:
        return self.labels.get(text, text)

    def what(self) -> str:
        """What the coefficients are about."""
        if self.d.family == "ordinal":
            return f"a higher grade of {self.outcome}"
        if self.logged:
            return f"typical {self.outcome}"
        return {"logit": f"{self.outcome}", "cloglog": f"{self.outcome}"}.get(
            self.d.link, f"the mean of {self.outcome}"
        )

    def interval(self, ci: Any, back: bool) -> str:
        low, high = ((self.factor(v) if back else self.number(v)) for v in ci)
        return f"{100 * self.d.confidence:g}% interval {low} to {high}"

    def change(self, estimate: float, ci: Any) -> str:
        """What a coefficient does to the outcome."""
        sure = "" if ci is None or ci[0] * ci[1] > 0 else "; the interval holds no change"
        if self.multiplies:
            whole = f"{MULTIPLIED[self.d.link]} {self.what()}" if self.d.link in MULTIPLIED else self.what()
            told = "" if ci is None else f" ({self.interval(ci, True)}{sure})"
            return f"multiplies {whole} by {self.factor(estimate)}{told}"
        ends = ci if ci is None or estimate >= 0 else [-ci[1], -ci[0]]
        told = "" if ci is None else f" ({self.interval(ends, False)}{sure})"
        direction = "raises" if estimate >= 0 else "lowers"
        scale = "" if self.d.link == "identity" else f" on the {self.d.link} scale"
        return f"{direction} {self.what()} by {self.number(abs(estimate))}{scale}{told}"

    # -- the sentences

    def fit(self) -> Iterator[Explanation]:
        d = self.d
        units = ", ".join(f"{g.levels:,} levels of {g.group}" for g in d.groups)
        kind = "linear" if d.family == "gaussian" and d.link == "identity" else f"{d.family} ({d.link} link)"
        by = "restricted maximum likelihood" if d.method == "REML" else "maximum likelihood"
        text = f"A {kind} mixed model of {d.outcome}, fitted by {by} to {d.rows.used:,} rows" + (
            f" in {units}." if units else "."
        )
        if not d.converged:
            text += " The search did NOT converge: the figures below must not be used."
        yield Explanation("fit", None, None, text)

    def fixed(self) -> Iterator[Explanation]:
        others = len(self.d.fixed) > 2
        for row in self.d.fixed[len(self.d.thresholds) :]:
            if row.estimate is None:
                text = f"{self.named(row.label)} has no estimate: the rows do not tell it apart from other terms."
            elif self.d.family == "nominal":
                text = self._of_level(row)
            elif row.term in self.of_outcomes:
                text = self._of_outcome(row)
            elif row.term == "intercept":
                text = self._intercept(row.estimate, row.ci)
            elif "*" in row.term:
                text = (f"The product {self._product(row.label)} {self.change(row.estimate, row.ci)} for every 1 that it grows: by so much the effect of "
                        "each part depends on the other.")  # fmt: skip
            else:
                rest = ", all else being equal" if others else ""
                text = f"{self._step(row.term, row.label)} {self.change(row.estimate, row.ci)}{rest}.{self._differs(row.term)}"
            yield Explanation("fixed", row.term, None, text)

    def parts(self) -> Iterator[Explanation]:
        """What else depends on columns: the odds of zeros, the spread."""
        for part in () if isinstance(self.d.parts, Absent) else self.d.parts:
            what = {
                "zeros": f"the odds that {self.outcome} is a zero of its own",
                "spread": f"the spread of {self.outcome}",
            }[part.part]
            if part.part == "zeros" and self.d.family.startswith("hurdle"):
                what = f"the odds that {self.outcome} is zero"
            for row in part.fixed:
                if row.estimate is None:
                    continue
                told = self._told(row.ci)
                if row.term == "intercept":
                    if part.part != "zeros":
                        continue
                    text = f"Where all else is zero or at its baseline, {what} are {self.factor(row.estimate)}{told}."
                else:
                    text = f"{self._step(row.term, row.label)} multiplies {what} by {self.factor(row.estimate)}{told}."
                yield Explanation("fixed", f"{part.part}: {row.term}", None, text)

    def _told(self, ci: Any) -> str:
        """The interval of a factor, and that it holds no change where it does."""
        if ci is None:
            return ""
        return f" ({self.interval(ci, True)}{'' if ci[0] * ci[1] > 0 else '; the interval holds no change'})"

    @property
    def of_outcomes(self) -> dict[str, tuple[str, str]]:
        """Terms of several outcomes, each with its outcome and what it is of it."""
        names = () if isinstance(self.d.rows.observed, Absent) else tuple(self.d.rows.observed)
        found = [(r.term, n, r.term[len(n) + 2 :]) for r in self.d.fixed for n in names if r.term.startswith(f"{n}: ")]
        return {term: (name, rest) for term, name, rest in found}

    def _of_outcome(self, row: Any) -> str:
        name, rest = self.of_outcomes[row.term]
        label = row.label[len(name) + 2 :]
        told = "" if row.ci is None else f" ({self.interval(row.ci, False)})"
        if rest == "intercept":
            return (
                f"Where all else is zero or at its baseline, the mean of {name} is {self.number(row.estimate)}{told}."
            )
        direction = "raises" if row.estimate >= 0 else "lowers"
        ends = row.ci if row.ci is None or row.estimate >= 0 else [-row.ci[1], -row.ci[0]]
        told = "" if ends is None else f" ({self.interval(ends, False)})"
        return f"{self._step(rest, label)} {direction} the mean of {name} by {self.number(abs(row.estimate))}{told}."

    def _of_level(self, row: Any) -> str:
        """A coefficient of one equation of an unordered outcome."""
        levels = [] if isinstance(self.d.levels, Absent) else list(self.d.levels)
        level = next(n for n in sorted(levels, key=len, reverse=True) if row.term.startswith(f"{n}: "))
        term, label = row.term[len(level) + 2 :], row.label[len(level) + 2 :]
        told = self._told(row.ci)
        odds = f"the odds of {level} instead of {levels[0]}"
        if term == "intercept":
            return f"Where all else is zero or at its baseline, {odds} are {self.factor(row.estimate)}{told}."
        return f"{self._step(term, label)} multiplies {odds} by {self.factor(row.estimate)}{told}."

    def _step(self, term: str, label: str) -> str:
        for at in (m.start() for m in re.finditer(": ", label)):
            variable, levels = label[:at], label[at + 2 :]
            level = term[len(variable) + 1 : -1]
            if term.startswith(f"{variable}[") and levels.startswith(f"{level} vs "):
                raw = variable.removeprefix("category(").removesuffix(")")
                column = raw if raw in self.wording.columns else variable
                one, other = (self.wording.level(column, text) for text in (level, levels[len(level) + 4 :]))
                return f"{self.named(column)} {one} instead of {other}"
        if term in self.labels:
            return f"1 more {self.labels[term]}"
        inner = re.fullmatch(r"(centre|zscore)\(([^(),]+)\)", term)
        if inner is None:
            return f"1 more {term}"
        return f"1 {'SD ' if inner[1] == 'zscore' else ''}more {self.named(inner[2])}"

    def _product(self, label: str) -> str:
        """The parts of a product in words."""
        out = []
        for part in label.split(" * "):
            name, sign, levels = part.partition(": ")
            raw = name.removeprefix("category(").removesuffix(")")
            column = raw if raw in self.wording.columns else name
            one, vs, other = levels.partition(" vs ")
            told = f"{self.wording.level(column, one)}{vs}{self.wording.level(column, other)}" if vs else levels
            out.append(f"{self.named(column)}{sign}{told}")
        return " * ".join(out)

    def _where(self, text: str) -> str:
        """A value at which the intercept stands: soil = clay."""
        name, sign, value = text.partition(" = ")
        raw = name.removeprefix("category(").removesuffix(")")
        column = raw if raw in self.wording.columns else name
        return f"{self.wording.column(column)}{sign}{self.wording.level(column, value)}"

    def _intercept(self, estimate: float, ci: Any) -> str:
        at = "; ".join(self._where(text) for text in self.d.intercept_at)
        where = f"At {at}, " if at else "On average, "
        told = "" if ci is None else f" ({self.interval(ci, self.multiplies)})"
        if self.d.link in MULTIPLIED:
            return f"{where}{MULTIPLIED[self.d.link]} {self.what()} are {self.factor(estimate)}{told}."
        value = self.factor(estimate) if self.multiplies else self.number(estimate)
        scale = "" if self.multiplies or self.d.link == "identity" else f" on the {self.d.link} scale"
        return f"{where}{self.what()} is {value}{scale}{told}."

    def _differs(self, term: str) -> str:
        out = ""
        for (group, name), sd in self.sds.items():
            if name == term and sd is not None and sd > 0:
                out += f" From {group} to {group} this effect varies with an SD of {self.number(sd)}" + (
                    " on the log scale." if self.multiplies else "."
                )
        return out

    def random(self) -> Iterator[Explanation]:
        curves = [] if isinstance(self.d.smooths, Absent) else self.d.smooths
        for curve in curves:
            yield Explanation("random", curve.smooth, None, self._curve(curve))
        for part in self.d.random:
            if curves and part.structure == "identity" and part.terms[0].startswith("wiggle("):
                continue
            for term, sd in zip(part.terms, part.sd):
                yield Explanation("random", term, part.group, self._variation(part, term, sd))
            for i, j in itertools.combinations(range(len(part.terms)), 2):
                r = part.correlation[j][i]
                if r is None or part.structure in ("diagonal", "identity"):
                    continue
                direction = "larger" if r >= 0 else "smaller"
                yield Explanation(
                    "random", f"{part.terms[i]}, {part.terms[j]}", part.group,
                    f"{capital(a_or_an(part.group))} with a higher {part.terms[i]} has a {direction} {self._effect(part.terms[j])} (correlation {self.number(r)}).",
                )  # fmt: skip

    def _curve(self, curve: Smooth) -> str:
        if not curve.sd or curve.edf is None:
            return f"{curve.smooth} is a straight line: the rows show no bend beyond chance."
        p = (
            ""
            if curve.p is None
            else f" (p {'< 0.001' if curve.p < 0.001 else f'= {curve.p:.3f}'} against a straight line)"
        )
        return f"{curve.smooth} is a curve of {self.number(curve.edf)} effective degrees of freedom{p}; its coefficient is that of its straight part alone: draw --kind effects shows it."

    def _effect(self, term: str) -> str:
        return {"intercept": "intercept", "spread": "scatter", "zeros": "probability of zeros"}.get(
            term, term if term.endswith(": intercept") else f"effect of {self.named(term)}"
        )

    def _variation(self, part: RandomPart, term: str, sd: float | None) -> str:
        group = part.group
        if sd is None or sd == 0:
            return f"No variation of the {self._effect(term)} between levels of {group} can be seen."
        if term == "zeros":
            return f"From {group} to {group} the odds of zeros vary: {a_or_an(group)} one SD above the typical one has {self.factor(sd)} times these odds."
        if term.endswith(": intercept") and self.d.family == "nominal":
            level = term.removesuffix(": intercept")
            return f"From {group} to {group} the odds of {level} vary: {a_or_an(group)} one SD above the typical one has {self.factor(sd)} times these odds."
        if term == "spread":
            return f"Rows scatter more in some {group} than in others: {a_or_an(group)} one SD above the typical one has {self.factor(sd)} times its residual SD."
        if term != "intercept":
            return (f"The {self._effect(term)} varies from {group} to {group} with an SD of {self.number(sd)}"
                    + (" on the log scale." if self.multiplies else "."))  # fmt: skip
        if self.multiplies:
            whole = f"{MULTIPLIED[self.d.link]} {self.what()}" if self.d.link in MULTIPLIED else self.what()
            return (
                f"From {group} to {group}, all else being equal, {whole} {'vary' if self.d.link == 'logit' else 'varies'}: {a_or_an(group)} one SD "
                f"above the typical one has {self.factor(sd)} times as much."
            )
        scale = "" if self.d.link == "identity" else f" on the {self.d.link} scale"
        return (f"From {group} to {group}, all else being equal, {self.what()} varies with an SD of {self.number(sd)}{scale}: about two thirds of them lie "
                f"within that much of the typical {group}.")  # fmt: skip

    def residual(self) -> Iterator[Explanation]:
        made = self.d.residual
        if made is None:
            return
        if made.structure == "known":
            yield Explanation(
                "residual",
                "residual",
                "residual",
                "How far each row may be off is known: its SD is given, not estimated.",
            )
            return
        if isinstance(made.sd, float):
            scale = " on the log scale" if self.logged else ""
            inside = f" of one {self.d.groups[-1].group}" if self.d.groups else ""
            text = (
                f"Rows{inside} scatter around what the model says of them with an SD of {self.number(made.sd)}{scale}."
            )
            yield Explanation("residual", "residual", "residual", text)
            parameters = made.parameters if isinstance(made.parameters, dict) else {}
            for name, value in parameters.items():
                if isinstance(value, (int, float)):
                    told = f"Residuals of one {made.unit} are correlated ({made.structure}): {name} is {self.number(value)}."
                    yield Explanation("residual", name, "residual", told)
            return
        for name, meaning in self.d.own_meanings.items():
            value = getattr(made, name, None)
            if isinstance(value, float):
                said = f"{name.replace('_', ' ')}: {self.number(value)} ({meaning})."
                yield Explanation("residual", name, "residual", capital(said))
