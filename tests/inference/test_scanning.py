"""One sentence, many outcomes: every figure is that of the single fit, failures are told, and a scan goes on where it was stopped."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference import scanning
from bold_orchard.inference.fit import fit
from bold_orchard.inference.scanning import adjusted
from builders import inspections, trial

SENTENCE = "outcome = rain + soil; each tree: intercept"


@pytest.fixture(scope="module")
def wide():
    frame, r = trial(trees=30), np.random.default_rng(4)
    for k in range(6):
        frame[f"aroma_{k}"] = r.normal(size=len(frame)) + 0.3 * k * frame["rain"]
    frame.loc[frame.index[::7], "aroma_3"] = np.nan
    frame["aroma_text"], frame["aroma_flat"] = "sweet", 1.0
    return frame


def test_every_figure_is_that_of_the_single_fit(wide):
    d = bo.scan(SENTENCE, wide, ["aroma_[0-9]", "yield"]).to_dict()
    assert d["outcomes"] == 7 and d["failed"] == 0
    for name in [*(f"aroma_{k}" for k in range(6)), "yield"]:
        one = bo.fit(SENTENCE.replace("outcome", name), wide).result
        rows = [r for r in d["rows"] if r["outcome"] == name]
        for row, own in zip(rows, one.fixed, strict=True):
            assert row["term"] == own.term
            for key in ("estimate", "se", "df", "statistic", "p"):
                assert row[key] == pytest.approx(getattr(own, key), rel=1e-8, abs=1e-300)
            assert row["rows"] == one.rows.used
        sds = [(c["group"], c["sd"]) for c in d["components"] if c["outcome"] == name]
        assert sds == [
            ("tree", pytest.approx(one.random[0].sd[0], rel=1e-8)),
            ("residual", pytest.approx(one.residual.sd, rel=1e-8)),
        ]


def test_a_failure_stops_nothing_and_says_why(wide):
    d = bo.scan(SENTENCE, wide, "aroma_*").to_dict()
    failed = {r["outcome"]: r["why"] for r in d["rows"] if r["term"] is None}
    assert d["outcomes"] == 8 and d["failed"] == 2 and set(failed) == {"aroma_text", "aroma_flat"}
    assert "is text" in failed["aroma_text"] and len({r["outcome"] for r in d["rows"]}) == 8


def test_p_values_are_adjusted_over_outcomes_term_by_term(wide):
    rows = bo.scan(SENTENCE, wide, "aroma_[0-9]").to_dict()["rows"]
    own = [r for r in rows if r["term"] == "rain"]
    p = np.array([r["p"] for r in own])
    assert [r["p_adjusted"] for r in own] == pytest.approx(adjusted(p, "bh"))
    order = np.argsort(p)
    by_hand = [min(1.0, *(p[order[j]] * len(p) / (j + 1) for j in range(i, len(p)))) for i in range(len(p))]
    assert adjusted(p, "bh")[order] == pytest.approx(by_hand)
    assert (adjusted(p, "holm") >= adjusted(p, "bh") - 1e-15).all() and adjusted(p, "none") is p


def test_one_fit_for_each_level(wide):
    d = bo.scan("yield = rain; each tree: intercept", wide, by="orchard", only="rain").to_dict()
    assert d["by"] == "orchard" and {r["term"] for r in d["rows"]} <= {"rain", None}
    for row in d["rows"]:
        part = wide[wide["orchard"].astype(str) == row["outcome"]]
        one = bo.fit("yield = rain; each tree: intercept", part, force=False).result if row["term"] else None
        assert one is None or row["estimate"] == pytest.approx(one.fixed[1].estimate, rel=1e-8)


def test_other_families_and_functions_of_the_outcome():
    frame = inspections()
    frame["mites"] = frame["aphids"] + 1
    d = bo.scan("outcome = spray; each orchard: intercept", frame, ["aphids", "mites"], family="poisson").to_dict()
    one = bo.fit("mites = spray; each orchard: intercept", frame, family="poisson").result
    assert [r["estimate"] for r in d["rows"] if r["outcome"] == "mites"] == pytest.approx(
        [r.estimate for r in one.fixed], rel=1e-8
    )
    logged = bo.scan("log(outcome) = spray; each orchard: intercept", frame, "mites").to_dict()["rows"]
    assert logged[1]["estimate"] == pytest.approx(
        bo.fit("log(mites) = spray; each orchard: intercept", frame).result.fixed[1].estimate
    )


@pytest.mark.parametrize(("words", "given", "said"), [
    (SENTENCE, {"outcomes": "aromas_*"}, "in --outcomes"), ("yield = rain", {"outcomes": "aroma_*"}, "has the word outcome"),
    (SENTENCE, {}, "give one of them"), (SENTENCE, {"outcomes": "rain"}, "uses otherwise"), ("yield = rain", {"by": "farm"}, "in --by"),
    (SENTENCE, {"outcomes": "aroma_1", "only": "sun"}, "no term 'sun'"), (SENTENCE, {"outcomes": "aroma_1", "correction": "sidak"}, "bh, holm, none"),
])  # fmt: skip
def test_what_cannot_be_scanned(wide, words, given, said):
    with pytest.raises(UsageError, match=said.replace("(", r"\(")):
        bo.scan(words, wide, **given)


def test_a_scan_goes_on_where_it_was_stopped(wide, tmp_path):
    into = tmp_path / "scan.jsonl"
    whole = bo.scan(SENTENCE, wide, "aroma_[0-9]", into=str(into)).to_dict()
    lines = into.read_text().splitlines(keepends=True)
    marked = json.loads(lines[2])
    marked["rows"][0]["estimate"] = 123.0  # a kept fit is taken, not made again
    into.write_text("".join([lines[0], lines[1], json.dumps(marked) + "\n", lines[3][:40]]))  # and the last was cut off
    again = bo.scan(SENTENCE, wide, "aroma_[0-9]", into=str(into)).to_dict()
    taken = [r["estimate"] for r in again["rows"] if r["outcome"] == marked["outcome"]]
    assert taken[0] == 123.0
    others = [r for r in again["rows"] if r["outcome"] != marked["outcome"]]
    assert [r["estimate"] for r in others] == [
        r["estimate"] for r in whole["rows"] if r["outcome"] != marked["outcome"]
    ]
    with pytest.raises(OrchardError, match="holds another scan"):
        bo.scan("outcome = rain; each tree: intercept", wide, "aroma_[0-9]", into=str(into))


def test_the_command(quick, wide):
    wide.to_csv(quick.folder / "w.csv", index=False)
    done = quick(
        "scan", "w.csv", SENTENCE, "--outcomes", "aroma_*", "--csv", "r.csv", "--to", "r.parquet", "--figure", "r.png"
    )
    assert done.code == 0 and "2 could not be fitted" in done.out and "aroma_5" in done.out
    rows = pd.read_csv(quick.folder / "r.csv")
    assert len(rows) == 6 * 4 + 2 and pd.read_parquet(quick.folder / "r.parquet")["outcome"].nunique() == 8
    assert quick("scan", "w.csv", SENTENCE).code == 2


@pytest.fixture(scope="module")
def many():
    """Outcomes that differ in how much trees differ, some not at all; of a few some rows are missing; one is far from zero, one a copy of a predictor."""
    frame, r = trial(trees=24), np.random.default_rng(8)
    tree = frame["tree"].astype("category").cat.codes.to_numpy()
    n, trees = len(frame), tree.max() + 1
    for k in range(40):
        frame[f"gene_{k}"] = r.normal(size=n) + 0.1 * (k % 12) * r.normal(size=trees)[tree] + 0.2 * frame["rain"]
    frame["gene_far"] = 1e6 + r.normal(size=n) + r.normal(size=trees)[tree]
    frame["gene_copy"] = 2.0 * frame["rain"] + 1.0
    frame["gene_two"] = r.integers(0, 2, n).astype(float)
    for k in range(10):
        frame.loc[frame.index[::5], f"gene_{k}"] = np.nan
    return frame.assign(weight=1.0 + np.arange(n) % 3)


@pytest.mark.few(1)
@pytest.mark.parametrize("options", [{}, {"method": "ml"}, {"df": "residual"}, {"df": "normal"}, {"weights": "weight"}])
@pytest.mark.parametrize(
    "sentence",
    [SENTENCE, "outcome = rain * soil; each tree: rain", "outcome = rain without intercept; each tree: intercept"],
)
def test_outcomes_searched_together_are_those_of_single_fits(many, monkeypatch, sentence, options):
    monkeypatch.setattr(scanning, "FEW", 4)
    together = bo.scan(sentence, many, "gene_*", **options).to_dict()
    monkeypatch.setattr(scanning, "FEW", 10**9)
    alone = bo.scan(sentence, many, "gene_*", **options).to_dict()
    assert together["failed"] == alone["failed"] in (1, 2)
    for one, two in zip(together["rows"], alone["rows"], strict=True):
        assert [one[k] for k in ("outcome", "term", "converged", "boundary", "rows", "why")] == [two[k] for k in ("outcome", "term", "converged", "boundary", "rows", "why")]  # fmt: skip
        for key in ("estimate", "se", "df", "statistic", "p", "p_adjusted"):
            assert one[key] == (two[key] if two[key] is None else pytest.approx(two[key], rel=3e-7, abs=1e-300)), (
                one,
                two,
            )
    for one, two in zip(together["components"], alone["components"], strict=True):
        assert one | {"sd": 0} == two | {"sd": 0} and one["sd"] == pytest.approx(two["sd"], rel=1e-7, abs=1e-9)


def test_most_outcomes_need_no_fit_of_their_own(many, monkeypatch):
    fitted = []
    monkeypatch.setattr(scanning, "fit", lambda *a: fitted.append(a[3]) or fit(*a))
    monkeypatch.setattr(scanning, "all_of", lambda task, n, report: [task(i) for i in range(n)])
    bo.scan(SENTENCE, many, "gene_*")
    assert len(fitted) <= 10 and {"gene_copy", "gene_two"} <= set(fitted)
