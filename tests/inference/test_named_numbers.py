"""A name that ``let`` gave to a function of one number is asked about as a column made beforehand would be."""

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError

REST = "height = {0} + soil + {0}*soil; each tree: intercept + {0}"
LETS = {
    "rescale(since(day), 7)": lambda d: (d - d.min()) / 7,
    "log(day)": np.log,
    "calc(3 - day / 10)": lambda d: 3 - d / 10,
    "zscore(day)": lambda d: (d - d.mean()) / d.std(ddof=1),
}


@pytest.fixture(scope="module")
def frame():
    r = np.random.default_rng(8)
    tree = np.repeat(np.arange(20), 6)
    day = 5 + 60 * r.random(120)
    height = 2 + 0.05 * day + r.normal(size=20)[tree] + 0.4 * r.normal(size=120)
    return pd.DataFrame({"tree": tree, "day": day, "soil": np.where(tree % 2, "clay", "loam"), "height": height})


def _both(frame, factor):
    made = frame.assign(x=LETS[factor](frame["day"]))
    one = bo.fit(f"let weeks = {factor}; " + REST.format("weeks"), frame)
    return made, one, bo.fit(REST.format("x"), made)


@pytest.mark.parametrize("factor", LETS)
def test_held_values_slopes_and_lines(frame, factor):
    made, named, plain = _both(frame, factor)
    values = made["x"].quantile([0.2, 0.7]).to_list()
    for value in values:
        means = [f.means("soil", hold={n: value}).to_dict()["means"] for f, n in ((named, "weeks"), (plain, "x"))]
        for key in ("mean", "se", "df"):
            assert [m[key] for m in means[0]] == pytest.approx([m[key] for m in means[1]], rel=1e-5)
    slopes = [f.means("soil", slope=n).to_dict()["means"] for f, n in ((named, "weeks"), (plain, "x"))]
    for key in ("mean", "se"):
        assert [m[key] for m in slopes[0]] == pytest.approx([m[key] for m in slopes[1]], rel=1e-5)
    one, two = (f.draw(kind="lines", along=n).to_dict() for f, n in ((named, "weeks"), (plain, "x")))
    assert one["along"] == "weeks"
    for line, other in zip(one["lines"], two["lines"]):
        assert line["level"] == other["level"]
        ends = sorted((line["x"][0], line["x"][-1]))
        assert ends == pytest.approx(sorted((other["x"][0], other["x"][-1])), rel=1e-6)
        order = np.argsort(line["x"])
        y = np.interp(other["x"], np.array(line["x"])[order], np.array(line["y"])[order])
        assert y == pytest.approx(other["y"], rel=2e-3)  # lines along log(day) are drawn at equal steps of the day
    effect = named.draw(kind="effects", along="weeks").to_dict()["effects"][0]
    assert effect["predictor"] == "weeks"
    assert sorted((effect["x"][0], effect["x"][-1])) == pytest.approx([made["x"].min(), made["x"].max()], rel=1e-9)


def test_what_has_no_one_answer_is_told(frame):
    one = bo.fit("let bend = calc((day - 30) ^ 2); height = bend + soil; each tree: intercept", frame)
    with pytest.raises(UsageError, match="more than once; hold its column, day"):
        one.means("soil", hold={"bend": 4.0})
    with pytest.raises(UsageError, match="nowhere near the data; hold its column, day"):
        one.means("soil", hold={"bend": -4.0})
    with pytest.raises(UsageError, match="held twice"):
        bo.fit("let weeks = rescale(day, 7); height = weeks + soil; each tree: intercept", frame).means(
            "soil", hold={"day": 14, "weeks": 2}
        )
    with pytest.raises(OrchardError, match="cannot be held at 'many'"):
        one.means("soil", hold={"bend": "many"})
    within = bo.fit("let own = centre(day, tree); height = own + soil; each tree: intercept", frame)
    with pytest.raises(OrchardError, match="there is no column 'own'"):  # its value depends on the tree
        within.means("soil", hold={"own": 1})
