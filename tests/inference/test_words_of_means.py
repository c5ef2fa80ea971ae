"""Means asked for in a person's own words."""

from __future__ import annotations

import bold_orchard as bo
from builders import trial


def test_within_takes_the_column_or_the_factor_as_it_is_written():
    fit = bo.fit("yield = cross(category(week), soil); each tree: intercept", trial())
    one = fit.means("category(week)*soil", differences=True, within="week")
    two = fit.means("category(week)*soil", differences=True, within="category(week)")
    assert one.to_dict() == two.to_dict() and one.within == "category(week)"
    spaced = fit.means("category(week) * soil", differences=True, within="soil")
    assert {p["a"].split(", ")[1] == p["b"].split(", ")[1] for p in spaced.pairs} == {True}
