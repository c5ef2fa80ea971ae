"""Comparison: laws at the boundary, the bootstrap as their judge, common rows, the lines of its picture."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import special, stats

from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError
from bold_orchard.inference.comparison.boundary_law import projected_shares
from bold_orchard.inference.comparison.boundary_law import tested as sort_out
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.distributions import half_and_half
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction.average_lines import average_line
from bold_orchard.inference.prediction.compared import compared_lines
from bold_orchard.inference.variances.components import components
from builders import make_trees


def tail(shares, df, x):
    return np.mean(np.where(shares > 1e-12, special.chdtrc(df, x / np.maximum(shares, 1e-12)), 0.0))


def two_units(seed=1, rows=160):
    frame = make_trees(seed, orchards=12, rows=rows, slope_sd=0.0, orchard_sd=0.0)
    r = np.random.default_rng(seed)
    frame["season"], frame["soil"] = r.integers(0, 8, rows).astype(str), r.choice(["clay", "sand"], rows)
    return frame


def test_the_simulated_law_is_the_known_mixture_where_one_is_known():
    r = np.random.default_rng(0)
    root = r.normal(size=(3, 3))
    information = root @ root.T + np.eye(3)
    shares = projected_shares(information, 2, (1,), 0, r)
    rho = 0.6
    wedge = projected_shares(np.array([[1, rho], [rho, 1]]), 0, (1, 1), 1, r)
    for x in (1.0, 3.0, 8.0):
        assert tail(shares, 3, x) == pytest.approx(half_and_half(x, 3), rel=0.02)
        angle = np.arccos(rho) / (2 * np.pi)
        known = 0.5 * stats.chi2.sf(x, 2) + angle * stats.chi2.sf(x, 3) + (0.5 - angle) * stats.chi2.sf(x, 1)
        assert tail(wedge, 3, x) == pytest.approx(known, rel=0.02)


@pytest.mark.few(1)
@pytest.mark.parametrize("size", [2, 3])
def test_projections_on_a_matrix_cone_are_the_nearest_points(size):
    """Each share is checked by a slow search over L L'."""
    from scipy import optimize

    from bold_orchard.inference.comparison import boundary_law

    r = np.random.default_rng(size)
    m = size * (size + 1) // 2
    root = r.normal(size=(m, m))
    low = np.linalg.cholesky(root @ root.T + np.eye(m))
    z = r.normal(size=(6, m))
    lengths = boundary_law._cone_length(low, z, (size,))
    rows, columns = np.tril_indices(size)
    for point, length in zip(z, lengths):

        def miss(v, point=point):
            factor = np.zeros((size, size))
            factor[rows, columns] = v
            full = (factor @ factor.T)[rows, columns] * np.where(rows == columns, 1, np.sqrt(2))
            return ((point - full @ low) ** 2).sum()

        best = min(optimize.minimize(miss, r.normal(size=m)).fun for _ in range(12))
        assert point @ point - length == pytest.approx(best, abs=1e-4)


def test_what_is_tested_at_the_boundary_is_sorted_out():
    frame = two_units()
    made = {s: fit(f"yield = rain{s}", Table(frame, "t", len(frame))) for s in (
        "", "; each orchard: intercept", "; each orchard: intercept + rain", "; each orchard: intercept + rain + sun",
        "; each orchard (diagonal): intercept + rain", "; each orchard: intercept + rain; each season: intercept",
        "; each orchard (identity): intercept + sun", "; each orchard (exchangeable): intercept + sun")}  # fmt: skip

    def sorted_out(a, b):
        known = sort_out(made[a], made[b])
        return None if known is None else (known.free, known.squares, len(known.directions) - known.size)

    one, two, three = (
        "; each orchard: intercept",
        "; each orchard: intercept + rain",
        "; each orchard: intercept + rain + sun",
    )
    assert sorted_out("", one) == (0, (1,), 0) and sorted_out("", two) == (0, (2,), 0)
    assert sorted_out(one, two) == (1, (1,), 1) and sorted_out(one, three) == (2, (2,), 1)
    assert sorted_out(two, three) == (2, (1,), 3) and sorted_out("", three) == (0, (3,), 0)
    assert sorted_out("; each orchard (diagonal): intercept + rain", two) == (1, (), 2)
    assert sorted_out(one, "; each orchard: intercept + rain; each season: intercept") == (1, (1, 1), 1)
    assert sorted_out("", "; each orchard (identity): intercept + sun") == (0, (1,), 0)
    assert sorted_out("", "; each orchard (exchangeable): intercept + sun") == (0, (1, 1), 0)


@pytest.mark.slow
def test_several_variances_at_zero_have_the_law_that_simulation_shows():
    """2 random effects (slope and second unit) against none of them: the law beside brute-force refits under the null."""
    frame = two_units(3, 200)
    table = Table(frame, "t", len(frame))
    small = fit("yield = rain", table, name="small")
    large = fit("yield = rain; each orchard: intercept + rain; each season: intercept", table, name="large")
    document = compare([small, large])
    test = document["tests"][0]
    assert test["df"] == 4 and test["p_boundary"] < test["p"]
    ratios = []
    for i in range(150):
        y = small.model.simulate(np.random.default_rng([5, i]))
        ratios.append(small.model.again(y).point.deviance - large.model.again(y).point.deviance)
    from bold_orchard.inference.comparison.boundary_law import simulated_p

    for q in (0.5, 0.8):
        x = float(np.quantile(ratios, q))
        assert simulated_p(small, large, x, 4, 1) == pytest.approx(1 - q, abs=0.11)


@pytest.mark.slow
def test_the_bootstrap_p_counts_what_exceeds(orchard, harvest):
    frame = two_units(2)
    table = Table(frame, "t", len(frame))
    small, large = (fit(f"yield = rain{s}", table, name=f"m{s}") for s in ("", "; each orchard: intercept"))
    document = compare([small, large], samples=60, seed=4)
    test = document["tests"][0]
    ratios = []
    for i in range(60):
        y = small.model.simulate(np.random.default_rng([4, i]))
        ratios.append(small.model.again(y).point.deviance - large.model.again(y).point.deviance)
    assert test["p_bootstrap"] == pytest.approx((1 + np.sum(np.array(ratios) >= test["chisq"] - 1e-7)) / 61)
    assert compare([small, large], samples=60, seed=4) == document
    orchard("fit", "harvest.csv", "yield = rain", "--missing", "-999", "--save", "a")
    orchard("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "b")
    done = orchard("compare", "a", "b", "--bootstrap", "20", "--json", "--figure", "c.png")
    assert done.json["tests"][0]["p_bootstrap"] == pytest.approx(1 / 21) and (orchard.folder / "c.png").exists()
    assert orchard("compare", "a", "b", "--bootstrap", "3").code == 2


def test_fits_of_different_rows_meet_on_their_common_rows(orchard, harvest):
    sentence = "yield = pruning; each orchard: intercept"
    orchard("fit", "harvest.csv", sentence, "--missing", "-999", "--save", "all")
    orchard("fit", "harvest.csv", "yield = pruning + rain; each orchard: intercept", "--missing", "-999", "--where",
            "season != 2", "--save", "part")  # fmt: skip
    refused = orchard("compare", "all", "part")
    assert refused.code == 3 and "only in 'all' (row" in refused.err and "--common-rows" in refused.err
    d = orchard("compare", "all", "part", "--common-rows", "--json").json
    assert any("refitted on the" in n for n in d["notes"]) and d["rows"] < 1427
    orchard("fit", "harvest.csv", sentence, "--missing", "-999", "--where", "season != 2", "--save", "same")
    direct = orchard("compare", "same", "part", "--json").json
    assert d["models"][0]["deviance"] == pytest.approx(direct["models"][0]["deviance"], abs=1e-6)


def test_average_lines_hold_the_rest_at_its_mean():
    frame = two_units()
    frame["yield"] += (frame["soil"] == "sand") * 2.0
    table = Table(frame, "t", len(frame))
    plain = fit("yield = rain + sun + soil; each orchard: intercept", table)
    b = [r["estimate"] for r in plain.result["fixed"]]
    line = average_line(plain, "rain", np.array([0.0, 2.0]))
    assert line[0] == pytest.approx(b[0] + b[2] * frame["sun"].mean() + 0.5 * b[3]) and line[1] - line[
        0
    ] == pytest.approx(2 * b[1])
    empty = fit("yield = intercept; each orchard: intercept", table)
    assert compared_lines([empty]) is None
    lines = compared_lines([empty, plain])
    assert lines.covariate == "rain" and set(lines.lines) == {"fit"}


def test_components_against_another_fit_and_by_profile(orchard, harvest):
    orchard("fit", "harvest.csv", "yield = intercept; each orchard: intercept", "--missing", "-999", "--save", "empty")
    orchard(
        "fit", "harvest.csv", "yield = rain + pruning; each orchard: intercept", "--missing", "-999", "--save", "full"
    )
    d = orchard("components", "full", "--against", "empty", "--method", "profile", "--json").json
    one, two = (orchard("components", n, "--json").json["components"] for n in ("empty", "full"))
    assert d["reduction"][-1]["proportion"] == pytest.approx(1 - two[-1]["estimate"] / one[-1]["estimate"])
    sds = {p["parameter"]: p for p in orchard("intervals", "full", "--json").json["parameters"]}
    assert d["components"][0]["ci"] == pytest.approx([sds["sd(orchard: intercept)"][k] ** 2 for k in ("low", "high")])
    assert (
        d["components"][0]["se"] == pytest.approx(two[0]["se"])
        and abs(d["components"][0]["change"]) < 1e-4 * two[0]["se"]
    )
    page = orchard("components", "full", "--against", "empty").out
    assert "less variance than in empty" in page and "One more step" in page
    orchard(
        "fit",
        "harvest.csv",
        "yield = rain; each orchard: intercept",
        "--missing",
        "-999",
        "--where",
        "rain > 50",
        "--save",
        "few",
    )
    assert orchard("components", "full", "--against", "few").code == 3


def test_correlations_are_said_in_words():
    from bold_orchard.reporting.page import Paragraph
    from bold_orchard.reporting.pages.components import components_page

    frame = make_trees(5, orchards=10, rows=60, slope_sd=0.9, orchard_sd=1.5)
    made = fit("yield = rain; each orchard: intercept + rain", Table(frame, "t", 60), Settings())
    document = components(made)
    r = document["components"][2]["correlation"]
    texts = [p.text for p in components_page(document).pieces if isinstance(p, Paragraph)]
    assert any(f"(r = {r:.2f})" in t and "Across orchards the effects intercept and rain" in t for t in texts)


def test_a_fit_that_did_not_converge_is_no_yardstick():
    frame = two_units()
    small, large = (
        fit(f"yield = rain{s}", Table(frame, "t", len(frame)), name=f"m{s}") for s in ("", "; each orchard: intercept")
    )
    failed = replace(large, model=replace(large.model, found=replace(large.model.found, converged=False)))
    with pytest.raises(OrchardError, match="did not converge"):
        compare([small, failed])
    assert compare([small, failed], force=True)["models"][1]["converged"] is False


def test_an_outcome_and_its_logarithm_stand_on_one_scale():
    """ML densities of log(y) times 1/y are densities of y; a column made beforehand gives the same likelihood."""
    frame = make_trees(seed=5, rows=90, offset=12.0)

    def table(frame):
        return Table(frame, "t", len(frame))

    plain = fit("yield = rain; each orchard: intercept", table(frame), name="plain")
    for outcome, slope in (("log(yield)", 1 / frame["yield"]), ("calc(sqrt(yield) * -2)", frame["yield"] ** -0.5)):
        other = fit(f"{outcome} = rain; each orchard: intercept", table(frame), name="other")
        found = compare([plain, other])
        ml = {
            n: fit(f.design.sentence, table(frame), Settings(method="ml"))
            for n, f in (("plain", plain), ("other", other))
        }
        wanted = {n: f.result.fit.loglik for n, f in ml.items()}
        wanted["other"] += float(np.log(slope).sum())
        assert found["method"] == "ML" and found["outcome"] == "yield" and found["tests"][0]["nested"] is False
        for m in found["models"]:
            assert m["loglik"] == pytest.approx(wanted[m["name"]], abs=1e-5)
            assert m["aic"] == pytest.approx(-2 * wanted[m["name"]] + 2 * m["n_parameters"], abs=1e-5)
        assert sum("Jacobian" in n for n in found["notes"]) == 1
    bent = fit("calc((yield - 14) * (yield - 14)) = rain; each orchard: intercept", table(frame), name="bent")
    with pytest.raises(OrchardError, match="neither rises nor falls"):
        compare([plain, bent])
    with pytest.raises(OrchardError, match="different outcomes"):
        compare([plain, fit("sun = rain; each orchard: intercept", table(frame), name="sun")])


def test_any_pair_on_request():
    frame = Table(make_trees(seed=5, rows=90), "t", 90)
    fits = [
        fit(f"yield = {x}; each orchard: intercept", frame, name=n)
        for n, x in (("a", "intercept"), ("b", "rain"), ("c", "rain + sun"))
    ]
    pairs = [(t["smaller"], t["larger"]) for t in compare(fits, against="b")["tests"]]
    assert pairs == [("a", "b"), ("b", "c")]
    assert [(t["smaller"], t["larger"]) for t in compare(fits, against="a")["tests"]] == [("a", "b"), ("a", "c")]
    with pytest.raises(OrchardError, match="not in the comparison"):
        compare(fits, against="d")
