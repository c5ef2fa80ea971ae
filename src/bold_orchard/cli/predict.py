"""Predicted values for the rows of the data (those without an outcome too) or for new rows."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import data_options, fit_argument, one_outcome_option, output_options, posterior_option

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard predict slopes --csv predicted.csv --figure predicted.png
  orchard predict slopes --new-observation --csv next-harvest.csv
  orchard predict slopes --new next-season.csv --json
  orchard predict slopes --posterior draws.parquet --new-observation --csv predicted.csv
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--new", metavar="DATA", help="a table of new rows (default: the rows of the fit's own data)")
    parser.add_argument("--new-observation", action="store_true",
                        help="intervals for one more outcome of each row, not for its mean")  # fmt: skip
    one_outcome_option(parser)
    data_options(parser)
    posterior_option(parser)
    output_options(parser, idle=("strips",))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).predict(
        args.new, new_observation=args.new_observation, missing=args.missing, where=args.where, seed=args.seed,
        confidence=args.confidence, posterior=args.posterior, progress=progress, outcome=args.outcome,
    )  # fmt: skip


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, one_fit=True)
