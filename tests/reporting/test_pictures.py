"""Pictures and checks as the program makes them: every kind and view, their files, and labels that never meet."""

from __future__ import annotations

import csv
import json

import numpy as np
import pandas as pd
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.text import Text

from bold_orchard.diagnostics.checks import CheckOptions, check
from bold_orchard.inference.fit import fit
from bold_orchard.inference.prediction.drawing import effects, predictors
from bold_orchard.reporting.figures.check import check_figure
from bold_orchard.reporting.figures.style import styled
from builders import groves, table_of


@pytest.fixture(autouse=True)
def our_style():
    with styled():
        yield


@pytest.mark.slow
def test_the_command_draws_every_kind_and_tells_the_numbers(quick, harvest):
    sentence = "yield = rain + pruning; each orchard: intercept"
    for name, text in (("plain", sentence), ("sloped", sentence + " + rain")):
        assert quick("fit", "harvest.csv", text, "--missing", "-999", "--save", name).code == 0
    for kind in ("lines", "panels", "against", "effects", "coefficients"):
        done = quick("draw", "sloped", "--kind", kind)
        assert done.code == 0 and f"sloped-{kind}.png" in done.out, done.err
        assert (quick.folder / f"sloped-{kind}.png").stat().st_size > 10_000
        d = quick("draw", "sloped", "--kind", kind, "--json", "--csv", "d.csv").json
        assert d["schema"] == "bold-orchard/draw/1" and d["kind"] == kind and d["figure"] is None
        assert len(list(csv.DictReader((quick.folder / "d.csv").open()))) > 1
    both = quick("draw", "plain", "sloped", "--kind", "coefficients", "--figure", "c.svg", "--json").json
    assert {c["fit"] for c in both["coefficients"]} == {"plain", "sloped"} and "<svg" in (
        quick.folder / "c.svg"
    ).read_text()
    named = quick("draw", "sloped", "--kind", "panels", "--units", "Barrow, Kestrel", "--json").json
    assert [line["level"] for line in named["lines"]] == ["Barrow", "Kestrel"]
    text = quick("draw", "sloped", "--along", "pruning", "--figure", "p.pdf").out
    assert "along pruning" in text and (quick.folder / "p.pdf").read_bytes()[:4] == b"%PDF"


@pytest.mark.few(4)
@pytest.mark.parametrize(("options", "words"), [
    (("plain", "plain"), "draws one fit"), (("plain", "--kind", "against", "--along", "rain"), "--along belongs to --kind lines"),
    (("plain", "--by", "pruning"), "--kind effects --by pruning"), (("plain", "--kind", "panels", "--by", "soil"), "--by belongs to"), (("plain", "--along", "ran"), "did you mean 'rain'"),
    (("plain", "--unit", "tree"), "--unit"), (("empty",), "has no predictor to draw along"), (("flat",), "no each clause"),
    (("plain", "--units", "Barow"), "did you mean 'Barrow'"), (("plain", "--kind", "effects", "--by", "rain"), "(in --by)"),
])  # fmt: skip
def test_what_cannot_be_drawn_is_refused_in_a_line(quick, harvest, options, words):
    for name, text in (
        ("plain", "yield = rain + pruning; each orchard: intercept"),
        ("empty", "yield = intercept; each orchard: intercept"),
        ("flat", "yield = rain"),
    ):
        quick("fit", "harvest.csv", text, "--missing", "-999", "--save", name)
    done = quick("draw", *options)
    assert done.code in (2, 3) and words in done.err and len(done.err.splitlines()) == 1
    assert not list(quick.folder.glob("*.png")) and done.out == ""


@pytest.mark.slow
def test_every_view_of_a_check(quick, harvest):
    quick(
        "fit",
        "harvest.csv",
        "yield = rain + pruning; each orchard: intercept + rain",
        "--missing",
        "-999",
        "--save",
        "m",
    )
    quick("fit", "harvest.csv", "yield = intercept", "--missing", "-999", "--save", "empty")
    for view in ("overview", "rows", "predictors", "effects", "influence", "time"):
        assert quick("check", "m", "--kind", view, "--time", "season", "--figure", f"{view}.png").code == 0
        assert (quick.folder / f"{view}.png").stat().st_size > 10_000
    assert quick("check", "empty", "--figure", "e.png").code == 0
    for fit_name, view, words in (("m", "time", "--time COLUMN"), ("empty", "effects", "no each clause"), ("empty", "influence", "no unit's influence"),
                                  ("empty", "predictors", "has none")):  # fmt: skip
        done = quick("check", fit_name, "--kind", view, "--figure", "no.png", "--csv", "no.csv")
        assert done.code == 2 and words in done.err and not list(quick.folder.glob("no.*"))


@pytest.mark.slow
def test_check_writes_rows_and_units_beside_the_users_own(quick, harvest):
    frame = pd.read_csv(quick.folder / "harvest.csv").assign(fitted="mine")
    frame.to_csv(quick.folder / "own.csv", index=False)
    quick(
        "fit",
        "own.csv",
        "yield = rain; each orchard: intercept + rain; each tree in orchard: intercept",
        "--missing",
        "-999",
        "--save",
        "m",
    )
    d = quick("check", "m", "--csv", "r.csv", "--csv-units", "u.csv", "--json").json
    rows, units = pd.read_csv(quick.folder / "r.csv"), pd.read_csv(quick.folder / "u.csv")
    assert (rows["fitted"] == "mine").all() and len(rows) == 1427
    np.testing.assert_allclose(rows["fitted of m"] + rows["residual"], rows["yield"])
    np.testing.assert_allclose(rows["fitted_average"] + rows["residual_marginal"], rows["yield"])
    assert rows["residual_within"].notna().any()
    assert len(units) == 24 + 240 and (units["group"] == "tree in orchard").sum() == 240
    of_orchards = units[units["group"] == "orchard"]
    assert of_orchards["effect rain"].notna().all() and of_orchards["cooks_distance"].notna().all()
    by = {(i["group"], i["level"]): i for i in d["influence"]}
    assert len(by) == 264 and by["orchard", "Barrow"]["change"]["rain"] == pytest.approx(
        of_orchards.set_index("level").loc["Barrow", "change rain"]
    )
    refused = quick("check", "m", "--csv-units", "nowhere/u.csv")
    assert refused.code == 3 and "no folder" in refused.err


def test_exact_influence_by_the_command_is_the_fit_without_the_orchard(quick, harvest):
    sentence = "yield = rain; each orchard: intercept"
    quick("fit", "harvest.csv", sentence, "--missing", "-999", "--save", "m")
    d = quick("check", "m", "--influence", "exact", "--unit", "orchard", "--json").json
    without = json.loads(
        quick("fit", "harvest.csv", sentence, "--missing", "-999", "--where", "orchard != 'Barrow'", "--json").out
    )
    row = next(i for i in d["influence"] if i["level"] == "Barrow")
    assert row["exact"] and row["without"] == pytest.approx(
        {r["term"]: r["estimate"] for r in without["fixed"]}, rel=1e-6
    )
    assert row["components_without"]["sd(residual)"] == pytest.approx(without["residual"]["sd"], rel=1e-6)
    assert row["components_without"]["sd(orchard: intercept)"] == pytest.approx(without["random"][0]["sd"][0], rel=1e-5)
    time = check_time(quick)
    assert time["autocorrelation"]["unit"] == "orchard"


def check_time(quick):
    return quick("check", "m", "--time", "season", "--influence", "none", "--json").json


def test_views_need_what_they_show():
    made = fit("yield = rain; each orchard: intercept", table_of(groves(8, 10)))
    checked = check(made, CheckOptions(influence="none"))
    figure = check_figure(checked)
    assert [ax.get_title("left") for ax in figure.axes][-1].startswith("Does each orchard spread alike?")


def words_of(figure):
    """Every text that is drawn, with its box: titles, labels, ticks inside the view, legends, names of points."""
    drawing = FigureCanvasAgg(figure)
    drawing.draw()
    out = [t for t in figure.findobj(Text, include_self=False) if t.get_visible() and t.get_text().strip()]
    ticks = set()
    for ax in figure.axes:
        for axis in (ax.xaxis, ax.yaxis):
            low, high = sorted(axis.get_view_interval())
            for which in (axis.get_major_ticks(), axis.get_minor_ticks()):
                for tick in which:
                    if not low - 1e-9 <= tick.get_loc() <= high + 1e-9 or not ax.get_visible():
                        ticks |= {id(tick.label1), id(tick.label2)}
        if not ax.get_visible():
            ticks |= {id(t) for t in ax.findobj(Text)}
    renderer = drawing.get_renderer()
    slanted = {id(t) for t in out if t.get_rotation() % 90}  # their boxes are wider than their letters
    boxes = [(t.get_text(), Text.get_window_extent(t, renderer)) for t in out if id(t) not in ticks | slanted]
    return [(text, box) for text, box in boxes if box.width > 1 and box.height > 1]


def meetings(figure):
    """Pairs of texts that cover each other by more than two pixels each way, and those that leave the page."""
    made = words_of(figure)
    wide, high = figure.bbox.width, figure.bbox.height
    found = [
        (text, "the page's edge") for text, b in made if b.x0 < -1 or b.y0 < -1 or b.x1 > wide + 1 or b.y1 > high + 1
    ]
    for i, (one, a) in enumerate(made):
        for two, b in made[i + 1 :]:
            if min(a.x1, b.x1) - max(a.x0, b.x0) > 2 and min(a.y1, b.y1) - max(a.y0, b.y0) > 2:
                found.append((one, two))
    return found


@pytest.mark.parametrize("units", [24, 500])
@pytest.mark.slow
def test_no_labels_meet_in_any_picture(units, monkeypatch, tmp_path):
    from bold_orchard.cli.main import main
    from bold_orchard.reporting.figures import style

    made = []
    monkeypatch.setattr(style, "save", lambda figure, path: made.append(figure))
    monkeypatch.chdir(tmp_path)
    frame = groves(units, 12).assign(
        orchard=lambda f: "Orchard " + f["orchard"], season=lambda f: np.arange(len(f)) % 12
    )
    frame.to_csv("d.csv", index=False)
    fits = ("yield = rain + soil + rain*soil; each orchard: intercept + rain", "yield = rain; each orchard: intercept")
    for name, sentence in zip(("sloping-lines", "plain"), fits):
        assert main(["fit", "d.csv", sentence, "--save", name, "--figure", "f.png", "--quiet"]) == 0
    commands = [
        ["check", "plain", "--time", "season", "--kind", k]
        for k in ("overview", "rows", "predictors", "effects", "influence", "time")
    ]
    commands += [["check", "sloping-lines", "--kind", k] for k in ("overview", "effects", "influence", "predictors")]
    commands += [
        ["draw", "sloping-lines", "--kind", k] for k in ("lines", "panels", "against", "effects", "coefficients")
    ]
    commands += [
        ["draw", "sloping-lines", "--kind", "effects", "--along", "rain", "--by", "soil"],
        ["draw", "sloping-lines", "--along", "soil"],
    ]
    commands += [["draw", "plain", "sloping-lines", "--kind", "coefficients"], ["compare", "plain", "sloping-lines"]]
    commands += [[c, "sloping-lines"] for c in ("components", "terms", "groups", "predict")] + [
        ["means", "sloping-lines", "soil"]
    ]
    commands += [
        ["scout", "d.csv", "--unit", "orchard", "--outcome", "yield"],
        ["predict", "plain", "--where", "season = 0"],
    ]
    commands += [["intervals", "sloping-lines", "--method", "wald"]]
    for command in commands:
        assert main([*command, "--figure", "x.png", "--quiet"]) == 0, command
        assert not meetings(made[-1]), (command, meetings(made[-1])[:5])
    assert len(made) == len(commands) + 2


def test_columns_that_only_name_a_unit_or_an_offset_are_no_predictors():
    frame = groves(10, 12).assign(height=lambda f: np.arange(len(f)) % 7, block=lambda f: np.arange(len(f)) % 4)
    made = fit(
        "yield = centre(rain, orchard) + mean(rain, block) + offset(height); each orchard: intercept", table_of(frame)
    )
    assert predictors(made) == ["rain"]
    both = fit("yield = centre(rain, block) + block; each orchard: intercept", table_of(frame))
    assert predictors(both) == ["rain", "block"]
    assert len(effects(made, ["rain"], None, 0.95)[0]["x"]) > 10


@pytest.mark.slow
def test_absurd_fits_end_in_words(quick):
    """Grades with a large offset, no fixed column at all, a spread of zero in most units, a failed fit."""
    r = np.random.default_rng(3)
    frame = groves(8, 10).assign(height=lambda f: 30 + 15 * (np.arange(len(f)) % 3), flat=1.0)
    frame["grade"], frame["won"] = r.choice(["a", "b", "c"], len(frame)), (frame["rain"] > 0).astype(int)
    frame.to_csv(quick.folder / "d.csv", index=False)
    done = quick(
        "fit", "d.csv", "grade = rain + offset(height); each orchard: intercept", "--family", "ordinal", "--save", "g"
    )
    assert done.code in (0, 4) and "defect" not in done.err and "Warning" not in done.err
    quick("fit", "d.csv", "grade = intercept; each orchard: intercept", "--family", "ordinal", "--save", "bare")
    assert "nothing to test" in quick("terms", "bare").err and "no predictor" in quick("draw", "bare").err
    assert quick("check", "bare", "--figure", "b.png").code == 0
    short = quick("fit", "d.csv", "won = rain; each orchard: intercept", "--family", "binomial", "--save", "failed")
    assert short.code == 4
    drawn = quick("draw", "failed", "--kind", "coefficients", "--figure", "f.png")
    assert drawn.code == 4 and "NOT converge" in drawn.out and (quick.folder / "f.png").exists()


def test_infinite_figures_are_printed_as_such():
    from bold_orchard.reporting.numbers import figure

    assert figure(float("inf")) == "∞" and figure(None) == "—"


def test_a_picture_of_the_size_and_title_asked_for(quick, harvest):
    from matplotlib.image import imread

    sentence = "yield = rain + pruning; each orchard: intercept"
    assert quick("fit", "harvest.csv", sentence, "--missing", "-999", "--save", "plain").code == 0
    options = ("--size", "700x500", "--dpi", "150", "--title", "Rain")
    for command in (("draw", "plain"), ("check", "plain"), ("means", "plain", "pruning")):
        assert quick(*command, "--figure", "p.png", *options).code == 0
        assert imread(quick.folder / "p.png").shape[:2] == (750, 1050)
        assert quick(*command, "--figure", "p.svg", *options[:2], *options[4:]).code == 0
        assert ">Rain<" in (quick.folder / "p.svg").read_text()
    for wrong, words in (
        (("--size", "700"), "900x600"),
        (("--dpi", "9999"), "20 to 1200"),
        (("--size", "1x1"), "200 to 10,000"),
    ):
        done = quick("means", "plain", "pruning", "--figure", "q.png", *wrong)
        assert done.code == 2 and words in done.err and not (quick.folder / "q.png").exists()
    assert "add --figure" in quick("means", "plain", "pruning", "--dpi", "300").err


def test_pictures_on_axes_and_figures_of_ones_own():
    import matplotlib.figure

    import bold_orchard as bo
    from bold_orchard.errors import UsageError

    made = bo.fit("yield = rain + soil; each orchard (diagonal): intercept + rain", groves(20, 6))
    whole = matplotlib.figure.Figure(figsize=(16, 7), layout="constrained")
    left, right = whole.subfigures(1, 2)
    ax = left.subplots()
    assert made.figure(ax=ax, title="Mine").axes == [ax] and ax.get_title(loc="left") == "Mine"
    assert made.check().figure(ax=right) is right and len(right.axes) == 6
    heading = right.get_suptitle()
    assert all(len(line) <= 88 for line in heading.split("\n")) and "\n" in heading
    with pytest.raises(UsageError, match="6 panels"):
        made.check().figure(ax=ax)
    assert made.figure().get_size_inches().tolist() != [16, 7]  # what was lent is given back


def test_effects_of_unlike_units_share_a_scale_and_units_keep_their_order_over_panels():
    import bold_orchard as bo

    frame = groves(30, 8)
    frame["rain"] *= 1000
    made = bo.fit("yield = rain + soil; each orchard: intercept + rain", frame)
    (ax,) = made.figure().axes
    estimate, sd = made.result.fixed[1].estimate, frame["rain"].std(ddof=0)
    points = [line.get_xdata()[0] for line in ax.lines if len(line.get_xdata()) == 1]
    assert pytest.approx(estimate * sd) in points
    assert any(t.get_text().startswith("rain, per SD of") for t in ax.get_yticklabels())
    plain = bo.fit("yield = soil; each orchard: intercept", frame).figure()
    assert not any("per SD" in t.get_text() for t in plain.axes[0].get_yticklabels())
    panels = made.groups().figure().axes
    one, two = ([t.get_text() for t in p.get_yticklabels()] for p in panels)
    assert one == two and len(one) == 30
    many = bo.fit("yield = soil; each orchard: intercept", groves(120, 4)).groups()
    rows = sorted(many.to_dict()["groups"][0]["rows"], key=lambda r: r["effects"]["intercept"])
    named = [t.get_text() for t in many.figure().axes[0].get_yticklabels()]
    assert named == [rows[0]["level"], rows[-1]["level"]]


def test_names_with_dollar_signs_are_no_formulas():
    import bold_orchard as bo

    frame = groves(12, 6).rename(columns={"rain": "$rain_a$", "orchard": "$o^"})
    made = bo.fit("yield = [$rain_a$] + soil; each [$o^]: intercept", frame)
    for answer in (made.answer, made.groups(), made.check(), made.terms()):
        figure = answer.figure(title="from $5 to $6")
        assert not any(t.get_parse_math() for t in figure.findobj(Text) if "$" in t.get_text())
        assert "$5 to $6" in figure.get_suptitle()
