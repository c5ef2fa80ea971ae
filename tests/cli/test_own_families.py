"""Families for what the usual ones leave out: normal logarithms, zeros of their own, heavy tails."""

from __future__ import annotations

import numpy as np
import pytest

from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit
from builders import inspections, table_of


@pytest.fixture
def scab(quick):
    inspections().to_csv(quick.folder / "scab.csv", index=False)
    return quick


def test_a_lognormal_outcome_is_a_normal_logarithm_told_on_the_outcome_s_scale(scab):
    logs = scab(
        "fit", "scab.csv", "log(sap) = rain; each orchard: intercept", "--method", "ml", "--save", "logs", "--json"
    ).json
    own = scab(
        "fit", "scab.csv", "sap = rain; each orchard: intercept", "--family", "lognormal", "--save", "own", "--json"
    ).json
    jacobian = float(np.log(inspections().sap).sum())
    assert own["fit"]["loglik"] == pytest.approx(logs["fit"]["loglik"] - jacobian, abs=1e-6)
    assert own["residual"]["dispersion"] == pytest.approx(logs["residual"]["variance"], rel=1e-5)
    for one, two in zip(own["fixed"], logs["fixed"]):
        assert one["estimate"] == pytest.approx(two["estimate"], rel=1e-6)
    both = scab("compare", "logs", "own", "--json").json["models"]
    assert both[0]["loglik"] == pytest.approx(both[1]["loglik"], abs=1e-6)


@pytest.mark.slow
def test_zeros_of_their_own_are_tested_at_their_boundary_and_told_when_there_are_none(scab):
    sentence = ("scab.csv", "borers = rain + spray; each orchard: intercept")
    scab("fit", *sentence, "--family", "poisson", "--save", "plain")
    scab("fit", *sentence, "--family", "zero-inflated-poisson", "--save", "zeros")
    made = scab("compare", "plain", "zeros", "--json").json
    (test,) = made["tests"]
    assert test["nested"] and test["df"] == 1 and test["p_boundary"] == pytest.approx(test["p"] / 2)
    assert test["variance_explained"] == [] and any("different families" in n for n in made["notes"])
    page = scab("check", "plain").out
    assert "more zeros than the model expects" in page and "--family zero-inflated-poisson" in page
    frame = inspections()
    frame["borers"] = np.random.default_rng(2).poisson(np.exp(1 + 0.02 * (frame.rain - 60)))
    frame.to_csv(scab.folder / "none.csv", index=False)
    none = scab("fit", "none.csv", sentence[1], "--family", "zero-inflated-poisson", "--json").json
    poisson = scab("fit", "none.csv", sentence[1], "--family", "poisson", "--json").json
    if none["residual"]["zero_chance"] < 1e-6:
        assert any("Use --family poisson" in n for n in none["notes"])
    assert none["fit"]["loglik"] >= poisson["fit"]["loglik"] - 1e-6


@pytest.mark.parametrize(("factor", "shift"), [(1e-4, 0.0), (1e5, 3e6)])
def test_heavy_tails_are_measured_in_the_outcome_s_own_unit(factor, shift):
    frame = inspections()
    plain = fit("girth = rain; each orchard: intercept", table_of(frame), Settings(options=Options(family="student")))
    frame["girth"] = frame.girth * factor + shift
    other = fit("girth = rain; each orchard: intercept", table_of(frame), Settings(options=Options(family="student")))
    assert plain.converged and other.converged
    assert other.result["residual"]["tail_df"] == pytest.approx(plain.result["residual"]["tail_df"], rel=1e-3)
    assert other.result["fit"]["loglik"] == pytest.approx(
        plain.result["fit"]["loglik"] - 600 * np.log(factor), abs=1e-4
    )
    one, two = plain.result["fixed"][1], other.result["fixed"][1]
    assert two["estimate"] == pytest.approx(one["estimate"] * factor, rel=1e-4) and two["se"] == pytest.approx(
        one["se"] * factor, rel=1e-3
    )


@pytest.mark.slow
def test_tails_no_heavier_than_normal_ones_lead_back_to_the_normal_law(scab):
    frame = inspections()
    r = np.random.default_rng(8)
    frame["girth"] = 30 + 0.1 * frame.rain + r.uniform(-1, 1, len(frame))
    frame.to_csv(scab.folder / "flat.csv", index=False)
    flat = scab(
        "fit", "flat.csv", "girth = rain; each orchard: intercept", "--family", "student", "--save", "t", "--json"
    ).json
    normal = scab(
        "fit", "flat.csv", "girth = rain; each orchard: intercept", "--method", "ml", "--save", "n", "--json"
    ).json
    assert flat["fit"]["loglik"] == pytest.approx(normal["fit"]["loglik"], abs=1e-2)
    assert any("no heavier than normal ones" in n and "--family gaussian" in n for n in flat["notes"])


def test_tails_without_a_variance_have_no_shares_of_it(scab):
    frame = inspections()
    frame["girth"] = 30 + 0.1 * frame.rain + 0.3 * np.random.default_rng(8).standard_cauchy(len(frame))
    frame.to_csv(scab.folder / "wild.csv", index=False)
    wild = scab(
        "fit", "wild.csv", "girth = rain; each orchard: intercept", "--family", "student", "--save", "t", "--json"
    ).json
    assert 0.7 < wild["residual"]["tail_df"] < 1.4 and wild["fixed"][1]["estimate"] == pytest.approx(0.1, abs=0.02)
    parts = scab("components", "t", "--json").json
    assert parts["icc"][0]["value"] is None and "no variance" in scab("components", "t").out
    normal = scab("fit", "wild.csv", "girth = rain; each orchard: intercept", "--save", "g").code
    assert normal == 0 and "--family student" in scab("check", "g").out
