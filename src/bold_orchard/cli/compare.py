"""Compare fits of the same rows: likelihood-ratio tests and information criteria."""

from __future__ import annotations

import argparse

from bold_orchard.cli.options import check_targets, deliver, output_options

EXAMPLE = """examples:
  orchard compare empty rain slopes
  orchard compare rain slopes --json
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="+", help="two or more saved fits")
    parser.add_argument("--force", action="store_true", help="compare fits that did not converge all the same")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.inference.compare import compare
    from bold_orchard.store import open_fit
    from bold_orchard.text.others import compare_page

    check_targets(args)
    document = compare([open_fit(name) for name in args.fits], args.force)

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.figures.compare import compare_figure

        return compare_figure(document)

    deliver(args, document, compare_page, lambda: document["models"], picture)
    return 0 if all(m["converged"] for m in document["models"]) else 4
