"""Intervals for every parameter: profile likelihood, Wald, or parametric bootstrap."""

from __future__ import annotations

import argparse

from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options

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
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.cli.progress import Steps
    from bold_orchard.errors import UsageError
    from bold_orchard.inference.intervals.intervals import intervals
    from bold_orchard.reporting.pages.intervals import intervals_page
    from bold_orchard.storage.saved_fits import open_fit

    method = args.method or ("profile" if args.bootstrap is None else "bootstrap")
    for option, samples in (("--bootstrap", args.bootstrap), ("--samples", args.samples)):
        if samples is not None and method != "bootstrap":
            raise UsageError(f"{option} belongs to --method bootstrap")
        if samples is not None and samples < 20:
            raise UsageError(f"{option} must be 20 or more")
    check_targets(args)
    fit = open_fit(args.fit)
    with Steps("profiling" if method == "profile" else "simulating", args.quiet) as progress:
        document = intervals(fit, method, args.confidence or fit.settings.confidence, 12 if args.figure else 0,
                             args.bootstrap or args.samples or 1000, args.seed, args.force, progress)  # fmt: skip

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.reporting.figures.intervals import intervals_figure

        return intervals_figure(document)

    deliver(args, document, intervals_page, lambda: _table(document["parameters"]), picture)
    return 0 if fit.converged else 4


def _table(rows: list[dict]) -> list[dict]:  # type: ignore[type-arg]
    return [{k: v for k, v in r.items() if k != "profile"} for r in rows]
