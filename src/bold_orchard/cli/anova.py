"""The classical analysis of variance of a sentence of categories: the right error for every line."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import fit_argument, output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard anova soils
  orchard anova soils --type 1 --figure means.png
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--type", type=int, choices=(1, 2, 3), default=3, dest="kind",
                        help="sums of squares: 1 in the order of the sentence, 2 beside all that do not contain it, 3 sum to zero (default)")  # fmt: skip
    parser.add_argument(
        "--restricted",
        action="store_true",
        help="effects of a mixed interaction add to zero over the fixed factor (balanced data)",
    )
    output_options(parser, idle=("confidence", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).anova(args.kind, restricted=args.restricted)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, one_fit=True)
