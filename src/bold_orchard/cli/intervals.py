"""Intervals for every parameter: profile likelihood, Wald, or parametric bootstrap."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import errors_option, fit_argument, output_options
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard intervals slopes
  orchard intervals slopes --figure profile.png
  orchard intervals slopes --bootstrap 2000 --seed 7
"""
METHODS = ("wald", "profile", "bootstrap")


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--method", choices=METHODS, help="default: profile")
    parser.add_argument(
        "--bootstrap", metavar="N", type=int, help="from N simulated outcomes, as --method bootstrap --samples N"
    )
    parser.add_argument(
        "--samples", metavar="N", type=int, help="simulated outcomes of --method bootstrap (default 1000)"
    )
    parser.add_argument("--force", action="store_true", help="go on with a fit that did not converge")
    errors_option(parser)
    output_options(parser)


def prepare(args: argparse.Namespace) -> None:
    args.method = args.method or ("profile" if args.bootstrap is None else "bootstrap")
    for option, samples in (("--bootstrap", args.bootstrap), ("--samples", args.samples)):
        if samples is not None and args.method != "bootstrap":
            raise UsageError(f"{option} belongs to --method bootstrap")
        if samples is not None and samples < 20:
            raise UsageError(f"{option} must be 20 or more")


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import open_fit

    return open_fit(args.fit).intervals(
        args.method, samples=args.bootstrap or args.samples or 1000, seed=args.seed, force=args.force,
        confidence=args.confidence, errors=args.errors, points=12 if args.figure else 0, progress=progress,
    )  # fmt: skip


def working(args: argparse.Namespace) -> str:
    return "profiling" if args.method == "profile" else "simulating"


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, prepare, working=working, one_fit=True)
