"""Which columns may be outcomes and which family each would have, and which columns tell the time."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.grades import are_grades, usual_order
from bold_orchard.data.table import Table
from bold_orchard.data.units import is_time

SMALL_MEAN = 30.0  # of counts: above, they are as good as measurements
UNEVEN = 0.5  # SD over mean of the labels' frequencies from which they are no labels
SKEWED = 1.0  # skewness from which a positive measurement rather has a gamma's shape
WIDER = 1.5  # variance over mean from which counts are wider than a Poisson law allows


def plausible(table: Table, columns: list[dict[str, Any]], units: list[str]) -> list[dict[str, str]]:
    """One entry per column that may be an outcome: ``column``, ``family``, ``reason``; units, times and constants are none."""
    out = []
    for c in columns:
        name = c["column"]
        labelled = name in units and not (c["kind"] == "number" and _uneven_counts(table.numbers(name)))
        if labelled or is_time(name) or c["distinct"] < 2 or not _moves(c):
            continue
        found = _of_numbers(table.numbers(name)) if c["kind"] == "number" else _of_labels(c)
        if found is not None:
            out.append({"column": name, "family": found[0], "reason": found[1]})
    return out


def _moves(c: dict[str, Any]) -> bool:
    """Whether it varies inside every unit, times aside, as what is measured does."""
    return all(how == "varies" for unit, how in c["levels_within"].items() if not is_time(unit))


def _uneven_counts(values: NDArray[np.float64]) -> bool:
    """Whole numbers from 0 of which some are far more frequent than others, as labels of units are not."""
    y = values[np.isfinite(values)]
    if not len(y) or y.min() != 0 or not np.array_equal(y, np.round(y)):
        return False
    counts = np.unique(y, return_counts=True)[1]
    return bool(counts.std() > UNEVEN * counts.mean())


def _of_labels(c: dict[str, Any]) -> tuple[str, str] | None:
    if c["distinct"] == 2:
        return "binomial", f"two labels: {' and '.join(c.get('levels', [])[:2])}"
    if are_grades(c.get("levels", [])) and c["distinct"] == len(c["levels"]):
        return "ordinal", f"grades: {', '.join(usual_order(c['levels']))}"
    return None


def _of_numbers(values: NDArray[np.float64]) -> tuple[str, str] | None:
    y = values[np.isfinite(values)]
    distinct = np.unique(y[:1000]) if len(np.unique(y[:1000])) > 2 else np.unique(y)
    if len(distinct) == 2:
        return "binomial", f"two values: {distinct[0]:g} and {distinct[1]:g}"
    mean, sd, whole = float(y.mean()), float(y.std()), bool(np.array_equal(y, np.round(y)))
    if whole and y.min() >= 0 and mean <= SMALL_MEAN and (y == 0).any():
        wide = sd**2 > WIDER * mean
        return ("negative-binomial" if wide else "poisson"), (
            "whole numbers from 0 that vary " + ("more than their mean" if wide else "about as much as their mean")
        )
    if y.min() > 0 and y.max() < 1:
        return "beta", "shares between 0 and 1"
    skew = float(((y - mean) ** 3).mean() / sd**3) if sd > 0 else 0.0
    if y.min() > 0 and skew > SKEWED:
        return "gamma", f"positive with a long tail (skewness {skew:.1f})"
    return "gaussian", "numbers"


def times(columns: list[dict[str, Any]]) -> list[str]:
    """Columns named like a time that hold more than one value."""
    return [c["column"] for c in columns if is_time(c["column"]) and c["distinct"] > 1]
