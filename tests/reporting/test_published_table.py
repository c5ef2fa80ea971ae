"""The publication table: the same figures as the fits, in the pattern, order and words asked for."""

from __future__ import annotations

import csv
import math

import pytest

FITS = {
    "empty": "yield = intercept; each orchard: intercept",
    "slopes": "yield = centre(rain) + pruning; each orchard: intercept + centre(rain)",
}


@pytest.fixture
def study(quick, harvest):
    for name, sentence in FITS.items():
        assert (
            quick(
                "fit", "harvest.csv", sentence, "--missing", "-999", "--baseline", "pruning=none", "--save", name
            ).code
            == 0
        )
    (quick.folder / "labels.toml").write_text(
        'rain = "Rain [mm] & <50%_x"\n"pruning[hard]" = "Hard pruning"\norchard = "Orchard"\n'
    )
    return quick


def rows_of(document, block):
    return {r["label"]: r["cells"] for r in document["rows"] if r["block"] == block}


def test_the_cells_are_the_fits_figures(study):
    d = study("table", "empty", "slopes", "--headings", "Empty,Slopes", "--json", "--digits", "6").json
    assert d["columns"] == ["Empty", "Slopes"]
    own = {r["label"]: r for r in study("show", "slopes", "--json").json["fixed"]}
    for label, cells in rows_of(d, "average effects").items():
        assert cells[1] == f"{own[label]['estimate']:.6g} ({own[label]['se']:.6g})" or float(
            cells[1].split()[0]
        ) == pytest.approx(own[label]["estimate"], rel=1e-5)
        assert (cells[0] == "") == (label != "intercept")
    fits = rows_of(d, "fit")
    parts = study("components", "slopes", "--json").json
    assert (
        fits["ICC (orchard)"][1] == f"{parts['icc'][0]['value']:.3f}"
        and fits["R² conditional"][1] == f"{parts['r2']['conditional']:.3f}"
    )
    assert fits["rows"][0] == fits["rows"][1] and float(fits["AIC"][1].replace(",", "")) == pytest.approx(
        study("show", "slopes", "--json").json["fit"]["aic"], abs=0.01
    )
    sd = rows_of(d, "variation")["SD of the residual"][1]
    residual = next(c for c in parts["components"] if c["kind"] == "residual")
    low, high = (math.sqrt(e) for e in residual["ci"])
    assert [float(v) for v in sd.replace("[", "").replace("]", "").replace(",", "").split()] == pytest.approx(
        [residual["sd"], low, high], rel=1e-3
    )


def test_patterns_labels_order_and_dropped_terms(study):
    options = (
        "--cells",
        r"estimate\n[interval] p",
        "--labels",
        "labels.toml",
        "--drop",
        "intercept",
        "--order",
        "pruning[light]",
        "--caption",
        "A & B",
    )
    made = study(
        "table", "slopes", *options, "--json", "--csv", "t.csv", "--to", "t.html", "--to", "t.tex", "--to", "t.md"
    )
    effects = rows_of(made.json, "average effects")
    assert list(effects) == ["pruning: light vs none", "centre(Rain [mm] & <50%_x)", "Hard pruning"]
    assert effects["Hard pruning"][0].count("\n") == 1 and "< 0.001" in effects["Hard pruning"][0]
    assert "SD of intercept (Orchard)" in rows_of(made.json, "variation") and made.json["caption"] == "A & B"
    written = {(r["block"], r["label"]): r["slopes"] for r in csv.DictReader((study.folder / "t.csv").open())}
    assert written["average effects", "Hard pruning"] == effects["Hard pruning"][0]
    html = (study.folder / "t.html").read_text()
    assert "Rain [mm] &amp; &lt;50%_x" in html and "<caption>A &amp; B</caption>" in html
    assert r"Rain [mm] \& \textless{}50\%\_x" in (study.folder / "t.tex").read_text()


def test_families_side_by_side_with_ratios_say_what_each_column_is(study):
    frame_options = (
        "harvest.csv",
        "yield = rain; each orchard: intercept",
        "--missing",
        "-999",
        "--family",
        "gamma",
        "--save",
        "g",
    )
    assert study("fit", *frame_options).code == 0
    d = study("table", "slopes", "g", "--cells", "ratio", "--drop", "intercept", "--json").json
    slope = next(r for r in study("show", "g", "--json").json["fixed"] if r["term"] == "rain")
    assert float(rows_of(d, "average effects")["rain"][1]) == pytest.approx(math.exp(slope["estimate"]), rel=1e-3)
    assert any(n.startswith("g: ") and "exp(estimate)" in n for n in d["footnotes"]) and any(
        "gamma" in n for n in d["footnotes"]
    )


@pytest.mark.parametrize(("options", "words"), [
    (("--label", "rian=Rain"), "did you mean 'rain'"), (("--label", "rain"), "NAME=label"), (("--cells", "none"), "estimate, se"),
    (("--headings", "a,b"), "2 names for 1 fits"), (("--drop", "dew"), "(in --drop)"), (("--labels", "no.toml"), "cannot be read"),
    (("--labels", "harvest.csv"), "not TOML"), (("--figure", "x.png"), "has no picture"),
])  # fmt: skip
def test_what_cannot_be_set_is_refused_in_a_line(study, options, words):
    done = study("table", "slopes", *options)
    assert done.code in (2, 3) and words in done.err and len(done.err.splitlines()) == 1 and done.out == ""


def test_outcomes_and_parts_stand_in_blocks_of_their_own(study):
    """A fit of one outcome stands beside those that have it among several; ICC and residuals are those of the
    outcome."""
    for name, sentence in (("both", "yield, rain = pruning + yield: soil; each orchard: intercept"),
                           ("alone", "yield = pruning + soil; each orchard: intercept")):  # fmt: skip
        assert study("fit", "harvest.csv", sentence, "--missing", "-999", "--save", name, "--force").code == 0
    d = study("table", "both", "alone", "--json", "--to", "t.html", "--to", "t.tex").json
    blocks = list(dict.fromkeys(r["block"] for r in d["rows"]))
    assert blocks == ["average effects: yield", "average effects: rain", "variation", "fit"]
    mine, other = (rows_of(d, b) for b in blocks[:2])
    assert all(len(cells[0]) and len(cells[1]) for cells in mine.values()) and "soil: sand vs clay" in mine
    assert all(cells[0] and not cells[1] for cells in other.values()) and "soil: sand vs clay" not in other
    variation, fit = rows_of(d, "variation"), rows_of(d, "fit")
    assert "SD of the residual" not in variation and all(variation["SD of yield (residual)"])
    assert all(variation["SD of yield: intercept (orchard)"])
    icc = {c["outcome"]: c["value"] for c in study("components", "both", "--json").json["icc"]}
    assert float(fit["ICC of yield (orchard)"][0]) == pytest.approx(icc["yield"], abs=6e-4)
    assert float(fit["ICC of rain (orchard)"][0]) == pytest.approx(icc["rain"], abs=6e-4)
    assert fit["ICC of rain (orchard)"][1] == "" and "verage effects: rain" in (study.folder / "t.html").read_text()
    options = ("--drop", "intercept", "--drop", "rain: pruning[light]", "--label", "yield: pruning[light]=Light")
    less = study("table", "both", *options, "--json").json
    kept = [(r["block"], r["label"]) for r in less["rows"] if r["block"].startswith("average")]
    assert ("average effects: yield", "Light") in kept and not any(label == "intercept" for _, label in kept)
    assert [b for b, label in kept if "light" in label.lower()] == ["average effects: yield"]
