"""The equations of a fit: level by level, in one line, and what every symbol means."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import fit_argument, output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard equations slopes
  orchard equations slopes --estimates
  orchard equations slopes --to model.tex --to model.docx --to model.html
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--estimates", action="store_true", help="numbers in place of the coefficients and variances")
    output_options(parser, idle=("figure", "confidence", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).equations(estimates=args.estimates, digits=args.digits)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, one_fit=True)
