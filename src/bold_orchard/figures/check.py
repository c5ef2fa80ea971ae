"""The picture of ``orchard check``: are rows and units normal, and do they spread evenly?"""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from numpy.typing import NDArray

from bold_orchard.diagnostics.check import Checked
from bold_orchard.diagnostics.normality import normal_scores
from bold_orchard.figures.style import AMBER, BARK, LEAF, PLUM, canvas
from bold_orchard.fitting import Fit

Array = NDArray[Any]
MOST_POINTS = 20000
FEWEST = 5


def check_figure(fit: Fit, checked: Checked) -> Figure:
    """One line of panels for the rows, one for each term of each unit: QQ plot, then against fitted."""
    effects = [(u, i) for u in checked.units for i in range(len(u.terms))]
    lines = 1 + len(effects)
    height = max(8.0, 2.7 * lines)
    figure, axes = canvas(lines, 2, f"Residuals of {fit.name}: {fit.result['model']}", height=height)
    rest = checked.residuals
    outcome = fit.design.outcome
    kind = "quantile residual" if fit.design.generalized else "standardised residual"
    _qq(axes[0], rest.standardised, "Rows: are the residuals normal?", kind)
    shown = rest.standardised if fit.design.generalized else rest.conditional
    _against(
        axes[1], rest.fitted, shown, f"fitted {outcome}", kind if fit.design.generalized else f"residual of {outcome}"
    )
    axes[1].set_title("Rows: is the spread even, the middle at zero?")
    for line, (unit, i) in enumerate(effects, start=1):
        what = f"{unit.group}: {unit.terms[i]}"
        left, right = axes[2 * line], axes[2 * line + 1]
        _qq(left, unit.effects[:, i], f"{what}: are the effects normal?", "predicted effect")
        codes = fit.design.blocks[unit.unit].unit.codes
        counts = np.bincount(codes, minlength=len(unit.levels))
        seen = counts > 0
        mean = np.bincount(codes, rest.average, minlength=len(counts))[seen] / counts[seen]
        label = f"{outcome} expected of each {unit.group} by its terms"
        _against(right, mean, unit.effects[seen, i], label, "predicted effect")
        right.set_title(f"{what}: any pattern left?")
    return figure


def _thin(n: int) -> NDArray[np.intp]:
    if n <= MOST_POINTS:
        return np.arange(n)
    return np.random.default_rng(1).choice(n, MOST_POINTS, replace=False)


def _dots(ax: Axes, x: Array, y: Array) -> None:
    alpha = float(np.clip(60 / np.sqrt(len(x)) / 2, 0.12, 0.85))
    size = float(np.clip(4000 / len(x), 5, 30))
    ax.scatter(x, y, s=size, color=LEAF, alpha=alpha, linewidths=0, rasterized=len(x) > 5000)


def _qq(ax: Axes, values: Array, title: str, label: str) -> None:
    """Ordered values against normal scores, with the line through the quartiles and a 95% pointwise band."""
    x = np.sort(values)
    scores = normal_scores(len(x))
    keep = np.sort(_thin(len(x)))
    q1, q3 = np.quantile(x, [0.25, 0.75])
    slope = (q3 - q1) / 1.349 if q3 > q1 else float(x.std())
    middle = (q1 + q3) / 2
    p = (np.arange(1, len(x) + 1) - 0.375) / (len(x) + 0.25)
    density = np.exp(-0.5 * scores**2) / np.sqrt(2 * np.pi)
    band = 1.96 * slope * np.sqrt(p * (1 - p) / len(x)) / density
    line = middle + slope * scores
    ax.fill_between(scores[keep], (line - band)[keep], (line + band)[keep], color=AMBER, alpha=0.25, linewidth=0)
    ax.plot(scores[[0, -1]], line[[0, -1]], color=PLUM, linewidth=1.5)
    _dots(ax, scores[keep], x[keep])
    ax.set(title=title, xlabel="normal score", ylabel=label)


def _against(ax: Axes, x: Array, y: Array, xlabel: str, ylabel: str) -> None:
    """Dots with a zero line and a smooth line of local means."""
    keep = _thin(len(x))
    ax.axhline(0.0, color=BARK, linewidth=1)
    _dots(ax, x[keep], y[keep])
    if len(x) >= 30:
        centres, means = local_lines(x, y)
        ax.plot(centres, means, color=PLUM, linewidth=2)
    ax.set(xlabel=xlabel, ylabel=ylabel)


def local_lines(x: Array, y: Array, points: int = 40) -> tuple[Array, Array]:
    """A smooth line at ``points`` places, NaN where rows are few: local straight lines under a normal kernel (Cleveland 1979), on binned x."""
    order = np.argsort(x)
    size = max(len(x) // 200, 1)
    stops = np.arange(0, len(x), size)
    count = np.diff(np.append(stops, len(x)))
    bx, by = np.add.reduceat(x[order], stops) / count, np.add.reduceat(y[order], stops) / count
    low, high = np.quantile(x, [0.01, 0.99])
    at = np.linspace(low, high, points)
    width = max((high - low) / 8, 1e-12)
    weight = np.exp(-0.5 * ((at[:, None] - bx) / width) ** 2) * count
    away = bx - at[:, None]
    s0, s1, s2 = weight.sum(axis=1), (weight * away).sum(axis=1), (weight * away**2).sum(axis=1)
    t0, t1 = weight @ by, (weight * away) @ by
    line = (s2 * t0 - s1 * t1) / np.maximum(s0 * s2 - s1**2, 1e-300)
    near = (np.abs(away) < width) @ count
    return at, np.where(near >= FEWEST, line, np.nan)  # no line over a gap
