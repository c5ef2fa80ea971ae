"""The commands in the documents: run in order in one folder of demo data, their output put under them.

A block that begins with ```orchard is a command of the tutorials; ```orchard fails is one that has to be refused. ``mkdocs.yml`` names this
module as a hook, the tests use it too.
"""

from __future__ import annotations

import html
import os
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
BLOCK = re.compile(r"^```orchard( fails)?\n(.*?)\n```$", re.DOTALL | re.MULTILINE)
_made: dict[str, list[tuple[str, int, str]]] = {}
_folder: list[Path] = []


def tutorials() -> list[Path]:
    """The page of options, then the pages with commands in the order in which they build on one another."""
    return [HERE / "options.md", *sorted((HERE / "jobs").glob("*.md"))]


def commands(page: str) -> list[tuple[str, bool]]:
    """Commands of a page, and whether each has to be refused."""
    return [(m.group(2).strip(), bool(m.group(1))) for m in BLOCK.finditer(page)]


def prepared(folder: Path) -> None:
    """The demo's data in a folder."""
    from bold_orchard.cli.demo import write_data

    write_data(folder)


def perform(command: str, folder: Path) -> tuple[int, str]:
    """Exit code and what a person would see, 80 columns wide."""
    words = shlex.split(command)
    assert words[0] == "orchard", command
    env = os.environ | {"COLUMNS": "80", "NO_COLOR": "1"}
    done = subprocess.run(
        [sys.executable, "-m", "bold_orchard", *words[1:]], cwd=folder, capture_output=True, text=True, env=env
    )
    return done.returncode, (done.stdout + done.stderr).rstrip()


def on_pre_build(config: Any) -> None:
    """Run all tutorials once."""
    if _made:
        return
    folder = Path(tempfile.mkdtemp())
    _folder.append(folder)
    prepared(folder)
    for page in tutorials():
        made = []
        for command, fails in commands(page.read_text(encoding="utf-8")):
            code, output = perform(command, folder)
            if (code != 0) != fails:
                raise RuntimeError(f"{page.name}: {command}\n{output}")
            made.append((command, code, output))
        _made[page.relative_to(HERE).as_posix()] = made


def on_page_markdown(markdown: str, page: Any, config: Any, files: Any) -> str:
    """Each command with its output and its picture under it."""
    made = iter(_made.get(page.file.src_uri, []))

    def shown(match: re.Match[str]) -> str:
        command, _, output = next(made)
        picture = re.search(r"--figure (\S+\.png)", command)
        below = (
            f'\n\n<img src="../made/{picture.group(1)}" alt="the picture of {html.escape(command)}">' if picture else ""
        )
        return f"```console\n$ {command}\n```\n\n```text\n{output}\n```{below}"

    return BLOCK.sub(shown, markdown)


def on_post_build(config: Any) -> None:
    """Pictures go beside the pages."""
    target = Path(config["site_dir"]) / "jobs" / "made"
    target.mkdir(parents=True, exist_ok=True)
    for picture in _folder[-1].glob("*.png") if _folder else ():
        shutil.copyfile(picture, target / picture.name)
