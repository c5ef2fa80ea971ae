"""Print a saved fit again, in any form."""

from __future__ import annotations

import argparse

from bold_orchard.cli.fit import fixed_table
from bold_orchard.cli.options import check_targets, deliver, output_options

EXAMPLE = """examples:
  orchard show slopes
  orchard show slopes --json
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fit", metavar="FIT", help="a name given to --save, or the path of its file")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.inference.summary import with_confidence
    from bold_orchard.store import load_document
    from bold_orchard.text.fit import fit_page

    check_targets(args)
    document = load_document(args.fit)
    if args.confidence:
        document = with_confidence(document, args.confidence)
    if args.json:
        document = {k: v for k, v in document.items() if k != "saved"}

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.figures.fit import fit_figure

        return fit_figure(document)

    deliver(args, document, fit_page, lambda: fixed_table(document), picture)
    return 0 if document["convergence"]["converged"] else 4
