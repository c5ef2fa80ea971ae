"""Variance components of a fit: how much variation sits at each level, and how sure we are."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import fit_argument, output_options, posterior_option

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard components slopes
  orchard components slopes --against empty
  orchard components slopes --tests
  orchard components slopes --method profile --figure components.png
  orchard components slopes --posterior draws.parquet
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--method", choices=("wald", "profile"), default="wald",
                        help="intervals on the log scale (default), or by profile likelihood")  # fmt: skip
    parser.add_argument(
        "--against", metavar="FIT", help="also how much of each variance this fit takes away from another's"
    )
    parser.add_argument(
        "--tests", action="store_true", help="each variance, with its covariances, against the model without it"
    )
    posterior_option(parser)
    output_options(parser)


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).components(
        args.method,
        against=args.against,
        confidence=args.confidence,
        posterior=args.posterior,
        progress=progress,
        tests=args.tests,
        seed=args.seed,
    )


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, working="profiling", one_fit=True)
