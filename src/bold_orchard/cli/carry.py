"""A second outcome explained by the effects of units, with the uncertainty they are known with."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import (
    data_options,
    fit_argument,
    outcome_given,
    outcome_options,
    output_options,
    posterior_option,
)

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard carry slopes blossom.csv "fruit of counted = effect(orchard: intercept) + bees; each orchard: intercept" --imputations 20
  orchard carry slopes pests.csv "moths = effect(orchard: intercept)*netting + effect(orchard: centre(rain)); each orchard: intercept" \\
      --family poisson --naive --imputations 20
  orchard carry slopes blossom.csv "fruit of counted = effect(orchard: intercept); each orchard: intercept" --imputations 20 --posterior draws.parquet
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument(
        "data", metavar="DATA", help="the second outcome's rows, one for each unit or many, with the unit's column"
    )
    parser.add_argument(
        "sentence", metavar="SENTENCE", help='the second model: "price = effect(tree: intercept) + soil"'
    )
    parser.add_argument("--imputations", metavar="N", type=int, default=100, help="draws of the effects (default 100)")
    parser.add_argument(
        "--naive", action="store_true", help="show the fit to the predicted effects, taken as known, beside"
    )
    parser.add_argument("--drop-constant", action="store_true", help="leave out units whose first outcome never varies")
    posterior_option(parser)
    group = parser.add_argument_group("the second model")
    outcome_options(group)
    data_options(parser)
    output_options(parser, idle=("figure", "strips"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).carry(
        args.data, args.sentence, imputations=args.imputations, naive=args.naive, drop_constant=args.drop_constant,
        missing=args.missing, where=args.where, confidence=args.confidence or 0.95, seed=args.seed, posterior=args.posterior, progress=progress,
        **outcome_given(args),
    )  # fmt: skip


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, working="drawing")
