"""The classical table against closed forms, model comparisons by least squares, traces, and the REML tests."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from scipy import stats

from bold_orchard.classical.anova import anova
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import fit
from bold_orchard.reporting.figures.anova import anova_figure


def split_plot(seed=2, drop=0):
    """Six blocks, three ways of watering whole plots, four varieties in them, two trees each."""
    r = np.random.default_rng(seed)
    grid = [(b, w, v) for b in range(6) for w in "dfn" for v in "ABCE" for _ in range(2)]
    f = pd.DataFrame(grid, columns=["block", "water", "variety"])
    whole = f.block.astype(str) + f.water
    f["kilos"] = (
        40 + 2 * r.normal(size=6)[f.block] + pd.Series(r.normal(0, 1.5, 18), index=whole.unique())[whole].to_numpy()
        + 2.0 * (f.water == "d") + 1.5 * (f.variety == "B") + r.normal(size=len(f))
    )  # fmt: skip
    return f.drop(r.choice(len(f), drop, replace=False)).reset_index(drop=True) if drop else f


SPLIT = "kilos = cross(water, variety); each block: intercept; each water in block: intercept"


def fitted(sentence, frame):
    return fit(sentence, Table(frame, "t", len(frame)))


def lines(d):
    return {r["source"]: r for r in d["rows"]}


def dummies(*columns):
    joint = pd.Series(list(zip(*columns)))
    return pd.get_dummies(pd.factorize(joint)[0]).to_numpy(float)


def rss(y, *parts):
    x = np.column_stack([np.ones(len(y)), *parts])
    return float(np.sum((y - x @ np.linalg.lstsq(x, y, rcond=None)[0]) ** 2))


CERTIFIED = {  # sums of squares and F of the designed reference sets of a bureau of standards
    "resistivity": (5.11462616e-2, 4, 2.16636560e-1, 20, 1.18046237440255),
    "steps": (1.68, 8, 1.80, 180, 21.0),
}
RESISTIVITY = """196.3052 196.1240 196.1890 196.2569 196.3403 196.3042 196.3825 196.1669 196.3257 196.0422 196.1303 196.2005 196.2889
196.0343 196.1811 196.2795 196.1748 196.1494 196.1485 195.9885 196.2119 196.1051 196.1850 196.0052 196.2090"""


def steps(start):
    """Nine groups of 21: the mean once, then a tenth below and above in turn; means a tenth below and above in turn."""
    means = [0.4] + [0.3, 0.5] * 4
    return [(i, start + m + e) for i, m in enumerate(means) for e in [0.0] + [-0.1, 0.1] * 10]


@pytest.mark.parametrize(("name", "data", "digits"), [
    ("resistivity", [(i // 5, float(v)) for i, v in enumerate(RESISTIVITY.split())], 1e-9),
    ("steps", steps(1.0), 1e-9), ("steps", steps(1e6), 1e-8),
])  # fmt: skip
@pytest.mark.parametrize("sentence", ["y = category(gauge)", "y = intercept; each gauge: intercept"])
@pytest.mark.parametrize("kind", [1, 2, 3])
def test_certified_tables(name, data, digits, sentence, kind):
    between, df, within, rest, f = CERTIFIED[name]
    row, residual = anova(fitted(sentence, pd.DataFrame(data, columns=["gauge", "y"])), kind)["rows"]
    assert (row["df"], residual["df"]) == (df, rest)
    assert [row["ss"], residual["ss"], row["f"]] == pytest.approx([between, within, f], rel=digits)


def test_a_balanced_split_plot_is_the_textbook_s():
    f = split_plot()
    d = lines(anova(fitted(SPLIT, f)))
    y, grand = f.kilos, f.kilos.mean()

    def between(*keys):
        return float(((y.groupby([f[k] for k in keys]).transform("mean") - grand) ** 2).sum())

    expected = {"water": (between("water"), 2), "variety": (between("variety"), 3), "block": (between("block"), 5)}
    expected["water*variety"] = (between("water", "variety") - expected["water"][0] - expected["variety"][0], 6)
    expected["water in block"] = (between("water", "block") - expected["water"][0] - expected["block"][0], 10)
    left = float(((y - grand) ** 2).sum()) - sum(v[0] for v in expected.values())
    expected["residual"] = (left, 144 - 1 - 26)
    for source, (ss, df) in expected.items():
        assert d[source]["ss"] == pytest.approx(ss, rel=1e-9) and d[source]["df"] == df
    assert (
        d["water"]["error"] == [{"source": "water in block", "weight": 1.0}]
        and d["variety"]["error"][0]["source"] == "residual"
    )
    f_water = (expected["water"][0] / 2) / (expected["water in block"][0] / 10)
    assert d["water"]["f"] == pytest.approx(f_water, rel=1e-9) and d["water"]["p"] == pytest.approx(
        stats.f.sf(f_water, 2, 10), rel=1e-9
    )
    assert [(e["component"], e["coefficient"]) for e in d["block"]["expected"]] == [
        ("residual", 1.0), ("water in block", pytest.approx(8)), ("block", pytest.approx(24))]  # fmt: skip
    assert d["water"]["eta_squared_partial"] == pytest.approx(
        expected["water"][0] / (expected["water"][0] + expected["water in block"][0])
    )
    assert d["water"]["omega_squared_partial"] == pytest.approx(2 * (f_water - 1) / (2 * (f_water - 1) + 144))
    assert d["block"]["eta_squared_partial"] is None


def test_f_and_components_are_those_of_reml_where_data_are_balanced():
    made = fitted(SPLIT, split_plot())
    d = anova(made)
    tests = {t["term"]: t for t in terms(made)["tests"]}
    for term, t in tests.items():
        assert lines(d)[term]["f"] == pytest.approx(t["value"], rel=1e-6) and lines(d)[term][
            "error_df"
        ] == pytest.approx(t["den_df"], rel=1e-4)
    for c in d["components"]:
        assert c["estimate"] == pytest.approx(c["reml"], rel=1e-5) and not c["negative"]


@pytest.mark.parametrize("drop", [0, 17])
def test_types_are_differences_of_residual_squares(drop):
    f = split_plot(drop=drop)
    y = f.kilos.to_numpy()
    w, v, b = dummies(f.water), dummies(f.variety), dummies(f.block)
    wv, wb = dummies(f.water, f.variety), dummies(f.water, f.block)
    made = fitted(SPLIT, f)
    one, two, three = (lines(anova(made, k)) for k in (1, 2, 3))
    assert one["water"]["ss"] == pytest.approx(rss(y) - rss(y, w), rel=1e-8)
    assert one["variety"]["ss"] == pytest.approx(rss(y, w) - rss(y, w, v), rel=1e-8)
    assert one["water in block"]["ss"] == pytest.approx(rss(y, w, v, wv, b) - rss(y, wv, wb), rel=1e-8)
    assert two["variety"]["ss"] == pytest.approx(rss(y, wb) - rss(y, wb, v), rel=1e-8)
    assert two["water"]["ss"] == pytest.approx(rss(y, v, b) - rss(y, v, b, w), rel=1e-8)
    assert two["water*variety"]["ss"] == pytest.approx(rss(y, wb, v) - rss(y, wb, wv), rel=1e-8)

    def effects(codes):
        c = pd.factorize(codes, sort=True)[0]
        k = c.max() + 1
        return np.vstack([np.eye(k - 1), -np.ones(k - 1)])[c]

    def product(a, c):
        return (a[:, :, None] * c[:, None, :]).reshape(len(a), -1)

    ew, ev, eb = effects(f.water), effects(f.variety), effects(f.block)
    whole = [ew, ev, product(ew, ev), eb, product(ew, eb)]
    for i, source in enumerate(("water", "variety", "water*variety", "block", "water in block")):
        rest = [p for j, p in enumerate(whole) if j != i]
        assert three[source]["ss"] == pytest.approx(rss(y, *rest) - rss(y, *whole), rel=1e-7, abs=1e-9)
        assert one["residual"]["ss"] == pytest.approx(rss(y, *whole), rel=1e-8)


@pytest.mark.slow
@pytest.mark.parametrize("kind", [1, 3])
def test_expected_mean_squares_are_traces_and_means_over_outcomes(kind):
    f = split_plot(drop=23)
    made = fitted(SPLIT, f)
    d = lines(anova(made, kind))
    r = np.random.default_rng(1)
    z = {"block": dummies(f.block), "water in block": dummies(f.water, f.block)}
    variances = {"block": 3.0, "water in block": 2.0, "residual": 1.5}
    totals = dict.fromkeys(d, 0.0)
    runs = 400
    for _ in range(runs):
        g = f.copy()
        g["kilos"] = sum(np.sqrt(variances[u]) * (m @ r.normal(size=m.shape[1])) for u, m in z.items()) + np.sqrt(
            1.5
        ) * r.normal(size=len(f))
        for source, row in lines(anova(_with_outcome(made, g), kind)).items():
            totals[source] += row["ms"] / runs
    for source, row in d.items():
        expected = sum(
            variances[e["component"]] * e["coefficient"]
            for e in row["expected"]
            if not e["component"].startswith("fixed")
        )
        assert totals[source] == pytest.approx(expected, rel=4.5 * np.sqrt(2 / (runs * row["df"])))


def _with_outcome(made, frame):
    from dataclasses import replace

    table = Table(frame, "t", len(frame))
    return replace(made, model=replace(made.model, design=replace(made.design, y=frame.kilos.to_numpy(), table=table)))


def test_an_error_that_is_put_together_has_satterthwaite_s_df():
    r = np.random.default_rng(4)
    f = pd.DataFrame(
        [(s, y, v) for s in range(5) for y in range(4) for v in "ABC" for _ in range(2)],
        columns=["site", "year", "variety"],
    )
    f["kilos"] = (
        r.normal(size=120)
        + 1.5 * r.normal(size=5)[f.site]
        + r.normal(size=4)[f.year]
        + r.normal(size=(5, 3))[f.site, pd.factorize(f.variety)[0]]
    )
    sentence = "kilos = variety; each site: intercept; each year: intercept; each variety in site: intercept; each variety in year: intercept"
    row = lines(anova(fitted(sentence, f)))["variety"]
    d = lines(anova(fitted(sentence, f)))
    assert {(e["source"], round(e["weight"], 6)) for e in row["error"]} == {
        ("variety in site", 1.0),
        ("variety in year", 1.0),
        ("residual", -1.0),
    }
    parts = [(d["variety in site"], 1), (d["variety in year"], 1), (d["residual"], -1)]
    ms = sum(w * p["ms"] for p, w in parts)
    assert row["error_ms"] == pytest.approx(ms) and row["error_df"] == pytest.approx(
        ms**2 / sum(p["ms"] ** 2 / p["df"] for p, _ in parts)
    )


def test_the_restricted_convention_moves_units_and_leaves_fixed_factors():
    made = fitted(SPLIT, split_plot())
    free, held = lines(anova(made)), lines(anova(made, restricted=True))
    assert [e["component"] for e in held["block"]["expected"]] == ["residual", "block"] and held["block"]["error"][0][
        "source"
    ] == "residual"
    assert held["water"] == free["water"] and held["variety"] == free["variety"]
    with pytest.raises(OrchardError, match="balanced"):
        anova(fitted(SPLIT, split_plot(drop=5)), restricted=True)


def test_a_negative_component_is_shown_beside_reml_s_zero():
    f = split_plot(seed=9)
    f["kilos"] = np.random.default_rng(0).normal(size=len(f))
    f["kilos"] -= 0.9 * (
        f.kilos.groupby([f.block, f.water]).transform("mean") - f.kilos.groupby(f.water).transform("mean")
    )
    d = anova(fitted(SPLIT, f))
    low = [c for c in d["components"] if c["negative"]]
    assert low and all(c["estimate"] < 0 <= c["reml"] for c in low) and any("negative" in n for n in d["notes"])


def test_nested_units_and_renamed_levels_and_permuted_rows_agree():
    f = split_plot()
    f["tree"] = f.groupby(["block", "water"]).cumcount() % 4
    f["plot"] = f.block.astype(str) + f.water + f.tree.astype(str)
    a = anova(
        fitted(
            "kilos = water; each block: intercept; each water in block: intercept; each tree in water in block: intercept",
            f,
        )
    )
    g = f.sample(frac=1, random_state=3).reset_index(drop=True)
    g["water"] = g.water.map({"d": "z", "f": "y", "n": "x"})
    b = anova(fitted("kilos = water; each block: intercept; each water in block: intercept; each plot: intercept", g))
    for one, two in zip(a["rows"], b["rows"]):
        assert one["ss"] == pytest.approx(two["ss"], rel=1e-9) and one["df"] == two["df"]
        assert one["f"] == (None if two["f"] is None else pytest.approx(two["f"], rel=1e-8))


@pytest.mark.parametrize(("sentence", "words"), [
    ("kilos = dew; each block: intercept", "'dew' is a number"), ("kilos = water; each block: intercept + dew", "intercept' alone"),
    ("kilos = water; each block: intercept; within block: exchangeable", "independent residuals"),
    ("kilos = cross(water, variety); spread = water", "independent residuals"),
])  # fmt: skip
def test_what_the_classical_table_does_not_know_is_refused(sentence, words):
    f = split_plot()
    f["dew"] = np.random.default_rng(1).normal(size=len(f))
    with pytest.raises(OrchardError, match=words):
        anova(fitted(sentence, f))


@pytest.mark.slow
def test_the_picture_and_the_command(quick):
    f = split_plot()
    f.to_csv(quick.folder / "t.csv", index=False)
    assert quick("fit", "t.csv", SPLIT, "--save", "m").code == 0
    made = quick("anova", "m", "--json", "--csv", "a.csv", "--figure", "a.png", "--to", "a.html")
    assert made.code == 0 and (quick.folder / "a.png").stat().st_size > 10_000
    assert "residual + 8 water in block + 24 block" in (quick.folder / "a.csv").read_text()
    page = quick("anova", "m").out
    assert "residual + 8 water in block + 24 block" in page and "water, variety, water*variety are fixed" in page
    figure = anova_figure(anova(fitted(SPLIT, f)))
    FigureCanvasAgg(figure).draw()
    assert [ax.get_title() for ax in figure.axes] == ["water", "variety", "water by variety", "variety by water"]
    quick("fit", "t.csv", "kilos = water; each block: intercept", "--family", "gamma", "--save", "g")
    assert "gaussian fits" in quick("anova", "g").err
