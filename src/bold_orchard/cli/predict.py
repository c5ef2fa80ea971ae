"""Predicted values for the rows of the data (those without an outcome too) or for new rows."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from bold_orchard.cli.options import beside, check_targets, data_options, deliver, fit_argument, output_options
from bold_orchard.text.numbers import count

if TYPE_CHECKING:
    from bold_orchard.fitting import Fit

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
    from bold_orchard.inference.predict import outside, predict
    from bold_orchard.store import open_fit, own_table
    from bold_orchard.table.read import read_table
    from bold_orchard.text.others import predict_page

    check_targets(args)
    fit = open_fit(args.fit)
    table = read_table(args.new, args.missing, args.where) if args.new else own_table(args.fit)
    confidence = args.confidence or fit.settings.confidence
    made = predict(fit, table, confidence, args.new_observation, args.seed)
    columns: dict[str, Any] = {
        "predicted": made.predicted, "se": made.se, "low": made.low, "high": made.high,
        "predicted_average": made.average, "residual": made.residual,
    } | {f"probability[{level}]": p for level, p in made.probabilities.items()}  # fmt: skip
    names = {c.name for c in fit.design.units}
    columns["units_known"] = _units_known(fit, made.known)
    frame = beside(table.frame, columns, fit.name)
    rows = [
        {"row": int(r)} | {str(k): v for k, v in record.items()}
        for r, record in zip(table.row_numbers, frame.to_dict("records"))
    ]
    document = {
        "schema": "bold-orchard/predict/1",
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "confidence": confidence,
        "df": fit.settings.df,
        "units": sorted(names),
        "new_units": int((made.known == 0).any(axis=1).sum()),
        "rows": rows,
        "new_observation": args.new_observation,
        "notes": [*_notes(made.known), *_beyond(outside(fit, table))],
    }

    def picture() -> Any:
        from bold_orchard.figures.predict import predict_figure

        return predict_figure(document)

    deliver(args, document, predict_page, lambda: rows, picture)
    return 0 if fit.converged else 4


def _units_known(fit: Fit, known: Any) -> list[str]:
    """For each row 'all', or the units whose level was not in the fit; nothing where there is no prediction."""
    names = [str(each.unit) for each in fit.design.sentence.each]

    def words(row: Any) -> str:
        new = list(dict.fromkeys(n for n, k in zip(names, row) if k == 0))
        return f"not {', '.join(new)}" if new else "all" if not any(math.isnan(k) for k in row) else ""

    return [words(row) for row in known]


def _beyond(found: list[tuple[str, int]]) -> list[str]:
    return [
        f"{count(rows, 'row')} with {column} beyond the values of the fit's data: predictions there extrapolate."
        for column, rows in found
    ]


def _notes(known: Any) -> list[str]:
    new = int((known == 0).any(axis=1).sum())
    if not new:
        return []
    return [
        f"{count(new, 'row')} of units that were not in the fit (column units_known): the average, and the wider error that belongs to it."
    ]
