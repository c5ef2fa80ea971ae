"""Plan files: the study again, the same bytes, only what changed, and one line for what cannot be meant."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time

import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.cli.main import COMMANDS, parser_of
from bold_orchard.cli.run import all_keys

PLAN = """title = "Rain & harvest"

[data]
file = "harvest.csv"
missing = ["-999"]

[fits.empty]
sentence = "yield = intercept; each orchard: intercept"

[fits.rain]
sentence = "yield = rain + pruning; each orchard: intercept"
baseline = ["pruning=none"]

[[steps]]
command = "compare"
fits = ["empty", "rain"]
figure = "pictures/compare.svg"

[[steps]]
command = "means"
fit = "rain"
term = "pruning"
differences = true
hold = ["rain=40,80"]

[[steps]]
command = "table"
fits = ["empty", "rain"]
headings = ["Empty", "Rain"]
to = ["table.html", "table.docx"]
"""


@pytest.fixture
def study(quick, harvest):
    pytest.importorskip("docx")
    (quick.folder / "plan.toml").write_text(PLAN)
    return quick


def contents(folder):
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def states(run):
    return {s["step"]: s["state"] for s in run.json["steps"]}


@pytest.mark.slow
def test_two_runs_give_the_same_bytes_and_the_second_keeps_everything(study):
    first = study("run", "plan.toml", "--json")
    assert first.code == 0 and set(states(first).values()) == {"done"}
    made = contents(study.folder / "plan")
    assert {
        "empty.fit.json",
        "rain.txt",
        "compare.json",
        "pictures/compare.svg",
        "table.html",
        "table.docx",
        "means-rain.txt",
    } <= set(made)
    again = study("run", "plan.toml", "--json")
    assert (
        set(states(again).values()) == {"kept"}
        and again.json["changes"] == []
        and contents(study.folder / "plan") == made
    )
    study("run", "plan.toml", "--into", "other")
    assert contents(study.folder / "other") == made
    own = study(
        "fit",
        "harvest.csv",
        "yield = rain + pruning; each orchard: intercept",
        "--missing",
        "-999",
        "--baseline",
        "pruning=none",
        "--json",
    ).json
    assert json.loads(made["rain.fit.json"])["fixed"] == own["fixed"]
    held = json.loads(made["means-rain.json"])["means"]
    assert len(held) == 6 and json.loads(made["table.json"])["columns"] == ["Empty", "Rain"]


@pytest.mark.slow
def test_a_changed_cell_is_redone_and_told(study):
    study("run", "plan.toml")
    frame = pd.read_csv(study.folder / "harvest.csv")
    frame.loc[3, "yield"] += 25
    frame.to_csv(study.folder / "corrected.csv", index=False)
    done = study("run", "plan.toml", "--data", "corrected.csv", "--json")
    assert set(states(done).values()) == {"done"} and all(
        "has changed" in s["reason"] for s in done.json["steps"] if s["command"] == "fit"
    )
    intercept = next(c for c in done.json["changes"] if (c["fit"], c["figure"]) == ("empty", "intercept"))
    assert intercept["in_se"] == pytest.approx((intercept["after"] - intercept["before"]) / 0.99, rel=0.05)
    told = (study.folder / "plan" / "changes.md").read_text()
    assert "## empty" in told and "log-likelihood" in told and "what changed" in study("run", "plan.toml").out.lower()
    assert not study("run", "plan.toml", "--json").json["changes"]


@pytest.mark.slow
def test_only_what_depends_on_a_change_is_redone(study):
    study("run", "plan.toml")
    (study.folder / "plan.toml").write_text(
        PLAN.replace("rain + pruning; each", "rain; each").replace('term = "pruning"', 'term = "pruning"')
    )
    text = PLAN.replace('"yield = intercept; each', '"yield = intercept;  each')
    (study.folder / "plan.toml").write_text(text)
    done = states(study("run", "plan.toml", "--json"))
    assert done == {"empty": "done", "rain": "kept", "compare": "done", "means-rain": "kept", "table": "done"}
    (study.folder / "plan" / "compare.txt").unlink()
    ran = study("run", "plan.toml", "--json").json["steps"]
    assert [(s["step"], s["reason"]) for s in ran if s["state"] == "done"] == [
        ("compare", "compare.txt is missing or was changed")
    ]
    (study.folder / "plan" / "rain.txt").write_text("scribble")
    look = study("run", "plan.toml", "--check", "--json").json["steps"]
    assert (
        next(s["step"] for s in look if s["state"] == "would run") == "rain"
        and (study.folder / "plan" / "rain.txt").read_text() == "scribble"
    )
    only = study("run", "plan.toml", "--only", "means-rain", "--json")
    assert list(states(only)) == ["rain", "means-rain"]


def test_a_step_that_fails_leaves_the_others_whole(study):
    (study.folder / "plan.toml").write_text(PLAN.replace("rain + pruning", "rian + pruning"))
    done = study("run", "plan.toml", "--json")
    assert done.code == 3
    assert states(done) == {
        "empty": "done",
        "rain": "failed",
        "compare": "left out",
        "means-rain": "left out",
        "table": "left out",
    }
    reasons = {s["step"]: s["reason"] for s in done.json["steps"]}
    assert "did you mean 'rain'" in reasons["rain"] and reasons["compare"] == "rain failed"
    (study.folder / "plan.toml").write_text(PLAN)
    assert states(study("run", "plan.toml", "--json"))["empty"] == "kept"


@pytest.mark.slow
def test_a_run_killed_in_the_middle_is_completed_by_the_next(study):
    words = [sys.executable, "-m", "bold_orchard", "run", "plan.toml"]
    with subprocess.Popen(words, cwd=study.folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as running:
        for _ in range(600):
            if (study.folder / "plan" / "empty.fit.json").exists():
                break
            time.sleep(0.02)
        os.kill(running.pid, signal.SIGKILL)
    assert study("run", "plan.toml").code == 0
    whole = contents(study.folder / "plan")
    study("run", "plan.toml", "--into", "fresh")
    assert whole == contents(study.folder / "fresh")


@pytest.mark.parametrize(("change", "words"), [
    (('baseline = ["pruning=none"]', 'basline = ["pruning=none"]'), "line 12: fit has no 'basline'; did you mean 'baseline'?"),
    (('fits = ["empty", "rain"]\nfigure', 'fits = ["empty", "rian"]\nfigure'), "line 16: there is no fit 'rian' in the plan; did you mean 'rain'?"),
    (('command = "compare"', 'command = "compare"\nafter = ["table"]'), "wait for each other"),
    (('command = "compare"', 'command = "compere"'), "did you mean 'compare'"),
    (('differences = true', 'differences = "yes"'), "line 23: 'differences' is true or false"),
    (('title =', 'titel ='), "line 1: a plan has no 'titel'"), (('[fits.empty]', '[fits.empty'), "not TOML"),
    (('sentence = "yield = intercept; each orchard: intercept"', 'method = "ml"'), "the fit 'empty' has no sentence"),
    (('to = ["table.html", "table.docx"]', 'to = "../table.html"'), "no file inside the folder of the run"),
    (('to = ["table.html", "table.docx"]', 'to = "/tmp/table.html"'), "no file inside the folder of the run"),
    (('to = ["table.html", "table.docx"]', 'to = ".orchard-run.json"'), "no file inside the folder of the run"),
    (('to = ["table.html", "table.docx"]', "to = 'C:\\\\x.html'"), "no file inside the folder of the run"),
    (('to = ["table.html", "table.docx"]', 'to = "empty.txt"'), "'table' would write empty.txt, which 'empty' writes"),
    (('to = ["table.html", "table.docx"]', 'to = "changes.md"'), "which the run itself writes"),
    (('command = "compare"', 'command = "compare"\nname = "../x"'), "no name of a fit or a step"),
    (('command = "compare"', 'command = "compare"\nname = ".x"'), "no name of a fit or a step"),
    (('sentence = "yield = intercept;', 'cluster = "tcp://elsewhere:1"\nsentence = "yield = intercept;'), "calls the workers at tcp://elsewhere:1"),
    (('file = "harvest.csv"\n', ''), "there is no data file"), (('to = ["table.html", "table.docx"]', 'after = ["nothing"]'), "not in the plan"),
])  # fmt: skip
def test_what_a_plan_cannot_mean_is_one_line_with_its_place(study, change, words):
    old, new = change
    text = PLAN.replace(old, new).replace(
        'command = "table"',
        'command = "table"\nafter = ["compare"]' if "after" in new and "table" in new else 'command = "table"',
    )
    (study.folder / "plan.toml").write_text(text)
    done = study("run", "plan.toml")
    assert done.code == 2 and words in done.err and len(done.err.splitlines()) == 1, done.err
    assert not (study.folder / "plan").exists()


@pytest.mark.parametrize(("change", "code", "words"), [
    (('file = "harvest.csv"', 'file = "harvst.csv"'),
     3, "line 4: 'empty': there is no file harvst.csv; did you mean harvest.csv?"),
    (('yield = rain + pruning; each', 'yield = rain + pruning: each'),
     3, "line 11: 'rain': the sentence cannot be read"),
    (('baseline =', 'family = "gama"\nbaseline ='),
     2, "line 12: 'rain': --family has no 'gama'; did you mean 'gamma'?"),
    (('differences = true', 'digits = "many"'),
     2, "line 23: 'means-rain': argument --digits: digits are a whole number"),
    (('compare.svg', 'compare.gif'), 2, "line 17: 'compare': --figure writes .png, .svg, .pdf"),
    (('differences = true', 'labels = "texts.toml"\ndifferences = true'), 2, "line 23: means has no 'labels'"),
])  # fmt: skip
def test_what_the_last_step_cannot_do_is_told_before_the_first_runs(study, change, code, words):
    (study.folder / "plan.toml").write_text(PLAN.replace(*change))
    before = contents(study.folder)
    done = study("run", "plan.toml")
    assert done.code == code and words in done.err, done.err
    assert contents(study.folder) == before


def test_an_option_among_the_places_of_a_command_is_none(study):
    text = '[data]\nfile = "harvest.csv"\nmissing = "-999"\n[fits.a]\nsentence = "yield = pruning; each orchard: intercept"\n'
    text += '[[steps]]\ncommand = "means"\nfit = "a"\nterm = ["pruning", "--csv=../out.csv"]\n'
    (study.folder / "plan.toml").write_text(text)
    assert study("run", "plan.toml").code == 2
    assert not (study.folder / "out.csv").exists() and not (study.folder / "plan" / "means-a.txt").exists()


def test_a_run_spares_what_its_plan_reads(study):
    before = contents(study.folder)
    (study.folder / "plan.toml").write_text(PLAN.replace("table.docx", "harvest.csv"))
    done = study("run", "plan.toml", "--into", ".")
    assert done.code == 2 and "harvest.csv is read by this plan" in done.err
    (study.folder / "plan.toml").write_text(PLAN)
    assert contents(study.folder) == before


def test_a_check_shows_what_would_be_written_and_called(study):
    plan = PLAN.replace('sentence = "yield = intercept;', 'cluster = "local:2"\nsentence = "yield = intercept;')
    (study.folder / "plan.toml").write_text(plan)
    out = study("run", "plan.toml", "--check", "--cluster", "local:1").out
    assert (
        "table.docx" in out
        and "empty.fit.json" in out
        and "'empty' calls the workers at local:1." in " ".join(out.split())
    )
    assert not (study.folder / "plan").exists()


@pytest.mark.slow
@pytest.mark.parametrize("damaged", ['{"steps": {"empty": {"fingerprint": 1}}, "estimates": [3]}', '{"steps": [1]}', "[]", "{",
                                     '{"steps": {"empty": null}, "estimates": {"empty": {"x": [1]}}}'])  # fmt: skip
def test_a_damaged_record_of_a_run_is_done_anew(study, damaged):
    assert study("run", "plan.toml").code == 0
    whole = contents(study.folder / "plan")
    (study.folder / "plan" / ".orchard-run.json").write_text(damaged)
    again = study("run", "plan.toml", "--json")
    assert again.code == 0 and set(states(again).values()) == {"done"}
    assert contents(study.folder / "plan") == whole


def test_files_and_folders_that_are_not_there(study):
    assert "plan.toml" in study("run", "plna.toml").err and study("run", "plna.toml").code == 3
    (study.folder / "wall").write_text("")
    done = study("run", "plan.toml", "--into", "wall/inside")
    assert done.code == 3 and "cannot be written" in done.err
    assert "did you mean 'compare'" in study("run", "plan.toml", "--only", "compar").err


@pytest.mark.slow
def test_the_plan_of_saved_fits_makes_them_again(study):
    for name, sentence in (
        ("a", "yield = intercept; each orchard: intercept"),
        ("b", "yield = log(rain) + pruning; each orchard: intercept"),
    ):
        study(
            "fit",
            "harvest.csv",
            sentence,
            "--missing",
            "-999",
            "--where",
            'soil = "clay"',
            "--method",
            "ml",
            "--baseline",
            "pruning=light",
            "--save",
            name,
        )
    made = study("plan", "a", "b", "--title", 'Two "fits"', "--to", "two.toml", "--json").json
    assert (study.folder / "two.toml").read_text() == made["toml"]
    assert study("run", "two.toml").code == 0
    for name in "ab":
        again = json.loads((study.folder / "two" / f"{name}.fit.json").read_text())
        before = json.loads((study.folder / f"{name}.fit.json").read_text())
        assert again["fixed"] == before["fixed"] and again["saved"]["options"] == before["saved"]["options"]
    assert "<h1>A study of yield</h1>" in (study.folder / "two" / "report.html").read_text()
    answer = bo.run(str(study.folder / "two.toml"), only="table")
    assert {s["state"] for s in answer.document["steps"]} == {"kept"}
    fit = bo.fit("yield = rain", pd.read_csv(study.folder / "harvest.csv"))
    with pytest.raises(bo.OrchardError, match="memory"):
        bo.plan(fit)


@pytest.mark.slow
def test_a_posterior_is_sampled_and_asked_in_one_plan(study):
    """The step that reads the draws waits for the one that keeps them, and is redone with it alone."""
    asked = (
        '\n[[steps]]\ncommand = "means"\nname = "asked"\nfit = "rain"\nterm = "pruning"\nposterior = "draws.parquet"\n'
    )
    plan = (
        PLAN
        + '\n[[steps]]\ncommand = "sample"\nfit = "rain"\nchains = 2\nwarmup = 200\ndraws = 300\nkeep = "draws.parquet"\n'
        + asked
    )
    (study.folder / "plan.toml").write_text(plan)
    first = study("run", "plan.toml", "--into", "out", "--only", "asked", "--json")
    assert [(s["step"], s["state"]) for s in first.json["steps"]] == [
        ("rain", "done"),
        ("sample-rain", "done"),
        ("asked", "done"),
    ]
    d = json.loads((study.folder / "out" / "asked.json").read_text())
    assert d["posterior"]["draws"] == 600 and d["df_method"] == "posterior"
    again = study("run", "plan.toml", "--into", "out", "--only", "asked", "--json").json["steps"]
    assert [s["state"] for s in again] == ["kept"] * 3
    (study.folder / "plan.toml").write_text(plan.replace("draws = 300", "draws = 301"))
    states = {
        s["step"]: s["state"]
        for s in study("run", "plan.toml", "--into", "out", "--only", "asked", "--json").json["steps"]
    }
    assert states == {"rain": "kept", "sample-rain": "done", "asked": "done"}
    assert not (study.folder / "draws.parquet").exists()


def test_every_option_that_names_a_file_is_known_to_write_or_to_read():
    """A plan keeps what it writes inside its folder by this; a new option must be one of the two."""
    for command in COMMANDS:
        keys = all_keys().get(command, {})
        for action in parser_of(command)[1]._actions if keys else []:
            key = (action.option_strings or [action.dest])[-1].lstrip("-")
            if action.metavar in ("FILE", "FOLDER") and (command, key) not in {("run", "into")}:
                assert keys[key].writes or keys[key].reads, (command, key)


@pytest.mark.slow
def test_a_folder_of_matrices_stays_inside_too(study):
    step = 'command = "show"\nfit = "rain"\nmatrices = "{}"\n\n[[steps]]\ncommand = "means"'
    for folder, code in (("../x", 2), ("algebra", 0)):
        (study.folder / "plan.toml").write_text(PLAN.replace('command = "means"', step.format(folder), 1))
        done = study("run", "plan.toml")
        assert done.code == code and (code == 0 or "no file inside the folder of the run" in done.err), done.err
    assert (study.folder / "plan" / "algebra" / "X.csv").exists() and not (study.folder / "x").exists()
