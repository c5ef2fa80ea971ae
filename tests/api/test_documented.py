"""What Python users see before they ask: documented parameters, choices that editors complete, warnings, logs, and the
index of a frame."""

from __future__ import annotations

import doctest
import inspect
import logging
import re
import warnings
from typing import get_args

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard import choices, fits
from bold_orchard.cli.main import parser_of
from bold_orchard.errors import NotConverged
from builders import groves

METHODS = [getattr(bo.Model, n) for n in dir(bo.Model) if n[0] != "_" and inspect.isfunction(getattr(bo.Model, n))]
PUBLIC = [*METHODS, *(getattr(bo, n) for n in bo.__all__ if inspect.isfunction(getattr(bo, n)))]


@pytest.mark.parametrize("function", PUBLIC, ids=lambda f: f.__qualname__)
def test_every_parameter_and_what_comes_back_is_documented(function):
    text = inspect.getdoc(function) or ""
    summary, _, rest = text.partition("\n\n")
    assert summary.endswith((".", "?")), summary
    named = [n for n in inspect.signature(function).parameters if n != "self"]
    section = re.search(r"Parameters\n-+\n(.*?)(?=\n\n[A-Z]\w+\n-+|\Z)", rest, re.S)
    told = re.findall(r"^([\w, ]+?)(?:, \.\.\.)? :", section[1], re.M) if section else []
    documented = {n.strip() for line in told for n in line.split(",")}
    family = {"fit", "refit", "scan", "read_table"}  # whose many options are those of the command, by the same names
    if function.__name__ not in family:
        assert set(named) <= documented, set(named) - documented
    assert not documented - set(named)
    assert "Returns\n" in rest or function.__name__ in ("scan", "refit")


def test_examples_run():
    assert doctest.testmod(fits).failed == 0 and doctest.testmod(fits).attempted > 3


@pytest.mark.parametrize(("command", "option", "name"), [
    ("fit", "--method", "Method"), ("fit", "--df", "Df"), ("fit", "--family", "FamilyName"),
    ("means", "--correction", "Correction"),
    ("components", "--method", "ComponentsMethod"), ("intervals", "--method", "IntervalsMethod"),
    ("check", "--kind", "CheckKind"),
    ("draw", "--kind", "DrawKind"), ("check", "--influence", "Influence"),
])  # fmt: skip
def test_choices_are_those_of_the_command_line(command, option, name):
    action = next(a for a in parser_of(command)[1]._actions if option in a.option_strings)
    assert set(action.choices) == set(get_args(getattr(choices, name)))


def test_a_search_that_did_not_converge_warns_and_every_fit_is_logged(caplog):
    frame = groves(12, 6)
    with caplog.at_level(logging.INFO, logger="bold_orchard"), warnings.catch_warnings():
        warnings.simplefilter("error")
        bo.fit("yield = rain; each orchard: intercept", frame)
    assert "yield = rain; each orchard: intercept; 72 rows" in caplog.text
    frame["late"] = (frame["rain"] > 0).astype(int)
    with pytest.warns(NotConverged, match="did NOT converge"):
        bo.fit("late = rain; each orchard: intercept", frame, family="binomial", force=True)


def test_the_index_of_a_frame_is_kept():
    frame = groves(12, 6)
    frame.index = [f"row {i}" for i in np.random.default_rng(1).permutation(len(frame))]
    made = bo.fit(
        "yield = rain; each orchard: intercept", frame.assign(**{"yield": frame["yield"].mask(frame["rain"] > 1)})
    )
    assert list(made.predict().to_frame().index) == list(frame.index)
    some = frame[20:40]
    assert list(made.predict(some, where="rain > 0").to_frame().index) == list(some[some["rain"] > 0].index)
    assert list(made.predict(some.reset_index(drop=True)).to_frame().index) == list(range(20))
    all_rows, few = (made.predict(new).to_frame()["predicted"] for new in (None, some))
    np.testing.assert_allclose(few, all_rows.loc[some.index], rtol=1e-12)
