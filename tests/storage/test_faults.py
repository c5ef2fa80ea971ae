"""Files cut short, disks that fill, programs that are stopped: one line, and nothing of the user's lost or half-written."""

from __future__ import annotations

import json
import os

import pytest

import bold_orchard as bo
from bold_orchard.data import parts
from bold_orchard.errors import OrchardError
from bold_orchard.storage import files
from builders import diaries, groves

FEW = ("--chains", "1", "--warmup", "60", "--draws", "30", "--quiet")


@pytest.fixture
def kept(quick):
    """A fit, its posterior, and the data they are of."""
    groves(8, 5).to_csv(quick.folder / "g.csv", index=False)
    assert quick("fit", "g.csv", "yield = rain; each orchard: intercept", "--save", "a").code == 0
    assert quick("sample", "a", "--save", "a", *FEW).code == 4
    return quick


def one_line(done, code=3):
    assert done.code == code, done.err
    assert done.err.startswith("orchard: ") and "Traceback" not in done.err and done.out == ""
    assert len(done.err.strip().splitlines()) == 1


@pytest.mark.few(1)
@pytest.mark.parametrize("part", [0.0, 0.1, 0.5, 0.9, 0.999])
@pytest.mark.parametrize(
    ("name", "command"), [("a.fit.json", ["show", "a"]), ("a.posterior.json", ["sample", "a.posterior.json"])]
)
def test_a_file_cut_short(kept, name, command, part):
    path = kept.folder / name
    whole = path.read_bytes()
    path.write_bytes(whole[: int(part * len(whole.rstrip()))])
    one_line(kept(*command))
    path.write_bytes(whole)
    assert kept(*command).code in (0, 4)


def spoilt(document):
    """Every top key of a document removed, and turned into something else."""
    for key in document:
        if key != "schema":
            yield {k: v for k, v in document.items() if k != key}, key
            yield document | {key: {"odd": [1, "x"]} if not isinstance(document[key], dict) else "odd"}, key


def test_a_posterior_that_was_edited_is_refused_or_harmless(kept):
    path = kept.folder / "a.posterior.json"
    whole = json.loads(path.read_text())
    refused = 0
    for document, key in spoilt(whole):
        path.write_text(json.dumps(document))
        done = kept("sample", "a.posterior.json", "--json")
        assert "Traceback" not in done.err and "defect" not in done.err, (key, done.err)
        assert done.code in (0, 3, 4), key
        refused += done.code == 3
    assert refused > len(whole)


def test_a_posterior_of_another_kind_of_file(kept):
    (kept.folder / "odd.posterior.json").write_text((kept.folder / "a.fit.json").read_text())
    one_line(kept("sample", "odd.posterior.json"))
    (kept.folder / "list.posterior.json").write_text("[1, 2]")
    one_line(kept("sample", "list.posterior.json"))
    one_line(kept("sample", "a", "--compare", "nowhere", *FEW))


def test_a_disk_that_fills_keeps_what_was_there(kept, monkeypatch):
    """Under every kind of file the old one stays, and no temporary one is left."""

    def full(*_, **__):
        raise OSError(28, "No space left on device")

    targets = ["a.fit.json", "p.posterior.json", "r.csv", "r.md", "r.html"]
    for name in targets:
        (kept.folder / name).write_text("mine")
    monkeypatch.setattr(files.os, "replace", full)
    asked = [
        ("fit", "g.csv", "yield = 1; each orchard: intercept", "--save", "a"),
        ("sample", "a", "--save", "p", *FEW),
        ("groups", "a", "--csv", "r.csv"),
        ("components", "a", "--to", "r.md"),
        ("components", "a", "--to", "r.html"),
    ]
    for name, command in zip(targets, asked):
        before = sorted(os.listdir(kept.folder))
        done = kept(*command)
        if name != "a.fit.json":  # the fit 'a' is no longer one from here on
            (kept.folder / "a.fit.json").write_text("mine")
        assert done.code != 0 and "Traceback" not in done.err
        assert (kept.folder / name).read_text() == "mine"
        assert sorted(os.listdir(kept.folder)) == before


def test_a_program_stopped_while_it_writes_leaves_the_old_file(tmp_path):
    target = tmp_path / "x.csv"
    target.write_text("old")

    def stopped(path):
        path.write_text("half of wh")
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        files.write_safely(target, stopped)
    assert target.read_text() == "old" and os.listdir(tmp_path) == ["x.csv"]


def test_a_folder_that_cannot_be_written(kept):
    one_line(kept("fit", "g.csv", "yield = rain; each orchard: intercept", "--save", "nowhere/b"))
    one_line(kept("sample", "a", "--keep", "nowhere/draws.csv", *FEW))
    assert not (kept.folder / "nowhere").exists()


@pytest.mark.parametrize("ending", ["xlsx", "txt", "fit.json"])
def test_draws_are_kept_in_known_forms_only(kept, ending):
    done = kept("sample", "a", "--keep", f"draws.{ending}", *FEW)
    assert done.code == 2 and ".parquet" in done.err
    assert not (kept.folder / f"draws.{ending}").exists()


# -- tables in several files


@pytest.fixture
def folder(tmp_path, monkeypatch):
    """Three parts of one table, and the table."""
    monkeypatch.chdir(tmp_path)
    frame = diaries(units=12, rows=6)
    (tmp_path / "parts").mkdir()
    for k in range(3):
        frame.iloc[24 * k : 24 * (k + 1)].to_csv(tmp_path / "parts" / f"year{k + 9}.csv", index=False)
    return frame


MODEL = "yield = rain; each tree: intercept"


def test_parts_in_the_natural_order_of_their_names(folder):
    found = [p.name for p in parts.parts_of("parts")]
    assert found == ["year9.csv", "year10.csv", "year11.csv"]
    one, two = bo.fit(MODEL, folder), bo.fit(MODEL, "parts")
    assert two.to_dict()["fit"] == one.to_dict()["fit"]
    assert two.to_dict()["reading"]["pieces"] == 3


def test_a_part_without_a_column_is_named(folder):
    bad = folder.iloc[:6].drop(columns="rain")
    bad.to_csv("parts/year12.csv", index=False)
    with pytest.raises(OrchardError, match=r"year12\.csv lacks rain, unlike year9\.csv"):
        bo.fit(MODEL, "parts")


def test_a_part_of_another_kind_is_named(folder):
    folder.iloc[:6].assign(rain="wet").to_csv("parts/year12.csv", index=False)
    with pytest.raises(OrchardError, match=r"'rain' holds numbers in year9\.csv and text in year12\.csv"):
        bo.fit(MODEL, "parts")


@pytest.mark.parametrize("content", ["", "\n\n", "tree,rain\n", "\x00\x01\x02"])
def test_a_part_that_holds_nothing_is_one_line(folder, content):
    with open("parts/year12.csv", "w") as f:
        f.write(content)
    with pytest.raises(OrchardError) as e:
        bo.fit(MODEL, "parts")
    assert "\n" not in str(e.value) and "year12.csv" in str(e.value)


def test_a_part_cut_in_the_middle_of_a_row(folder):
    path = "parts/year11.csv"
    with open(path) as f:
        text = f.read()
    with open(path, "w") as f:
        f.write(text[: int(0.6 * len(text))].rsplit("\n", 1)[0] + "\nt1,0.")
    whole, cut = len(folder), bo.fit(MODEL, "parts").to_dict()["rows"]
    assert cut["read"] < whole and {"column": "yield", "rows": 1} in cut["dropped"]


def test_folders_and_patterns_without_tables(folder, tmp_path):
    (tmp_path / "empty").mkdir()
    (tmp_path / "empty" / "notes.md").write_text("nothing")
    for source, said in (("empty", "without tables"), ("parts/*.parquet", "no file matches")):
        with pytest.raises(OrchardError, match=said):
            bo.fit(MODEL, source)


def test_hidden_files_and_others_are_no_parts(folder):
    with open("parts/.year8.csv", "w") as f:
        f.write("tree,rain\n")
    with open("parts/readme.md", "w") as f:
        f.write("words")
    assert bo.fit(MODEL, "parts").to_dict()["rows"]["read"] == len(folder)


def test_a_part_changed_after_the_fit_is_told(folder):
    bo.fit(MODEL, "parts", name="kept").save("kept")
    before = parts.digest("parts")
    with open("parts/year9.csv", "a") as f:
        f.write("")
    assert parts.digest("parts") == before
    with open("parts/year9.csv") as f:
        text = f.read()
    with open("parts/year9.csv", "w") as f:
        f.write(text.replace("sand", "clay", 1) if "sand" in text else text + "\n")
    assert parts.digest("parts") != before
