"""Saved fits as a plan file, which makes the whole study again: orchard run PLAN."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard plan empty rain slopes --to plan.toml
  orchard plan slopes --title "Rain and harvest"
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="+", help="saved fits, the simplest first")
    parser.add_argument("--title", metavar="TEXT", help="the title of the study")
    output_options(parser, idle=("figure", "confidence", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import plan

    written = next((p for p in args.to if p.endswith(".toml")), None)
    return plan(*args.fits, title=args.title, folder=None if written is None else Path(written).resolve().parent)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, short=True, forms=(".toml",))
