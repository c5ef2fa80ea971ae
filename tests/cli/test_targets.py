"""What a command may write to: never over what it reads, nor one thing over another; links and devices stay what they are."""

from __future__ import annotations

import os
import stat
import subprocess

import numpy as np
import pandas as pd
import pytest

from conftest import PROGRAM


@pytest.fixture
def saved(quick):
    """A folder with data and a saved fit, and the command's runner."""
    r = np.random.default_rng(3)
    rows = {"tree": np.repeat(range(12), 5), "yield": np.repeat(r.normal(size=12), 5) + r.normal(size=60) / 3}
    pd.DataFrame(rows).to_csv(quick.folder / "trees.csv", index=False)
    assert quick("fit", "trees.csv", "yield = intercept; each tree: intercept", "--save", "m").code == 0
    return quick


def content(folder):
    return {p.name: p.read_bytes() for p in folder.iterdir() if p.is_file()}


@pytest.mark.parametrize(
    "words",
    [
        ("predict", "m", "--csv", "trees.csv"),
        ("predict", "m", "trees.csv", "--csv", "./trees.csv"),
        ("predict", "m", "--csv", "link.csv"),
        ("show", "m", "--to", "m.fit.json"),
        ("groups", "m", "--csv", "a.csv", "--to", "a.csv"),
        ("groups", "m", "--to", "a.md", "--to", "a.md"),
        ("show", "m", "--csv", "a.csv", "--csv-figures", "a.csv"),
        ("scout", "trees.csv", "--csv", "trees.csv"),
    ],
    ids=" ".join,
)
def test_a_target_that_would_harm_is_refused(saved, words):
    (saved.folder / "link.csv").symlink_to("trees.csv")
    before = content(saved.folder)
    done = saved(*words)
    assert done.code == 2 and done.err.startswith("orchard: ") and done.err.count("\n") == 1, done.err
    assert content(saved.folder) == before


def test_a_link_is_followed_and_a_mode_kept(saved):
    (saved.folder / "elsewhere").mkdir()
    real = saved.folder / "elsewhere" / "g.csv"
    real.write_text("old")
    real.chmod(0o600)
    (saved.folder / "g.csv").symlink_to(real)
    assert saved("groups", "m", "--csv", "g.csv").code == 0
    assert (saved.folder / "g.csv").is_symlink() and real.read_text() != "old"
    assert stat.S_IMODE(real.stat().st_mode) == 0o600


def test_a_new_file_has_the_mode_of_the_umask(saved):
    before = os.umask(0o027)
    try:
        assert saved("groups", "m", "--csv", "h.csv").code == 0
    finally:
        os.umask(before)
    assert stat.S_IMODE((saved.folder / "h.csv").stat().st_mode) == 0o640


def test_a_pipe_is_written_through_and_stays_one(saved):
    pipe = saved.folder / "pipe.csv"
    os.mkfifo(pipe)
    with subprocess.Popen(["cat", str(pipe)], stdout=subprocess.PIPE, text=True) as reader:
        assert saved("groups", "m", "--csv", "pipe.csv").code == 0
        assert reader.communicate(timeout=30)[0].startswith("group,")
    assert stat.S_ISFIFO(pipe.stat().st_mode)


@pytest.mark.slow
def test_a_reader_that_stops_early_is_no_fault(saved):
    done = subprocess.run(
        f"set -o pipefail; {PROGRAM} groups m | head -1",
        shell=True,
        executable="/bin/bash",
        cwd=saved.folder,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0 and done.stderr == "" and done.stdout.count("\n") == 1


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (("fit", "", "yield = intercept"), 3, "the name of the data is empty"),
        (("fit", "trees.csv", "yield = intercept", "--save", ""), 2, "--save is given an empty name"),
        (("groups", "m", "--csv", ""), 2, "--csv is given an empty name"),
        (("sample", "m", "--seed", "-1"), 2, "a seed is a whole number"),
    ],
)
def test_empty_names_and_seeds_below_zero(saved, words, code, said):
    done = saved(*words)
    assert done.code == code and said in done.err and done.err.count("\n") == 1


def test_the_fits_of_a_plan_as_a_table(saved):
    assert saved("plan", "m", "--to", "p.toml", "--csv", "fits.csv").code == 0
    assert (saved.folder / "fits.csv").read_text().split() == ["fits", "m"]


def test_matrices_do_not_write_over_the_data(quick, harvest):
    harvest.rename(quick.folder / "X.csv")
    assert (
        quick(
            "fit", "X.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "m", "--quiet"
        ).code
        == 0
    )
    before = (quick.folder / "X.csv").read_bytes()
    made = quick("show", "m", "--matrices", ".")
    assert made.code == 2 and "--matrices would write over X.csv, the data of" in made.err
    assert (quick.folder / "X.csv").read_bytes() == before and not (quick.folder / "Z.csv").exists()
