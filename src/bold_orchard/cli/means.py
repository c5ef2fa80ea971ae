"""Adjusted means of a term's levels, and the differences between them."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import (
    errors_option,
    fit_argument,
    one_outcome_option,
    output_options,
    part_option,
    posterior_option,
)
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard means slopes pruning --differences
  orchard means slopes "pruning*soil" --differences --within soil --figure means.png
  orchard means slopes pruning --against none --letters --effect-sizes
  orchard fit --from slopes --add "pruning * centre(rain)" --save crossed
  orchard means crossed pruning --curve rain --figure where.png
  orchard means slopes pruning --hold rain=40,80
  orchard means slopes pruning --posterior draws.parquet --differences
"""
CORRECTIONS = ("tukey", "sidak", "bonferroni", "holm", "none")


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("term", metavar="TERM", nargs="?",
                        help="a category of the fixed part, or a product: pruning*soil (default: all of them)")  # fmt: skip
    parser.add_argument("--hold", metavar="COLUMN=VALUES", action="append", default=[],
                        help="a column held at values of its own: rain=10,20 or soil=clay (repeatable)")  # fmt: skip
    parser.add_argument("--differences", action="store_true", help="print all pairwise differences")
    parser.add_argument("--correction", choices=CORRECTIONS, default="tukey",
                        help="for the number of differences (default: tukey)")  # fmt: skip
    parser.add_argument(
        "--within", metavar="COLUMN", help="differences inside one level of this factor of the term only"
    )
    parser.add_argument("--against", metavar="LEVEL", help="differences of each level from one, judged together")
    parser.add_argument("--letters", action="store_true", help="letters: levels that share one do not differ")
    parser.add_argument(
        "--effect-sizes", action="store_true", help="differences in SDs too, of a new observation and of the residual"
    )
    parser.add_argument("--trend", action="store_true", help="linear, quadratic, ... contrasts along the levels")
    parser.add_argument(
        "--curve",
        metavar="COLUMN",
        help="differences along a number: where two levels differ, all of the line together",
    )
    parser.add_argument("--ratios", action="store_true", help="differences as odds, rate or hazard ratios too")
    parser.add_argument("--sed", action="store_true", help="print the whole matrix of standard errors of differences")
    parser.add_argument("--slope", metavar="COLUMN", help="slopes of a covariate per level instead of means")
    parser.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"),
                        help="degrees of freedom (default: those of the fit)")  # fmt: skip
    one_outcome_option(parser)
    part_option(parser)
    parser.add_argument("--force", action="store_true", help="go on with a fit that did not converge")
    posterior_option(parser)
    errors_option(parser)
    output_options(parser, idle=("seed",))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).means(
        args.term, hold=_held(args.hold), differences=args.differences, correction=args.correction, df=args.df,
        slope=args.slope, within=args.within, ratios=args.ratios, sed=args.sed, force=args.force,
        confidence=args.confidence, errors=args.errors, posterior=args.posterior, against=args.against, letters=args.letters,
        effect_sizes=args.effect_sizes, trend=args.trend, outcome=args.outcome, curve=args.curve, part=args.part,
    )  # fmt: skip


def _held(entries: list[str]) -> dict[str, list[float | str]]:
    out: dict[str, list[float | str]] = {}
    for entry in entries:
        column, sign, values = entry.partition("=")
        wanted = [v.strip() for v in values.split(",")]
        if not sign or not column.strip() or not all(wanted):
            raise UsageError(f"--hold is written COLUMN=VALUE,VALUE, not '{entry}'")
        out.setdefault(column.strip(), []).extend(wanted)
    return out


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, one_fit=True)
