"""What does the posterior say, under priors of my own?"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import output_options
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard sample slopes --figure trace.png
  orchard sample slopes --prior "centre(rain) = normal(0, 0.1)" --prior "sd(orchard: intercept) = half-normal(5)" --save slopes
  orchard sample slopes --draws 2000 --keep draws.parquet --kind density --figure density.png
  orchard sample slopes.posterior.json

laws: normal(m, s)  student(df, m, s)  half-normal(s)  half-student(df, s)  exponential(rate)  lkj(eta)  flat
parameters are named as orchard intervals names them; fixed stands for all coefficients but the intercept
"""
KINDS = ("trace", "density", "ranks", "pairs", "replicates")
KEPT = (".parquet", ".arrow", ".csv")


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fit", metavar="FIT", nargs="?",
                        help="a saved fit, or a posterior kept by --save (NAME.posterior.json) (default: the fit saved last here)")  # fmt: skip
    parser.add_argument("--prior", metavar="PRIOR", action="append", default=[],
                        help='"PARAMETER = law(...)" (repeatable; default: weak laws on the scale of the data)')  # fmt: skip
    parser.add_argument(
        "--prior-only", action="store_true", help="draw from the prior, and show what outcomes it implies"
    )
    parser.add_argument("--chains", metavar="N", type=int, default=4, help="default 4")
    parser.add_argument(
        "--warmup", metavar="N", type=int, default=1000, help="draws that tune the sampler (default 1000)"
    )
    parser.add_argument("--draws", metavar="N", type=int, default=1000, help="draws kept of each chain (default 1000)")
    parser.add_argument(
        "--keep", metavar="FILE", help="every draw of every parameter and effect: .parquet, .arrow or .csv"
    )
    parser.add_argument("--save", metavar="NAME", help="keep the posterior as NAME.posterior.json")
    parser.add_argument("--compare", metavar="POSTERIOR", action="append", default=[],
                        help="set leave-one-out beside that of another kept posterior of the same rows (repeatable)")  # fmt: skip
    parser.add_argument("--kind", choices=KINDS, default="trace", help="which picture --figure draws (default: trace)")
    output_options(parser, idle=("strips",))


def prepare(args: argparse.Namespace) -> None:
    if args.keep and not args.keep.lower().endswith(KEPT):
        raise UsageError(f"--keep writes {', '.join(KEPT)}, not '{args.keep}'; give another ending")
    if args.fit.endswith(".posterior.json") and (args.prior or args.keep or args.prior_only or args.figure):
        raise UsageError(
            f"{args.fit} is a posterior already: --prior, --prior-only, --keep and --figure need new draws; name the fit instead"
        )


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.sampled import open_posterior, sample

    if args.fit.endswith(".posterior.json"):
        return open_posterior(args.fit, args.compare)
    from bold_orchard.api import open_fit

    return sample(
        open_fit(args.fit).core, prior=args.prior, prior_only=args.prior_only, chains=args.chains, warmup=args.warmup, draws=args.draws,
        kind=args.kind, confidence=args.confidence, seed=args.seed, compare=args.compare,
        progress=lambda done, total, bad: progress(done, total, f"sampling ({bad:,} diverged)"),
    )  # fmt: skip


def beside(args: argparse.Namespace, answer: Answer) -> None:
    from bold_orchard.sampled import keep, save

    if args.keep:
        keep(answer, args.keep)
    if args.save:
        args.saved = save(answer, args.save)


def after(args: argparse.Namespace, answer: Answer) -> None:
    from bold_orchard.cli.options import say

    if args.save:
        say(args, f"saved as {args.saved}")


COMMAND = Command(
    str(__doc__),
    EXAMPLE,
    add_options,
    answer,
    prepare,
    beside,
    after,
    working="sampling",
    other_files=("keep",),
    one_fit=True,
)
