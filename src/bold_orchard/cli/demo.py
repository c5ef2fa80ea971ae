"""The whole way on shipped data: look, fit, compare, check, report the variance, and a model of fruit set."""

from __future__ import annotations

import argparse
import os
import shlex
import shutil
from importlib import resources
from pathlib import Path

from bold_orchard.errors import OrchardError

EXAMPLE = """examples:
  orchard demo
  orchard demo my-folder
"""
RAIN = "centre(rain)"
COMMANDS = (
    ("scout", "harvest.csv"),
    ("scout", "harvest.csv", "--missing", "-999", "--unit", "orchard", "--outcome", "yield", "--figure", "scout.png", "--quiet"),
    ("fit", "harvest.csv", "yield = intercept; each orchard: intercept", "--missing", "-999", "--save", "empty"),
    ("fit", "harvest.csv", f"yield = {RAIN} + pruning + soil; each orchard: intercept", "--missing", "-999",
     "--baseline", "pruning=none", "--save", "rain"),
    ("fit", "harvest.csv", f"yield = {RAIN} + pruning + soil; each orchard: intercept + {RAIN}", "--missing", "-999",
     "--baseline", "pruning=none", "--save", "slopes", "--figure", "fit.png"),
    ("compare", "empty", "rain", "slopes", "--figure", "compare.png"),
    ("draw", "slopes", "--figure", "lines.png"),
    ("check", "slopes", "--figure", "check.png"),
    ("components", "slopes", "--figure", "components.png"),
    ("terms", "slopes", "--contrast", "hard - light", "--figure", "terms.png"),
    ("intervals", "slopes", "--figure", "intervals.png"),
    ("groups", "slopes", "--figure", "groups.png", "--csv", "groups.csv"),
    ("means", "slopes", "pruning", "--differences", "--figure", "means.png"),
    ("predict", "slopes", "--figure", "predict.png"),
    ("fit", "blossom.csv", "fruit of counted = bees + late_frost; each orchard: intercept; each tree in orchard: intercept",
     "--ratios", "--effects", "--save", "fruit-set"),
    ("check", "fruit-set"),
)  # fmt: skip


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", metavar="FOLDER", nargs="?", default="orchard-demo",
                        help="where to put the data and the pictures (default: orchard-demo)")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    from bold_orchard.cli.main import main

    folder = Path(args.folder)
    write_data(folder)
    print(f"The data are in {folder}{os.sep} (docs/demo-data.md tells what each column is and how it was made).")
    home = Path.cwd()
    os.chdir(folder)
    try:
        for command in COMMANDS:
            print(f"\n$ orchard {shlex.join(command)}\n", flush=True)
            code = main(command)
            if code:
                return code
    finally:
        os.chdir(home)
    pictures = ", ".join(sorted(p.name for p in folder.glob("*.png")))
    print(f"\nPictures in {folder}{os.sep}: {pictures}")
    print('Now your own:  orchard scout DATA   then   orchard fit DATA "OUTCOME = intercept; each UNIT: intercept"')
    return 0


def write_data(folder: Path) -> None:
    """Copy the shipped CSV files into ``folder``."""
    from bold_orchard.demo.generate import FILES

    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in FILES:
            source = resources.files("bold_orchard.demo") / "data" / name
            with resources.as_file(source) as path:
                shutil.copyfile(path, folder / name)
    except OSError as e:
        raise OrchardError(f"{folder} cannot be written: {e.strerror or e}; give another folder") from None
