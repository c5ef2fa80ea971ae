"""Columns far from zero, and sizes that cannot be computed with."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.data.table import Table
from bold_orchard.design import magnitudes
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.sentence.parse import read_sentence

SENTENCE = "crop = day; each tree: intercept + day"


def design_of(day, sentence=SENTENCE, crop=None):
    r = np.random.default_rng(2)
    rows = {"tree": np.arange(len(day)) % 20, "day": day, "crop": r.normal(size=len(day)) if crop is None else crop}
    return build_design(read_sentence(sentence), Table(rows, "days.csv", len(day)), Options())


def days(middle, n=400):
    return middle + np.random.default_rng(1).normal(size=n)


def test_a_slope_far_from_zero_is_told_with_the_mended_sentence():
    (note,) = [n for n in design_of(days(1e6)).notes if "of its SDs from zero" in n]
    assert note.endswith("Centre it: crop = centre(day); each tree: intercept + centre(day)")
    assert not [n for n in design_of(days(1e6), note.rpartition("Centre it: ")[2]).notes if "SDs from zero" in n]


def test_one_row_beyond_zero_makes_the_spread_wide():
    """What a quick look at the ends says without a sum is what the sum says."""
    day = days(1e6)
    day[7] = -1.0
    assert not [n for n in design_of(day).notes if "SDs from zero" in n]
    assert abs(day.mean()) / day.std() < np.sqrt(len(day)) < magnitudes.FAR


@pytest.mark.parametrize("size", [1e60, -1e60])
def test_too_large_a_column_is_refused_whichever_its_sign(size):
    with pytest.raises(OrchardError, match="'day' has values around 1e\\+60"):
        design_of(days(0.0) + size * (np.arange(400) == 3))
    with pytest.raises(OrchardError, match="'crop' has values around 1e\\+60"):
        design_of(days(0.0), crop=days(0.0) + size * (np.arange(400) == 3))


def test_a_changed_column_is_judged_by_its_own_size():
    """The raw column is harmless, what is made of it is not."""
    with pytest.raises(OrchardError, match="has values around"):
        design_of(days(1e20), "crop = power(day, 3); each tree: intercept")
    assert design_of(days(1e55), "crop = rescale(day, 1e55); each tree: intercept").fixed.names


@pytest.mark.parametrize("odd", [np.inf, -np.inf])
def test_an_infinite_cell_is_told_with_its_row(odd):
    day = days(0.0)
    day[11] = odd
    with pytest.raises(OrchardError, match=r"'day' is infinite in 1 row \(first: 12\)"):
        design_of(day)
