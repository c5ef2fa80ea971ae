"""Streams that are closed or lack signs, names that are no text, disks and address spaces without room: a word, never a traceback."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from bold_orchard import errors
from bold_orchard.storage import files

PROGRAM = Path(sys.executable).parent / "orchard"
posix = pytest.mark.skipif(os.name != "posix", reason="streams and limits of POSIX systems")


@pytest.fixture
def saved(quick, harvest):
    """A fit whose labels hold control characters."""
    harvest.write_text(harvest.read_text().replace("Alder Rise", "Alder\x07Rise\x0b"))
    made = quick(
        "fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "m", "--quiet"
    )
    assert made.code == 0
    return quick


def shell(folder, line, **more):
    done = subprocess.run(
        ["sh", "-c", line],
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=120,
        env=os.environ | {"ORCHARD": str(PROGRAM)} | more,
    )
    assert "Traceback" not in done.stderr and "defect" not in done.stderr
    return done


@pytest.mark.few(1)
@posix
@pytest.mark.parametrize(
    "closed, code",
    [
        ("show m >&-", 0),
        ("show m 2>&- >/dev/null", 0),
        ("show m <&- >&- 2>&-", 0),
        ("show none 2>&-", 3),
        ("fit - 'y = x' <&-", 3),
    ],
)
def test_closed_streams_are_as_the_null_device(saved, closed, code):
    done = shell(saved.folder, f'"$ORCHARD" {closed}')
    assert done.returncode == code
    if "fit -" in closed:
        assert "standard input is empty" in done.stderr


@posix
def test_a_file_written_while_output_is_closed_holds_the_answer_alone(saved):
    assert shell(saved.folder, '"$ORCHARD" groups m --csv g.csv --quiet >&- 2>&-').returncode == 0
    assert saved("groups", "m", "--csv", "h.csv", "--quiet").code == 0
    assert (saved.folder / "g.csv").read_bytes() == (saved.folder / "h.csv").read_bytes()


@pytest.mark.few(1)
@posix
@pytest.mark.parametrize(
    "encoding, command",
    [
        ("ascii", "equations m"),
        ("latin-1", "show m --strips"),
        ("cp1252", "groups m --strips"),
        ("cp1252", "equations m"),
    ],
)
def test_an_encoding_without_our_signs_gets_them_written_out(saved, encoding, command):
    done = shell(saved.folder, f'"$ORCHARD" {command} > out.txt', PYTHONIOENCODING=encoding)
    assert done.returncode == 0
    if command == "equations m":
        assert "\\u2c7c" in (saved.folder / "out.txt").read_bytes().decode(encoding)


@posix
def test_too_little_address_space_is_told_at_once(saved):
    done = shell(saved.folder, 'ulimit -v 200000; "$ORCHARD" fit harvest.csv "yield = rain; each orchard: intercept"')
    assert (
        done.returncode == 3
        and "the address space of this process is limited to 195 MB, too little for NumPy" in done.stderr
    )


@pytest.mark.slow
@pytest.mark.skipif(sys.platform != "linux", reason="names of any bytes are a matter of Linux")
def test_names_that_are_no_text(saved):
    folder = os.fsencode(saved.folder)
    os.rename(folder + b"/harvest.csv", folder + b"/h\xff.csv")
    name = os.fsdecode(b"h\xff.csv")
    words = ["fit", name, "yield = rain; each orchard: intercept", "--missing", "-999", "--quiet", "--save"]
    refused = saved(*words, os.fsdecode(b"m\xff"))
    assert refused.code == 2 and "--save needs a name in UTF-8" in refused.err
    assert saved(*words, "ok").code == 0
    for target in ("r.html", "r.docx", "r.md", "r.tex"):
        assert saved("report", "ok", "--to", target, "--quiet").code == 0, target
    assert saved("scout", name, "--to", "s.html", "--figure", "s.png", "--quiet").code == 0
    assert "h\\udcff.csv" in (saved.folder / "s.html").read_text(encoding="utf-8")
    plan = saved("plan", "ok", "--to", "p.toml")
    assert plan.code == 3 and "h\\udcff.csv is no name in UTF-8" in plan.err and not (saved.folder / "p.toml").exists()


@pytest.mark.few(3)
@pytest.mark.parametrize("ending", [".docx", ".html", ".tex", ".md", ".txt"])
def test_control_characters_of_labels_are_shown_in_every_form(saved, ending):
    assert saved("groups", "m", "--to", "g" + ending, "--quiet").code == 0
    if ending != ".docx":
        text = (saved.folder / ("g" + ending)).read_text(encoding="utf-8")
        assert "\x07" not in text and "x07Rise" in text


def test_halves_of_pairs_and_marks_are_shown_not_obeyed():
    assert errors.visible("a\udcffb\x07\u202e") == "a\\udcffb\\x07\\u202e"


def test_a_full_disk_leaves_no_half_of_a_workbook(saved, monkeypatch, recwarn):
    (saved.folder / "g.xlsx").write_text("old")

    def full(self, content):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(files.Path, "write_bytes", full)
    made = saved("groups", "m", "--csv", "g.xlsx", "--quiet")
    assert made.code == 3 and "g.xlsx cannot be written: No space left on device" in made.err
    assert (saved.folder / "g.xlsx").read_text() == "old" and not recwarn.list
    assert sorted(p.name for p in saved.folder.iterdir()) == ["g.xlsx", "harvest.csv", "m.fit.json"]
