"""The whole way on shipped data: look, fit, compare, check, report the variance, and a model of fruit set."""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import shlex
import sys
from collections.abc import Mapping, Sequence
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING

from bold_orchard.errors import OrchardError
from bold_orchard.storage.files import write_text

if TYPE_CHECKING:
    from bold_orchard.studies.plan import Key, Step

EXAMPLE = """examples:
  orchard demo
  orchard demo my-folder
"""
PLAN, RECORD = "study.toml", ".orchard-demo.json"


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", nargs="?", default="orchard-demo",
                        help="where to put the data and the pictures (default: orchard-demo)")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    from bold_orchard.cli.main import main
    from bold_orchard.cli.run import all_keys, typed
    from bold_orchard.demo.truths import beside_truths
    from bold_orchard.reporting.page import print_page
    from bold_orchard.studies.plan import read_plan

    folder, keys = Path(args.folder), all_keys()
    write_data(folder)
    steps = read_plan(str(folder / PLAN), keys).steps
    made = {step.name: written_by(step, keys[step.command]) for step in steps}
    check_own(folder, [name for names in made.values() for name in names])
    print(f"The data are in {folder}{os.sep} (docs/demo-data.md tells what each column is and how it was made).")
    home = Path.cwd()
    os.chdir(folder)
    try:
        for step in steps:
            command = typed(step)
            print(f"\n$ orchard {shlex.join(command)}\n", flush=True)
            code = main(command)
            record(made[step.name])
            if code:
                return code
        print_page(beside_truths("slopes"), sys.stdout)
    finally:
        os.chdir(home)
    pictures = ", ".join(sorted(p.name for p in folder.glob("*.png")))
    print(f"\nPictures in {folder}{os.sep}: {pictures}")
    print(f"All of it stands in {folder / PLAN}; tomorrow, or on corrected data:  orchard run {folder / PLAN}")
    print('Now your own:  orchard scout DATA   then   orchard fit DATA "OUTCOME = intercept; each UNIT: intercept"')
    return 0


def written_by(step: Step, keys: Mapping[str, Key]) -> list[str]:
    """The files that a step of the demo writes."""
    named = [v for k, v in step.options.items() if keys[k].writes]
    files = [str(f) for v in named for f in (v if isinstance(v, list) else [v])]
    return [*files, f"{step.name}.fit.json"] if step.command == "fit" else files


def check_own(folder: Path, names: Sequence[str]) -> None:
    """Raise OrchardError where a file that the demo would write is somebody's, or was changed since an earlier demo."""
    known = _recorded(folder)
    for name in names:
        there = folder / name
        if there.exists() and known.get(name) != _digest(there):
            raise OrchardError(
                f"{there} is there already and is not as a demo left it; give another folder: orchard demo FOLDER"
            )


def record(names: Sequence[str]) -> None:
    """Remember what the demo wrote into this folder, as it left it."""
    made = _recorded(Path()) | {name: _digest(Path(name)) for name in names if Path(name).is_file()}
    write_text(RECORD, json.dumps(made, indent=1, sort_keys=True) + "\n")


def _digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def _recorded(folder: Path) -> dict[str, str]:
    try:
        made = json.loads((folder / RECORD).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return made if isinstance(made, dict) else {}


def write_data(folder: Path) -> None:
    """Copy the shipped data and their plan into ``folder``; raises OrchardError where another file bears the name of one of them."""
    from bold_orchard.demo.generate import FILES
    from bold_orchard.storage.files import write_safely

    data = resources.files("bold_orchard.demo") / "data"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in (*FILES, PLAN):
            own = (data / name).read_bytes()
            there = folder / name
            if there.exists() and there.read_bytes() != own:
                raise OrchardError(
                    f"{there} is there already and is not the demo's own; give another folder: orchard demo FOLDER"
                )
        for name in (*FILES, PLAN):
            write_safely(folder / name, lambda path, name=name: path.write_bytes((data / name).read_bytes()))  # type: ignore[misc]
    except OSError as e:
        raise OrchardError(f"{folder} cannot be written: {e.strerror or e}; give another folder") from None
