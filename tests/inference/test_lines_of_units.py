"""A unit's own line runs through what is predicted for its rows, whatever functions of the unit the sentence has."""

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo

SENTENCES = [
    "yield = rain; each tree: intercept + rain",
    "yield = centre(rain, tree); each tree: intercept + centre(rain, tree)",
    "yield = split(rain, tree); each tree: intercept",
    "yield = rain + mean(rain, tree); each tree: intercept + rain",
    "yield = since(rain, tree); each tree: intercept",
    "yield = centre(rain, orchard) + mean(rain, orchard); each orchard: intercept; each tree: intercept",
    "let own = centre(rain, tree); yield = own; each tree: intercept + own",
]


@pytest.fixture(scope="module")
def frame():
    r = np.random.default_rng(5)
    tree = np.repeat(np.arange(24), 5)
    rain = r.normal(size=24)[tree] * 3 + r.normal(size=120)  # trees differ widely in their rain
    value = 4 + 0.5 * rain + r.normal(size=24)[tree] + 0.3 * r.normal(size=120)
    return pd.DataFrame(
        {"orchard": [f"o{t % 6}" for t in tree], "tree": [f"t{t}" for t in tree], "rain": rain, "yield": value}
    )


@pytest.mark.parametrize("sentence", SENTENCES)
def test_lines_run_through_the_predictions(frame, sentence):
    fit = bo.fit(sentence, frame)
    drawn = fit.draw(kind="lines", unit="tree", along="rain").to_dict()
    predicted = fit.predict().to_frame()["predicted"].to_numpy()
    lines = {line["level"]: line for line in drawn["lines"]}
    for tree, rows in frame.groupby("tree").groups.items():
        at = np.interp(frame["rain"][rows], lines[tree]["x"], lines[tree]["y"])
        assert at == pytest.approx(predicted[rows], abs=1e-9), tree


def test_other_categories_stand_at_equal_weights_for_all(frame):
    spread = frame.assign(soil=np.where(frame["tree"].isin([f"t{k}" for k in range(9)]), "clay", "loam"))
    fit = bo.fit("yield = centre(rain, tree) + soil; each tree: intercept", spread)
    drawn = fit.draw(kind="lines", along="rain").to_dict()
    assert drawn["held"] == "soil at equal weights, tree as each level has it"
    effect = fit.result["fixed"][-1]["estimate"]
    assert fit.result["fixed"][-1]["term"].startswith("soil")
    predicted = fit.predict().to_frame()["predicted"].to_numpy()
    for tree, away in (("t2", 0.5), ("t20", -0.5)):  # clay, the baseline, and loam, from the middle of both
        rows = spread.index[spread["tree"] == tree]
        line = next(line for line in drawn["lines"] if line["level"] == tree)
        at = np.interp(spread["rain"][rows], line["x"], line["y"])
        assert at == pytest.approx(predicted[rows] + away * effect, abs=1e-9)


@pytest.mark.parametrize("sentence", SENTENCES[1:6:2])
def test_names_order_and_scales_change_no_line(frame, sentence):
    other = frame.sample(frac=1, random_state=2).reset_index(drop=True)
    other["tree"], other["orchard"] = "9 of " + other["tree"], other["orchard"].str.upper()
    other["rain"] *= 10.0
    one, two = (bo.fit(sentence, f).draw(kind="lines", unit="tree", along="rain").to_dict() for f in (frame, other))
    renamed = {line["level"]: line for line in two["lines"]}
    for line in one["lines"]:
        same = renamed[f"9 of {line['level']}"]
        assert same["x"] == pytest.approx([10.0 * x for x in line["x"]], rel=1e-9)
        assert same["y"] == pytest.approx(line["y"], abs=1e-5)
    assert two["average"]["y"] == pytest.approx(one["average"]["y"], abs=1e-5)
