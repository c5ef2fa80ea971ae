"""What writes a model out, level by level and in one line."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Clause, UnitCodes
from bold_orchard.design.validation import is_nested
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.notation.residuals import residual_lines
from bold_orchard.inference.notation.symbols import Indices, number, total, upright, variable
from bold_orchard.inference.notation.unicode import text_of
from bold_orchard.inference.notation.variation import effect_lines
from bold_orchard.results.equations import EquationsResult
from bold_orchard.results.worded import Worded
from bold_orchard.wording import Wording

Array = NDArray[Any]
SCHEMA = "bold-orchard/equations/1"
STEPS = (r"\pi", r"\kappa", r"\lambda", r"\omega", r"\psi")  # a coefficient at the rows, and at each unit above
EFFECTS = "uvwabcdefgh"


@dataclass(frozen=True)
class Writer:
    fit: Fit
    estimates: bool
    digits: int
    where: dict[str, str] = field(default_factory=dict)

    @cached_property
    def words(self) -> Worded:
        return Worded(self.fit.settings.wording or Wording())

    @cached_property
    def at(self) -> Indices:
        return Indices(self.fit.design)

    @cached_property
    def fixed(self) -> dict[str, int]:
        """Names of the columns of X and their place, aliased ones left out."""
        dropped = {r["term"] for r in self.fit.result.coefficient_rows if r["estimate"] is None}
        return {n: i for i, n in enumerate(self.fit.design.fixed.names) if n not in dropped}

    @property
    def clauses(self) -> list[Clause]:
        """Without the wiggles of curves, which are written as functions."""
        return [c for c in self.fit.design.clauses if not c.wiggle]

    def bends(self) -> list[str]:
        """What every curve adds to its straight part."""
        out: list[str] = []
        for clause, each in zip(self.fit.design.clauses, self.fit.design.sentence.clauses):
            if each.curve is None:
                continue
            unit, x = self.unit(clause), str(each.curve.arguments[0])
            place = str(len(out) + 1) + ("" if unit.curve else "," + self.at.of(unit))
            of, functions = "" if unit.curve else f" of one {unit.name}", len(clause.part.names)
            self.where[f"f_{{{place}}}"] = (
                f"how the curve {each.curve}{of} bends around its straight part: a natural cubic spline, its {functions} coefficients normal around zero "
                "with one variance"
                + (f", estimated as {self._variance(clause):.{self.digits}g}" if self.estimates else "")
            )
            out.append(f"f_{{{place}}}({upright(x)}_{{{self.at.row}}})")
        return out

    def _variance(self, clause: Clause) -> float:
        g = self.fit.evaluation.covariance(clause.block)
        return float(g[clause.columns.start, clause.columns.start])

    @cached_property
    def varying(self) -> dict[str, list[Clause]]:
        """Terms whose coefficient differs between units, with the clauses that say so; the intercept first."""
        out: dict[str, list[Clause]] = {}
        for clause in self.clauses:
            for name in clause.part.names:
                if name != "spread" or not clause.has_spread:  # a matter of the residuals
                    out.setdefault(name, []).append(clause)
        first = [n for n in ("intercept", *self.fixed) if n in out]
        return {n: out[n] for n in dict.fromkeys([*first, *out])}

    def letter(self, clause: Clause) -> str:
        return EFFECTS[next(i for i, c in enumerate(self.fit.design.clauses) if c is clause) % len(EFFECTS)]

    def unit(self, clause: Clause) -> UnitCodes:
        return self.fit.design.units[clause.unit]

    def effect(self, clause: Clause, name: str) -> str:
        """u_{0j}; the unit's only effect has no number."""
        names = clause.part.names
        place = "" if len(names) == 1 else str(names.index(name))
        return f"{self.letter(clause)}_{{{place}{self.at.of(self.unit(clause))}}}"

    def coefficient(self, name: str) -> str:
        """beta_k, or its estimate."""
        k = self.fixed[name] + (0 if "intercept" in self.fixed else 1)
        symbol = f"\\beta_{{{k}}}"
        row = next(r for r in self.fit.result.coefficient_rows if r["term"] == name)
        part = name.removesuffix(": intercept")
        meaning = "average intercept" + (f" of {part}" if part not in (name, "intercept") else "")
        if name != "intercept" and part == name:
            meaning = f"average effect of {self.words.term(row['label'])}"
        self.where[symbol] = meaning + (f", estimated as {row['estimate']:.{self.digits}g} (SE {row['se']:.{max(self.digits - 1, 1)}g})"
                                        if self.estimates and row["se"] is not None else "")  # fmt: skip
        return number(row["estimate"], self.digits) if self.estimates else symbol

    def column(self, name: str, values: Array) -> str:
        """A column with its indices; a product as its factors, each with its own."""
        known = dict(zip(self.fit.design.fixed.names, self.fit.design.fixed.values))
        parts = name.split("*")
        if len(parts) > 1 and all(p in known for p in parts):
            return r" \cdot ".join(variable(self._text(p), self.at.subscript(known[p])) for p in parts)
        return variable(self._text(name), self.at.subscript(values))

    def _text(self, name: str) -> str:
        """A column as it is written: the texts of its column and its level, in the place of their names."""
        made = re.fullmatch(r"(.+)\[([^\[\]]*)\]", name)
        if made is None:
            return self.words.factor(name)
        return f"{self.words.factor(made[1])}[{self.words.level(made[1], made[2])}]"

    def times(self, factor: str, name: str, values: Array) -> str:
        return factor if name == "intercept" else f"{factor} \\, {self.column(name, values)}"

    def chain(self, name: str) -> list[UnitCodes] | None:
        """The units by which a coefficient varies, finest first, where each lies inside the next; else None."""
        units = sorted({self.unit(c).name: self.unit(c) for c in self.varying[name]}.values(), key=lambda u: -u.size)
        return units if all(is_nested(a, b) for a, b in itertools.pairwise(units)) else None

    @cached_property
    def homes(self) -> dict[str, tuple[str, UnitCodes, str]]:
        """Columns of X that stand above the rows: whose coefficient they explain, at which unit, and what stands there
        of them."""
        out = {}
        values = dict(zip(self.fit.design.fixed.names, self.fit.design.fixed.values))
        for name in self.fixed:
            if name in self.varying:
                continue
            for target in self.varying:
                units = self.chain(target)
                rest = name if target == "intercept" else _rest(name, target)
                if units is None or rest is None or rest not in values:
                    continue
                home = self.at.home(values[rest])
                if home is not None and home.name in {u.name for u in units}:
                    out[name] = (target, home, rest)
                    break
        return out

    def rows_level(self) -> list[tuple[str, str]]:
        parts = []
        for r, name in enumerate(self.varying):
            letters = self.joint(name)
            symbol = f"{STEPS[0]}_{{{r}{letters}}}"
            self.where[symbol] = (
                f"{'intercept' if name == 'intercept' else 'effect of ' + name} of one {self.names(name)}"
            )
            parts.append(self.times(symbol, name, self.values(name)))
        rest = self.plain([n for n in self.fixed if n not in self.varying and n not in self.homes])
        parts = [*rest, *parts] if "intercept" in self.fixed and "intercept" not in self.varying else [*parts, *rest]
        return self.outcome([*parts, *self.bends()])

    def plain(self, names: list[str]) -> list[str]:
        return [self.times(self.coefficient(n), n, self.values(n)) for n in names]

    def values(self, name: str) -> Array:
        for part in (self.fit.design.fixed, *(c.part for c in self.fit.design.clauses)):
            if name in part.names:
                return np.asarray(part.values[part.names.index(name)])
        raise KeyError(name)

    def joint(self, name: str) -> str:
        """Indices of a coefficient that varies: of the finest unit of its chain, or of all its units."""
        units = self.chain(name)
        if units is not None:
            return self.at.of(units[0])
        return "".join(dict.fromkeys("".join(self.at.of(self.unit(c)) for c in self.varying[name])))

    def names(self, name: str) -> str:
        return " and ".join(dict.fromkeys(self.unit(c).name for c in self.varying[name]))

    def unit_level(self, unit: UnitCodes) -> list[tuple[str, str]]:
        lines = []
        for r, name in enumerate(self.varying):
            units = self.chain(name)
            own = [self.effect(c, name) for c in self.varying[name] if units is None or self.unit(c) is unit]
            mean = self.plain([name]) if name in self.fixed else []
            mean = [self.coefficient(name)] if mean else []
            if units is None:
                if self.unit(self.varying[name][0]) is unit:
                    lines.append((f"{STEPS[0]}_{{{r}{self.joint(name)}}}", total([*mean, *own])))
                continue
            if unit.name not in [u.name for u in units]:
                continue
            step = [u.name for u in units].index(unit.name)
            here = [
                self.times(self.coefficient(n), rest, self.values(rest))
                for n, (target, home, rest) in self.homes.items()
                if target == name and home.name == unit.name
            ]
            above = step + 1 < len(units)
            if above:
                symbol = f"{STEPS[step + 1]}_{{{r}{self.at.of(units[step + 1])}}}"
                self.where[symbol] = (
                    f"{'intercept' if name == 'intercept' else 'effect of ' + name} of one {units[step + 1].name}"
                )
                mean = [symbol]
            lines.append((f"{STEPS[step]}_{{{r}{self.at.of(unit)}}}", total([*mean, *here, *own])))
        return lines

    def outcome(self, parts: list[str]) -> list[tuple[str, str]]:
        """The equation of the rows: the outcome itself with its residual, or its law and the linear predictor."""
        design, s = self.fit.design, self.at.row
        y = f"{upright(self.words.columns(design.outcome))}_{{{s}}}"
        if design.offset is not None:
            offset = next((str(t) for t in design.sentence.terms if "offset" in str(t)), "offset")
            parts = [*parts, f"{upright(offset)}_{{{s}}}"]
        if design.additive:
            return [(y, total([*parts, f"\\varepsilon_{{{s}}}"]))]
        law, left = design.kind.written(design.link)
        if design.trials is not None:
            trials = upright(design.sentence.outcome.trials.name) if design.sentence.outcome.trials is not None else "n"
            y, law = (
                f"{upright(design.outcome.split(' of ')[0])}_{{{s}}}",
                law.replace(r"\operatorname{Bernoulli}(", f"\\operatorname{{Binomial}}({trials}_{{@}}, "),
            )
        eta = total(parts)
        if design.graded:
            eta = f"\\tau_g - ({eta})" if len(parts) > 1 else f"\\tau_g - {eta}"
            left = left.replace("y", upright(design.outcome))
            return [(left.replace("@", s), eta)]
        return [(f"{y}", f"\\sim {law.replace('@', s)}"), (left.replace("@", s), eta)]

    def tell_outcome(self) -> None:
        """What the outcome of a row and its mean are, which are no coefficient and no effect."""
        design, kind, s = self.fit.design, self.fit.design.kind, self.at.row
        levels, given = (
            list(map(str, design.levels)),
            f"given the {'effects of its units' if self.clauses else 'columns'}",
        )
        y = upright(
            self.words.columns(design.outcome.split(" of ")[0] if design.trials is not None else design.outcome)
        )
        outcome = "the outcome of a row"
        if design.trials is not None:
            outcome = f"the successes among the {self.words.columns(design.outcome.split(' of ')[1])} of a row"
        elif levels and len(levels) > 2:
            outcome = f"the {'grade' if design.graded else 'level'} of a row: {', '.join(levels)}"
        elif levels:
            outcome = f"1 where a row has {levels[-1]}, 0 where {levels[0]}"
        elif kind.measure == "counts":
            outcome = "the count of a row"
        self.where[f"{y}_{{{s}}}"] = outcome
        if design.additive or design.graded:
            return
        mean = f"the {self.fit.model.family.describes.removesuffix(',')}, in a row {given}"
        if kind.chances:
            mean = f"the probability of {'a success' if len(levels) < 2 else levels[-1]} in a row, {given}"
        if len(levels) > 2:
            mean = f"the probabilities of the levels in a row, {given}"
        self.where[f"\\mu_{{{s}}}"] = mean

    def combined(self) -> list[tuple[str, str]]:
        parts = self.plain(list(self.fixed))
        for clause in self.clauses:
            names = [n for n in clause.part.names if n != "spread" or not clause.has_spread]
            parts += [self.times(self.effect(clause, n), n, self.values(n)) for n in names]
        return self.outcome([*parts, *self.bends()])

    def document(self) -> EquationsResult:
        self.tell_outcome()
        combined = self.combined()  # first, so that the averages are explained before what they make up
        levels = [("rows", [*self.rows_level(), *self.family_lines()])]
        for unit in self.at.units:
            lines = self.unit_level(unit)
            for clause in self.clauses:
                if self.unit(clause) is unit:
                    names = [self.effect(clause, n) for n in clause.part.names]
                    lines += effect_lines(
                        self.fit,
                        clause,
                        self.letter(clause),
                        self.at.of(unit),
                        names,
                        self.where,
                        self.estimates,
                        self.digits,
                    )
            levels.append((unit.name, lines))
        return self.made(levels, combined)

    def made(self, levels: list[tuple[str, list[tuple[str, str]]]], combined: list[tuple[str, str]]) -> EquationsResult:
        """The document of the equations of every level, and of all in one."""
        made = [{"level": name, "latex": (latex := aligned(lines)), "text": text_of(latex)} for name, lines in levels]
        whole = aligned(combined)
        return EquationsResult.from_dict({
            "schema": SCHEMA, "name": self.fit.name, "model": self.fit.result["model"], "estimates": self.estimates, "levels": made,
            "combined": {"latex": whole, "text": text_of(whole)},
            "where": [{"symbol": text_of(k), "latex": k, "meaning": v} for k, v in {**self.indices(), **self.where}.items()],
            "notes": [] if self.fit.converged else [f"The fit '{self.fit.name}' did NOT converge: its estimates are where the search stopped."],
        })  # fmt: skip

    def indices(self) -> dict[str, str]:
        out = {"i": "a row"}
        for unit in self.at.units:
            out[self.at.letter[unit.name]] = f"one {unit.name} of {unit.size:,}"
        return out

    def family_lines(self) -> list[tuple[str, str]]:
        design = self.fit.design
        if design.additive:
            effect = next((self.effect(c, "spread") for c in design.clauses if c.has_spread), None)
            return residual_lines(self.fit, self.at, self.where, self.estimates, self.digits, effect)
        if design.graded:
            self.where[r"\tau_g"] = "threshold between grade g and the next, of " + ", ".join(design.levels)
        for own in self.fit.model.family.own:
            value = own.back(float(self.fit.model.extra[own.place]))
            self.where[own.symbol] = own.meaning + (f", estimated as {value:.{self.digits}g}" if self.estimates else "")
        return []


def _rest(name: str, target: str) -> str | None:
    """What a product has beside one of its factors: the column itself for a cross-level interaction."""
    parts = name.split("*")
    if target not in parts or len(parts) < 2:
        return None
    parts.remove(target)
    return "*".join(parts)


def aligned(lines: list[tuple[str, str]]) -> str:
    """Equations under each other, their signs in line."""
    rows = [f"{left} & {right if right.startswith(chr(92) + 'sim') else '= ' + right}" for left, right in lines]
    if len(rows) == 1:
        return rows[0].replace(" & ", " ", 1)
    return "\\begin{aligned} " + r" \\ ".join(rows) + " \\end{aligned}"
