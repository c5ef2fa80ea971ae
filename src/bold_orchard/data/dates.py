"""Dates and times written in text columns, as days."""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Labels

DATE = re.compile(r"\d{4}-\d{2}-\d{2}([ T]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?")
WRITTEN = "2024-05-31, or 2024-05-31 14:30"
COUNTED = "a date, counted in days since 1970-01-01"
MICROSECONDS = 86_400 * 10**6  # of a day


def day_of(text: str) -> float | None:
    """One date or time as days since 1970-01-01; None where it is none."""
    if not DATE.fullmatch(text):
        return None
    try:
        return float(np.datetime64(text.replace(" ", "T"), "us").astype(np.int64) / MICROSECONDS)
    except ValueError:
        return None


def days_of(labels: Labels) -> NDArray[np.float64] | None:
    """Days since 1970-01-01 of each row (n_rows,), NaN where missing; None where some label is no date."""
    days = np.full(len(labels.raw) + 1, np.nan)  # the last for the code -1
    for code in np.unique(labels.codes[labels.codes >= 0]):
        day = day_of(labels.texts[code])
        if day is None:
            return None
        days[code] = day
    return days[labels.codes]
