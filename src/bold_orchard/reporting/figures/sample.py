"""Pictures of a posterior: traces, densities beside prior and likelihood, ranks, pairs, replicated outcomes."""

from __future__ import annotations

import textwrap
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from numpy.typing import NDArray

from bold_orchard.errors import UsageError
from bold_orchard.reporting.figures.style import AMBER, BARK, GRID, LEAF, PALETTE, PLUM, SKY, canvas, short
from bold_orchard.results.sample import STATISTICS, SampleArrays, SampleResult

Array = NDArray[Any]
MOST = 9  # parameters that 1280 x 800 shows
MOST_PAIRS = 5
BINS = 20


def sample_figure(d: SampleResult, kind: str = "trace") -> Figure:
    if d.arrays is None:
        raise UsageError("a saved answer of sample has no draws to draw from; run orchard sample again")
    made = {"trace": _trace, "density": _density, "ranks": _ranks, "pairs": _pairs, "replicates": _replicates}[kind]
    return made(d, d.arrays)


def _panels(d: SampleResult, a: SampleArrays, what: str) -> tuple[Figure, list[Any], list[int]]:
    shown = list(range(min(len(a.names), MOST)))
    columns = min(3, len(shown))
    more = f" (the first {MOST} of {len(a.names)} parameters)" if len(a.names) > MOST else ""
    figure, axes = canvas(-(-len(shown) // columns), columns, f"{what}, {d['fit']}: {d['model']}{more}")
    for ax in axes[len(shown) :]:
        ax.set_visible(False)
    return figure, axes, shown


def _trace(d: SampleResult, a: SampleArrays) -> Figure:
    """Every chain in its own colour, the warm-up before zero on a grey ground."""
    figure, axes, shown = _panels(
        d, a, "Draws from the prior" if d.get("prior_only") else "Draws of every chain (warm-up shaded)"
    )
    chains, draws, _ = a.draws.shape
    before = np.linspace(-d["warmup"], -1, a.warm.shape[1])
    for ax, k in zip(axes, shown):
        ax.axvspan(-d["warmup"], 0, color=GRID, alpha=0.6, linewidth=0)
        for c in range(chains):
            colour = PALETTE[c % len(PALETTE)]
            ax.plot(before, a.warm[c, :, k], color=colour, linewidth=0.5, alpha=0.5)
            ax.plot(np.arange(draws), a.draws[c, :, k], color=colour, linewidth=0.5, alpha=0.8)
        inside = a.draws[:, :, k]
        width = np.ptp(inside) or 1.0
        ax.set_ylim(inside.min() - 0.3 * width, inside.max() + 0.3 * width)
        ax.set(title=short(a.names[k], 38), xlabel="draw")
    return figure


def _density(d: SampleResult, a: SampleArrays) -> Figure:
    """The posterior as bars, its interval, the likelihood estimate, and the prior where it is a law of one parameter."""
    what = "Draws from the prior (bars) and its law (line)"
    figure, axes, shown = _panels(
        d, a, what if d.get("prior_only") else "Posterior (bars), prior (line) and likelihood estimate (dashes)"
    )
    laws = {p["parameter"]: p["law"] for p in d["priors"]}
    for ax, k in zip(axes, shown):
        x, row = a.draws[:, :, k].ravel(), d["parameters"][k]
        ax.hist(x, bins=50, density=True, color=LEAF, alpha=0.75)
        low, high = ax.get_xlim()
        grid = np.linspace(low, high, 200)
        prior = _prior_density(laws.get(a.names[k], ""), grid)
        if prior is not None:
            ax.plot(grid, prior, color=AMBER, linewidth=2, label="prior")
        if row["likelihood_estimate"] is not None:
            ax.axvline(row["likelihood_estimate"], color=PLUM, linewidth=2, linestyle="--", label="likelihood")
        ax.plot([row["low"], row["high"]], [0, 0], color=BARK, linewidth=5, solid_capstyle="butt")
        ax.set(title=short(a.names[k], 38), yticks=[])
    axes[0].legend(frameon=False, fontsize=9)
    return figure


def _prior_density(law: str, grid: Array) -> Array | None:
    """The density of a law as it is printed; None where it is flat or one of a whole matrix."""
    name, _, rest = law.partition("(")
    figures = [float(f) for f in rest.rstrip(")").split(",")] if rest else []
    if name not in LAWS:
        return None
    made = LAWS[name](grid, *figures)
    return np.where(grid >= 0, made, 0.0) if name in HALVED else made


def _student(x: Array, df: float, m: float, s: float) -> Array:
    from scipy.stats import t

    return np.asarray(t.pdf(x, df, m, s))


def _normal(x: Array, m: float, s: float) -> Array:
    return np.asarray(np.exp(-0.5 * ((x - m) / s) ** 2) / (s * np.sqrt(2 * np.pi)))


HALVED = ("half-normal", "half-student", "exponential")
LAWS: dict[str, Any] = {
    "normal": _normal,
    "student": _student,
    "half-normal": lambda x, s: 2 * _normal(x, 0.0, s),
    "half-student": lambda x, df, s: 2 * _student(x, df, 0.0, s),
    "exponential": lambda x, rate: rate * np.exp(-rate * np.maximum(x, 0.0)),
}


def _ranks(d: SampleResult, a: SampleArrays) -> Figure:
    """Ranks of each chain's draws among all: level where the chains draw from one law."""
    from scipy.stats import rankdata

    figure, axes, shown = _panels(d, a, "Ranks of every chain's draws among all (level is good)")
    chains, draws, _ = a.draws.shape
    for ax, k in zip(axes, shown):
        ranks = rankdata(a.draws[:, :, k]).reshape(chains, draws)
        for c in range(chains):
            heights, edges = np.histogram(ranks[c], BINS, (0, chains * draws))
            ax.stairs(heights, edges, color=PALETTE[c % len(PALETTE)], linewidth=1.6)
        ax.axhline(draws / BINS, color=BARK, linewidth=1, linestyle=":")
        ax.set(title=short(a.names[k], 38), xlabel="rank", ylim=(0, None))
    return figure


def _pairs(d: SampleResult, a: SampleArrays) -> Figure:
    """Draws of every two of a few parameters, those of the variation first: there funnels and ridges show."""
    order = sorted(range(len(a.names)), key=lambda k: d["parameters"][k]["kind"] == "coefficient")[:MOST_PAIRS]
    m = len(order)
    more = f" (the first {m} of {len(a.names)} parameters, those of the variation first)" if len(a.names) > m else ""
    figure, axes = canvas(m, m, f"Draws of every two parameters, {d['fit']}: {d['model']}{more}")
    flat = a.draws.reshape(-1, len(a.names))
    thin = max(1, len(flat) // 1500)
    for i, row in enumerate(order):
        for j, column in enumerate(order):
            ax = axes[i * m + j]
            if j > i:
                ax.set_visible(False)
                continue
            if i == j:
                ax.hist(flat[:, row], bins=30, color=LEAF)
                ax.set_yticks([])
            else:
                ax.plot(flat[::thin, column], flat[::thin, row], ".", color=SKY, markersize=2, alpha=0.5)
            ax.locator_params(axis="x", nbins=3)
            if i == m - 1:
                ax.set_xlabel(short(a.names[column], 26), fontsize=9)
            if j == 0 and i:  # as long as a panel is high: in two lines, cut where that is not enough
                ax.set_ylabel("\n".join(textwrap.wrap(short(a.names[row], 34), 18)), fontsize=9)
    return figure


def _replicates(d: SampleResult, a: SampleArrays) -> Figure:
    """Statistics of outcomes drawn anew, the observed one as a line."""
    names = [r["statistic"] for r in d["replicates"]]
    columns = min(3, len(names))
    figure, axes = canvas(
        -(-len(names) // columns),
        columns,
        f"Outcomes drawn from the {'prior' if d.get('prior_only') else 'posterior'} (bars) and observed (line), {d['fit']}: {d['model']}",
    )
    for ax, row in zip(axes, d["replicates"]):
        ax.hist(a.replicated[:, STATISTICS.index(row["statistic"])], bins=30, color=LEAF, alpha=0.75)
        ax.axvline(row["observed"], color=PLUM, linewidth=2.5)
        ax.set(title=row["statistic"], yticks=[])
    for ax in axes[len(names) :]:
        ax.set_visible(False)
    return figure
