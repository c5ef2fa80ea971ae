"""A second outcome explained by the effects of units, with the uncertainty they are known with."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.fit import baselines
from bold_orchard.cli.options import data_options, fit_argument, output_options
from bold_orchard.families import names

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard carry slopes blossom.csv "fruit of counted = effect(orchard: intercept) + bees; each orchard: intercept" --imputations 20
  orchard carry slopes pests.csv "moths = effect(orchard: intercept)*netting + effect(orchard: centre(rain)); each orchard: intercept" \\
      --family poisson --naive --imputations 20
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
    group = parser.add_argument_group("the second model")
    group.add_argument("--method", choices=("reml", "ml"), default="reml", help="default: reml")
    group.add_argument("--family", choices=names(), help="default: gaussian")
    group.add_argument("--link", metavar="LINK", help="default: the family's own")
    group.add_argument(
        "--baseline",
        metavar="COLUMN=LEVEL",
        action="append",
        default=[],
        help="the level others are compared with (repeatable)",
    )
    group.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"), default="satterthwaite",
                       help="degrees of freedom with the effects known (default: satterthwaite)")  # fmt: skip
    group.add_argument("--weights", metavar="COLUMN", help="the residual variance is sigma^2 / weight")
    group.add_argument("--success", metavar="LEVEL", help="which of two levels counts as success (default: the later)")
    group.add_argument("--grades", metavar="LEVELS", help="grades of an ordinal outcome, lowest first")
    group.add_argument("--ratios", action="store_true", help="also odds, rate or hazard ratios")
    group.add_argument("--force", action="store_true", help="go on where the tool would stop")
    data_options(parser)
    output_options(parser)


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).carry(
        args.data, args.sentence, imputations=args.imputations, naive=args.naive, drop_constant=args.drop_constant, method=args.method,
        family=args.family, link=args.link, baseline=baselines(args.baseline), missing=args.missing, where=args.where,
        weights=args.weights, df=args.df, confidence=args.confidence or 0.95, success=args.success,
        grades=[g.strip() for g in (args.grades or "").split(",") if g.strip()], ratios=args.ratios, force=args.force, seed=args.seed,
        progress=progress,
    )  # fmt: skip


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, working="drawing")
