"""Panels that several pictures share: clouds of rows, QQ plots, smooth lines, histograms with named outliers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap, LogNorm
from numpy.typing import NDArray
from scipy import special

from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, PLUM

Array = NDArray[Any]
MOST_DOTS = 4000  # dots from which a density is clearer
CELLS = (150, 90)  # of a density, across and up: about the pixels of a panel over five
THOUSANDS = (
    10_000  # rows in a bar from which numbers beside the axis are in thousands: five digits leave no room for its name
)
FEWEST = 5  # rows near a place below which a smooth line says nothing
CLOUD = LinearSegmentedColormap.from_list("cloud", ["#bcd8cc", LEAF, "#0a3024"])


def normal_scores(n: int) -> Array:
    """Expected standard normal order statistics (Blom 1958), (n,)."""
    return np.asarray(special.ndtri((np.arange(1, n + 1) - 0.375) / (n + 0.25)))


def shown_of(n: int) -> Array:
    """Which of n ordered values are drawn: of thousands the ends whole, the middle thinned, where nothing is hidden."""
    if n <= MOST_DOTS:
        return np.arange(n)
    return np.unique(
        np.concatenate([np.arange(300), np.linspace(300, n - 301, 1000).astype(int), np.arange(n - 300, n)])
    )


def quantiles(ordered: Array, at: Sequence[float]) -> Array:
    """Quantiles of values (n,) in their order, between neighbours by a straight line."""
    places = np.asarray(at) * (len(ordered) - 1)
    low = places.astype(np.intp)
    high = np.minimum(low + 1, len(ordered) - 1)
    return np.asarray(ordered[low] + (places - low) * (ordered[high] - ordered[low]))


def tell_moved(ax: Axes, how: str) -> None:
    """Say once beside a panel that its points do not stand exactly where they are."""
    words = f"points moved {how}"
    if words not in [t.get_text() for t in ax.texts]:
        ax.annotate(words, (1, 0), xycoords="axes fraction", xytext=(-3, 3), textcoords="offset points", fontsize=8,
                    color=BARK, ha="right", va="bottom")  # fmt: skip


def cloud(
    ax: Axes, x: Array, y: Array, colour: str = LEAF, faintest: float = 0.25, strongest: float = 0.85, tell: bool = True
) -> None:
    """Dots, the more transparent the more there are; thousands become a map of how many lie where.

    Dots that are moved apart are told of (``tell``) in the panel.
    """
    n = len(x)
    if n <= MOST_DOTS:
        size, alpha = float(np.clip(80 / np.sqrt(n), 2.6, 6)), float(np.clip(14 / np.sqrt(n), faintest, strongest))
        moved = _apart(x)
        if moved is not x and tell:
            tell_moved(ax, "sideways")
        ax.plot(moved, y, "o", color=colour, markersize=size, alpha=alpha, markeredgewidth=0, rasterized=n > 2000)
        return
    ranges = [_range(x), _range(y)]
    places = [np.minimum(((v - low) / (high - low) * cells).astype(np.intp), cells - 1)
              for v, (low, high), cells in zip((x, y), ranges, CELLS)]  # fmt: skip
    counts = np.bincount(places[1] * CELLS[0] + places[0], minlength=CELLS[0] * CELLS[1]).reshape(CELLS[::-1])
    shown = np.ma.masked_equal(counts, 0)
    ax.imshow(shown, extent=(*ranges[0], *ranges[1]), origin="lower", aspect="auto", cmap=CLOUD, zorder=2,
              norm=LogNorm(1, max(int(counts.max()), 2)), interpolation="nearest")  # fmt: skip


def _apart(x: Array) -> Array:
    """A few distinct values get a little room to each side, so that dots do not hide each other."""
    values = np.unique(x)
    if not 1 < len(values) <= 12 or len(x) < 5 * len(values):
        return x
    return x + np.random.default_rng(1).uniform(-0.13, 0.13, len(x)) * float(np.diff(values).min())


def _range(v: Array) -> tuple[float, float]:
    low, high = float(v.min()), float(v.max())
    pad = 0.02 * (high - low) or 0.5
    return low - pad, high + pad


def against(
    ax: Axes, x: Array, y: Array, xlabel: str, ylabel: str, middle: float | None = 0.0, order: Array | None = None
) -> None:
    """A cloud with a smooth line through it, and a line at ``middle``; ``order`` (n,) sorts x, where that is known."""
    if middle is not None:
        ax.axhline(middle, color=BARK, linewidth=1)
    cloud(ax, x, y)
    if len(x) >= 30 and np.ptp(x) > 0:
        line = local_lines(x, y, order=order)
        if len(x) > MOST_DOTS:
            ax.plot(*line, color="white", linewidth=4.5, zorder=3)
        ax.plot(*line, color=PLUM, linewidth=2.5, zorder=3)
    ax.set(xlabel=xlabel, ylabel=ylabel)


def qq(ax: Axes, values: Array, title: str, ylabel: str, names: Sequence[str] | None = None) -> None:
    """Ordered values against normal scores, with the line through the quartiles and a 95% pointwise band.

    ``names`` label the farthest values outside the band, three at most.
    """
    n = len(values)
    order = None if names is None else np.argsort(values)
    x = np.sort(values) if order is None else values[order]
    q1, q3 = quantiles(x, [0.25, 0.75])
    slope = (q3 - q1) / 1.349 if q3 > q1 else float(x.std())

    def expected(at: Array) -> tuple[Array, Array, Array]:
        """Scores, line and band at some places of the order."""
        p = (at + 0.625) / (n + 0.25)
        scores = special.ndtri(p)
        density = np.exp(-0.5 * scores**2) / np.sqrt(2 * np.pi)
        return scores, (q1 + q3) / 2 + slope * scores, 1.96 * slope * np.sqrt(p * (1 - p) / n) / density

    scores, line, band = expected(np.unique(np.linspace(0, n - 1, min(n, 400)).astype(int)))
    ax.fill_between(scores, line - band, line + band, color=AMBER, alpha=0.25, linewidth=0)
    ax.plot(scores[[0, -1]], line[[0, -1]], color=PLUM, linewidth=1.5)
    shown = shown_of(n)
    size = float(np.clip(60 / np.sqrt(len(shown)), 2.5, 6))
    ax.plot(expected(shown)[0], x[shown], "o", color=LEAF, markersize=size, alpha=0.75, markeredgewidth=0)
    if names is not None and order is not None:
        scores, line, band = expected(np.arange(n))
        out = np.abs(x - line) - band
        far = [int(i) for i in np.argsort(-out)[:3] if out[i] > 0]
        name_points(ax, scores[far], x[far], [names[order[i]] for i in far])
    ax.set(title=title, xlabel="normal score", ylabel=ylabel)


def name_points(ax: Axes, x: Array, y: Array, names: Sequence[str]) -> None:
    """Names beside a few points, pushed apart where they would meet, on the side where there is room."""
    middle = float(np.mean(ax.get_xlim()))
    low, high = ax.get_ylim()
    taken: list[tuple[float, bool]] = []
    step = 0.055 * (high - low)
    for i in np.argsort(y):
        left = x[i] > middle
        at = float(y[i])
        while any(abs(at - t) < step and side == left for t, side in taken):
            at += step
        taken.append((at, left))
        ax.annotate(names[i], (x[i], y[i]), xytext=(x[i], at), textcoords="data", fontsize=9, color=BARK,
                    ha="right" if left else "left", va="center", annotation_clip=False,
                    arrowprops=None if at == y[i] else {"arrowstyle": "-", "color": BARK, "linewidth": 0.5})  # fmt: skip


def histogram(ax: Axes, values: Array, xlabel: str, named: list[tuple[float, str]]) -> None:
    """A histogram with the normal of the same mean and SD; over it a box plot whose farthest values bear names."""
    n = len(values)
    bins = int(np.clip(np.ceil(2 * n ** (1 / 3)), 8, 60))
    values = np.sort(values)
    edges = np.histogram_bin_edges(values[[0, -1]], bins)
    counts = np.diff(np.append(np.searchsorted(values, edges[:-1]), n))
    ax.stairs(counts, edges, fill=True, color=LEAF, alpha=0.55, linewidth=0)
    if bins <= 40:
        ax.vlines(edges[1:-1], 0, np.minimum(counts[1:], counts[:-1]), color="white", linewidth=0.6)
    at = np.linspace(float(values.min()), float(values.max()), 200)
    width, sd = float(np.ptp(values)) / bins, float(values.std()) or 1.0
    normal = np.exp(-0.5 * ((at - values.mean()) / sd) ** 2) / (sd * np.sqrt(2 * np.pi))
    ax.plot(at, n * width * normal, color=PLUM, linewidth=2)
    top = float(max(np.max(counts), (n * width * normal).max()))
    box(ax, values, 1.14 * top, 0.09 * top, horizontal=True)
    for k, (value, name) in enumerate(named[:4]):
        ax.annotate(name, (value, 1.14 * top), xytext=(0, 10 + 12 * k), textcoords="offset points", fontsize=9,
                    color=BARK, ha="right" if value > values.mean() else "left")  # fmt: skip
    ax.set_ylim(0, (1.28 + 0.1 * len(named[:4])) * top)
    ticks = [t for t in ax.get_yticks() if 0 <= t <= top]
    thousands = top >= THOUSANDS
    ax.set_yticks(ticks, [f"{t / 1000:g}" for t in ticks] if thousands else None)
    ax.set(xlabel=xlabel, ylabel="thousand rows" if thousands else "rows")


def box(ax: Axes, values: Array, at: float, height: float, horizontal: bool) -> None:
    """Quartiles, whiskers to 1.5 times their distance, and what lies beyond, of values (n,) in their order."""
    q1, q2, q3 = quantiles(values, [0.25, 0.5, 0.75])
    first = int(np.searchsorted(values, q1 - 1.5 * (q3 - q1)))
    last = int(np.searchsorted(values, q3 + 1.5 * (q3 - q1), side="right")) - 1
    far = np.concatenate([values[:first], values[last + 1 :]])
    far = far if len(far) <= 400 else np.concatenate([far[:200], far[-200:]])

    def draw(a: Sequence[float] | Array, b: Sequence[float] | Array, *style: Any, **more: Any) -> None:
        ax.plot(*((a, b) if horizontal else (b, a)), *style, **more)

    half = height / 2
    draw([q1, q3, q3, q1, q1], [at - half, at - half, at + half, at + half, at - half], color=BARK, linewidth=1.4)
    draw([q2, q2], [at - half, at + half], color=PLUM, linewidth=2.5)
    for end, quartile in ((values[first], q1), (values[last], q3)):
        draw([end, quartile], [at, at], color=BARK, linewidth=1.4)
    draw(far, np.full(len(far), at), "o", color=AMBER, markersize=4, markeredgewidth=0, alpha=0.8)


def local_lines(x: Array, y: Array, points: int = 40, order: Array | None = None) -> tuple[Array, Array]:
    """A smooth line at ``points`` places, NaN where rows are few: local straight lines under a normal kernel (Cleveland 1979), on binned x."""
    order = np.argsort(x) if order is None else order
    size = max(len(x) // 200, 1)
    stops = np.arange(0, len(x), size)
    count = np.diff(np.append(stops, len(x)))
    ordered = x[order]
    bx, by = np.add.reduceat(ordered, stops) / count, np.add.reduceat(y[order], stops) / count
    low, high = quantiles(ordered, [0.01, 0.99])
    at = np.linspace(low, high, points)
    width = max((high - low) / 8, 1e-12)
    weight = np.exp(-0.5 * ((at[:, None] - bx) / width) ** 2) * count
    away = bx - at[:, None]
    s0, s1, s2 = weight.sum(axis=1), (weight * away).sum(axis=1), (weight * away**2).sum(axis=1)
    t0, t1 = weight @ by, (weight * away) @ by
    line = (s2 * t0 - s1 * t1) / np.maximum(s0 * s2 - s1**2, 1e-300)
    near = (np.abs(away) < width) @ count
    return at, np.where(near >= FEWEST, line, np.nan)  # no line over a gap
