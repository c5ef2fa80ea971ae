"""The picture of ``orchard predict``: every row's prediction with its interval, sorted."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure

from bold_orchard.reporting.figures.style import AMBER, BARK, LEAF, canvas
from bold_orchard.results.predict import PredictResult

MOST, NAMED = 2000, 30  # rows drawn at all, and rows that still have a name


def predict_figure(d: PredictResult) -> Figure:
    """Predictions sorted, intervals as bars (rows of new units in amber), what was observed as small dots."""
    rows = [r for r in d["rows"] if r["predicted"] == r["predicted"]]
    rows.sort(key=lambda r: r["predicted"])
    total = len(rows)
    if total > MOST:
        rows = [rows[i] for i in np.linspace(0, total - 1, MOST).astype(int)]
    some = f"{len(rows):,} of {total:,} rows" if len(rows) < total else f"{total:,} rows"
    what = "one more observation" if d["new_observation"] else "the mean"
    figure, (ax,) = canvas(
        1,
        1,
        f"Predicted {d['outcome']} of {some} with the {100 * d['confidence']:g}% interval of {what}, {d['name']}: {d['model']}",
    )
    at = np.arange(len(rows))
    middle, low, high, rest = (
        np.array([r[k] for r in rows], dtype=float) for k in ("predicted", "low", "high", "residual")
    )
    new = np.array([r["units_known"] != "all" for r in rows], dtype=bool)
    width = float(np.clip(500 / max(len(rows), 1), 0.5, 6))
    for mask, colour, label in ((~new, LEAF, "units of the fit"), (new, AMBER, "new units")):
        if mask.any():
            ax.vlines(at[mask], low[mask], high[mask], color=colour, linewidth=width, alpha=0.35)
            ax.plot(
                at[mask],
                middle[mask],
                "o",
                color=colour,
                markersize=float(np.clip(200 / len(rows), 1.5, 8)),
                markeredgewidth=0,
                label=label,
            )
    seen = np.isfinite(rest)
    if seen.any():
        ax.plot(at[seen], (middle + rest)[seen], "o", color=BARK, markersize=float(np.clip(300 / len(rows), 2.5, 6)), markeredgewidth=0,
                alpha=float(np.clip(20 / np.sqrt(len(rows)), 0.4, 1.0)), label="observed", zorder=3)  # fmt: skip
    ax.legend(frameon=False, loc="upper left", markerscale=2.5)
    if len(rows) <= NAMED:
        ax.set_xticks(at, [f"row {r['row']}" for r in rows], rotation=60 if len(rows) > 12 else 0)
    else:
        ax.set_xticks([])
    ax.grid(axis="x", visible=False)
    ax.set_xlabel(f"rows, sorted by their prediction ({len(rows):,})", color=BARK)
    ax.set_ylabel(f"{d['outcome']}")
    return figure
