"""Differences of levels along a number: where two levels differ, all of the line judged together (Potthoff 1964; Bauer & Curran 2005)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError, UsageError, unknown_name
from bold_orchard.inference.coefficients.named_numbers import NamedNumber
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.coefficients.reference_grid import Asked
from bold_orchard.inference.coefficients.whole_curves import whole_quantile
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.summary import numbers

Array = NDArray[Any]
POINTS = 101
HALVINGS = 40
SAME = 1e-9  # share of its size by which a difference may move along a number that it does not depend on


def difference_curves(
    asked: Asked, known: CoefficientInference, pairs: Sequence[dict[str, Any]], column: str, confidence: float
) -> list[dict[str, Any]]:
    """For each pair the difference at points along ``column`` from its least to its largest value, its own intervals
    and those that hold the curves of all pairs together, and the regions where the latter leave zero out.

    ``column`` may be a name that ``let`` gave to a function of a number, whose values then stand along the curve. There
    is one number of degrees of freedom, the smallest along the curves. Raises OrchardError for a column that is no
    number of the fixed part; UsageError where no difference depends on it, it is held, or a named function turns back.
    """
    grid = asked.grid
    number = grid.named.get(column)
    raw = column if number is None else number.column
    if raw in asked.held:
        raise UsageError(f"--curve goes along '{raw}', so it cannot be held; leave one of them out")
    if raw not in grid.means:
        known_names = [*grid.means, *grid.named] or ["(none)"]
        raise OrchardError(unknown_name("number", column, known_names, f"the fixed part of '{grid.fit.name}'"))
    x = grid.design.table.numbers(raw)
    at = np.linspace(float(x.min()), float(x.max()), POINTS)
    if number is not None:
        steps = np.diff(number.values(at))
        if not ((steps > 0).all() or (steps < 0).all()):
            raise UsageError(f"--curve: '{column}' is {number.named.factor}, which turns back along {raw}; give {raw}")
        at = at if steps[0] > 0 else at[::-1]
    made = [_Curve(asked, known, p, raw, at, number) for p in pairs]
    made = [c for c in made if c.sure]
    if not any(c.bent for c in made):
        several = ", ".join(asked.factors)
        raise UsageError(
            f"--curve: the differences are the same at every {column}; a slope for each level is written cross({several}, {column})"
        )
    rows = np.concatenate([c.rows for c in made])
    dfs = [d for d in (known.df(r[None]) for r in rows) if d is not None]
    df = min(dfs) if dfs else None
    factor = whole_quantile(rows, known.covariance, df, confidence)
    return [c.document(factor, df, confidence) for c in made]


class _Curve:
    """The difference of one pair along a column; ``at`` are its values, in the order of the ``number`` that a name
    stands for."""

    def __init__(
        self,
        asked: Asked,
        known: CoefficientInference,
        pair: dict[str, Any],
        column: str,
        at: Array,
        number: NamedNumber | None,
    ) -> None:
        self.number = number
        self.asked, self.known, self.pair, self.column, self.at = asked, known, pair, column, at
        self.rows, self.offset, self.sure = self._rows(at)
        spread = np.abs(self.rows - self.rows[0]).max(axis=0) * np.sqrt(np.maximum(np.diag(known.covariance), 0.0))
        self.bent = bool(self.sure and spread.max() > SAME * max(known.se(self.rows[0]), 1e-300))

    def _shown(self, x: Array) -> Array:
        """Values of the column as they are named."""
        return x if self.number is None else self.number.values(x)

    def _rows(self, at: Array) -> tuple[Array, Array, bool]:
        """Weights (points, p') of the difference along the column, its constant (points,), and whether it is estimable."""
        grid, places = self.asked.grid, self.pair["places"]
        ends, sure = [], True
        for i in places:
            rows, offset = grid.rows([{**self.asked.points[i], self.column: float(v)} for v in at])
            sure = sure and bool(grid.estimable(rows).all())
            ends.append((grid.kept(rows), offset))
        return ends[0][0] - ends[1][0], ends[0][1] - ends[1][1], sure

    def _difference(self, rows: Array, offset: Array) -> tuple[Array, Array]:
        return rows @ self.known.b + offset, np.array([self.known.se(r) for r in rows])

    def document(self, factor: float, df: float | None, confidence: float) -> dict[str, Any]:
        d, se = self._difference(self.rows, self.offset)
        own = np.array([quantile_t(confidence, self.known.df(r[None])) for r in self.rows]) * se
        return {
            "a": self.pair["a"], "b": self.pair["b"],
            "column": self.column if self.number is None else self.number.name,
            "df": df, "critical": factor,
            "x": self._shown(self.at).tolist(),
            "difference": numbers(d), "se": numbers(se), "low": numbers(d - own), "high": numbers(d + own),
            "low_simultaneous": numbers(d - factor * se), "high_simultaneous": numbers(d + factor * se),
            "regions": self._regions(d, se, factor), "seen": self._seen(),
        }  # fmt: skip

    def _regions(self, d: Array, se: Array, factor: float) -> list[dict[str, Any]]:
        """Where the simultaneous interval leaves zero out, ends found by halving, and which of the pair is higher there."""
        side = np.where(np.abs(d) > factor * se, np.sign(d), 0.0)
        cuts = np.flatnonzero(np.diff(side))
        low, high = self.at[cuts], self.at[cuts + 1]
        for _ in range(HALVINGS if len(cuts) else 0):
            middle = (low + high) / 2.0
            rows, offset, _ = self._rows(middle)
            md, mse = self._difference(rows, offset)
            left = np.where(np.abs(md) > factor * mse, np.sign(md), 0.0) == side[cuts]
            low, high = np.where(left, middle, low), np.where(left, high, middle)
        places = self._shown(np.array([self.at[0], *(low + high) / 2.0, self.at[-1]]))
        starts, ends = places[:-1], places[1:]
        sides = side[np.append(0, cuts + 1)]
        return [{"low": float(a), "high": float(b), "higher": self.pair["a" if s > 0 else "b"]}
                for a, b, s in zip(starts, ends, sides) if s != 0]  # fmt: skip

    def _seen(self) -> list[float] | None:
        """Ends of the column's values that rows of both sides have, None where they have none in common."""
        table = self.asked.grid.design.table
        x = table.numbers(self.column)
        low, high = -np.inf, np.inf
        for i in self.pair["places"]:
            keep = np.ones(len(x), dtype=bool)
            for column, value in self.asked.points[i].items():
                if isinstance(value, str):
                    labels = table.labels(column)
                    keep &= np.array([str(v) == value for v in labels.ordered[0]])[labels.ordered[1][labels.codes]]
            if not keep.any():
                return None
            low, high = max(low, float(x[keep].min())), min(high, float(x[keep].max()))
        return sorted(map(float, self._shown(np.array([low, high])))) if low <= high else None
