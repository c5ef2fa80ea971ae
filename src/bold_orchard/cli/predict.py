"""Predicted values for the rows of the data (those without an outcome too) or for new rows."""

from __future__ import annotations

import argparse
from typing import Any

from bold_orchard.cli.options import check_targets, data_options, deliver, fit_argument, output_options

EXAMPLE = """examples:
  orchard predict slopes --csv predicted.csv --figure predicted.png
  orchard predict slopes --new-observation --csv next-harvest.csv
  orchard predict slopes --new next-season.csv --json
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--new", metavar="DATA", help="a table of new rows (default: the rows of the fit's own data)")
    parser.add_argument("--new-observation", action="store_true",
                        help="intervals for one more outcome of each row, not for its mean")  # fmt: skip
    data_options(parser)
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.data.read import read_table
    from bold_orchard.inference.prediction.predict import predict_document
    from bold_orchard.reporting.pages.others import predict_page
    from bold_orchard.storage.saved_fits import open_fit, own_table

    check_targets(args)
    fit = open_fit(args.fit)
    table = read_table(args.new, args.missing, args.where) if args.new else own_table(args.fit)
    document = predict_document(fit, table, args.confidence or fit.settings.confidence, args.new_observation, args.seed)
    rows = document["rows"]

    def picture() -> Any:
        from bold_orchard.reporting.figures.predict import predict_figure

        return predict_figure(document)

    deliver(args, document, predict_page, lambda: rows, picture)
    return 0 if fit.converged else 4
