"""A fit in plain sentences, one for each coefficient and component, to paste into a text."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import fit_argument, output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard explain slopes
  orchard explain slopes --label "centre(rain)=mm of rain" --to slopes.docx
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument(
        "--label", metavar="NAME=TEXT", action="append", default=[], help="a column or term in words (repeatable)"
    )
    output_options(parser, idle=("figure", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import explain

    return explain(args.fit, label=args.label, digits=args.digits, confidence=args.confidence)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, one_fit=True)
