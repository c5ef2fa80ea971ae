"""Forty problem fits: what each proposes is followed to its end, and must have been worth following."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.results.notes import Note

MOST = 6  # proposals in a row: each takes one term or one correlation away
CLAUSES = [
    "each orchard: intercept + rain",
    "each orchard: intercept + power(centre(rain), 2)",
    "each orchard: intercept + cross(rain, dew)",
    "each orchard (diagonal): intercept + power(rain, 3)",
    "each orchard: intercept + rain + dew; each tree in orchard: intercept + rain",
]


def without_much_variation(seed):
    """Yields of 16 orchards with three trees each; what varies between units is nothing, or the level alone."""
    r = np.random.default_rng(seed)
    n = 240
    orchard, tree = np.repeat(np.arange(16), 15), np.tile(np.repeat(np.arange(3), 5), 16)
    frame = pd.DataFrame({"orchard": orchard, "tree": tree, "rain": r.normal(60, 10, n), "dew": r.normal(size=n)})
    frame["soil"] = np.where(orchard % 2, "clay", "loam")
    level = (0.0, 1.5)[seed % 2] * r.normal(size=16)[orchard]
    frame["yield"] = 20 + 0.1 * frame.rain + 2.0 * (frame.soil == "loam") + level + r.normal(size=n)
    eta = 0.05 * (frame.rain - 60) + 0.6 * level
    frame["moths"] = r.poisson(np.exp(1.0 + 0.5 * eta))
    return frame


@pytest.mark.few(12)
@pytest.mark.parametrize("seed", range(8))
@pytest.mark.parametrize("clause", CLAUSES)
def test_a_proposal_is_followed_until_nothing_vanishes(clause, seed):
    counts = seed % 4 == 3
    settings = Settings("ml", Options(family="poisson" if counts else "gaussian"))
    table = Table(without_much_variation(seed), "t", 240)
    sentence = f"{'moths' if counts else 'yield'} = rain + soil; {clause}"
    first = last = fit(sentence, table, settings)
    steps = 0
    while offers := [n.suggestion for n in last.result["warnings"] if isinstance(n, Note) and n.suggestion]:
        steps += 1
        assert steps <= MOST, last.result.model
        assert offers[0].startswith(sentence.split(";", maxsplit=1)[0]), "the treatment and the covariate stay"
        last = fit(offers[0], table, settings)
    assert last.converged and not last.result["convergence"]["boundary"]
    if steps:
        assert last.result["fit"]["n_parameters"] < first.result["fit"]["n_parameters"]
        assert last.result["fit"]["bic"] < first.result["fit"]["bic"]
        assert last.result["fit"]["loglik"] > first.result["fit"]["loglik"] - 3.0 * steps
