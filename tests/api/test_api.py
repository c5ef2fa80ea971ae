"""The same tool from Python: any table in, frames, pages and pictures out, the command line's sentences for what is wrong."""

from __future__ import annotations

import doctest
import importlib.util
import json
import re
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard import api
from conftest import DATA

MODEL = "yield = centre(rain) + pruning; each orchard: intercept"
CODES = {"missing": ["-999"], "baseline": {"pruning": "none"}}


@pytest.fixture(scope="module")
def frame():
    return pd.read_csv(DATA / "harvest.csv", keep_default_na=False, na_values=[""])


@pytest.fixture(scope="module")
def made(frame):
    return bo.fit(MODEL, frame, **CODES)


def test_a_frame_and_the_command_line_give_one_document(made, orchard, harvest):
    d = orchard("fit", "harvest.csv", MODEL, "--missing", "-999", "--baseline", "pruning=none", "--json").json
    assert json.loads(json.dumps(made.to_dict())) == d
    assert made.coefficients["estimate"].tolist() == [r["estimate"] for r in d["fixed"]]
    assert made.coefficients["low"].tolist() == [r["ci"][0] for r in d["fixed"]]


@pytest.mark.slow
def test_every_question_has_the_command_lines_document(made, orchard, harvest):
    orchard("fit", "harvest.csv", MODEL, "--missing", "-999", "--baseline", "pruning=none", "--save", "fit")
    asked = {
        ("means", "fit", "pruning", "--hold", "rain=40,80"): made.means("pruning", hold={"rain": [40, 80]}),
        ("terms", "fit", "--contrast", "hard - light"): made.terms(contrast="hard - light"),
        ("components", "fit"): made.components(),
        ("groups", "fit"): made.groups(),
        ("check", "fit", "--time", "season"): made.check(time="season"),
        ("intervals", "fit", "--method", "wald"): made.intervals("wald"),
        ("predict", "fit"): made.predict(),
        ("scout", "harvest.csv", "--missing", "-999"): bo.scout(harvest, missing="-999"),
    }
    for command, answer in asked.items():
        told = orchard(*command, "--json").json
        mine = json.loads(json.dumps(answer.to_dict()))
        assert set(told) == set(mine), command
        for key, value in told.items():
            if isinstance(value, (str, list)) and key not in ("notes", "parameters"):
                assert str(mine[key])[:2000] == str(value)[:2000], (command, key)
        assert str(answer).splitlines()[0] == orchard(*command).out.splitlines()[0]
        assert len(answer.to_frame()) and "<table>" in answer._repr_html_()


def forms(frame):
    yield {c: frame[c].tolist() for c in frame}
    if importlib.util.find_spec("pyarrow"):
        import pyarrow

        yield pyarrow.Table.from_pandas(frame)

    class Relation:
        def df(self):
            return frame

    yield Relation()


def test_tables_in_any_form_are_one_table(made, frame, tmp_path):
    for data in forms(frame):
        assert bo.fit(MODEL, data, **CODES).loglik == made.loglik
    frame.to_csv(tmp_path / "h.csv", index=False)
    for path in (tmp_path / "h.csv", str(tmp_path / "h.csv")):
        assert bo.fit(MODEL, path, **CODES).loglik == made.loglik
    before = frame.copy()
    bo.fit(MODEL, frame, **CODES)
    pd.testing.assert_frame_equal(frame, before)  # the user's frame is left as it is
    dated = frame.assign(day=pd.to_datetime("2024-05-01") + pd.to_timedelta(frame["season"] * 30, unit="D"))
    days = bo.fit("yield = rain; within tree in orchard: ar1(day)", dated, missing="-999")
    assert days.converged and any("days since 2024-05-31" in t["meaning"] for t in days.result["transformations"])


def test_wrong_values_raise_the_sentence_of_the_command_line(made, frame):
    for wrong, error, words in (
        (lambda: bo.fit("yield = rian", frame), bo.OrchardError, "did you mean 'rain'"),
        (lambda: bo.fit(MODEL, 5), bo.OrchardError, "int is no table"),
        (lambda: bo.fit(MODEL, {"a": [1], "b": [1, 2]}), bo.OrchardError, "do not make a table"),
        (lambda: bo.fit(MODEL, frame, df="half"), bo.UsageError, "df is one of"),
        (lambda: bo.fit(MODEL, frame, method="mll"), bo.UsageError, "reml or ml"),
        (lambda: bo.fit(MODEL, frame, confidence=95), bo.UsageError, "between 0 and 1"),
        (lambda: bo.fit(MODEL, frame, points=0), bo.UsageError, "whole number from 1"),
        (lambda: made.means("prunning"), bo.OrchardError, "did you mean 'pruning'"),
        (lambda: made.means("pruning", correction="turkey"), bo.UsageError, "the correction is one of"),
        (lambda: made.means("pruning").to_frame("pears"), bo.UsageError, "no table 'pears'"),
        (lambda: made.means("pruning").save("a.doc"), bo.UsageError, ".html"),
        (lambda: made.terms(4), bo.UsageError, "1, 2 or 3"),
        (lambda: made.check(kind="time").figure(), bo.UsageError, "--time"),
        (lambda: made.compare(made), bo.OrchardError, "same model"),
        (lambda: bo.open_fit("nowhere"), bo.OrchardError, "no saved fit"),
    ):  # fmt: skip
        if words == "same model":
            assert any("same model in other words" in n for n in wrong().notes)
            continue
        with pytest.raises(error, match=re.escape(words)):
            wrong()


def test_answers_are_saved_in_the_form_of_their_ending(made, tmp_path):
    answer = made.means("pruning")
    for ending in ("txt", "json", "csv", "html", "md", "png", "svg"):
        assert answer.save(str(tmp_path / f"a.{ending}")).stat().st_size > 100
    html = (tmp_path / "a.html").read_text()
    assert "http" not in html and '<th scope="col"' in html and "45.35" in html
    assert pd.read_csv(tmp_path / "a.csv")["mean"].tolist() == pytest.approx([m["mean"] for m in answer.means])
    assert json.loads((tmp_path / "a.json").read_text())["schema"] == "bold-orchard/means/1"


def test_markup_takes_odd_names_literally():
    from bold_orchard.reporting.formats.html import fragment as html_fragment
    from bold_orchard.reporting.formats.markdown import document as markdown
    from bold_orchard.reporting.page import Page

    page = (
        Page()
        .title("rain [mm] & <50%_x")
        .table("a|b", ("<x>", "y*z"), [("<script>", "1|2")])
        .notes(["**bold**"])
        .warning("a < b")
    )
    assert "<script>" not in html_fragment(page) and "&lt;script&gt;" in html_fragment(page)
    assert (
        "rain \\[mm\\] & \\<50%\\_x" in markdown(page) and "1\\|2" in markdown(page) and "\\*\\*bold" in markdown(page)
    )


def test_a_fit_of_a_frame_is_kept_and_taken_up_again(made, tmp_path, monkeypatch, quick):
    monkeypatch.chdir(tmp_path)
    made.save("kept")
    again = bo.open_fit("kept")
    assert again.loglik == pytest.approx(made.loglik, rel=1e-12)
    np.testing.assert_allclose(again.means("pruning").to_frame()["mean"], made.means("pruning").to_frame()["mean"])
    assert quick("components", "kept").code == 0
    d = bo.compare("kept", bo.fit(f"{MODEL} + centre(rain)", again.rows, **CODES)).to_dict()
    assert [m["name"] for m in d["models"]] == ["kept", "fit"]


@pytest.mark.slow
def test_the_documents_examples_run(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "harvest.csv").write_bytes((DATA / "harvest.csv").read_bytes())
    for place in ("docs/python.md", "README.md"):
        text = (Path(__file__).parent.parent.parent / place).read_text()
        blocks = re.findall(r"```python\n(.*?)```", text, re.S)
        assert blocks, place
        exec("\n".join(blocks), {})
    assert (tmp_path / "check.png").exists() and (tmp_path / "slopes.html").exists()
    assert doctest.testmod(api).failed == 0
