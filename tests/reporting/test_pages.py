"""What each command prints, read as its user reads it."""

from __future__ import annotations

import io

import pandas as pd
import pytest

from bold_orchard.reporting.page import Page, print_page

MODEL = "yield = centre(rain) + pruning; each orchard: intercept + centre(rain)"
CODES = ("--missing", "-999", "--baseline", "pruning=none")


@pytest.fixture
def saved(orchard, harvest):
    assert orchard("fit", "harvest.csv", MODEL, *CODES, "--save", "m").code == 0
    assert (
        orchard(
            "fit", "harvest.csv", "yield = centre(rain) + pruning; each orchard: intercept", *CODES, "--save", "s"
        ).code
        == 0
    )
    return orchard


def read(run, *arguments):
    done = run(*arguments)
    assert done.code == 0, done.err
    assert max(map(len, done.out.splitlines())) <= 80, [line for line in done.out.splitlines() if len(line) > 80]
    return " ".join(done.out.split())


def test_scout_reads_like_a_colleague(orchard, harvest):
    text = read(orchard, "scout", "harvest.csv")
    for words in ("1,440 rows, 7 columns", "likeliest first", "24 labels, each on 60 rows, text", "Inside one level of a group",
                  "tree has labels that start again in every orchard", "yield holds -999", "--missing yield=-999",
                  "Sentences to start from: yield = intercept; each orchard: intercept"):  # fmt: skip
        assert words in text, words


def test_components_page(saved):
    text = read(saved, "components", "m")
    for words in ("Variance components of m, by REML", "intercept with", "r -0.", "How alike two rows of one group are",
                  "The average effects explain", "conditional R²"):  # fmt: skip
        assert words in text, words


@pytest.mark.slow
def test_check_page(saved):
    text = read(saved, "check", "m")
    for words in (
        "orchard: centre(rain)",
        "Rows farthest from their fitted value",
        "rows, within orchard",
        "spread by orchard (Brown-Forsythe)",
        "Without one orchard: what moves the estimates most",
        "What looks fine: shape of rows; shape of effects",
    ):
        assert words in text, words


def test_compare_page_and_its_notes(saved):
    text = read(saved, "compare", "s", "m")
    for words in ("2 models on the same 1,427 rows, compared by REML", "m against s", "p at the", "half-and-half mixture of chi-squared with 1 and 2 df",
                  "AIC and BIC both prefer m"):  # fmt: skip
        assert words in text, words


def test_terms_and_means_pages(saved):
    text = read(saved, "terms", "m", "--contrast", "hard - light")
    for words in ("type 3 (marginal", "pruning F", "Contrasts", "hard - light", "Degrees of freedom: satterthwaite"):
        assert words in text, words
    assert "chi-squared" in read(saved, "terms", "m", "--chisq", "--type", "2")
    text = read(saved, "means", "m", "pruning", "--differences", "--correction", "holm")
    for words in (
        "Adjusted means of yield by pruning",
        "hard vs none",
        "corrected for the number of differences (holm); the intervals are single",
        "Covariates at their means: rain = 57.88",
    ):
        assert words in text, words
    assert "Slopes of rain by pruning" in read(saved, "means", "m", "pruning", "--slope", "rain")


def test_predict_page_for_known_and_new_units(saved):
    assert "average only" in read(saved, "predict", "m").replace("average row", "average") or "only" in read(
        saved, "predict", "m"
    )
    frame = pd.DataFrame({"orchard": ["Barrow", "Nowhere"], "rain": [50.0, 50.0], "pruning": ["none", "none"]})
    frame.to_csv(saved.folder / "new.csv", index=False)
    text = read(saved, "predict", "m", "--new", "new.csv")
    assert "for 2 rows" in text and "1 row of units that were not in the fit" in text
    d = saved("predict", "m", "--new", "new.csv", "--json").json
    assert d["new_units"] == 1 and d["rows"][0]["se"] < d["rows"][1]["se"]
    frame.assign(pruning="brutal").to_csv(saved.folder / "new.csv", index=False)
    done = saved("predict", "m", "--new", "new.csv")
    assert done.code == 3 and "'brutal' is no level of 'pruning'" in done.err


@pytest.mark.slow
def test_residual_structures_are_told_in_words(orchard, harvest):
    sentence = "yield = rain; each orchard: intercept; within tree in orchard: ar1(season); spread = soil"
    text = read(orchard, "fit", "harvest.csv", sentence, "--missing", "-999")
    for words in (
        "Residuals of one tree in orchard are correlated (ar1): rho =",
        "Residual SD, soil: loam vs clay: times",
        "those of the baseline",
    ):
        assert words in text, words
    sentence = "yield = rain; within tree in orchard: unstructured(season)"
    assert "for every pair of occasions; SDs: 1 " in read(orchard, "fit", "harvest.csv", sentence, "--missing", "-999")


def test_a_boundary_offers_the_sentence_without_what_vanished(orchard):
    rows = [f"u{i // 6},{(i * 5) % 7},{(i * 11) % 13}.5" for i in range(60)]
    (orchard.folder / "t.csv").write_text("unit,x,y\n" + "\n".join(rows))
    d = orchard("fit", "t.csv", "y = x; each unit (diagonal): intercept + x", "--json").json
    assert d["convergence"] == d["convergence"] | {"converged": True, "boundary": True, "boundary_terms": ["unit"]}
    note = next(n for n in d["notes"] if "estimated as zero" in n)
    assert "fact of the data, not a failure" in note and "Try: y = x" in note
    text = read(orchard, "fit", "t.csv", "y = x; each unit (diagonal): intercept + x")
    assert "on the boundary: see above" in text


def test_a_perfect_correlation_offers_two_ways_out(orchard):
    import numpy as np

    r = np.random.default_rng(5)
    code = np.repeat(np.arange(12), 6)
    x, u = r.normal(size=72), r.normal(size=12)
    frame = pd.DataFrame(
        {
            "unit": [f"u{c}" for c in code],
            "x": x,
            "y": (2 * u[code] + 1.5 * u[code] * x + 0.6 * r.normal(size=72)).round(4),
        }
    )
    frame.to_csv(orchard.folder / "t.csv", index=False)
    d = orchard("fit", "t.csv", "y = x; each unit: intercept + x", "--json").json
    if d["convergence"]["boundary"]:
        note = next(n for n in d["notes"] if "perfectly correlated (+1)" in n)
        assert "each unit: intercept" in note and "each unit (diagonal): intercept + x" in note
        assert abs(d["random"][0]["correlation"][0][1]) == pytest.approx(1, abs=1e-6)
    else:
        assert d["random"][0]["correlation"][0][1] > 0.95


def test_where_and_fill_mean_are_kept_with_a_saved_fit(orchard, harvest):
    done = orchard(
        "fit",
        "harvest.csv",
        "yield = rain; each orchard: intercept",
        "--missing",
        "-999",
        "--where",
        "season > 2 and soil != clay",
        "--save",
        "w",
        "--json",
    )
    assert done.json["rows"]["used"] < 640 and done.json["rows"]["read"] == 1440
    d = orchard("predict", "w", "--json").json
    assert (
        len(d["rows"]) == 640
        and {r["soil"] for r in d["rows"]} == {"loam", "sand"}
        and min(r["season"] for r in d["rows"]) == 3
    )


def test_what_is_left_of_a_long_sentence_stands_further_in():
    out = io.StringIO()
    sentence = "yield = intercept; " + "; ".join(f"each unit{i} in orchard: intercept" for i in range(4))
    print_page(Page().text(f"Sentences to start from:\n    {sentence}"), out)
    _, first, *rest = out.getvalue().rstrip("\n").split("\n")
    assert first.startswith("    yield") and rest and all(line.startswith("      ") for line in rest)
    assert " ".join(" ".join([first, *rest]).split()) == sentence


def test_names_stand_as_they_were_given(saved):
    """Square brackets and colons in a name are no styles and no pictures."""
    for name in ("[red]late", ":apple:"):
        read(saved, "fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", name)
    page = saved("table", "[red]late", ":apple:").out.splitlines()
    assert any("[red]late" in line and ":apple:" in line for line in page), page


@pytest.mark.parametrize("width", [60, 80, 100, 120])
def test_what_is_too_wide_stands_in_blocks_under_whole_names(width, monkeypatch):
    """Every label stands in every block, every figure once, and no line is wider than the page."""
    monkeypatch.setenv("COLUMNS", str(width))
    rows = [(f"label number {r} of ten", *(f"{r}{c}.123 (0.456)" for c in range(9))) for r in range(10)]
    out = io.StringIO()
    print_page(Page().table("Heading", ("", *(f"fit{c}" for c in range(9))), rows, whole_names=True), out)
    lines = out.getvalue().splitlines()
    assert max(map(len, lines)) <= width
    blocks = out.getvalue().count("label number 3 of ten")
    assert blocks > 1 and sum(line.startswith("label number 3 of ten") for line in lines) == blocks
    for r in range(10):
        assert [out.getvalue().count(f" {r}{c}.123 (0.456)") for c in range(9)] == [1] * 9
    assert next(line.split() for line in lines if "fit" in line)[0] == "fit0"
