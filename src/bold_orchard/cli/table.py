"""The publication table: fits side by side, for the word processor, LaTeX or the web."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import errors_option, output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard table empty rain slopes
  orchard table empty rain slopes --headings "Empty,Rain,Slopes" --to table.docx --to table.tex
  orchard table slopes --cells "estimate (se)\\ninterval" --label "rain=Rain (mm)"
  orchard table fruit-set --cells "ratio (interval)" --drop intercept
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="+", help="one to ten saved fits, a column each")
    parser.add_argument("--headings", metavar="A,B,C", help="names of the columns (default: the fits')")
    parser.add_argument("--cells", metavar="PATTERN", default="estimate (se)",
                        help='what stands in a cell: estimate, se, interval, p, df, ratio, with any signs between; \\n stacks (default "estimate (se)")')  # fmt: skip
    parser.add_argument("--labels", metavar="FILE", help='a TOML file of labels, rain = "Rain (mm)"')
    parser.add_argument("--label", metavar="NAME=LABEL", action="append", default=[],
                        help="one label, of a term, a column or a unit (repeatable)")  # fmt: skip
    parser.add_argument("--caption", metavar="TEXT", default="", help="stands above the table")
    parser.add_argument(
        "--drop", metavar="TERM", action="append", default=[], help="a term that is left out (repeatable)"
    )
    parser.add_argument("--order", metavar="A,B,C", help="terms that stand first, in this order")
    errors_option(parser)
    output_options(parser, idle=("figure", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import side_by_side

    return side_by_side(
        *args.fits, headings=_names(args.headings), cells=args.cells, labels=args.labels, label=args.label, caption=args.caption,
        drop=args.drop, order=_names(args.order), digits=args.digits, confidence=args.confidence, errors=args.errors,
    )  # fmt: skip


def _names(text: str | None) -> list[str]:
    return [n.strip() for n in text.split(",")] if text else []


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer)
