"""Which fixed terms matter: F or Wald tests of every term, and tests of your own contrasts."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import errors_option, fit_argument, output_options, posterior_option

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard terms slopes
  orchard terms slopes --figure terms.png
  orchard terms slopes --type 1 --chisq
  orchard terms soils --effect-sizes
  orchard terms slopes --contrast "hard - light" --contrast "centre(rain) = 0.25"
  orchard terms slopes --posterior draws.parquet --contrast "hard - light"
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--type", type=int, choices=(1, 2, 3), default=3,
                        help="1 sequential, 2 after every term that does not contain it, 3 marginal (default)")  # fmt: skip
    parser.add_argument("--chisq", action="store_true", help="Wald chi-squared instead of F")
    parser.add_argument("--likelihood", action="store_true",
                        help="likelihood-ratio chi-squared, each model without the term fitted anew by ML")  # fmt: skip
    parser.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"),
                        help="degrees of freedom (default: those of the fit)")  # fmt: skip
    parser.add_argument(
        "--contrast", metavar="TEXT", action="append", default=[], help="a hypothesis of your own (repeatable)"
    )
    parser.add_argument("--effect-sizes", action="store_true",
                        help="partial eta and omega squared from F and df, and the change of the marginal R2")  # fmt: skip
    parser.add_argument("--force", action="store_true", help="go on with a fit that did not converge")
    posterior_option(parser)
    errors_option(parser)
    output_options(parser, idle=("seed",))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).terms(
        args.type, df=args.df, chisq=args.chisq, likelihood=args.likelihood, contrast=args.contrast, force=args.force,
        confidence=args.confidence, errors=args.errors, posterior=args.posterior, effect_sizes=args.effect_sizes,
    )  # fmt: skip


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, one_fit=True)
