"""The picture of ``orchard fit``: average effects with their intervals."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from matplotlib.figure import Figure

from bold_orchard.reporting.figures.coefficients import coefficients_figure, unlike
from bold_orchard.reporting.numbers import figure
from bold_orchard.results.fit import FitResult


def fit_figure(d: FitResult, sds: Callable[[], dict[str, float]] | None = None) -> Figure:
    """Estimates and intervals of all terms but the intercept, in the order of the sentence.

    Where their sizes are unlike, numbers stand for a step of one of their ``sds``, so that one scale serves all.
    """
    rows = [r for r in d.coefficient_rows if r["estimate"] is not None and r["term"] != "intercept"]
    rows = rows or [r for r in d.coefficient_rows if r["estimate"] is not None]
    shown = [
        {"term": r["term"], "label": r["label"], "fit": d["name"], "estimate": r["estimate"]}
        | dict(zip(("low", "high"), r["ci"] or (None, None)))
        for r in rows
    ]
    steps = sds() if sds is not None and unlike(shown) else {}
    shown = [_of_a_step(r, steps[r["term"]]) if r["term"] in steps else r for r in shown]
    what = f"effect on {d['outcome']}, with {100 * d['confidence']:g}% interval"
    return coefficients_figure(f"Average effects, {d['name']}: {d['model']}", shown, what)


def _of_a_step(row: dict[str, Any], sd: float) -> dict[str, Any]:
    """The effect of a step of one SD."""
    step = {k: row[k] if row[k] is None else row[k] * sd for k in ("estimate", "low", "high")}
    return row | step | {"label": f"{row['label']}, per SD of {figure(sd, 3)}"}
