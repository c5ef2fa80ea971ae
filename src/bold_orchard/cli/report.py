"""One page that holds the study: data, models, comparison, checks, variation, methods, and the plan that makes it again."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard report empty rain slopes --to study.html
  orchard report slopes --title "Rain and harvest" --to study.docx --to study.html
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="+", help="saved fits, the simplest first")
    parser.add_argument("--title", metavar="TEXT", help="what stands at the head of the page")
    parser.add_argument("--labels", metavar="FILE", help='a TOML file of labels for its table, rain = "Rain (mm)"')
    output_options(parser, idle=("figure", "confidence", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import report

    return report(*args.fits, title=args.title, digits=args.digits, labels=args.labels, progress=progress)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, working="writing", short=True)
