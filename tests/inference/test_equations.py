"""A model written out: every coefficient and effect stands once in the levels and once in the whole, and all is explained."""

from __future__ import annotations

import re
from xml.etree import ElementTree

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.notation.equations import equations
from bold_orchard.reporting.formats.mathml import mathml
from bold_orchard.reporting.formats.omml import omml

GREEK = r"\\(?:pi|kappa|lambda|omega|psi|mu|sigma|delta|varepsilon|theta|phi|nu|rho|tau)_\{[\w']+\}"
BETA = r"\\beta_\{\d+\}"
EFFECT = r"(?<![a-z\\])[uvw]_\{[0-9]*[j-n]+\}"


def diary():
    r = np.random.default_rng(0)
    n = 240
    f = pd.DataFrame({
        "orchard": np.repeat(np.arange(12), 20), "tree": np.tile(np.repeat(np.arange(4), 5), 12), "visit": np.tile(np.arange(5), 48),
        "season": r.integers(0, 5, n), "rain_mm & <50%": r.normal(size=n), "dew": r.normal(size=n), "area": r.uniform(1, 2, n),
    })  # fmt: skip
    f["soil"] = np.where(f.orchard % 2, "clay", "sand")
    f["girth"] = (
        5 + f.dew + r.normal(size=12)[f.orchard] + 0.5 * r.normal(size=12)[f.orchard] * f.dew + r.normal(size=n)
    )
    f["moths"], f["of"] = r.poisson(np.exp(1 + 0.3 * f.dew)) * (r.random(n) < 0.8), 9
    f["ripe"], f["grade"] = r.binomial(9, 0.4, n), r.integers(0, 3, n)
    return f


CASES = [
    ("girth = dew + [rain_mm & <50%] + dew*soil + soil; each orchard: intercept + dew; each tree in orchard: intercept", None),
    ("girth = dew; each orchard: intercept + dew; each season: intercept", None),
    ("girth = power(dew, 2); each orchard (diagonal): intercept + power(dew, 2); within orchard: exchangeable; spread = soil", None),
    ("girth = visit; each tree in orchard: intercept; within tree in orchard: ar1(visit)", None),
    ("girth = intercept; within tree in orchard: unstructured(visit)", None),
    ("girth = dew without intercept; each orchard (identity): intercept + dew", None),
    ("girth = cross(dew, soil); each orchard: dew", None),
    ("ripe of of = dew; each orchard: intercept", None),
    ("grade = dew; each orchard: intercept", "ordinal"),
    ("moths = dew + offset(log(area)); each orchard: intercept + dew", "negative-binomial"),
    ("moths = dew; each orchard: intercept", "hurdle-poisson"),
    ("girth = dew; each orchard: intercept", "student"),
]  # fmt: skip


def fitted(sentence, family=None):
    frame = diary()
    return fit(sentence, Table(frame, "t", len(frame)), Settings(options=Options(family=family)))


@pytest.mark.few(6)
@pytest.mark.parametrize(("sentence", "family"), CASES)
def test_everything_stands_once_and_is_explained(sentence, family):
    made = fitted(sentence, family)
    d = equations(made)
    levels = " ".join(part.latex for part in d.levels)
    whole = d.combined.latex
    estimated = [r for r in made.result["fixed"] if not r["term"].startswith("threshold")]
    assert sorted(re.findall(BETA, whole)) == sorted(re.findall(BETA, levels)) and len(
        set(re.findall(BETA, whole))
    ) == len(estimated)
    laws = " ".join(re.findall(r"(?:\\begin\{pmatrix\}.*?\\end\{pmatrix\}|[uvw]_\{\w+\}) (?:& )?\\sim", levels))
    once = re.findall(EFFECT, levels)
    for effect in re.findall(EFFECT, whole):
        assert once.count(effect) - re.findall(EFFECT, laws).count(effect) <= 1 and effect in once
    assert len(re.findall(EFFECT, whole)) == sum(len(p["terms"]) for p in made.result["random"])
    explained = {w.latex for w in d.where} | {w.latex.removesuffix("^{2}") for w in d.where}
    for symbol in [
        *re.findall(BETA, whole),
        *re.findall(EFFECT, whole),
        *re.findall(GREEK, levels + whole),
    ]:
        assert symbol in explained
    for formula in [*(part.latex for part in d.levels), whole, *explained]:
        ElementTree.fromstring(mathml(formula))
        ElementTree.fromstring(omml(formula))
    assert d.levels[0].level == "rows" and not re.search(r"[\\{}]", " ".join(p.text for p in d.levels))


def test_what_is_constant_in_a_unit_stands_at_its_level():
    rows, tree, orchard = equations(fitted(CASES[0][0])).levels
    assert "soil" not in rows.text and "rain_mm & <50%ᵢⱼₖ" in rows.text
    assert tree.text.startswith("π₀ⱼₖ = κ₀ₖ + vⱼₖ")
    assert "π₁ₖ = β₁ + β₃ [soil = sand]ₖ + u₁ₖ" in orchard.text and "κ₀ₖ = β₀ + β₄ [soil = sand]ₖ + u₀ₖ" in orchard.text


def test_estimates_are_the_fit_s_and_add_up_to_its_line():
    made = fitted("girth = dew; each orchard: intercept + dew")
    d = equations(made, estimates=True, digits=8)
    b = {r["term"]: r["estimate"] for r in made.result["fixed"]}
    text = d.combined.text.replace(" - ", " + -").split("=")[1]
    numbers = [float(v) for v in re.findall(r"-?\d+\.\d+", text)]
    assert numbers == pytest.approx([b["intercept"], b["dew"]], rel=1e-7)
    g = made.result["random"][0]["covariance"]
    inside = [float(v) for v in re.findall(r"-?\d+\.\d+", d.levels[1].text.split("𝒩")[1])]
    assert inside == pytest.approx([g[0][0], g[0][1], g[1][0], g[1][1]], rel=1e-7)


@pytest.mark.slow
def test_the_law_of_each_family_and_residual_is_written():
    texts = {s: " ".join(p.text for p in equations(fitted(s, f)).levels) for s, f in CASES}
    for at, words in ((2, "σᵢⱼ σᵢ′ⱼ ρ"), (3, "ρ^(|visitᵢⱼ - visitᵢ′ⱼ|)"), (4, "Σₜₜ′"), (5, "(σᵤ², 0; 0, σᵤ²)"), (7, "Binomial(ofᵢⱼ, μᵢⱼ)"),
                      (8, "logit Pr(gradeᵢⱼ ≤ g) = τ_g - "), (9, "log μᵢⱼ"), (10, "above zero"), (11, "t_ν(μᵢⱼ, φ)")):  # fmt: skip
        assert words in texts[CASES[at][0]], texts[CASES[at][0]]


def test_the_command_writes_every_format(quick, harvest):
    quick("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "m")
    made = quick("equations", "m", "--json", *(v for e in ("html", "tex", "md", "docx") for v in ("--to", f"e.{e}")))
    assert made.json["schema"] == "bold-orchard/equations/1" and set(made.json["levels"][0]) == {
        "level",
        "latex",
        "text",
    }
    assert (
        "<math" in (quick.folder / "e.html").read_text()
        and made.json["combined"]["latex"] in (quick.folder / "e.tex").read_text()
    )
    page = quick("equations", "m", "--estimates").out
    assert "estimated as" in page and "β₀" in page and quick("equations", "nobody").code == 3
