"""Numbers, pages, saved files and figures: what a person sees and keeps."""

from __future__ import annotations

import io
import json

import numpy as np
import pytest

from bold_orchard.errors import OrchardError, a_or_an, counted, nearest, shown, unknown_name
from bold_orchard.inference.coefficients.multiplicity import range_quantile, range_tail
from bold_orchard.inference.distributions import half_and_half, p_of_chisq, p_of_t, quantile_t
from bold_orchard.inference.summary import correlation, number
from bold_orchard.reporting.figures.panels import local_lines
from bold_orchard.reporting.figures.style import canvas
from bold_orchard.reporting.numbers import degrees, figure, p_value, percent, span
from bold_orchard.reporting.page import Left, Page, print_page
from bold_orchard.reporting.pages.compare import evidence
from bold_orchard.reporting.pages.fit import correlation_words, fit_page, residual_words
from bold_orchard.results.fit import FitResult
from bold_orchard.storage.files import write_safely
from bold_orchard.storage.saved_fits import find_fit


def test_numbers_as_people_read_them():
    assert [figure(x) for x in (None, 0, 1234.567, 0.00012345, 12.3456, -5e-7, 3e12)] == [
        "—",
        "0",
        "1,235",
        "0.0001234",
        "12.35",
        "-5.000e-07",
        "3.000e+12",
    ]
    assert figure(1 / 3, 7) == "0.3333333"
    assert [p_value(p) for p in (None, 0.0004, 0.0344, 1.0)] == ["—", "< 0.001", "0.034", "1.000"]
    assert [percent(0.1234), percent(None)] == ["12.3%", "—"]
    assert [degrees(d) for d in (None, 21.0, 21.46, 12345.6)] == ["—", "21", "21.5", "12,346"]
    assert [counted(1, "row"), counted(1200, "row")] == ["1 row", "1,200 rows"]
    assert span(1, 10, 4, True) == "1 to 10" and span(1, 10, 3, False) == "1.00 to 10.0"
    words = [
        "> 1,000,000 : 1 larger",
        "> 1,000,000 : 1 larger",
        "> 1,000,000 : 1 smaller",
        "3.14 : 1 larger",
        "41.0 : 1 smaller",
    ]
    assert [evidence(x) for x in (None, 1e9, 1e-9, 3.14159, 1 / 41)] == words


def test_distributions_agree_with_the_library():
    from scipy import stats

    assert p_of_t(2.1, 7.5) == pytest.approx(2 * stats.t.sf(2.1, 7.5)) and p_of_t(-2.1, None) == pytest.approx(
        2 * stats.norm.sf(2.1)
    )
    assert quantile_t(0.9, 4.0) == pytest.approx(stats.t.ppf(0.95, 4)) and quantile_t(0.95, None) == pytest.approx(
        1.959964, abs=1e-6
    )
    assert p_of_chisq(3.3, 2) == pytest.approx(stats.chi2.sf(3.3, 2)) and [p_of_chisq(x, 0) for x in (0, 1)] == [
        1.0,
        0.0,
    ]
    assert half_and_half(2.7, 1) == pytest.approx(0.5 * stats.chi2.sf(2.7, 1)) and half_and_half(0.0, 1) == 1.0
    assert range_tail(3.5, 4, 20.0) == pytest.approx(stats.studentized_range.sf(3.5, 4, 20), rel=1e-6)
    assert range_quantile(0.95, 3, None) == pytest.approx(3.3145, abs=1e-3)


def test_correlations_are_null_where_a_variance_is_zero():
    assert correlation(np.array([[4.0, 1.0], [1.0, 1.0]])) == [[1.0, 0.5], [0.5, 1.0]]
    assert correlation(np.array([[4.0, 0.0], [0.0, 0.0]])) == [[1.0, None], [None, None]]
    assert number(np.nan) is None and number(np.inf) is None and number(2) == 2.0


def test_names_near_and_far():
    assert (
        nearest("rian", ["rain", "sun"]) == "rain"
        and nearest("RAIN", ["rain"]) == "rain"
        and nearest("xyz", ["rain"]) is None
    )
    assert "did you mean 'rain'" in unknown_name("column", "rian", ["rain"], "t.csv")
    assert unknown_name("column", "qq", [f"c{i}" for i in range(20)], "t.csv").endswith("and 12 more")
    assert shown(["a", "b"]) == ["a", "b"] and [a_or_an("orchard"), a_or_an("tree")] == ["an orchard", "a tree"]


def test_correlations_and_residuals_in_words():
    part = {
        "group": "orchard",
        "structure": "unstructured",
        "terms": ["intercept", "rain"],
        "correlation": [[1, -0.72], [-0.72, 1]],
    }
    assert correlation_words(part) == [
        "Where an orchard's intercept is higher, its rain effect is mostly lower (r = -0.72)."
    ]
    part["correlation"] = [[1, 0.02], [0.02, 1]]
    assert "all but unrelated" in correlation_words(part)[0]
    part["correlation"] = [[1, None], [None, None]]
    assert correlation_words(part) == []
    res = {
        "structure": "ar1",
        "unit": "tree",
        "parameters": {
            "rho": 0.5,
            "spread": [{"term": "soil[sand]", "label": "soil: sand vs clay", "estimate": np.log(2), "se": 0.1}],
        },
    }
    words = " ".join(residual_words(res, 4))
    assert "rho = 0.500" in words and "times 2.00" in words and "baseline" in words


def test_pages_fit_80_columns_and_wrap_notes():
    page = (
        Page()
        .title("yield = " + " + ".join(["rain"] * 30))
        .table("Heading", ("term", "value", Left("why")), [("a", "1", "word " * 30)])
    )
    page.notes(["a long note " * 20]).warning("watch out")
    out = io.StringIO()
    print_page(page, out)
    lines = out.getvalue().splitlines()
    assert max(map(len, lines)) <= 80 and "Heading" in lines and "\x1b" not in out.getvalue()


def test_an_unconverged_document_never_looks_like_a_good_one(orchard, harvest):
    d = orchard("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--json").json
    d["convergence"]["converged"] = False
    out = io.StringIO()
    print_page(fit_page(FitResult.from_dict(d)), out)
    assert out.getvalue().count("NOT CONVERGED") == 2 and "Converged:" not in out.getvalue()


def test_files_are_written_whole_or_not_at_all(tmp_path):
    target = tmp_path / "a.csv"
    target.write_text("old")

    def fail(path):
        path.write_text("half")
        raise OSError(28, "No space left on device")

    with pytest.raises(OrchardError, match="No space left"):
        write_safely(target, fail)
    assert target.read_text() == "old" and [p.name for p in tmp_path.iterdir()] == ["a.csv"]
    write_safely(target, lambda p: p.write_text("new"))
    assert target.read_text() == "new" and [p.name for p in tmp_path.iterdir()] == ["a.csv"]


def test_saved_fits_are_found_by_name_and_path_and_move_with_their_data(orchard, harvest, tmp_path):
    orchard("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "m1")
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    for name in ("harvest.csv", "m1.fit.json"):
        (tmp_path / name).rename(moved / name)
    assert orchard("check", "elsewhere/m1").code == 0 and orchard("check", "elsewhere/m1.fit.json", "--json").code == 0
    done = orchard("show", "elsewhere/m2")
    assert done.code == 3 and "did you mean 'm1'" in done.err
    saved = json.loads((moved / "m1.fit.json").read_text())["saved"]
    assert saved["missing"] == ["-999"] and len(saved["theta"]) == 1 and saved["settings"]["method"] == "reml"
    with pytest.raises(OrchardError, match="no saved fit"):
        find_fit(str(tmp_path / "nothing"))


def test_figures_have_the_size_of_a_screen_and_known_endings():
    made, axes = canvas(2, 2, "title " * 40)
    assert tuple(made.get_size_inches() * made.dpi) == (1280, 800) and len(axes) == 4


@pytest.mark.parametrize(("name", "shown"), [("a.bmp", ".bmp"), ("picture", "picture")])
def test_a_picture_of_another_kind_is_refused_before_any_work(quick, name, shown):
    done = quick("check", "nothing", "--figure", name)
    assert done.code == 2 and f"--figure writes .png, .svg, .pdf, not '{shown}'" in done.err


def test_the_smooth_line_follows_a_curve():
    x = np.linspace(-2, 2, 4000)
    at, y = local_lines(x, x**2)
    assert len(at) == 40 and np.abs(y - at**2).max() < 0.35 and y[len(y) // 2] < y[0]
