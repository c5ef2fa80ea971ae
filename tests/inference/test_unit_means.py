"""Lines of units that differ in a term, in means and in drawn lines: they are the predictions."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo


def plots(seed=3):
    """Eight sites, three cultivars in each (one cell is empty), four trees a plot."""
    r = np.random.default_rng(seed)
    f = pd.DataFrame([(f"s{s}", c) for s in range(8) for c in "ABC" for _ in range(4)], columns=["site", "cultivar"])
    f["dew"] = r.normal(size=len(f))
    plot = pd.factorize(f.site + f.cultivar)[0]
    f["kilos"] = (
        20 + f.dew + f.cultivar.map({"A": 0, "B": 1, "C": 3}) + r.normal(0, 2, 24)[plot] + r.normal(size=len(f))
    )
    return f[~((f.site == "s2") & (f.cultivar == "B"))].reset_index(drop=True)


SENTENCES = [
    "kilos = dew + cultivar; each site: intercept; each cultivar in site: intercept",
    "kilos = dew + cultivar; each site: intercept + cultivar",
    "kilos = cross(dew, cultivar); each cultivar in site: intercept; each site: intercept + dew",
]


@pytest.mark.parametrize("sentence", SENTENCES)
def test_means_inside_units_are_predictions_at_the_mean_of_covariates(sentence):
    frame = plots()
    fit = bo.fit(sentence, frame, force=True)
    made = fit.means("cultivar")
    new = pd.DataFrame(
        [(s, c, frame.dew.mean()) for s in frame.site.unique() for c in "ABC"], columns=["site", "cultivar", "dew"]
    )
    wanted = fit.predict(new).to_frame()["predicted"].to_numpy().reshape(-1, 3)
    assert [u["level"] for u in made.units] == list(frame.site.unique())
    for unit, row in zip(made.units, wanted):
        for value, other in zip(unit["means"], row):
            if value is None:
                assert unit["level"] == "s2" and "in site" in sentence
            else:
                assert value == pytest.approx(other, rel=1e-9)
    assert fit.means("cultivar").figure().axes[0].lines


def test_lines_along_a_category_hold_the_effects_of_its_plots():
    frame = plots()
    fit = bo.fit(SENTENCES[0], frame)
    drawn = fit.draw(along="cultivar")
    assert drawn.unit == "site"
    for line in drawn.lines:
        own = frame[frame.site == line["level"]]
        new = pd.DataFrame({"site": line["level"], "cultivar": sorted(own.cultivar.unique()), "dew": frame.dew.mean()})
        assert line["y"] == pytest.approx(fit.predict(new).to_frame()["predicted"].tolist(), rel=1e-9)


def test_parallel_units_have_no_lines_of_their_own():
    fit = bo.fit("kilos = dew + cultivar; each site: intercept", plots())
    assert "units" not in fit.means("cultivar").to_dict()
