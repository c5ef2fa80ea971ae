"""Natural cubic splines with a penalty on their second derivative, parted into a line and a wiggle of independent coefficients."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]
KNOTS = 10  # where a sentence names no number


def knots_of(x: Array, count: int) -> Array:
    """At linear quantiles of the distinct values, the extremes among them; fewer where there are fewer values."""
    distinct = np.unique(x)
    return np.asarray(np.quantile(distinct, np.linspace(0.0, 1.0, min(count, len(distinct)))))


@dataclass(frozen=True)
class CubicSpline:
    """Over ``knots`` (k,), rising; the wiggle's functions are multiplied by ``scale``.

    With f the values at the knots the integrated squared second derivative is f' Q R^-1 Q' f (Green & Silverman 1994, section 2.1). Its
    eigenvectors of positive eigenvalue, divided by the roots of these, are the wiggle's functions: independent coefficients of one variance
    are that penalty (Wood 2017, section 5.8). Its null space are the straight lines.
    """

    knots: Array
    scale: float

    @cached_property
    def _bends(self) -> Array:
        """Second derivatives at the knots from the values there, (k, k), zero at the ends; knots counted from 0 to 1."""
        h = np.diff(self._unit(self.knots))
        k = len(self.knots)
        q, r = np.zeros((k - 2, k)), np.zeros((k - 2, k - 2))
        for i in range(k - 2):
            q[i, i : i + 3] = 1.0 / h[i], -1.0 / h[i] - 1.0 / h[i + 1], 1.0 / h[i + 1]
            r[i, i] = (h[i] + h[i + 1]) / 3.0
            if i + 1 < k - 2:
                r[i, i + 1] = r[i + 1, i] = h[i + 1] / 6.0
        out = np.zeros((k, k))
        out[1:-1] = np.linalg.solve(r, q)
        return out

    @cached_property
    def _basis(self) -> Array:
        """Values at the knots of the wiggle's functions, (k, k - 2)."""
        h = np.diff(self._unit(self.knots))
        bends = self._bends
        penalty = np.zeros_like(bends)
        for i, step in enumerate(h):  # the second derivative is linear between knots
            a, b = bends[i], bends[i + 1]
            penalty += step / 3.0 * (np.outer(a, a) + np.outer(b, b)) + step / 6.0 * (np.outer(a, b) + np.outer(b, a))
        values, vectors = np.linalg.eigh(penalty)
        return np.asarray(vectors[:, 2:] / np.sqrt(values[2:]))

    def _unit(self, x: Array) -> Array:
        return (x - self.knots[0]) / (self.knots[-1] - self.knots[0])

    def at(self, x: Array) -> Array:
        """Weights of the values at the knots in the spline at x, (n, k); straight beyond the knots."""
        t, knots, bends = self._unit(x), self._unit(self.knots), self._bends
        inside = np.clip(t, 0.0, 1.0)
        i = np.clip(np.searchsorted(knots, inside, side="right") - 1, 0, len(knots) - 2)
        h = np.diff(knots)[i]
        up, down = (inside - knots[i]) / h, (knots[i + 1] - inside) / h
        out = (down**3 - down)[:, None] * bends[i] + (up**3 - up)[:, None] * bends[i + 1]
        out *= (h**2 / 6.0)[:, None]
        rows = np.arange(len(x))
        out[rows, i] += down
        out[rows, i + 1] += up
        away = np.flatnonzero(t != inside)  # on with the slope at the end knot
        h, up, down, i = h[away], up[away], down[away], i[away]
        slope = (h / 6.0)[:, None] * (
            (3.0 * up**2 - 1.0)[:, None] * bends[i + 1] - (3.0 * down**2 - 1.0)[:, None] * bends[i]
        )
        rows = np.arange(len(away))
        slope[rows, i] -= 1.0 / h
        slope[rows, i + 1] += 1.0 / h
        out[away] += (t - inside)[away, None] * slope
        return out

    def wiggle(self, x: Array) -> Array:
        """The wiggle's functions at x, (n, k - 2)."""
        return self.scale * self.at(x) @ self._basis

    def size_over(self, x: Array) -> float:
        """The scale at which coefficients of SD 1 give a wiggle that, beside its own straight line over the rows, has an SD of 1 on average."""
        made, line = CubicSpline(self.knots, 1.0).wiggle(x), np.column_stack([np.ones(len(x)), self._unit(x)])
        rest = made - line @ np.linalg.lstsq(line, made, rcond=None)[0]
        return float(np.sqrt(len(x) / (rest**2).sum()))
