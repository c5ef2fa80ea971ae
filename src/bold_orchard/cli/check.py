"""Check a fit at every level: residuals of rows, effects of units, patterns left over, influence of each unit."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import fit_argument, output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard check slopes --figure check.png
  orchard check slopes --kind influence --figure influence.png
  orchard check slopes --time season --unit orchard
  orchard check slopes --unit "tree in orchard"
  orchard check slopes --csv residuals.csv --csv-units effects.csv
"""
KINDS = ("overview", "rows", "predictors", "effects", "influence", "time")


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--kind", choices=KINDS, default="overview",
                        help="the picture: everything at a glance (default) or one question at full size")  # fmt: skip
    parser.add_argument("--unit", metavar="UNIT",
                        help="the unit for within-group residuals, spread, time and influence (default: of each what fits); "
                        "one that the model lacks, tree in orchard, is also asked whether it should be there")  # fmt: skip
    parser.add_argument("--time", metavar="COLUMN", help="a column that orders a unit's rows, for autocorrelation")
    parser.add_argument("--influence", choices=("one-step", "exact", "none"),
                        help="of each unit: one step of the search (default where quick), or the fit made anew without it")  # fmt: skip
    parser.add_argument("--csv-units", metavar="FILE", help="one row per unit as CSV: effects and influence")
    output_options(parser, idle=("confidence", "strips"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).check(
        unit=args.unit, time=args.time, influence=args.influence, seed=args.seed, kind=args.kind, progress=progress
    )


def beside(args: argparse.Namespace, answer: Answer) -> None:
    from bold_orchard.results.check import CheckResult
    from bold_orchard.storage.files import write_rows

    if args.csv_units and isinstance(answer.result, CheckResult):
        write_rows(args.csv_units, answer.result.units_table())


COMMAND = Command(
    str(__doc__),
    EXAMPLE,
    add_options,
    answer,
    beside=beside,
    working="leaving units out",
    other_files=("csv_units",),
    one_fit=True,
)
