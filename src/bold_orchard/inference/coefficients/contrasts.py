"""A person's own hypotheses: "hard - light", "rain = 0", "2*rain - sun = 0.5"."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.transformations import Category
from bold_orchard.errors import OrchardError, SentenceError, unknown_name
from bold_orchard.inference.coefficients.reference_grid import ReferenceGrid
from bold_orchard.inference.distributions import p_of_t, quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.sentence import tree
from bold_orchard.sentence.parse import read_combination

Array = NDArray[Any]


def contrast(fit: Fit, text: str, df_method: str | None = None, confidence: float = 0.95) -> dict[str, Any]:
    """Estimate and test of one combination.

    A name is a coefficient's term, or a level of a category, which stands for the adjusted mean of that level. Raises
    SentenceError for an unknown name, OrchardError for a combination that is not estimable.
    """
    row, target = combination(fit, text)
    known = fit.precision(df_method)
    estimate, se = float(row @ known.b), known.se(row)
    df = known.df(row[None, :])
    t, width = (estimate - target) / se, quantile_t(confidence, df)
    return {
        "contrast": text,
        "estimate": number(estimate),
        "se": number(se),
        "df": df,
        "statistic": number(t),
        "p": number(p_of_t(t, df)),
        "ci": [number(estimate - width * se), number(estimate + width * se)],
        "against": target,
    }


def combination(fit: Fit, text: str) -> tuple[Array, float]:
    """The weights of a combination over the kept coefficients, (p',), and the value it is set against (0 where none is).

    Raises SentenceError for an unknown name, OrchardError for a combination that is not estimable or weighs nothing.
    """
    fixed = fit.design.fixed
    left, value = read_combination(with_names_quoted(text, dict(zip((*fixed.labels, *fixed.names), fixed.names * 2))))
    row, constant = _Reader(fit, text).read(left)
    if not np.any(np.abs(row) > 1e-12):
        raise OrchardError(f"the contrast '{text}' weighs nothing: all its parts cancel")
    return row, value - constant


def with_names_quoted(text: str, names: Mapping[str, str]) -> str:
    """The contrast with names as they are printed, pruning[hard] or pruning: hard vs none, as quoted texts.

    ``names`` maps what is printed to the coefficient's name; those that read as they stand, and those already in quotes or
    brackets, are left alone.
    """
    odd = sorted((n for n in names if "[" in n or ": " in n), key=len, reverse=True)
    if not odd:
        return text
    inside = r"\"[^\"]*\"|'[^']*'|\[[^\[\]]*(?:\[[^\[\]]*\])?[^\[\]]*\]"
    found = re.compile("|".join([*(rf"(?<![\w\]\)]){re.escape(n)}" for n in odd), inside]))

    def quoted(match: re.Match[str]) -> str:
        name = names.get(match.group())
        return match.group() if name is None else f'"{name}"'

    return found.sub(quoted, text)


class _Reader:
    """Expression -> row over the kept coefficients and a constant."""

    def __init__(self, fit: Fit, text: str) -> None:
        self.fit, self.text = fit, text
        self.kept = fit.evaluation.criterion.products.standard.kept
        self.names = list(fit.design.fixed.names)
        self.grid = ReferenceGrid(fit)

    def read(self, e: tree.Expression) -> tuple[Array, float]:
        zero = np.zeros(len(self.kept))
        if isinstance(e, tree.Number):
            return zero, e.value
        if isinstance(e, tree.Arithmetic):
            product = "*".join(map(str, e.operands))
            if product in self.names and set(e.operator) == {"*"}:
                return self._coefficient(product), 0.0
            parts = [self.read(o) for o in e.operands]
            if e.operator == "negative":
                return -parts[0][0], -parts[0][1]
            made = parts[0]
            for sign, part in zip(e.operator, parts[1:]):
                made = self._step(e, sign, made, part)
            return made
        return self._name(e), 0.0

    def _step(
        self, e: tree.Arithmetic, sign: str, one: tuple[Array, float], two: tuple[Array, float]
    ) -> tuple[Array, float]:
        (a, c), (b, d) = one, two
        if sign in "+-":
            side = 1.0 if sign == "+" else -1.0
            return a + side * b, c + side * d
        if sign == "*" and (not a.any() or not b.any()):
            return (c * b, c * d) if not a.any() else (d * a, c * d)
        if sign == "/" and not b.any() and d:
            return a / d, c / d
        raise SentenceError("a contrast is a weighted sum of coefficients or levels", self.text, *_span(e))

    def _name(self, e: tree.Expression) -> Array:
        name = e.value if isinstance(e, tree.Text) else str(e)
        if name in self.names:
            return self._coefficient(name)
        homes = self._levels().get(name, [])
        if len(homes) > 1:
            raise SentenceError(
                f"'{name}' is a level of {' and '.join(homes)}; name a coefficient, as [{homes[0]}[{name}]]",
                self.text,
                *_span(e),
            )
        if not homes:
            known = [*self.names, *self._levels()]
            raise SentenceError(
                unknown_name("term or level", name, known, f"the fit '{self.fit.name}'"), self.text, *_span(e)
            )
        x, _ = self.grid.rows([{self.grid.factors[homes[0]]: name}])
        if not self.grid.estimable(x)[0]:
            raise OrchardError(f"the mean of '{name}' rests on coefficients that have no estimate (aliased)")
        return np.asarray(self.grid.kept(x)[0])

    def _levels(self) -> dict[str, list[str]]:
        """Levels of the categories that are terms by themselves, with the terms they belong to."""
        out: dict[str, list[str]] = {}
        for term, made in self.fit.design.categories():
            if isinstance(made, Category):
                for level in made.levels:
                    out.setdefault(level, []).append(term)
        return out

    def _coefficient(self, name: str) -> Array:
        column = self.names.index(name)
        if column not in self.kept:
            raise OrchardError(f"'{name}' has no estimate (it is aliased), so a contrast with it is not estimable")
        return np.eye(len(self.kept))[self.kept.index(column)]


def _span(e: Any) -> tuple[int, int]:
    return e.place[0], e.place[1] - e.place[0]
