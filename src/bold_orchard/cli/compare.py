"""Compare fits of the same rows: likelihood-ratio tests and information criteria."""

from __future__ import annotations

import argparse
from typing import Any

from bold_orchard.cli.options import check_targets, deliver, output_options

EXAMPLE = """examples:
  orchard compare empty rain slopes
  orchard compare rain slopes --bootstrap 1000 --seed 7
  orchard compare rain slopes --figure compare.png
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="+", help="two or more saved fits")
    parser.add_argument("--force", action="store_true", help="compare fits that did not converge all the same")
    parser.add_argument("--common-rows", action="store_true", help="refit on the rows that all fits share")
    parser.add_argument("--bootstrap", metavar="N", type=int, default=0,
                        help="also judge each test by N outcomes simulated from the smaller model")  # fmt: skip
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.cli.progress import Steps
    from bold_orchard.errors import UsageError
    from bold_orchard.inference.comparison.compare import compare_fits
    from bold_orchard.reporting.pages.others import compare_page
    from bold_orchard.storage.saved_fits import open_fit

    if args.bootstrap and args.bootstrap < 20:
        raise UsageError("--bootstrap needs 20 simulated outcomes or more")
    check_targets(args)
    opened = [open_fit(name) for name in args.fits]
    with Steps("simulating", args.quiet) as progress:
        document, fits = compare_fits(opened, args.force, args.common_rows, args.bootstrap, args.seed, progress)

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.inference.prediction.average_lines import compared_lines
        from bold_orchard.reporting.figures.compare import compare_figure

        return compare_figure(document, compared_lines(fits))

    deliver(args, document, compare_page, lambda: _table(document), picture)
    return 0 if all(m["converged"] for m in document["models"]) else 4


def _table(document: dict[str, Any]) -> list[dict[str, Any]]:
    """The models, and below them the tests of each pair with the variances explained."""
    rows = [{"part": "model"} | m for m in document["models"]]
    for t in document["tests"]:
        flat = {k: v for k, v in t.items() if k != "variance_explained"}
        explained = {f"explained {v['group']}: {v['term']}": v["proportion"] for v in t["variance_explained"]}
        rows.append({"part": "test"} | flat | explained)
    return rows
