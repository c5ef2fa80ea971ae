"""What was predicted for each unit, and how surely: effects, intervals, ranks, the unit's own coefficients."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import fit_argument, output_options, posterior_option

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard groups slopes
  orchard groups slopes --csv groups.csv --figure groups.png
  orchard groups slopes --posterior draws.parquet
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    posterior_option(parser)
    output_options(parser, idle=("strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).groups(confidence=args.confidence, posterior=args.posterior)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, one_fit=True)
