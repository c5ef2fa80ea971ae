"""The picture of ``orchard scan``: effect against p with the largest named, and how the p-values are distributed."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from bold_orchard.errors import UsageError
from bold_orchard.reporting.figures.style import PALETTE, canvas, short
from bold_orchard.results.scan import ScanResult

NAMED = 8  # outcomes that get their names
MOST_TERMS = 3  # terms that get a row of panels each
LEAST_P = 1e-300
APART = 0.025  # of the height, between two names


def scan_figure(d: ScanResult) -> Figure:
    """A row of two panels for each term but the intercept."""
    known = [r for r in d["rows"] if r["term"] is not None and r["p"] is not None and r["converged"]]
    terms = list(dict.fromkeys(r["term"] for r in known if r["term"] != "intercept"))[:MOST_TERMS] or ["intercept"]
    if not known:
        raise UsageError("no outcome was fitted, so there is nothing to draw; leave --figure out")
    figure, axes = canvas(len(terms), 2, f"{d['outcomes']:,} fits of {d['model']}")
    for k, term in enumerate(terms):
        rows = [r for r in known if r["term"] == term]
        x, p = np.array([r["estimate"] for r in rows]), np.maximum([r["p"] for r in rows], LEAST_P)
        sure = np.array([r["p_adjusted"] is not None and r["p_adjusted"] <= 0.05 for r in rows])
        left, right = axes[2 * k], axes[2 * k + 1]
        y = -np.log10(p)
        left.scatter(x[~sure], y[~sure], s=14, color="0.7", label="adjusted p above 0.05", edgecolors="none")
        left.scatter(x[sure], y[sure], s=18, color=PALETTE[0], label="at most 0.05", edgecolors="none")
        left.margins(0.12)
        left.set_ylim(bottom=0.0)
        taken: list[float] = []
        for i in np.argsort(p):
            if not sure[i] or len(taken) == NAMED:
                break
            if all(abs(y[i] - other) > APART * y.max() for other in taken):
                side = (5, "left") if x[i] <= np.median(x) else (-5, "right")
                left.annotate(
                    short(rows[i]["outcome"], 18),
                    (x[i], y[i]),
                    (side[0], -3),
                    textcoords="offset points",
                    fontsize=9,
                    ha=side[1],
                )
                taken.append(float(y[i]))
        left.set(xlabel=f"estimate of {term}", ylabel="-log10 p")
        left.legend(frameon=False, fontsize=9, loc="best")
        right.hist(p, bins=20, range=(0.0, 1.0), color=PALETTE[1], edgecolor="white")
        right.axhline(len(p) / 20, color="0.4", linewidth=1, linestyle="--", label="where nothing is there")
        right.set(xlabel=f"p of {term}", ylabel="outcomes", xlim=(0, 1))
        right.legend(frameon=False, fontsize=9, loc="upper right")
    return figure
