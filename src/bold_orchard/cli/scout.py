"""Meet the data: columns, missing cells, which columns group the rows, what varies inside a group."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import data_options, label_options, order_option, orders, output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard scout harvest.csv
  orchard scout harvest.csv --unit orchard --outcome yield --figure yield.png
  orchard scout harvest.csv --by soil+pruning --outcome yield
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "data", metavar="DATA", help="CSV, TSV, Parquet, xlsx, ods or JSON lines; - for CSV on standard input"
    )
    parser.add_argument("--unit", metavar="COLUMN", action="append", default=[],
                        help="a grouping column to look inside (repeatable; default: the likeliest ones)")  # fmt: skip
    parser.add_argument(
        "--outcome", metavar="COLUMN", help="the column to draw by unit (with --figure), or to summarise (with --by)"
    )
    parser.add_argument(
        "--by",
        metavar="COLUMNS",
        default="",
        help="n, mean and SD of the outcome in each cell of these columns: soil+pruning",
    )
    data_options(parser)
    order_option(parser)
    label_options(parser)
    output_options(parser, idle=("confidence", "strips", "seed"))


def prepare(args: argparse.Namespace) -> None:
    from bold_orchard.tables import check_missing_syntax

    check_missing_syntax(args.missing)


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import scout
    from bold_orchard.wording import asked_wording

    return scout(
        args.data,
        args.unit,
        outcome=args.outcome,
        missing=args.missing,
        where=args.where,
        by=args.by or (),
        order=orders(args.order),
        labels=asked_wording(args.data, args.labels, args.label),
    )


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, prepare)
