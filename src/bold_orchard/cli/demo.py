"""The whole way on shipped data: look, fit, compare, check, report the variance, and a model of fruit set."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from importlib import resources
from pathlib import Path

from bold_orchard.errors import OrchardError

EXAMPLE = """examples:
  orchard demo
  orchard demo my-folder
"""
PLAN = "study.toml"


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", nargs="?", default="orchard-demo",
                        help="where to put the data and the pictures (default: orchard-demo)")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    from bold_orchard.cli.main import main
    from bold_orchard.cli.run import all_keys, typed
    from bold_orchard.demo.truths import beside_truths
    from bold_orchard.reporting.page import print_page
    from bold_orchard.studies.plan import read_plan

    folder = Path(args.folder)
    write_data(folder)
    print(f"The data are in {folder}{os.sep} (docs/demo-data.md tells what each column is and how it was made).")
    home = Path.cwd()
    os.chdir(folder)
    try:
        for step in read_plan(PLAN, all_keys()).steps:
            command = typed(step)
            print(f"\n$ orchard {shlex.join(command)}\n", flush=True)
            code = main(command)
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
