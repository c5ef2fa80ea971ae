"""Functions of the sentence, coding of categories, and the notes a design gives."""

from __future__ import annotations

import re

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.read import read_table
from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.sentence.parse import read_sentence


def frame(n=24):
    r = np.random.default_rng(1)
    return pd.DataFrame({
        "yield": r.normal(10, 2, n), "rain": r.uniform(1, 5, n).round(2), "week": np.tile(np.arange(3, 11), n // 8),
        "pruning": np.tile(["light", "none", "hard"], n // 3), "soil": np.repeat(["clay", "sand"], n // 2),
        "orchard": np.repeat(["a", "b", "c", "d"], n // 4), "rain mm": r.normal(size=n),
    })  # fmt: skip


def design(sentence, data=None, **options):
    data = frame() if data is None else data
    return build_design(read_sentence(sentence), Table(data, "t", len(data)), Options(**options))


def columns(sentence, data=None, **options):
    part = design(sentence, data, **options).fixed
    return dict(zip(part.names, part.values))


def test_functions_make_what_they_say():
    f = frame()
    x = f["rain"].to_numpy()
    means = f.groupby("orchard")["rain"].transform("mean").to_numpy()
    made = columns("yield = centre(rain) + split(rain, orchard) + zscore(rain) + rescale(rain, 12) + calc(rain^2 / week - 1) + "
                   "log(rain) + sqrt(rain) + exp(rain) + abs([rain mm]) + power(since(week), 3)")  # fmt: skip
    week = f["week"].to_numpy() - 3
    wanted = {
        "centre(rain)": x - x.mean(), "centre(rain, orchard)": x - means, "mean(rain, orchard)": means,
        "zscore(rain)": (x - x.mean()) / x.std(ddof=1), "rescale(rain, 12)": x / 12, "calc(((rain^2) / week) - 1)": x**2 / f["week"] - 1,
        "log(rain)": np.log(x), "sqrt(rain)": np.sqrt(x), "exp(rain)": np.exp(x), "abs(rain mm)": np.abs(f["rain mm"]),
        "since(week)": week, "since(week)^2": week**2, "since(week)^3": week**3,
    }  # fmt: skip
    assert next(iter(made)) == "intercept" and set(made) - {"intercept"} == set(wanted)
    for name, values in wanted.items():
        np.testing.assert_allclose(made[name], values, err_msg=name)


def test_means_are_those_of_the_rows_used():
    f = frame()
    f.loc[:5, "yield"] = np.nan
    made = columns("yield = centre(rain)", f)
    assert made["centre(rain)"].sum() == pytest.approx(0, abs=1e-12) and len(made["centre(rain)"]) == 18


def test_a_spline_is_natural_and_spans_straight_lines():
    f = frame()
    f["rain"] = np.linspace(0, 10, len(f))
    made = columns("yield = spline(rain, 4)", f)
    assert list(made) == ["intercept", *(f"spline(rain, 4)[{k}]" for k in (1, 2, 3, 4))]
    basis = np.column_stack(list(made.values()))
    line = np.linalg.lstsq(basis, f["rain"], rcond=None)
    np.testing.assert_allclose(basis @ line[0], f["rain"], atol=1e-9)
    d = design("yield = spline(rain, 4)", f)
    new = Table(pd.DataFrame({"rain": [11.0, 12.0, 13.0]}), "t", 3)
    from bold_orchard.design.build import rebuild_parts

    for column in rebuild_parts(d, new)[0].values:  # linear beyond the last knot
        assert np.diff(column, 2) == pytest.approx(0, abs=1e-9)


def test_offsets_have_no_row_and_move_the_outcome():
    d = design("yield = rain + offset(week)")
    assert d.fixed.names == ("intercept", "rain")
    np.testing.assert_allclose(d.y, frame()["yield"] - frame()["week"])


@pytest.mark.parametrize(("terms", "names"), [
    ("pruning", ["intercept", "pruning[light]", "pruning[none]"]),
    ("pruning without intercept", ["pruning[hard]", "pruning[light]", "pruning[none]"]),
    ("pruning + soil without intercept", ["pruning[hard]", "pruning[light]", "pruning[none]", "soil[sand]"]),
    ("rain + rain*soil", ["intercept", "rain", "rain*soil[sand]"]),
    ("rain*soil", ["intercept", "rain*soil[clay]", "rain*soil[sand]"]),
    ("cross(soil, pruning)", ["intercept", "soil[sand]", "pruning[light]", "pruning[none]", "soil[sand]*pruning[light]", "soil[sand]*pruning[none]"]),
    ("soil + soil*pruning", ["intercept", "soil[sand]", *(f"soil[{s}]*pruning[{p}]" for s in ("clay", "sand") for p in ("light", "none"))]),
    ("category(week)*rain + category(week) + rain", ["intercept", *(f"category(week)[{w}]*rain" for w in range(4, 11)),
                                                     *(f"category(week)[{w}]" for w in range(4, 11)), "rain"]),
])  # fmt: skip
def test_categories_are_coded_where_they_would_repeat(terms, names):
    assert list(columns(f"yield = {terms}")) == names


def test_baselines_and_labels():
    d = design("yield = pruning", baselines={"pruning": "none"})
    assert d.fixed.names == ("intercept", "pruning[hard]", "pruning[light]")
    assert d.fixed.labels[1] == "pruning: hard vs none" and d.fixed.zeros == ("pruning = none",)
    alone = design("yield = rain; each orchard: pruning")
    assert alone.clauses[0].part.names == ("pruning[hard]", "pruning[light]", "pruning[none]")
    beside = design("yield = rain; each orchard: intercept + pruning")
    assert beside.clauses[0].part.names == ("intercept", "pruning[light]", "pruning[none]")


def test_text_where_numbers_are_needed_and_a_single_level():
    with pytest.raises(OrchardError, match="needs numbers, but 'soil' is a category"):
        columns("yield = log(soil)")
    with pytest.raises(OrchardError, match="one level only"):
        columns("yield = soil", frame().query("soil == 'clay'"))
    with pytest.raises(OrchardError, match="more distinct values"):
        columns("yield = spline(x, 5)", frame().assign(x=np.tile([1.0, 2.0], 12)))


def test_repeated_labels_are_pointed_out_without_in(harvest):
    table = read_table(harvest, ["-999"])
    notes = build_design(read_sentence("yield = rain; each tree: intercept"), table, Options()).notes
    assert any("each tree in orchard" in n for n in notes)
    notes = build_design(
        read_sentence("yield = rain; each tree: intercept; each orchard: intercept"), table, Options()
    ).notes
    assert any("each tree in orchard" in n for n in notes)
    for quiet in ("each tree in orchard: intercept", "each season: intercept; each orchard: intercept"):
        assert build_design(read_sentence(f"yield = rain; {quiet}"), table, Options()).notes == ()


def test_what_looks_like_counts_or_like_units_is_told(quick):
    r = np.random.default_rng(1)
    g = r.integers(0, 10, 200)
    frame = pd.DataFrame({"g": g, "variety": [f"v{i}" for i in r.integers(0, 20, 200)], "moths": r.poisson(2, 200),
                          "size": r.normal(10, 1, 200)})  # fmt: skip
    frame.to_csv(quick.folder / "t.csv", index=False)
    notes = quick("fit", "t.csv", "moths = intercept; each g: intercept", "--json").json["notes"]
    assert any("looks like counts" in n and "--family poisson" in n for n in notes)
    for silent in (
        ["moths = intercept; each g: intercept", "--family", "gaussian"],
        ["size = intercept; each g: intercept"],
    ):
        assert not any("looks like counts" in n for n in quick("fit", "t.csv", *silent, "--json").json["notes"])
    notes = quick("fit", "t.csv", "size = variety; each g: intercept; spread = variety", "--json").json["notes"]
    assert any("20 levels in the fixed part" in n and "each variety: intercept instead" in n for n in notes)
    assert any("20 levels in spread" in n for n in notes)


def test_outcomes_beyond_a_family_are_answered_with_what_to_write(quick):
    r = np.random.default_rng(2)
    frame = pd.DataFrame({"g": r.integers(0, 10, 200), "percent": r.uniform(0, 100, 200),
                          "share": np.clip(r.normal(0.5, 0.4, 200), 0, 1), "weight": np.clip(r.normal(1, 1, 200), 0, None)})  # fmt: skip
    frame.to_csv(quick.folder / "t.csv", index=False)
    for column, family in (("percent", "beta"), ("share", "beta")):
        told = quick("fit", "t.csv", f"{column} = intercept; each g: intercept", "--family", family).err
        left = re.search(r"write (calc\(.*\)) = \.\.\.", told).group(1)
        assert quick("fit", "t.csv", f"{left} = intercept; each g: intercept", "--family", family).code == 0
    told = quick("fit", "t.csv", "weight = intercept; each g: intercept", "--family", "gamma").err
    where = re.search(r'--where "(.*?)"', told).group(1)
    assert (
        quick("fit", "t.csv", "weight = intercept; each g: intercept", "--family", "gamma", "--where", where).code == 0
    )


def test_printed_names_stand_in_contrasts(quick):
    from builders import trial

    trial(trees=20).to_csv(quick.folder / "t.csv", index=False)
    quick("fit", "t.csv", "yield = rain*soil + rain + soil; each tree: intercept", "--save", "m")
    d = quick("show", "m", "--json").json
    for row in d["fixed"]:
        for name in (row["term"], row["label"], f"[{row['term']}]", f'"{row["term"]}"'):
            got = quick("terms", "m", "--contrast", name, "--json").json["contrasts"][0]
            assert got["estimate"] == pytest.approx(row["estimate"]), name
    first, last = d["fixed"][-2], d["fixed"][-1]
    got = quick("terms", "m", "--contrast", f"2*{first['term']} - {last['term']} = 1", "--json").json["contrasts"][0]
    assert got["estimate"] == pytest.approx(2 * first["estimate"] - last["estimate"]) and got["against"] == 1
