"""Compare fits of the same rows: likelihood-ratio tests and information criteria."""

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
  orchard compare empty rain slopes
  orchard compare rain slopes --bootstrap 1000 --seed 7
  orchard compare rain slopes --figure compare.png
  orchard compare rain slopes --leave-out orchard --folds 6
  orchard compare rain slopes --leave-out rows --repeats 5
  orchard compare rain slopes --against empty
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="+", help="two or more saved fits")
    parser.add_argument("--force", action="store_true", help="compare fits that did not converge all the same")
    parser.add_argument("--common-rows", action="store_true", help="refit on the rows that all fits share")
    parser.add_argument(
        "--against", metavar="FIT", help="test every fit against this one, instead of neighbours by size"
    )
    parser.add_argument("--bootstrap", metavar="N", type=int, default=0,
                        help="also judge each test by N outcomes simulated from the smaller model")  # fmt: skip
    parser.add_argument(
        "--leave-out",
        metavar="UNIT",
        help="also score each fit on units that it has not seen; rows: on rows of units it has seen",
    )
    parser.add_argument(
        "--folds", metavar="K", type=int, help="leave out in K folds (default: units one by one, rows in ten)"
    )
    parser.add_argument("--repeats", metavar="R", type=int, help="share the rows out R times (default 1)")
    output_options(parser, idle=("confidence", "strips"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import compare

    return compare(
        args.fits, force=args.force, common_rows=args.common_rows, against=args.against, bootstrap=args.bootstrap, seed=args.seed,
        leave_out=args.leave_out, folds=args.folds, repeats=args.repeats,
        progress=progress,
    )  # fmt: skip


def prepare(args: argparse.Namespace) -> None:
    if args.bootstrap and args.bootstrap < 20:
        raise UsageError("--bootstrap needs 20 simulated outcomes or more")


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, prepare, working="simulating")
