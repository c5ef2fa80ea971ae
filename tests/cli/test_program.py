"""The program as a program: options alike in every command, streams kept apart, files left whole."""

from __future__ import annotations

import csv
import importlib
import json
import os
import shlex
import shutil
import subprocess

import numpy as np
import pandas as pd
import pytest

from bold_orchard.cli.demo import PLAN, write_data
from bold_orchard.cli.main import main
from bold_orchard.cli.run import all_keys, typed
from bold_orchard.studies.plan import read_plan
from conftest import PROGRAM

MODEL = "yield = rain + pruning; each orchard: intercept"


@pytest.fixture
def saved(orchard, harvest):
    assert orchard("fit", "harvest.csv", MODEL, "--missing", "-999", "--save", "m", "--quiet").code == 0
    assert (
        orchard(
            "fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "s", "--quiet"
        ).code
        == 0
    )
    return orchard


COMMANDS = [("scout", "harvest.csv"), ("show", "m"), ("compare", "m", "s"), ("check", "m"), ("components", "m"), ("terms", "m"),
            ("means", "m", "pruning"), ("predict", "m"), ("draw", "m", "--kind", "against")]  # fmt: skip


@pytest.mark.slow
@pytest.mark.parametrize("command", COMMANDS, ids=lambda c: c[0])
def test_json_stands_alone_and_csv_holds_the_table(saved, command):
    done = saved(*command, "--json", "--csv", "out.csv", "--quiet")
    assert done.code == 0 and done.err == ""
    document = json.loads(done.out)
    name = {"show": "fit"}.get(command[0], command[0])
    assert document["schema"] == f"bold-orchard/{name}/1" and isinstance(document["notes"], list)
    assert "NaN" not in done.out and "Infinity" not in done.out
    rows = list(csv.DictReader((saved.folder / "out.csv").open()))
    rows = [r for r in rows if r.get("part", "model") == "model"]
    tables = {
        "scout": "columns",
        "show": "fixed",
        "compare": "models",
        "components": "components",
        "terms": "tests",
        "means": "means",
    }
    assert len(rows) == (1427 if command[0] == "check" else len(document[tables.get(command[0], "rows")]))
    assert list(saved.folder.glob(".*")) == []


@pytest.mark.few(3)
@pytest.mark.parametrize("command", COMMANDS, ids=lambda c: c[0])
def test_the_same_words_twice_give_the_same_bytes(saved, command):
    assert saved(*command, "--json").out == saved(*command, "--json").out


@pytest.mark.few(3)
@pytest.mark.parametrize(
    "command", [c for c in COMMANDS if c[0] not in ("scout", "compare", "terms", "predict")], ids=lambda c: c[0]
)
def test_digits_and_confidence_mean_the_same_everywhere(saved, command):
    short, long = (saved(*command, "--digits", d).out for d in ("2", "9"))
    assert len(long) > len(short)
    if command[0] in ("show", "components", "means"):
        assert "80% interval" in saved(*command, "--confidence", "0.8").out


def test_quiet_drops_notes_but_never_results(saved):
    loud, quiet = saved("compare", "m", "s"), saved("compare", "m", "s", "--quiet")
    assert "Notes" in loud.out and "Notes" not in quiet.out and "AICc" in quiet.out


@pytest.mark.slow
def test_no_colour_codes_outside_a_terminal(saved):
    for command in COMMANDS:
        assert "\x1b" not in saved(*command).out


@pytest.mark.slow
def test_a_reader_that_leaves_early_is_no_defect(saved):
    shell = f"'{PROGRAM}' predict m --json | head -c 100"
    done = subprocess.run(["bash", "-c", shell], cwd=saved.folder, capture_output=True, text=True, check=False)
    assert len(done.stdout) == 100 and "defect" not in done.stderr and "Traceback" not in done.stderr


def test_missing_codes_by_column_and_for_all_give_the_same_fit(orchard, harvest):
    fits = [
        orchard("fit", "harvest.csv", MODEL, "--missing", code, "--json").json
        for code in ("-999", "yield=-999", "-999.0")
    ]
    assert fits[0]["fit"] == fits[1]["fit"] == fits[2]["fit"]
    raw = orchard("fit", "harvest.csv", MODEL, "--json").json
    assert raw["rows"]["used"] == fits[0]["rows"]["used"] + 1 and raw["residual"]["sd"] > 5 * fits[0]["residual"]["sd"]


def test_weights_from_a_column(orchard, harvest):
    frame = pd.read_csv(harvest)
    frame["w"] = np.where(frame["season"] > 3, 2.0, 1.0)
    frame.to_csv(harvest, index=False)
    one = orchard("fit", "harvest.csv", MODEL, "--missing", "-999", "--weights", "w", "--json").json
    two = orchard("fit", "harvest.csv", MODEL, "--missing", "-999", "--json").json
    assert one["residual"]["variance"] > two["residual"]["variance"] and one["fit"] != two["fit"]


def test_a_tsv_gives_the_same_fit_as_the_csv(orchard, harvest):
    pd.read_csv(harvest).to_csv(orchard.folder / "harvest.tsv", sep="\t", index=False)
    one, two = (orchard("fit", f"harvest.{e}", MODEL, "--missing", "-999", "--json").json for e in ("csv", "tsv"))
    assert one == two


def test_text_labels_and_codes_of_units_give_the_same_fit(orchard, harvest):
    frame = pd.read_csv(harvest)
    frame["place"] = frame["orchard"].astype("category").cat.codes * 7 - 3
    frame.to_csv(harvest, index=False)
    one = orchard("fit", "harvest.csv", MODEL, "--missing", "-999", "--json").json
    two = orchard("fit", "harvest.csv", MODEL.replace("each orchard", "each place"), "--missing", "-999", "--json").json
    assert two["fit"]["loglik"] == pytest.approx(one["fit"]["loglik"], abs=1e-8)
    assert two["groups"] == [one["groups"][0] | {"group": "place"}]


def test_every_command_names_a_lost_fit(orchard):
    for command in ("show", "check", "components", "terms", "predict"):
        done = orchard(command, "gone")
        assert done.code == 3 and "there is no saved fit 'gone'" in done.err and done.out == ""
    assert orchard("means", "gone", "x").code == 3 and orchard("compare", "gone", "lost").code == 3
    assert orchard("compare").code == 2


def test_a_fit_compared_with_itself_or_alone_is_refused(saved):
    done = saved("compare", "m", "m")
    assert done.code == 3 and "stands twice" in done.err
    assert "two fits or more" in saved("compare", "m").err


def test_weights_of_two_fits_must_agree(saved):
    frame = pd.read_csv(saved.folder / "harvest.csv").assign(w=2.0)
    frame.to_csv(saved.folder / "w.csv", index=False)
    saved("fit", "w.csv", MODEL, "--missing", "-999", "--weights", "w", "--save", "w")
    done = saved("compare", "m", "w")
    assert done.code == 3 and "different weights" in done.err


def test_every_command_has_a_picture_and_an_example(saved):
    for command in (("terms", "m"), ("predict", "m"), ("draw", "m"), ("groups", "m"), ("check", "m")):
        assert saved(*command, "--figure", "x.png").code == 0
        assert (saved.folder / "x.png").read_bytes()[:4] == b"\x89PNG"
        (saved.folder / "x.png").unlink()


def test_the_seed_chooses_the_sample_and_is_named(orchard):
    r = np.random.default_rng(1)
    unit = np.arange(6000) % 30
    pd.DataFrame({"unit": unit, "y": (r.gamma(2, size=6000) + unit).round(4)}).to_csv(
        orchard.folder / "t.csv", index=False
    )
    assert orchard("fit", "t.csv", "y = intercept; each unit: intercept", "--save", "g").code == 0
    one, same, other = (orchard("check", "g", "--json", "--seed", s).json for s in ("5", "5", "6"))
    assert one == same and one["levels"][0]["shapiro"] != other["levels"][0]["shapiro"]
    assert "(seed 6)" in " ".join(other["notes"])


def test_intervals_of_predictions_use_the_residual_df(saved):
    from scipy import stats

    row = saved("predict", "m", "--json").json["rows"][0]
    assert (row["high"] - row["predicted"]) / row["se"] == pytest.approx(stats.t.ppf(0.975, 1427 - 4), rel=1e-9)


SMALL = """[data]
file = "harvest.csv"
missing = ["-999"]
[fits.empty]
sentence = "yield = intercept; each orchard: intercept"
[[steps]]
command = "report"
fits = ["empty"]
to = ["study.html"]
"""


def examples():
    from bold_orchard.cli.main import COMMANDS as ALL

    for name in (n for n in ALL if n not in ("demo", "completion")):  # which have tests of their own
        text = importlib.import_module(f"bold_orchard.cli.{name}").EXAMPLE.replace("\\\n", " ")
        for line in text.splitlines():
            if line.strip().startswith("orchard "):
                yield pytest.param(shlex.split(line.strip())[1:], id=line.strip())


@pytest.mark.parametrize("arguments", list(examples()))
@pytest.mark.slow
def test_every_example_of_every_help_runs_on_the_demo_data(demo_folder, tmp_path, arguments, monkeypatch, capsys):
    shutil.copytree(demo_folder, tmp_path, dirs_exist_ok=True)
    monkeypatch.chdir(tmp_path)
    sampled = arguments[:1] == ["sample"]  # so few draws are told not to be used, which is exit code 4
    few = ["--warmup", "100", "--draws", "50"] if arguments[:2] == ["sample", "slopes"] else []
    shorter = [{"1000": "25", "2000": "25"}.get(a, a) for a in arguments] + few
    assert main(shorter) in ((0, 4) if sampled else (0,)), capsys.readouterr().err
    for a in arguments:
        if a.endswith((".png", ".svg", ".csv")):
            assert (tmp_path / a).stat().st_size > 50


@pytest.fixture(scope="module")
def demo_folder(tmp_path_factory):
    """The demo's data and fits, made by the demo's own commands."""
    folder = tmp_path_factory.mktemp("demo")
    write_data(folder)
    home = os.getcwd()
    os.chdir(folder)
    try:
        for step in (s for s in read_plan(PLAN, all_keys()).steps if s.command == "fit"):
            assert main([*typed(step), "--quiet"]) == 0
        assert main(["fit", "--from", "slopes", "--add", "pruning * centre(rain)", "--save", "crossed", "--quiet"]) == 0
        few = ("--chains", "2", "--warmup", "120", "--draws", "500", "--seed", "5")
        assert main(["sample", "slopes", *few, "--save", "slopes", "--keep", "draws.parquet", "--quiet"]) == 0
    finally:
        os.chdir(home)
    shutil.copyfile(folder / "harvest.csv", folder / "corrected.csv")
    (folder / "plan.toml").write_text(SMALL)
    (folder / "next-season.csv").write_text("orchard,tree,season,rain,pruning,soil\nBarrow,1,7,60,light,clay\n")
    return folder


def test_options_that_mean_nothing_to_a_command_are_not_offered(orchard):
    for command, idle in {
        "equations": ["figure", "seed", "confidence", "strips"],
        "means": ["seed"],
        "scout": ["seed"],
    }.items():
        text = orchard(command, "--help").out
        assert "--json" in text and not any(f"--{option}" in text for option in idle), command
    assert "--seed N" in orchard("power", "--help").out
