"""Designs of the text books: Latin squares, three stages of nesting, repeated measures, factorials with one random factor."""

from __future__ import annotations

import itertools

import numpy as np
import pandas as pd
import pytest
from scipy import stats

import bold_orchard as bo
from bold_orchard.errors import OrchardError


def lines(sentence, frame, **options):
    return {r["source"]: r for r in bo.fit(sentence, frame, force=True).anova(**options).rows}


def ss(y, *keys):
    """Between the cells of the keys, around the grand mean."""
    means = y.groupby(list(keys)).transform("mean") if keys else y
    return float(((means - y.mean()) ** 2).sum())


def square(size=5, seed=1):
    """Rows, columns and treatments of a Latin square."""
    r = np.random.default_rng(seed)
    f = pd.DataFrame(
        [(i, j, "ABCDEFG"[(i + j) % size]) for i in range(size) for j in range(size)],
        columns=["row_no", "lane", "spray"],
    )
    f["kilos"] = (
        20
        + r.normal(0, 2, size)[f.row_no]
        + r.normal(0, 1, size)[f.lane]
        + 1.5 * (f.spray == "B")
        + r.normal(size=len(f))
    )
    return f


@pytest.mark.parametrize("kind", [1, 2, 3])
def test_a_latin_square(kind):
    f = square()
    d = lines("kilos = spray; each row_no: intercept; each lane: intercept", f, type=kind)
    y = f.kilos
    parts = {"spray": ss(y, f.spray), "row_no": ss(y, f.row_no), "lane": ss(y, f.lane)}
    rest = ss(y) - sum(parts.values())
    for source, value in parts.items():
        assert d[source]["ss"] == pytest.approx(value) and d[source]["df"] == 4
        f_value = value / 4 / (rest / 12)
        assert d[source]["f"] == pytest.approx(f_value) and d[source]["p"] == pytest.approx(stats.f.sf(f_value, 4, 12))
        assert d[source]["error"] == [{"source": "residual", "weight": 1.0}]
    assert d["residual"]["ss"] == pytest.approx(rest) and d["residual"]["df"] == 12
    assert d["row_no"]["expected"] == [
        {"component": "residual", "coefficient": 1.0},
        {"component": "row_no", "coefficient": pytest.approx(5.0)},
    ]


def test_three_stages_of_nesting():
    r = np.random.default_rng(5)
    f = pd.DataFrame(
        [(o, t, b, k) for o in range(6) for t in range(4) for b in range(3) for k in range(2)],
        columns=["orchard", "tree", "branch", "fruit"],
    )
    o, t = f.orchard, f.orchard * 4 + f.tree
    b = t * 3 + f.branch
    f["weight"] = 50 + r.normal(0, 3, 6)[o] + r.normal(0, 2, 24)[t] + r.normal(0, 1, 72)[b] + r.normal(size=len(f))
    sentence = "weight = intercept; each orchard: intercept; each tree in orchard: intercept; each branch in tree in orchard: intercept"
    d = lines(sentence, f)
    y = f.weight
    names = ["orchard", "tree in orchard", "branch in tree in orchard"]
    sums = [ss(y, o), ss(y, t) - ss(y, o), ss(y, b) - ss(y, t)]
    dfs, chain = [5, 18, 48], [*names[1:], "residual"]
    for name, value, df, error in zip(names, sums, dfs, chain):
        assert (d[name]["ss"], d[name]["df"]) == (pytest.approx(value), df)
        assert d[name]["error"] == [{"source": error, "weight": 1.0}]
    expected = {e["component"]: e["coefficient"] for e in d["orchard"]["expected"]}
    assert expected == pytest.approx({"residual": 1, names[2]: 2, names[1]: 6, "orchard": 24})
    made = bo.fit(sentence, f).anova()
    for c in made.components:
        assert c["estimate"] == pytest.approx(c["reml"], rel=1e-5)  # balanced, all above zero


def test_a_factor_repeated_on_each_tree_and_one_between_trees():
    r = np.random.default_rng(8)
    f = pd.DataFrame(
        [(t, "wet" if t % 2 else "dry", m) for t in range(14) for m in "JAS"], columns=["tree", "site", "month"]
    )
    f["sap"] = (
        5 + r.normal(size=14)[f.tree] + 0.7 * (f.month == "A") + 0.5 * (f.site == "wet") + r.normal(0, 0.5, len(f))
    )
    d = lines("sap = cross(site, month); each tree: intercept", f)
    y = f.sap
    between = ss(y, f.tree) - ss(y, f.site)
    inside = ss(y) - ss(y, f.tree) - (ss(y, f.site, f.month) - ss(y, f.site))
    assert d["site"]["f"] == pytest.approx(ss(y, f.site) / (between / 12))
    assert d["month"]["f"] == pytest.approx(ss(y, f.month) / 2 / (inside / 24))
    assert d["site*month"]["f"] == pytest.approx(
        (ss(y, f.site, f.month) - ss(y, f.site) - ss(y, f.month)) / 2 / (inside / 24)
    )
    assert [d[s]["error"][0]["source"] for s in ("site", "month", "site*month")] == ["tree", "residual", "residual"]


@pytest.mark.parametrize("restricted", [False, True])
def test_a_random_factor_across_a_fixed_one(restricted):
    """Both conventions of Scheffe's time: judges over sprays, two tastings each."""
    r = np.random.default_rng(2)
    f = pd.DataFrame([(j, s) for j in range(7) for s in "ABC" for _ in range(2)], columns=["judge", "spray"])
    cell = pd.factorize(f.judge.astype(str) + f.spray)[0]
    f["taste"] = 60 + r.normal(0, 3, 7)[f.judge] + r.normal(0, 2, 21)[cell] + r.normal(size=len(f))
    d = lines("taste = spray; each judge: intercept; each spray in judge: intercept", f, restricted=restricted)
    assert d["spray"]["error"] == [{"source": "spray in judge", "weight": 1.0}]
    assert d["judge"]["error"] == [{"source": "residual" if restricted else "spray in judge", "weight": 1.0}]
    ms = {k: v["ms"] for k, v in d.items()}
    error = ms["residual"] if restricted else ms["spray in judge"]
    made = {
        c["component"]: c["estimate"]
        for c in bo.fit("taste = spray; each judge: intercept; each spray in judge: intercept", f)
        .anova(restricted=restricted)
        .components
    }
    assert made["judge"] == pytest.approx((ms["judge"] - error) / 6)
    assert made["spray in judge"] == pytest.approx((ms["spray in judge"] - ms["residual"]) / 2)


def test_a_factorial_of_four_factors_adds_up_and_has_every_product():
    r = np.random.default_rng(3)
    f = pd.DataFrame(
        list(itertools.product("ab", "cd", "ef", "gh", range(3))), columns=["soil", "water", "spray", "shade", "again"]
    )
    f["kilos"] = r.normal(size=len(f)) + (f.soil == "a") * (f.water == "c")
    d = lines("kilos = cross(soil, water, spray, shade)", f)
    assert len(d) == 16 and sum(r["ss"] for r in d.values()) == pytest.approx(ss(f.kilos))
    assert all(r["df"] == 1 for k, r in d.items() if k != "residual") and d["residual"]["df"] == 32
    for kind in (1, 2):
        assert {
            k: r["ss"] for k, r in lines("kilos = cross(soil, water, spray, shade)", f, type=kind).items()
        } == pytest.approx({k: r["ss"] for k, r in d.items()})


def test_order_of_rows_and_names_change_nothing_in_unbalanced_data():
    f = square(7, seed=4).drop(index=[3, 11, 30]).reset_index(drop=True)
    one = lines("kilos = spray; each row_no: intercept", f)
    other = f.sample(frac=1, random_state=2).assign(spray=lambda x: "z" + x.spray, kilos=lambda x: 10 * x.kilos + 3)
    two = lines("kilos = spray; each row_no: intercept", other)
    for source in one:
        assert (
            two[source]["ss"] == pytest.approx(100 * one[source]["ss"])
            and two[source]["f"] == pytest.approx(one[source]["f"])
            if one[source]["f"]
            else True
        )


def test_nothing_left_for_the_residual_is_refused():
    f = pd.DataFrame(list(itertools.product("ab", "cd")), columns=["soil", "water"])
    f["kilos"] = [1.0, 2.5, 2.0, 4.0]
    with pytest.raises(OrchardError):
        bo.fit("kilos = cross(soil, water)", f, force=True).anova()
