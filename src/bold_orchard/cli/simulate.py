"""Outcomes drawn from a fit, as rows that the same sentence could be fitted to."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import data_options, fit_argument, output_options
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard simulate slopes --draws 20 --to drawn.csv
  orchard simulate slopes --new next-season.csv --draws 100 --to next.csv --seed 7
"""
DATA = (".csv", ".parquet")


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--draws", metavar="N", type=int, default=1, help="outcomes of all rows (default 1)")
    parser.add_argument("--new", metavar="DATA", help="a table of other rows (default: the rows of the fit's own data)")
    data_options(parser)
    output_options(parser, idle=("figure", "confidence", "strips"))


def prepare(args: argparse.Namespace) -> None:
    if not args.csv and not any(path.lower().endswith(DATA) for path in args.to):
        raise UsageError("simulate writes rows to a file: add --to drawn.csv (or .parquet)")


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).simulate(args.draws, new=args.new, missing=args.missing, where=args.where, seed=args.seed)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, prepare, forms=(".parquet",), one_fit=True)
