"""A model that asks too much names what stands twice, and the nearest one that its rows can tell."""

import re

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.errors import OrchardError


@pytest.fixture
def harvest():
    r = np.random.default_rng(8)
    orchard = np.repeat(np.arange(15), 12)
    d = pd.DataFrame(
        {"orchard": orchard, "rain": r.normal(40, 5, 180), "soil": np.array(["clay", "loam", "sand"])[orchard % 3]}
    )
    d["yield"] = 0.3 * d.rain + r.normal(0, 2, 15)[orchard] + r.normal(size=180)
    return d


def alias(d, sentence):
    notes = bo.fit(sentence + "; each orchard: intercept", d).to_dict()["notes"]
    return next(n for n in notes if "no estimate" in n)


def test_it_is_said_alike_whatever_the_order_of_rows_and_beside_nearly_equal_columns(harvest):
    d = harvest.assign(year=2000 + np.tile(np.arange(12), 15), age=lambda d: d.year - 1990)
    said = "age is year - 1990 in the rows used, so it has no estimate; leave one of them out."
    for frame in (d, d.sample(frac=1, random_state=3)):
        assert alias(frame, "yield = power(year, 2) + soil + age") == said


@pytest.mark.parametrize(
    ("more", "terms", "said"),
    [
        ({"twice": lambda d: 2 * d.rain}, "rain + twice", "twice is 2 rain in"),
        ({"dry": lambda d: 100 - d.rain}, "rain + dry", "dry is 100 - rain in"),
        ({"on_clay": lambda d: (d.soil == "clay") * 1}, "on_clay + soil", "soil[sand] is 1 - on_clay - soil[loam] in"),
    ],
)
def test_a_column_that_stands_twice_is_said_in_terms_of_the_others(harvest, more, terms, said):
    assert alias(harvest.assign(**more), f"yield = {terms}").startswith(said)


def test_cells_without_rows_are_no_sum_of_few_columns(harvest):
    d = harvest.assign(pruning=np.tile(["hard", "none", "light"], 60))
    d = d[~((d.soil == "sand") & (d.pruning == "hard"))]
    assert "look for empty combinations" in alias(d, "yield = rain + soil + pruning + soil * pruning")


def test_the_offers_of_a_slope_between_units_can_be_fitted(harvest):
    with pytest.raises(OrchardError, match="does not vary inside") as refused:
        bo.fit("yield = rain; each orchard: intercept + soil", harvest)
    text = str(refused.value)
    plain, scatter = re.search(r"write: (.*)  or: (.*)  \(or add", text).groups()
    assert plain == "yield = rain; each orchard: intercept" and "(vary with soil)" in scatter
    assert all(bo.fit(s, harvest).to_dict()["convergence"]["converged"] for s in (plain, scatter))


@pytest.mark.parametrize("family", ["gaussian", "poisson"])
def test_correlations_of_levels_that_meet_in_no_unit_are_left_out_of_the_offer(harvest, family):
    if family == "poisson":
        harvest["yield"] = harvest["yield"].round().clip(0)
    d = bo.fit("yield = rain; each orchard: soil", harvest, family=family).to_dict()
    note = next(n for n in d["warnings"] if "has rows of both" in n)
    offer = note.split("Write: ")[1]
    assert offer == "yield = rain; each orchard (diagonal): soil"
    mended = bo.fit(offer, harvest, family=family).to_dict()
    assert mended["convergence"]["converged"] and not d["convergence"]["converged"]
    assert mended["fit"]["loglik"] == pytest.approx(d["fit"]["loglik"], abs=1e-7)
