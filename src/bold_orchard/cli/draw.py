"""Draw a fit: each unit's line over the data, predicted against observed, effects of predictors, coefficients."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import one_outcome_option, output_options, part_option

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard draw slopes --figure lines.png
  orchard draw slopes --kind panels --units "Ivy Lane,Barrow,Kestrel" --figure panels.png
  orchard draw slopes --kind effects --along rain --by pruning --figure effects.png
  orchard draw slopes --by soil --figure by-soil.png
  orchard draw rain slopes --kind coefficients --figure coefficients.svg
"""
KINDS = ("lines", "panels", "against", "effects", "coefficients", "imputed")


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="*",
                        help="a name given to --save, or the path of its file; several for coefficients (default: the fit saved last here)")  # fmt: skip
    parser.add_argument("--kind", choices=KINDS, default="lines",
                        help="the picture; lines: all units in one panel (default); panels: small multiples; against: observed against "
                        "predicted; effects: a predictor's effect with its band; coefficients: estimates, of several fits too; imputed: values of "
                        "covariates as observed and as drawn")  # fmt: skip
    parser.add_argument(
        "--along", metavar="COLUMN", help="the predictor along the axis (default: the first number; effects: all)"
    )
    parser.add_argument(
        "--unit", metavar="UNIT", help="whose lines (default: the unit whose effects vary along the predictor)"
    )
    parser.add_argument(
        "--units", metavar="A,B,C", help="only these levels of it (default: all; in panels 12 by --seed)"
    )
    parser.add_argument(
        "--by",
        metavar="COLUMN",
        help="effects: one line for each level of this category; lines: the units' lines in its colours",
    )
    parser.add_argument(
        "--slope", action="store_true", help="effects: how steep the line or curve is along the predictor"
    )
    one_outcome_option(parser)
    part_option(parser)
    output_options(parser, idle=("strips",))


def prepare(args: argparse.Namespace) -> None:
    if args.figure is None and not (args.json or args.csv):
        args.figure = f"{Path(args.fits[0]).name.removesuffix('.fit.json')}-{args.kind}.png"


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import draw

    units = [n.strip() for n in args.units.split(",")] if args.units else []
    return draw(
        *args.fits, kind=args.kind, along=args.along, unit=args.unit, units=units, by=args.by,
        confidence=args.confidence, seed=args.seed, figure=args.figure, slope=args.slope, outcome=args.outcome, part=args.part,
    )  # fmt: skip


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, prepare, one_fit=True)
