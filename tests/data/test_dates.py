"""A column of dates in since(...) answers like the days counted beforehand."""

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.data.dates import day_of
from bold_orchard.errors import OrchardError, date_of

START = pd.Timestamp("2025-02-20")  # over the end of a month, and of daylight saving
SENTENCES = [
    "height = since(day, tree) + soil; each tree: intercept + since(day, tree)",
    "let weeks = rescale(since(day), 7); height = power(weeks, 2) + soil; each tree: intercept",
    "height = since(day, tree) + lag(sun, tree, day); each tree: intercept",
    "height = soil + since(day); each tree: intercept; within tree: ar1(day)",
]


@pytest.fixture(scope="module")
def days():
    r = np.random.default_rng(3)
    tree = np.repeat(np.arange(24), 6)
    day = np.repeat(r.integers(0, 20, 24), 6) + np.tile(7 * np.arange(6), 24) + r.integers(0, 5, 144)
    soil = np.where(tree % 2, "clay", "loam")
    height = 3 + 0.1 * day + r.normal(size=24)[tree] + 0.3 * r.normal(size=144)
    return pd.DataFrame(
        {"tree": [f"t{t}" for t in tree], "day": day, "soil": soil, "sun": r.normal(size=144), "height": height}
    )


def _dated(frame, how=str):
    return frame.assign(day=[how(START + pd.Timedelta(int(d), "D")) for d in frame["day"]])


HOW = [lambda t: str(t.date()), lambda t: f"{t.date()} 00:00", lambda t: t.isoformat(), lambda t: t]


@pytest.mark.parametrize("sentence", SENTENCES)
def test_dates_are_days(days, sentence):
    counted = bo.fit(sentence, days)
    for how in HOW if sentence == SENTENCES[0] else HOW[:1]:
        dated = bo.fit(sentence, _dated(days, how))
        assert dated.result["fit"]["loglik"] == pytest.approx(counted.result["fit"]["loglik"], abs=1e-7)
        assert [r["estimate"] for r in dated.result["fixed"]] == pytest.approx(
            [r["estimate"] for r in counted.result["fixed"]], rel=1e-6
        )
        assert {"term": "day", "meaning": "a date, counted in days since 1970-01-01"} in dated.result["transformations"]


def test_new_rows_and_held_values_are_dates_too(days):
    counted, dated = bo.fit(SENTENCES[0], days), bo.fit(SENTENCES[0], _dated(days, HOW[0]))
    new = days[days["tree"] == "t3"].iloc[[0, 2]].assign(day=lambda f: f["day"] + 3)
    for known in (True, False):
        rows = new if known else new.assign(tree="a tree never seen")
        one, two = (
            f.predict(n).to_frame()["predicted"].to_list() for f, n in ((counted, rows), (dated, _dated(rows, HOW[0])))
        )
        assert two == pytest.approx(one, rel=1e-6)
    date = date_of(day_of(str(START.date())) + 21)
    one = counted.means("soil", hold={"day": 21}).to_dict()["means"]
    two = dated.means("soil", hold={"day": date}).to_dict()["means"]
    assert [m["mean"] for m in two] == pytest.approx([m["mean"] for m in one], rel=1e-6)
    assert [m["se"] for m in two] == pytest.approx([m["se"] for m in one], rel=1e-5)


def test_a_time_of_the_day_is_a_part_of_it():
    assert day_of("2025-03-01 12:00") - day_of("2025-03-01") == 0.5
    assert day_of("2025-03-01T06:00:00") - day_of("2025-02-28") == 1.25
    assert [day_of(t) for t in ("2025-02-30", "2025-3-1", "01.03.2025", "2025-03-01 25:00", "")] == [None] * 5
    assert day_of("1970-01-02") == 1
    assert day_of("1969-12-31") == -1


def test_what_is_no_date_is_told(days):
    with pytest.raises(OrchardError, match=r"needs numbers or dates .* but 'soil' is a category"):
        bo.fit("height = since(soil); each tree: intercept", days)
    frame = _dated(days, HOW[0])
    with pytest.raises(OrchardError, match="groups rows; copy the column"):
        bo.fit("height = since(day); each tree: intercept; each day: intercept", frame)
    frame.loc[7, "day"] = "in May"
    with pytest.raises(OrchardError, match="'day' is a category"):
        bo.fit(SENTENCES[0], frame)


def test_pieces_of_a_file_count_days_too(days, tmp_path):
    frame = pd.concat([_dated(days, HOW[0])] * 300)  # larger than a piece
    frame.to_csv(tmp_path / "dated.csv", index=False)
    sentence = SENTENCES[0].replace("intercept + since(day, tree)", "intercept")
    whole = bo.fit(sentence, frame)
    summed = bo.fit(sentence, tmp_path / "dated.csv", memory="1MB")
    assert summed.result["rows"]["used"] == len(frame)
    assert any("summed in pieces" in note for note in summed.result["notes"])
    assert summed.result["fit"]["loglik"] == pytest.approx(whole.result["fit"]["loglik"], rel=1e-9)
    assert summed.result["transformations"] == whole.result["transformations"]
    with pytest.raises(OrchardError, match=r"centre\(...\) needs numbers, but 'soil' is a category"):
        bo.fit("height = centre(soil); each tree: intercept", tmp_path / "dated.csv", memory="1MB")


def test_pictures_have_dates_on_their_axis(days, tmp_path):
    dated = bo.fit(
        "let weeks = rescale(since(day), 7); height = weeks + soil; each tree: intercept", _dated(days, HOW[0])
    )
    first = date_of(day_of(str(START.date())) + int(days["day"].min()))
    for kind in ("lines", "panels", "effects"):
        answer = dated.draw(kind=kind, along="day")
        document = answer.to_dict()
        assert (document if kind != "effects" else document["effects"][0])["dates"] is True
        assert first in str(answer)
        assert answer.figure().axes[0].xaxis.get_major_formatter().__class__.__name__ == "ConciseDateFormatter"
        by_name = dated.draw(kind=kind, along="weeks")
        assert first not in str(by_name)
        assert "'dates'" not in repr(by_name.to_dict())
