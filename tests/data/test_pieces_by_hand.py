"""What sweeps learn piece by piece, against the whole column; and what must not depend on how the rows were cut."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import bold_orchard as bo
from bold_orchard.data import pieces
from bold_orchard.data.cells_as_rows import rows_of
from bold_orchard.data.table import Table
from bold_orchard.design import engines, one_sweep, sweeps
from bold_orchard.design.learned_in_pieces import Learner
from bold_orchard.design.levels import Levels
from bold_orchard.design.of_cells import _steady
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError
from bold_orchard.sentence.parse import read_sentence


def table_of(frame):
    return Table(frame, "t", len(frame))


def call(text):
    """The first transformation of a sentence."""
    return read_sentence(f"y = {text}").terms[0].factors[0]


def maker(table):
    return ColumnMaker(table, {})


def orchard_rows(n=90, seed=1):
    r = np.random.default_rng(seed)
    tree = r.integers(0, 7, n)
    return pd.DataFrame({"tree": [f"t{i}" for i in tree], "rain": r.normal(1000, 3, n), "y": r.normal(size=n)})


WHOLE = {
    "zscore(rain)": lambda f: [f.rain.mean(), f.rain.std()],
    "centre(rain)": lambda f: f.rain.mean(),
    "since(rain)": lambda f: f.rain.min(),
    "mean(rain, tree)": lambda f: f.groupby("tree").rain.mean().to_dict(),
    "centre(rain, tree)": lambda f: f.groupby("tree").rain.mean().to_dict(),
    "since(rain, tree)": lambda f: f.groupby("tree").rain.min().to_dict(),
    "max(rain, tree)": lambda f: f.groupby("tree").rain.max().to_dict(),
    "min(rain, tree)": lambda f: f.groupby("tree").rain.min().to_dict(),
}


@pytest.mark.parametrize("text", WHOLE)
@settings(max_examples=12, deadline=None)
@given(cuts=st.lists(st.integers(1, 89), max_size=5, unique=True), join=st.integers(0, 5))
def test_figures_of_all_rows_however_they_are_cut(text, cuts, join):
    """Added piece by piece, and some of the pieces by a second learner that is joined afterwards."""
    frame = orchard_rows()
    one, two = Learner(call(text)), Learner(call(text))
    parts = [p for p in np.split(np.arange(len(frame)), sorted(cuts)) if len(p)]
    for k, rows in enumerate(parts):
        (one if k < join else two).add(table_of(frame.iloc[rows].reset_index(drop=True)), maker)
    learned = one.joined(two).result()
    wanted = WHOLE[text](frame)
    assert learned == pytest.approx(wanted, rel=1e-12)


@settings(max_examples=25, deadline=None)
@given(
    labels=st.lists(st.sampled_from(["a", "b", "c", "d", "e", "ü"]), min_size=1, max_size=30), cut=st.integers(0, 30)
)
def test_labels_are_numbered_in_the_order_in_which_they_appear(labels, cut):
    levels, other = Levels(), Levels()
    cut = min(cut, len(labels))
    for part, held in ((labels[:cut], levels), (labels[cut:], other)):
        if part:
            held.see(table_of(pd.DataFrame({"unit": part})), "unit")
    levels.take_up(other)
    assert levels.raw.tolist() == list(dict.fromkeys(labels)) and len(levels) == len(set(labels))
    whole = table_of(pd.DataFrame({"unit": labels}))
    assert levels.raw[levels.codes(whole, "unit")].tolist() == labels


@pytest.mark.parametrize("parts", [
    [[10, 2], [7, 2, 30]], [[10, 2], [-400_000, 900_000]], [[10, 2], [10**12, 5]], [[10.0, 2.0], [7, 2]], [[10, 2], [2.5, np.nan]],
])  # fmt: skip
def test_numbers_as_labels_stand_in_their_own_order(parts):
    """Near and far apart, whole and broken, in pieces and in parts that are put together."""
    apart, put = Levels(), Levels()
    tables = [table_of(pd.DataFrame({"unit": part})) for part in parts]
    for table in tables:
        apart.see(table, "unit")
        own = Levels()
        own.see(table, "unit")
        put.take_up(own)
    known = [v for part in parts for v in part if not np.isnan(v)]
    for levels in (apart, put):
        assert levels.raw.tolist() == sorted(set(known)) and len(levels) == len(set(known))
        made = [levels.raw[levels.codes(t.take(~t.is_missing("unit")), "unit")].tolist() for t in tables]
        assert [v for part in made for v in part] == known


@settings(max_examples=30, deadline=None)
@given(seed=st.integers(0, 10_000), m=st.integers(1, 4), cells=st.integers(1, 5))
def test_a_few_rows_have_the_count_the_sums_and_the_products_of_a_cell(seed, m, cells):
    """Whatever the columns are: alike, constant, or one row in a cell."""
    r = np.random.default_rng(seed)
    n = r.integers(1, 12, cells)
    columns = [r.normal(size=(m, k)) for k in n]
    if m > 1 and seed % 3 == 0:
        for x in columns:
            x[1] = x[0]
    if seed % 4 == 0:
        for x in columns:
            x[0] = 2.5
    sums = np.empty((1 + m + m * (m + 1) // 2, cells))
    for j, x in enumerate(columns):
        products = x @ x.T
        sums[:, j] = [x.shape[1], *x.sum(axis=1), *products[np.tril_indices(m)]]
    values, cell, counts, _ = rows_of(sums, m)
    for j, x in enumerate(columns):
        own, weight = values[:, cell == j], counts[cell == j]
        assert weight.sum() == pytest.approx(x.shape[1], rel=1e-12) and (weight > 0).all()
        assert own @ weight == pytest.approx(x.sum(axis=1), abs=1e-10)
        assert (own * weight) @ own.T == pytest.approx(x @ x.T, abs=1e-9)
        assert own.shape[1] <= m + 1


def test_what_is_constant_in_a_cell_is_the_same_number_in_all():
    x = np.array([0.1 + 1e-17, 0.1, 0.30000000000000004, 5.0])
    made = _steady(x, np.array([True, True, True, False]))
    assert made[0] == made[1] and made[2] == 0.3 and made[3] == 5.0
    assert (_steady(np.zeros(3), np.ones(3, dtype=bool)) == 0).all()
    assert _steady(np.array([1e300]), np.array([True])) == pytest.approx([1e300])


# -- whole fits


@pytest.fixture
def cut(tmp_path, monkeypatch):
    """Write a frame in parts, and fit them with no more than a few rows in memory."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(pieces, "LEAST", 1)

    def made(frame, sentence, sizes, rows=50, ending="parquet", **options):
        monkeypatch.setattr(pieces, "ROWS", rows)
        folder = tmp_path / f"parts{len(list(tmp_path.iterdir()))}"
        folder.mkdir()
        for k, part in enumerate(np.split(np.arange(len(frame)), sizes)):
            own = frame.iloc[part]
            getattr(own, f"to_{ending}")(folder / f"p{k}.{ending}", index=False)
        return bo.fit(sentence, str(folder), memory=20, **options).to_dict()

    return made


def harvest(n=400, seed=5):
    r = np.random.default_rng(seed)
    tree = r.integers(0, 15, n)
    soil = np.array(["clay", "loam", "sand"])[tree % 3]
    rain = r.normal(50, 8, n)
    y = 3 + 0.2 * rain + r.normal(size=15)[tree] + (soil == "sand") + r.normal(size=n)
    return pd.DataFrame(
        {"tree": [f"t{i}" for i in tree], "soil": soil, "rain": rain, "season": r.integers(1, 4, n), "yield": y}
    )


SENTENCE = "yield = centre(rain, tree) + mean(rain, tree) + soil; each tree: intercept; each season: intercept"


def figures(d):
    rows = [(r["estimate"], r["se"]) for r in d["fixed"]]
    return [d["fit"]["loglik"], *np.ravel(rows), *(s for part in d["random"] for s in part["sd"]), d["residual"]["sd"]]


@pytest.mark.few(4)
@pytest.mark.parametrize(
    ("sizes", "rows"), [([], 400), ([], 7), ([1, 399], 50), ([100, 200, 300], 33), (list(range(40, 400, 40)), 1)]
)
def test_cuts_do_not_change_the_fit(cut, sizes, rows):
    frame = harvest()
    whole = bo.fit(SENTENCE, frame).to_dict()
    assert figures(cut(frame, SENTENCE, sizes, rows)) == pytest.approx(figures(whole), rel=2e-8)


def test_one_reading_or_two_on_one_processor_or_all(cut, monkeypatch):
    """Numbered trees are summed while they are met; the same trees by name, or beside a factor, need two readings."""
    frame = harvest().assign(tree=lambda d: d["tree"].str[1:].astype(int) * 3 + 11)
    sentence = "yield = rain; each tree: intercept + rain"
    whole = bo.fit(sentence, frame)
    expected = pytest.approx(figures(whole.to_dict()), rel=2e-8)
    seen = []
    real = one_sweep.in_one_sweep
    monkeypatch.setattr(sweeps, "in_one_sweep", lambda *a: seen.append(real(*a)) or seen[-1])
    far = frame["tree"].where(frame["tree"] < 40, frame["tree"] + 10**9)
    for table, once in (
        (frame, True),
        (frame.assign(tree=frame["tree"].map("t{}".format)), False),
        (frame.assign(tree=far), False),
        (frame.assign(tree=frame["tree"].astype(float)), False),
    ):
        here = cut(table, sentence, [90, 200, 210])
        assert figures(here) == expected and seen.pop() is once
        with monkeypatch.context() as all_of_them:
            all_of_them.setattr(engines, "MUCH", 0)
            there = cut(table, sentence, [90, 200, 210])
        assert seen.pop() is once
        assert figures(there) == figures(here), "forked processes give the same digits"
    assert (
        cut(frame, "yield = rain + tree; each tree: intercept", [200])["rows"]["used"] == len(frame) and not seen.pop()
    )


def test_rows_of_the_parts_in_any_order_and_other_labels(cut):
    frame = harvest()
    one = cut(frame, SENTENCE, [150, 290])
    again = frame.sample(frac=1, random_state=2).assign(tree="old " + frame["tree"])
    two = cut(again, SENTENCE, [90, 333])
    assert figures(two) == pytest.approx(figures(one), rel=2e-8)


def test_texts_and_columns_files_are_one_table(cut):
    frame = harvest()
    one, two = cut(frame, SENTENCE, [150], ending="parquet"), cut(frame, SENTENCE, [150], ending="csv")
    assert figures(two) == pytest.approx(figures(one), rel=1e-10)
    assert one["rows"] == two["rows"] and one["reading"]["engine"] == "pieces"


def test_filters_and_missing_codes_act_on_every_piece(cut):
    frame = harvest()
    frame.loc[::9, "rain"] = -999.0
    options = {"missing": ["rain=-999"], "where": "season < 3"}
    whole = bo.fit(SENTENCE, frame, **options).to_dict()
    made = cut(frame, SENTENCE, [100, 300], 30, **options)
    assert made["rows"] == whole["rows"]
    assert figures(made) == pytest.approx(figures(whole), rel=2e-8)


def test_units_of_measurement_are_only_units(cut):
    """Rain in thousandths, far from zero: what was learned in pieces loses no digits."""
    frame = harvest()
    far = frame.assign(rain=frame["rain"] * 1000 + 1e7, **{"yield": frame["yield"] + 1e5})
    sentence = "yield = zscore(rain) + soil; each tree: intercept + zscore(rain)"
    one, two = cut(frame, sentence, [120]), cut(far, sentence, [77, 250])
    assert two["fit"]["loglik"] == pytest.approx(one["fit"]["loglik"], abs=1e-4)
    assert [r["estimate"] for r in two["fixed"]][1:] == pytest.approx(
        [r["estimate"] for r in one["fixed"]][1:], rel=1e-5
    )


def test_a_column_of_another_kind_in_one_part_is_named(cut):
    frame = harvest().astype({"season": object})
    mixed = frame.assign(season=[str(s) if i >= 200 else s for i, s in enumerate(frame["season"])])
    mixed["season"] = [f"s{v}" if isinstance(v, str) else v for v in mixed["season"]]
    with pytest.raises(OrchardError, match=r"'season' holds numbers in the parts before p1\.csv and text in p1\.csv"):
        cut(mixed, SENTENCE, [200], ending="csv")


@pytest.mark.parametrize(
    "where",
    ["season = 3", "season > 1", "soil = 'sand'", "soil != 'sand'", "soil = 'sand' and rain > 50", "not soil = 'clay'"],
)
def test_a_filter_that_leaves_nothing_of_some_parts(cut, where):
    """A file for every season, or for every soil."""
    for by in ("season", "soil"):
        frame = harvest().sort_values(by, kind="stable").reset_index(drop=True)
        sizes = list(np.flatnonzero(frame[by].to_numpy()[1:] != frame[by].to_numpy()[:-1]) + 1)
        sentence = "yield = centre(rain, tree) + mean(rain, tree); each tree: intercept"
        whole = bo.fit(sentence, frame, where=where).to_dict()
        made = cut(frame, sentence, sizes, 45, where=where)
        assert made["rows"] == whole["rows"]
        assert figures(made) == pytest.approx(figures(whole), rel=2e-8)


def test_a_filter_that_leaves_nothing_at_all(cut):
    with pytest.raises(OrchardError, match=r"no row of .* satisfies --where 'season > 9'; nothing is left to work on"):
        cut(harvest(), SENTENCE, [200], where="season > 9")


@pytest.mark.parametrize("sign", ["=", "!="])
def test_a_level_that_no_part_has_is_no_level(cut, sign):
    with pytest.raises(OrchardError, match="there is no level 'sandy' in column 'soil' of any part"):
        cut(harvest(), SENTENCE, [200], where=f"soil {sign} 'sandy'")
