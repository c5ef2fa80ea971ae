"""Predictions of many rows are made and written run by run: nothing of it shows in what is written."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.data import pieces
from bold_orchard.data.columns import Texts
from bold_orchard.errors import OrchardError
from bold_orchard.inference.prediction import in_runs, predict
from bold_orchard.results.rows import Rows
from bold_orchard.storage import files

SENTENCES = {
    "slopes": ("yield = zscore(rain) + soil; each tree: intercept + rain", {}),
    "binomial": ("sold = rain + soil; each orchard: intercept; each tree in orchard: intercept", {"family": "binomial"}),
    "lag": ("yield = lag(rain, tree, week) + soil; each tree: intercept", {}),
    "grades": ("grade = rain; each tree: intercept", {"family": "ordinal"}),
}  # fmt: skip


def rows(n=640):
    r = np.random.default_rng(6)
    tree = np.arange(n) // 16
    rain = r.normal(4, 2, n)
    y = 5 + 0.5 * rain + r.normal(size=40)[tree] + r.normal(size=n)
    frame = pd.DataFrame({"tree": [f"t{t}" for t in tree], "orchard": tree // 8, "week": np.arange(n) % 16, "rain": rain,
                          "soil": np.where(tree % 2, "clay, red", "sand"), "yield": y, "remark": np.where(np.arange(n) % 7, "fine", None)})  # fmt: skip
    frame["sold"], frame["grade"] = (r.random(n) < 1 / (1 + np.exp(7 - y))).astype(int), np.digitize(y, [5.5, 7.0, 8.5])
    frame.loc[[0, 5, 300], "rain"] = np.nan
    frame.loc[60:129, "rain"] = np.nan  # a run without any row that can be predicted
    return frame


@pytest.fixture
def short(monkeypatch):
    """``short(f)``: f() with runs of 64 rows, written 50 at a time."""

    def called(f):
        with monkeypatch.context() as m:
            for module in (in_runs, predict):
                m.setattr(module, "AT_ONCE", 64)
            m.setattr(files, "AT_ONCE", 50)
            m.setattr(files, "MANY_ROWS", 10)
            return f()

    return called


@pytest.mark.few(3)
@pytest.mark.parametrize("name", SENTENCES)
def test_runs_are_the_rows_at_once(short, tmp_path, name):
    sentence, options = SENTENCES[name]
    frame = rows()
    fitted = bo.fit(sentence, frame, **options)
    new = pd.concat([frame, frame.head(16).assign(tree="new", orchard=99)])
    for given in (None, new):
        one = fitted.predict(given)
        two = short(lambda given=given: fitted.predict(given))
        assert one.to_dict() == two.to_dict() or _close(one.to_dict(), two.to_dict())
        one.save(tmp_path / "one.csv")
        short(lambda two=two: two.save(tmp_path / "two.csv"))
        a, b = pd.read_csv(tmp_path / "one.csv"), pd.read_csv(tmp_path / "two.csv")
        pd.testing.assert_frame_equal(a, b, rtol=1e-9)
        pd.testing.assert_frame_equal(one.to_frame(), two.to_frame(), rtol=1e-9)


def _close(a, b):
    for one, two in zip(a.pop("rows"), b.pop("rows"), strict=True):
        assert one.keys() == two.keys()
        for key, value in one.items():
            assert two[key] == (pytest.approx(value, rel=1e-9) if isinstance(value, float) else value), key
    return a == b


@pytest.mark.parametrize("name", ["slopes", "binomial"])
def test_of_fits_in_pieces_they_lie_on_disk(short, tmp_path, monkeypatch, name):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(pieces, "LEAST", 1)
    monkeypatch.setattr(pieces, "ROWS", 70)
    sentence, options = SENTENCES[name]
    frame = rows()
    (tmp_path / "parts").mkdir()
    for k, at in enumerate(np.array_split(np.arange(len(frame)), 4)):
        frame.iloc[at].to_parquet(f"parts/p{k}.parquet")
    frame.to_parquet("whole.parquet")
    one = bo.fit(sentence, "whole.parquet", **options).predict()
    made = short(lambda: bo.fit(sentence, "parts", memory=20, **options).predict())
    held = made.result.rows.columns
    owner = held["predicted"]
    while isinstance(owner.base, np.ndarray):
        owner = owner.base
    assert isinstance(owner, np.memmap)
    assert isinstance(held["units_known"], Texts) and isinstance(held["remark"], Texts)
    short(lambda: made.save("two.csv"))
    one.save("one.csv")
    pd.testing.assert_frame_equal(pd.read_csv("one.csv"), pd.read_csv("two.csv"), rtol=2e-5)
    assert one.document["notes"] == made.document["notes"]


def test_extrapolation_is_told_by_the_rows_of_the_fit_not_by_what_stands_for_them(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(pieces, "LEAST", 1)
    frame = rows()
    (tmp_path / "parts").mkdir()
    frame.to_parquet("parts/all.parquet")
    frame.to_parquet("whole.parquet")
    low, high = frame["rain"].min(), frame["rain"].max()
    new = frame.head(4).assign(rain=[low, high, low - 1e-6, high + 1e-6])
    sentence = SENTENCES["slopes"][0]
    said = [bo.fit(sentence, "whole.parquet").predict(new).document["notes"],
            bo.fit(sentence, "parts", memory=20).predict(new).document["notes"]]  # fmt: skip
    assert said[0] == said[1] and any(n.startswith("2 rows with rain beyond") for n in said[0])


def test_no_row_at_all_is_said_once(short):
    frame = rows()
    fitted = bo.fit(SENTENCES["slopes"][0], frame)
    with pytest.raises(OrchardError, match="has all covariates of the model"):
        short(lambda: fitted.predict(frame.assign(rain=np.nan)))


def test_rows_of_ranges_and_texts():
    texts = Texts(np.array([0, 1, -1]), np.array(["a", "b"], dtype=object))
    made = Rows({"row": range(1, 4), "label": texts, "x": np.array([1.5, np.nan, 2.0])})
    assert list(made) == [
        {"row": 1, "label": "a", "x": 1.5},
        {"row": 2, "label": "b", "x": None},
        {"row": 3, "label": None, "x": 2.0},
    ]
    assert made[1] == {"row": 2, "label": "b", "x": None} and made[1:] == list(made)[1:] and len(made) == 3


@pytest.mark.parametrize(
    "sentence",
    ["yield = rain; each orchard: intercept", "yield = rain; each name: intercept + rain",
     "yield = rain; each name: intercept; each plot in name: intercept"],
)  # fmt: skip
@pytest.mark.parametrize("missing", ["orchard", "name", "plot"])
def test_a_row_without_a_label_is_a_row_of_an_unknown_unit(sentence, missing):
    """Not of the last one, nor of its neighbour's."""
    frame = rows().dropna(subset=["rain"])
    frame = frame.assign(name=[f"o{k}" for k in frame["orchard"]], plot=np.arange(len(frame)) % 6)
    fitted = bo.fit(sentence, frame)
    new = frame.iloc[[0, 200, 400, 550]].reset_index(drop=True)
    without, other = new.copy(), new.copy()
    without[missing] = without[missing].astype(object)
    without.loc[[1, 3], missing] = None
    other[missing] = other[missing].astype(object)
    other.loc[[1, 3], missing] = "never seen" if missing == "name" else 987
    columns = ["predicted", "se", "low", "high", "predicted_average", "units_known"]
    one, two, known = (fitted.predict(given).to_frame()[columns] for given in (without, other, new))
    pd.testing.assert_frame_equal(one, two)
    if missing in sentence:
        assert (one["units_known"].iloc[[1, 3]] != "all").all() and (one["se"] >= known["se"] - 1e-9).iloc[[1, 3]].all()
    pd.testing.assert_frame_equal(one.iloc[[0, 2]], known.iloc[[0, 2]])


def test_labels_are_matched_as_numbers_or_as_texts_alike():
    frame = rows().dropna(subset=["rain"])
    sentence = "yield = rain; each orchard: intercept"
    numbers, texts = bo.fit(sentence, frame), bo.fit(sentence, frame.assign(orchard=frame["orchard"].astype(str)))
    new = frame.iloc[::37].assign(orchard=lambda d: np.arange(len(d)) % 7)
    for given in (
        new,
        new.assign(orchard=new["orchard"].astype(str)),
        new.assign(orchard=new["orchard"].astype(float)),
    ):
        for fitted in (numbers, texts):
            made = fitted.predict(given).to_frame()
            assert made["predicted"].to_numpy() == pytest.approx(
                numbers.predict(new).to_frame()["predicted"].to_numpy(), rel=1e-9
            )
