"""Long and deep expressions, damaged saved fits, odd files and full disks: one line each, never a defect of ours."""

from __future__ import annotations

import json
import os
import random
import subprocess

import numpy as np
import pandas as pd
import pytest

from conftest import PROGRAM

ROWS = pd.DataFrame({"unit": [f"u{i % 6}" for i in range(48)], "x": np.arange(48) * 7 % 13 / 3, "z": np.arange(48) % 4 + 0.5,
                     "y": np.arange(48) * 5 % 11 + np.arange(48) % 6 * 2.0})  # fmt: skip
MODEL = "y = x; each unit: intercept"


@pytest.fixture
def table(quick):
    ROWS.to_csv(quick.folder / "t.csv", index=False)
    return quick


def one_line(done):
    assert done.code in (0, 2, 3, 4), done.err[-300:]
    if done.code in (2, 3):
        assert done.err.startswith("orchard: ") and "defect" not in done.err and done.out == ""


LONG = [
    ("y = calc(" + "+".join(["x"] * 1000) + ")", 0),
    ("y = calc(" + "(" * 1000 + "x" + ")" * 1000 + ")", 0),
    ("y = calc(" + "-" * 1000 + "x)", 0),
    ("y = calc(" + "*".join(["1", "x"] * 500) + ")", 3),
    ("y = calc(" + "^".join(["2"] * 1000) + ")", 3),
    ("y = " + "log(" * 1000 + "x" + ")" * 1000, 3),
    ("y = calc(1-(" * 1 + "1-(" * 500 + "x" + ")" * 502, 3),
    ("y = x; " + "; ".join(["each unit: intercept"] * 300), 3),
    ("y = x; each unit: intercept; each unit: intercept + z", 3),
    ("y = cross(" + ", ".join(["x", "z", "unit"] * 7 + ["x"]) + ")", 3),
    ("y = " + "*".join(["x"] * 30), 3),
    ("y = log(cross(x, z))", 3),
    ("y = cross(x, cross(z, unit))", 3),
    ("y = log(offset(x))", 3),
    ("y = calc(1e999*x)", 3),
    ("y = power(x, 1e999)", 3),
    ("y = calc(exp(1000*x))", 3),
    ("y = spline(x, 30)", 3),
    ("y = " + " + ".join(["x"] * 2000), 0),
]


@pytest.mark.parametrize(("sentence", "code"), LONG, ids=range(len(LONG)))
def test_long_and_deep_sentences(table, sentence, code):
    done = table("fit", "t.csv", sentence)
    one_line(done)
    assert done.code == code, done.err[:300]


@pytest.mark.parametrize(("text", "code"), [
    ("not " * 1000 + "x > 1", 0), ("(" * 1000 + "x > 1" + ")" * 1000, 0), (" or ".join(["x > 1"] * 1000), 0),
    ("x > " + "+".join(["0"] * 1000), 0), ("not (" * 400 + "x > 1" + ")" * 400, 3), ("x > " + "1-(" * 400 + "1" + ")" * 400, 3),
])  # fmt: skip
def test_long_and_deep_conditions(table, text, code):
    done = table("fit", "t.csv", MODEL, "--where", text)
    one_line(done)
    assert done.code == code


def test_long_contrasts_and_names_with_many_digits(table):
    table("fit", "t.csv", "y = x + calc(x*1.0000001) + calc(z*1.0000002) + calc(z^2*1.0000003)", "--save", "m")
    terms = [r["term"] for r in table("show", "m", "--json").json["fixed"]]
    assert len(set(terms)) == 5 and "calc(z * 1.0000002)" in terms
    table("fit", "t.csv", MODEL, "--save", "m")
    d = table("terms", "m", "--contrast", "+".join(["x"] * 1000), "--json").json
    assert d["contrasts"][0]["estimate"] == pytest.approx(
        1000 * table("show", "m", "--json").json["fixed"][1]["estimate"]
    )
    assert table("terms", "m", "--contrast", "-(" * 500 + "x" + ")" * 500).code == 3


def test_an_infinite_cell_is_seen_not_fallen_over(table):
    ROWS.assign(x=ROWS["x"].replace(0.0, np.inf)).to_csv(table.folder / "i.csv", index=False)
    assert table("scout", "i.csv").code == 0
    done = table("fit", "i.csv", MODEL)
    assert done.code == 3 and "is infinite" in done.err


def paths(value, at=()):
    yield at
    if isinstance(value, dict):
        for k, v in value.items():
            yield from paths(v, (*at, k))
    elif isinstance(value, list):
        for k, v in enumerate(value[:2]):
            yield from paths(v, (*at, k))


def changed(document, place, value):
    made = json.loads(json.dumps(document))
    if not place:
        return value
    inner = made
    for key in place[:-1]:
        inner = inner[key]
    if value is KeyError and isinstance(inner, dict):
        del inner[place[-1]]
    else:
        inner[place[-1]] = [] if value is KeyError else value
    return made


@pytest.mark.few(1)
@pytest.mark.parametrize("family", ["gaussian", "poisson"])
def test_a_tampered_saved_fit_is_refused_or_harmless(table, family):
    table(
        "fit",
        "t.csv",
        "z = x; each unit: intercept" if family == "gaussian" else MODEL,
        "--family",
        family,
        "--save",
        "m",
    )
    target = table.folder / "m.fit.json"
    document = json.loads(target.read_text())
    places = list(paths(document))
    assert len(places) > 80
    r = random.Random(1)
    for place in r.sample(places, 90):
        value = r.choice([KeyError, None, -1, 1e300, "x", [], {}, [[1]], True])
        target.write_text(json.dumps(changed(document, place, value)))
        for command in (("show", "m"), ("components", "m"), ("predict", "m")):
            done = table(*command)
            assert done.code in (0, 3, 4) and "defect" not in done.err, (place, value, command, done.err[-300:])
    for text in ("[" * 200_000, '{"saved": ' * 5000, "", "null", "\x00"):
        target.write_text(text)
        done = table("components", "m")
        assert done.code == 3 and "is not a saved fit" in done.err


@pytest.mark.few(6)
@pytest.mark.parametrize(("sentence", "more", "place", "value"), [
    ("z = x; each unit: intercept", (), ("reading",), -1),
    ("z = x; each unit: intercept", (), ("saved", "hessian"), [[1.0, 2.0]]),
    ("z = x; each unit: intercept", (), ("saved", "hessian"), "x"),
    (MODEL, ("--family", "poisson", "--ratios"), ("fixed", 1, "ratio_ci"), None),
    (MODEL, ("--family", "poisson", "--ratios"), ("fixed", 0, "ratio_ci", 1), []),
    (MODEL, ("--family", "poisson"), ("family",), "x"),
    ("z = x; each unit: intercept + spread", (), ("random", 0, "sd", 1), None),
    ("z = x; each unit: intercept; spread = x", (), ("residual", "parameters", "spread"), [1]),
    ("z = x; within unit: exchangeable", (), ("residual", "levels"), "x"),
    ("z = x; each unit: intercept", (), ("icc", 0, "value"), []),
])  # fmt: skip
def test_what_a_page_would_fall_over_is_told_as_damage(table, sentence, more, place, value):
    assert table("fit", "t.csv", sentence, *more, "--save", "m").code in (0, 4)
    target = table.folder / "m.fit.json"
    document = json.loads(target.read_text())
    assert table("terms", "m").code in (0, 4)
    target.write_text(json.dumps(changed(document, place, value)))
    for command in ("show", "terms"):
        done = table(command, "m")
        assert done.code == 3 and "m.fit.json is damaged" in done.err and "fit again" in done.err, (command, done.err)
        one_line(done)


@pytest.mark.slow
def test_a_pipe_is_no_data_file(orchard):
    os.mkfifo(orchard.folder / "p.csv")
    for arguments in (("scout", "p.csv"), ("fit", "p.csv", MODEL)):
        done = subprocess.run([PROGRAM, *arguments], cwd=orchard.folder, capture_output=True, text=True, timeout=30)
        assert done.returncode == 3 and "no ordinary file" in done.stderr
    ROWS.to_csv(orchard.folder / "t.csv", index=False)
    done = subprocess.run(
        [PROGRAM, "fit", "t.csv", 'y = x; each unit (known "p.csv"): intercept'],
        cwd=orchard.folder,
        capture_output=True,
        text=True,
        timeout=30,
    )
    assert done.returncode == 3 and "no ordinary file" in done.stderr


@pytest.mark.slow
@pytest.mark.skipif(not os.path.exists("/dev/full"), reason="no /dev/full here")
def test_a_full_disk_under_standard_output_is_not_our_defect(orchard):
    ROWS.to_csv(orchard.folder / "t.csv", index=False)
    for extra in ((), ("--json",)):
        with open("/dev/full", "w") as full:
            done = subprocess.run(
                [PROGRAM, "fit", "t.csv", MODEL, *extra],
                cwd=orchard.folder,
                stdout=full,
                stderr=subprocess.PIPE,
                text=True,
            )
        assert done.returncode == 3 and "cannot be written: No space left" in done.stderr


def test_a_full_disk_under_a_picture_leaves_nothing(table, monkeypatch):
    from pathlib import Path

    def full(self, data):
        raise OSError(28, "No space left on device")

    table("fit", "t.csv", MODEL, "--save", "m")
    monkeypatch.setattr(Path, "write_bytes", full)
    for ending in ("pdf", "svg"):
        done = table("draw", "m", "--figure", f"a.{ending}")
        assert done.code == 3 and "No space left" in done.err
    assert not list(table.folder.glob("*.pdf")) and not list(table.folder.glob(".*"))
