"""Fits go through pickle and come back equal; levels that are none are refused."""

from __future__ import annotations

import copy
import pickle

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.errors import UsageError
from builders import diaries, inspections, trial


def with_a_gap():
    frame = trial(trees=20)
    frame.loc[3, "rain"] = np.nan
    return frame


FITS = {
    "correlated": lambda: bo.fit("yield = rain; each orchard: intercept; within tree: ar1(week)", with_a_gap()),
    "counts": lambda: bo.fit("aphids = spray; each orchard: intercept", inspections(), family="poisson", ratios=True),
    "scatter": lambda: bo.fit("yield = rain; each tree: intercept + spread", diaries()),
    "robust": lambda: bo.fit("yield = rain; each orchard: intercept", with_a_gap(), errors="robust"),
}


@pytest.mark.parametrize("kind", FITS)
def test_a_fit_comes_back_from_pickle(kind):
    fit = FITS[kind]()
    for again in (pickle.loads(pickle.dumps(fit)), copy.deepcopy(fit)):
        assert again == fit and hash(again) == hash(fit) and again.to_dict() == fit.to_dict()
        assert again.terms().to_dict() == fit.terms().to_dict()
        one, two = (f.predict().to_frame() for f in (again, fit))
        np.testing.assert_allclose(one["predicted"], two["predicted"], rtol=1e-7)
        np.testing.assert_allclose(one["se"], two["se"], rtol=1e-5)


@pytest.mark.parametrize("level", [0, 1, 95, -0.5])
def test_a_level_that_is_none_is_refused(level):
    fit = FITS["correlated"]()
    for ask in (fit.components, fit.groups, lambda confidence: fit.intervals("wald", confidence=confidence), fit.terms,
                lambda confidence: bo.draw(fit, confidence=confidence), lambda confidence: bo.side_by_side(fit, confidence=confidence)):  # fmt: skip
        with pytest.raises(UsageError, match="between 0 and 1"):
            ask(confidence=level)


def test_help_by_name_and_the_version(quick):
    assert quick("help", "fit").out == quick("fit", "--help").out and quick("-V").out == quick("--version").out
    assert quick("help", "fits").code == 2
