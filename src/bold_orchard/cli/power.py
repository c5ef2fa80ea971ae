"""How many units and rows does the next study need?"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import output_options
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard power slopes --effect "centre(rain) = 0.1" --units orchard=10,20,40 --want 0.8 --quick
  orchard power slopes --effect "hard - light = 1" --effect "sd(orchard: centre(rain))" --runs 100
  orchard power slopes --units orchard=10,20 --rows 3,6 --quick --uncertain --figure power.png

an imagined study, design.toml, needs no data (orchard power --design design.toml):
  sentence = "yield = rain + pruning; each orchard: intercept; each tree in orchard: intercept"
  [units]                  # of a nested unit the number in each level of its parent; rows in each level of the smallest
  "orchard" = [10, 20, 40]
  "tree in orchard" = 6
  rows = 4
  [columns]                # normal(mean, sd), uniform(low, high), chance(p), or in turn levels(...), values(...); by UNIT, or each row
  rain = "normal(60, 15) by orchard"
  pruning = "levels(none, light, hard) by tree"
  [effects]                # every coefficient
  intercept = 20
  rain = 0.1
  "pruning[light]" = 1
  "pruning[none]" = -2
  [variation]              # every SD; correlations are zero unless given: "correlation(orchard: intercept, rain)" = 0.3
  "sd(orchard: intercept)" = 3
  "sd(tree in orchard: intercept)" = 2
  "sd(residual)" = 4
and, where they are needed: family = "poisson", link, grades, baseline = {pruning = "none"}, method, df
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "fit", metavar="FIT", nargs="?", help="a saved fit to plan from: its rows, sentence and estimates"
    )
    parser.add_argument("--design", metavar="FILE", help="an imagined study instead of a fit (see below)")
    parser.add_argument("--effect", metavar="EFFECT", action="append", default=[],
                        help='"TERM = VALUE", a coefficient, a contrast, or "sd(orchard: rain) = 0.2"; without a value as estimated (repeatable; default: every term)')  # fmt: skip
    parser.add_argument("--units", metavar="UNIT=N,N", action="append", default=[],
                        help="numbers of levels to try; of a nested unit in each level of its parent (repeatable)")  # fmt: skip
    parser.add_argument("--rows", metavar="N,N", help="rows to try in each level of the smallest unit")
    parser.add_argument("--alpha", metavar="P", type=float, default=0.05, help="level of the tests (default 0.05)")
    parser.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"),
                        help="degrees of freedom (default: those of the fit)")  # fmt: skip
    parser.add_argument(
        "--runs", metavar="N", type=int, default=400, help="simulated studies of each size (default 400)"
    )
    parser.add_argument("--quick", action="store_true", help="by formula alone, from the expected information")
    parser.add_argument(
        "--want", metavar="POWER", type=float, help="name the smallest listed size that reaches it: 0.8"
    )
    parser.add_argument("--uncertain", action="store_true",
                        help="also the power if the pilot's estimates err, drawn from their distribution")  # fmt: skip
    output_options(parser, idle=("confidence",))


def prepare(args: argparse.Namespace) -> None:
    if (args.fit is None) == (args.design is None):
        raise UsageError(
            'power needs a saved fit or --design FILE, one of them: orchard power FIT --effect "TERM = VALUE"'
        )


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.planned import power

    if args.design is None:
        from bold_orchard.api import open_fit

        study = open_fit(args.fit).core
    else:
        study = args.design
    return power(
        study, *args.effect, units=args.units, rows=args.rows or (), alpha=args.alpha,
        df=args.df, runs=args.runs, quick=args.quick, want=args.want, uncertain=args.uncertain, seed=args.seed, progress=progress,
    )  # fmt: skip


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, prepare, working="simulating")
