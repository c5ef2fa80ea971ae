"""What is drawn: lines, bands and shares against the estimates they come from; pictures of small and large data."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.text import Text

from bold_orchard.design.design import Options
from bold_orchard.diagnostics.checks import check
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.coefficients.means import means
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.intervals.intervals import intervals
from bold_orchard.inference.prediction.draw import draw
from bold_orchard.inference.prediction.drawing import (
    against_rows,
    chosen_levels,
    coefficients,
    drawn_unit,
    effects,
    predictors,
    tenths_of,
)
from bold_orchard.inference.prediction.predict import predict
from bold_orchard.inference.prediction.unit_lines import unit_lines
from bold_orchard.reporting.figures.check import check_figure
from bold_orchard.reporting.figures.compare import compare_figure
from bold_orchard.reporting.figures.draw import draw_figure
from bold_orchard.reporting.figures.intervals import intervals_figure
from bold_orchard.reporting.figures.panels import MOST_DOTS, name_points
from bold_orchard.reporting.figures.style import canvas, styled
from bold_orchard.reporting.figures.terms import terms_figure
from builders import groves, table_of, trial


@pytest.fixture(autouse=True)
def our_style():
    with styled():
        yield


SLOPES = "yield = centre(rain) + soil; each orchard: intercept + centre(rain); each tree: intercept"


@pytest.fixture(scope="module")
def slopes():
    return fit(SLOPES, table_of(trial(trees=24)))


def test_a_units_line_is_its_prediction_at_its_typical_row(slopes):
    frame = slopes.design.table.frame
    unit = drawn_unit(slopes, None, "rain")
    assert unit.name == "orchard"
    lines = unit_lines(slopes, unit, "rain", np.arange(unit.size))
    own = frame[frame["orchard"] == 2]
    j = unit.texts.index("2")
    assert lines.x[j][0] == own["rain"].min() and lines.x[j][-1] == own["rain"].max()
    typical = pd.DataFrame({"rain": lines.x[j], "orchard": 2, "tree": "nowhere"})
    np.testing.assert_allclose(lines.y[j], over_soils(slopes, typical), atol=1e-9)
    own_effect = slopes.model.effects[0][0][unit.texts.index("2")]
    apart = np.interp(lines.x[j], lines.at, lines.average) + own_effect[0]
    apart += own_effect[1] * (lines.x[j] - frame["rain"].mean())
    np.testing.assert_allclose(lines.y[j], apart, atol=1e-9)  # from the average line by the orchard's effects alone
    assert lines.held == "soil at equal weights"


def over_soils(made, typical):
    """The mean of the linear predictor over the soils, each counted once."""
    every = [
        predict(made, table_of(typical.assign(soil=s))).predicted for s in sorted(set(made.design.table.frame["soil"]))
    ]
    return np.mean(every if made.design.additive else np.log(np.array(every) / (1 - np.array(every))), axis=0)


def test_a_nested_units_line_has_its_parents_effects_too(slopes):
    unit = next(u for u in slopes.design.units if u.name == "tree")
    lines = unit_lines(slopes, unit, "rain", np.array([unit.texts.index("t5")]))
    typical = pd.DataFrame({"rain": lines.x[0], "orchard": 1, "tree": "t5"})
    np.testing.assert_allclose(lines.y[0], over_soils(slopes, typical), atol=1e-9)


def test_the_average_line_and_bands_are_adjusted_means(slopes):
    made = {e["predictor"]: e for e in effects(slopes, predictors(slopes), None, 0.9)}
    by_soil = means(slopes, "soil", confidence=0.9)["means"]
    at = [made["soil"]["ticks"].index(m["levels"]["soil"]) for m in by_soil]
    np.testing.assert_allclose(np.array(made["soil"]["estimate"])[at], [m["mean"] for m in by_soil])
    np.testing.assert_allclose(np.array(made["soil"]["low"])[at], [m["ci"][0] for m in by_soil], rtol=1e-6)
    rain = made["rain"]
    line = unit_lines(slopes, slopes.design.units[0], "rain", np.arange(2))
    np.testing.assert_allclose(line.average, rain["estimate"])
    slope = next(r["estimate"] for r in slopes.result["fixed"] if r["term"] == "centre(rain)")
    assert (rain["estimate"][-1] - rain["estimate"][0]) / (rain["x"][-1] - rain["x"][0]) == pytest.approx(slope)


def test_effects_by_the_levels_of_a_category():
    made = fit("yield = rain + soil + rain*soil; each orchard: intercept", table_of(groves(12, 15)))
    found = effects(made, ["rain"], "soil", 0.95)
    b = {r["term"]: r["estimate"] for r in made.result["fixed"]}
    slopes = {e["level"]: (e["estimate"][-1] - e["estimate"][0]) / (e["x"][-1] - e["x"][0]) for e in found}
    assert slopes == {"clay": pytest.approx(b["rain"]), "sand": pytest.approx(b["rain"] + b["rain*soil[sand]"])}
    with pytest.raises(UsageError, match="--by"):
        effects(made, ["rain"], "rain", 0.95)


def test_generalized_lines_stand_on_the_outcomes_scale():
    frame = groves(12, 25)
    made = fit(
        "ripe = rain + soil; each orchard: intercept", table_of(frame), Settings(options=Options(family="binomial"))
    )
    lines = unit_lines(made, made.design.units[0], "rain", np.arange(12))
    assert all(((y > 0) & (y < 1)).all() for y in lines.y) and (np.diff(lines.average) > 0).all()
    typical = pd.DataFrame({"rain": lines.x[4], "orchard": "o4"})
    np.testing.assert_allclose(np.log(lines.y[4] / (1 - lines.y[4])), over_soils(made, typical), atol=1e-9)
    tenths = tenths_of(made)
    assert len(tenths) == 10 and sum(t["rows"] for t in tenths) == 300
    assert sum(t["rows"] * t["observed"] for t in tenths) == pytest.approx(frame["ripe"].sum())
    grades = np.array(["low", "mid", "high"])[np.digitize(frame["yield"], [3, 5])]
    ordinal = fit("grade = rain; each orchard: intercept", table_of(frame.assign(grade=grades)), Settings(options=Options(family="ordinal", grades=("low", "mid", "high"))))  # fmt: skip
    shares = tenths_of(ordinal)
    for level in ("low", "mid", "high"):
        own_rows = [t for t in shares if t["level"] == level]
        assert sum(t["rows"] * t["observed"] for t in own_rows) == pytest.approx((grades == level).sum())
        assert np.corrcoef([t["predicted"] for t in own_rows], [t["observed"] for t in own_rows])[0, 1] > 0.9


def test_against_and_coefficients(slopes):
    rows = against_rows(slopes)
    np.testing.assert_allclose([r["observed"] for r in rows], slopes.design.y, atol=1e-9)
    made = predict(slopes, slopes.design.table)
    np.testing.assert_allclose([r["predicted"] for r in rows], made.predicted)
    np.testing.assert_allclose([r["predicted_average"] for r in rows], made.average)
    table = coefficients([slopes, slopes], 0.95)
    assert [r["term"] for r in table[:3]] == ["centre(rain)", "soil[loam]", "soil[sand]"] and len(table) == 6
    fixed = {r["term"]: r["ci"] for r in slopes.result["fixed"]}
    for r in table:
        assert [r["low"], r["high"]] == pytest.approx(fixed[r["term"]])
    empty = fit("yield = intercept; each tree: intercept", slopes.design.table)
    assert [r["term"] for r in coefficients([empty], 0.95)] == ["intercept"]
    assert coefficients([slopes], 0.5)[0]["low"] > table[0]["low"]


def test_levels_are_chosen_by_the_seed_or_by_name(slopes):
    unit = next(u for u in slopes.design.units if u.name == "tree")
    one, same, other = (chosen_levels(unit, [], s, 6) for s in (1, 1, 2))
    np.testing.assert_array_equal(one, same)
    assert len(one) == 6 and not np.array_equal(one, other) and (np.diff(one) > 0).all()
    assert [unit.texts[i] for i in chosen_levels(unit, ["t9", "t2", "t9"], 1, 6)] == ["t9", "t2"]
    with pytest.raises(OrchardError, match="did you mean 't22'"):
        chosen_levels(unit, ["t222"], 1, 6)


def ink(figure):
    """Share of the picture that is not white."""
    drawing = FigureCanvasAgg(figure)
    drawing.draw()
    return float(np.mean(np.asarray(drawing.buffer_rgba())[..., :3].min(axis=2) < 245))


@pytest.mark.slow
@pytest.mark.parametrize("units", [5, 2000])
def test_few_and_many_units_both_read(units):
    """Neither empty nor a solid block: the share of ink stays in bounds."""
    made = fit("yield = rain; each orchard: intercept + rain", table_of(groves(units, 12)))
    assert 0.02 < ink(draw_figure(draw([made], "lines"))) < 0.7
    figure = draw_figure(draw([made], "panels"))
    assert sum(ax.get_visible() for ax in figure.axes) == min(units, 12) and 0.02 < ink(figure) < 0.5
    checked = check(made)
    for view in ("overview", "rows", "predictors", "effects", "influence"):
        figure = check_figure(checked, view)
        assert all(ax.get_xlabel() and ax.get_title("left") for ax in figure.axes if ax.get_visible())
        assert ink(figure) > 0.02
    clouds = [im for ax in check_figure(checked).axes for im in ax.images]
    assert bool(clouds) is (units * 12 > MOST_DOTS)


def test_unit_lines_bear_the_colour_of_their_category_and_its_average():
    frame = groves(12, 10)
    made = fit("yield = rain + soil; each orchard: intercept + rain", table_of(frame))
    d = draw([made], "lines", by="soil")
    soil = dict(zip(frame["orchard"], frame["soil"]))
    assert d["by"] == "soil" and all(line["by"] == soil[line["level"]] for line in d["lines"])
    assert d["averages"] == draw([made], "effects", along="rain", by="soil")["effects"]
    legend = [t.get_text() for t in draw_figure(d).axes[0].get_legend().get_texts()]
    assert legend == ["clay, average", "sand, average"]
    alone = fit("yield = rain; each orchard: intercept + rain", table_of(frame))
    assert draw([alone], "lines", by="soil")["averages"] == []
    with pytest.raises(UsageError, match="too many"):
        draw(
            [fit("yield = soil; each orchard: intercept", table_of(groves(40, 5)))], "lines", along="soil", by="orchard"
        )


def test_effects_stand_over_the_rows_that_they_come_from(slopes):
    d = draw([slopes], "effects", along="rain", by="soil")
    figure = draw_figure(d)
    drawn = [line for line in figure.axes[0].lines if line.get_marker() == "o"]
    frame = slopes.design.table.frame
    assert sum(len(line.get_xdata()) for line in drawn) == len(frame)
    own = frame[frame["soil"] == "clay"]
    assert any(np.array_equal(np.sort(line.get_ydata()), np.sort(own["yield"])) for line in drawn)


def test_a_profile_is_drawn_as_the_likelihood_cut_where_the_interval_ends():
    made = intervals(fit("yield = rain; each orchard: intercept", table_of(groves(12, 10))), points=30)
    figure = intervals_figure(made)
    for ax, row in zip(figure.axes, made["parameters"]):
        curve = ax.lines[0]
        at = np.interp(
            [row["low"] or row["estimate"], row["estimate"], row["high"]], curve.get_xdata(), curve.get_ydata()
        )
        assert at[1] == pytest.approx(1.0, abs=2e-3) and at[2] == pytest.approx(np.exp(-0.5 * 1.959964**2), abs=2e-3)


def test_terms_stand_beyond_the_line_exactly_where_p_is_small(slopes):
    made = terms(slopes)
    dots = [line for line in terms_figure(made).axes[0].lines if line.get_marker() == "o"]
    for dot, row in zip(dots, reversed(made["tests"])):
        assert (float(dot.get_xdata()[0]) > 1.0) == (row["p"] < 0.05)


def test_models_that_differ_in_what_varies_show_their_units_lines():
    table = table_of(groves(12, 10))
    fits = [fit(f"yield = rain; each orchard: {v}", table) for v in ("intercept", "intercept + rain")]
    fits = [f.called(n) for f, n in zip(fits, ("level", "slopes"))]
    made = compare(fits)
    slopes_of = {n: np.array([(y[-1] - y[0]) / (x[-1] - x[0]) for x, y in v]) for n, v in made.lines.units.items()}
    assert slopes_of["level"].std() < 1e-9 and slopes_of["slopes"].std() > 0.1
    assert len(compare_figure(made).axes) == 4
    alike = [fit(f"yield = {v}; each orchard: intercept", table) for v in ("rain", "rain + soil")]
    alike = [f.called(n) for f, n in zip(alike, ("one", "two"))]
    assert compare(alike).lines.units == {}


def test_names_of_points_do_not_meet():
    figure, (ax,) = canvas(1, 1, "names")
    ax.plot([0, 1], [0, 1])
    name_points(ax, np.array([0.9, 0.91, 0.92]), np.array([0.5, 0.5, 0.51]), ["one", "two", "three"])
    drawing = FigureCanvasAgg(figure)
    drawing.draw()
    boxes = [Text.get_window_extent(t, drawing.get_renderer()) for t in ax.texts]
    assert len(boxes) == 3
    assert not any(a.overlaps(b) for i, a in enumerate(boxes) for b in boxes[i + 1 :])
