"""One sentence, many outcomes: a fit of each column that a pattern names, or of the rows of each level of a column."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import data_options, outcome_given, outcome_options, output_options
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard scan harvest.csv "outcome = centre(rain) + soil; each orchard: intercept" --outcomes yield --outcomes rain --missing -999
  orchard scan harvest.csv "yield = centre(rain); each orchard: intercept" --by season --missing -999 --figure scan.png
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("data", metavar="DATA", help="a file, a folder or a quoted pattern of files")
    parser.add_argument(
        "sentence",
        metavar="SENTENCE",
        help='"outcome = rain; each orchard: intercept"; with --by the outcome by its name',
    )
    group = parser.add_argument_group("the scan")
    group.add_argument(
        "--outcomes",
        metavar="PATTERN",
        action="append",
        default=[],
        help='columns, or a quoted pattern "aroma_*" (repeatable)',
    )
    group.add_argument("--by", metavar="COLUMN", help="one fit for each level of a column instead")
    group.add_argument(
        "--correction",
        choices=("bh", "holm", "none"),
        default="bh",
        help="of the p-values, over the outcomes (default: bh)",
    )
    group.add_argument("--only", metavar="TERM", help="the rows of one term alone")
    group.add_argument(
        "--into", metavar="FILE", help="keep each fit in a file as it is made, and go on from there after a stop"
    )
    outcome_options(parser.add_argument_group("the model"))
    data_options(parser)
    output_options(parser, idle=("strips", "seed"))


def prepare(args: argparse.Namespace) -> None:
    if bool(args.outcomes) == (args.by is not None):
        raise UsageError(
            'a scan goes over --outcomes "aroma_*" or over the levels of a column, --by season; give one of them'
        )
    if args.ratios:
        raise UsageError("--ratios: a scan gives coefficients; leave it out")


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import scan

    given = {k: v for k, v in outcome_given(args).items() if k != "ratios"}
    return scan(args.sentence, args.data, args.outcomes, by=args.by, correction=args.correction, only=args.only, into=args.into,
                missing=args.missing, where=args.where, confidence=args.confidence or 0.95, progress=progress, **given)  # fmt: skip


COMMAND = Command(
    str(__doc__), EXAMPLE, add_options, answer, prepare, working="fitting", forms=(".parquet",), other_files=("into",)
)
