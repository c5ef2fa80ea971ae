"""Every command that a document shows is run, or at least understood; links lead somewhere; pages stand in the site."""

from __future__ import annotations

import contextlib
import io
import re
import shlex
from pathlib import Path

import pytest
import written

from bold_orchard import __version__
from bold_orchard.cli.main import COMMANDS, main, parser_of

DOCS = Path(written.__file__).parent
PAGES = sorted(DOCS.rglob("*.md"))
ELSEWHERE = re.compile(r"DATA| first|parts|visits\.csv|prices\.csv|corrected\.csv|design\.toml|~/|irrigation|traits\.csv|trials\.csv|each tree: intercept \+ spread|blossom\.csv \"fruit of counted = effect")  # fmt: skip
SMALLER = {
    "sample": "--draws 40 --warmup 60 --chains 2",
    "power": "--runs 20",
    "simulate": "--draws 40",
}  # the same, in less time


def perform(command, folder):
    """As ``written.perform``, in this process: twenty starts of the program take longer than all their work."""
    with (
        contextlib.chdir(folder),
        contextlib.redirect_stdout(io.StringIO()) as out,
        contextlib.redirect_stderr(io.StringIO()) as err,
    ):
        code = main(shlex.split(command)[1:])
    return code, (out.getvalue() + err.getvalue()).rstrip()


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    made = tmp_path_factory.mktemp("documents")
    written.prepared(made)
    return made


@pytest.mark.slow
def test_the_tutorials_run_from_the_first_to_the_last(folder):
    """In one folder, in order; what has to be refused is refused in one line; every picture is there."""
    pages = written.tutorials()[1:]
    assert [p.name[0] for p in pages] == list("12345678")
    for page in pages:
        made = written.commands(page.read_text(encoding="utf-8"))
        assert made, page.name
        for command, fails in made:
            code, output = perform(command, folder)
            assert (code != 0) == fails, f"{page.name}: {command}\n{output}"
            assert "Traceback" not in output and (not fails or output.startswith("orchard: "))
            for picture in re.findall(r"--figure (\S+)", command):
                assert (folder / picture).stat().st_size > 5000
    assert "kept" not in output and (folder / "again").is_dir()


def test_every_command_has_its_options_in_the_site():
    page = written.tutorials()[0]
    shown = [command for command, _ in written.commands(page.read_text(encoding="utf-8"))]
    assert shown == ["orchard --help", *(f"orchard {name} --help" for name in COMMANDS)]


def shown(page):
    """Commands in the indented blocks of a page, continued lines joined, what follows a # left out."""
    text = page.read_text(encoding="utf-8").replace("\\\n", " ")
    return [line.strip().split("  #")[0].strip() for line in text.splitlines() if line.startswith("    orchard ")]


SHOWN = [(page.name, command) for page in PAGES for command in shown(page)]


@pytest.mark.parametrize(("page", "command"), SHOWN)
def test_commands_that_pages_show_are_understood(page, command):
    words = [w for w in shlex.split(command)[1:] if w not in (">>", ">") and not w.startswith("~/")]
    assert parser_of(words[0])[1].parse_args(words[1:]) is not None


@pytest.mark.slow
def test_commands_on_the_demo_data_run(folder):
    """Those of the reference pages, after the tutorials' fits."""
    for sentence, name in (
        ("yield = cross(pruning, soil); each orchard: intercept; each tree in orchard: intercept", "soils"),
        (
            "yield = centre(rain) + pruning + soil; each orchard: intercept + centre(rain); each tree in orchard: intercept",
            "slopes",
        ),
        ("yield = centre(rain) + pruning + soil; each orchard: intercept; each tree in orchard: intercept", "rain"),
        ("yield = intercept; each orchard: intercept; each tree in orchard: intercept", "empty"),
    ):
        perform(f'orchard fit harvest.csv "{sentence}" --missing -999 --save {name}', folder)
    perform(
        'orchard fit blossom.csv "fruit of counted = bees + late_frost; each orchard: intercept" --save fruit-set',
        folder,
    )
    run = 0
    for page, command in SHOWN:
        if ELSEWHERE.search(command) or "completion" in command:
            continue
        words = f"{command} {SMALLER.get(command.split()[1], '') if '.posterior.json' not in command else ''}".strip()
        words += " --missing -999" if "harvest.csv" in command and "--missing" not in command else ""
        code, output = perform(words, folder)
        few = "sample" in command or "--posterior" in command
        assert code == 0 or (code == 4 and few), f"{page}: {command}\n{output}"
        run += 1
    assert run > 15


@pytest.mark.slow
def test_the_day_of_the_readme_runs_as_it_stands(tmp_path):
    """Every line of the table, in its order, on nothing but the demo data."""
    written.prepared(tmp_path)
    table = (DOCS.parent / "README.md").read_text(encoding="utf-8").split("## The way of a day")[1].split("\n\n")[2]
    lines = re.findall(r"\| `(orchard [^`]*)` \|", table)
    assert len(lines) == len([row for row in table.splitlines() if "`orchard " in row]) > 20
    for command in lines:
        less = SMALLER | {"carry": "--imputations 10"}
        code, output = perform(f"{command} {less.get(command.split()[1], '')}", tmp_path)
        assert code == 0 or (code == 4 and ("sample" in command or "draws.parquet" in command)), f"{command}\n{output}"


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_links_lead_to_pages_and_pictures_that_exist(page):
    text = page.read_text(encoding="utf-8")
    for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", text):
        assert (page.parent / target).exists(), f"{page.name}: {target}"


def test_every_page_stands_in_the_site_once():
    """mkdocs.yml names every page, and none that is not there."""
    named = re.findall(r":\s(\S+\.md)$", (DOCS.parent / "mkdocs.yml").read_text(), re.MULTILINE)
    assert sorted(named) == sorted(str(p.relative_to(DOCS)) for p in PAGES)


def test_the_program_itself_is_what_the_site_runs(folder):
    assert written.perform("orchard --version", folder) == (0, f"bold-orchard {__version__}")
    code, output = written.perform("orchard fit none.csv 'yield = rain'", folder)
    assert code == 3 and output.startswith("orchard: ")


def test_the_hook_puts_output_and_pictures_under_their_commands(tmp_path, monkeypatch):
    """The page that the site shows, without building the site."""
    page = "Text\n\n```orchard\norchard --version\n```\n\n```orchard\norchard scout harvest.csv --figure s.png\n```\n"
    monkeypatch.setitem(
        written._made,
        "jobs/x.md",
        [("orchard --version", 0, "orchard 9"), ("orchard scout harvest.csv --figure s.png", 0, "columns")],
    )
    place = type("Page", (), {"file": type("File", (), {"src_uri": "jobs/x.md"})})
    made = written.on_page_markdown(page, place, None, None)
    assert (
        "$ orchard --version" in made
        and "orchard 9" in made
        and 'src="../made/s.png"' in made
        and "```orchard" not in made
    )
    assert written.commands(page) == [("orchard --version", False), ("orchard scout harvest.csv --figure s.png", False)]
