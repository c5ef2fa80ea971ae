"""Predicted values for the rows of the data (those without an outcome too) or for new rows."""

from __future__ import annotations

import argparse

from bold_orchard.cli.options import check_targets, data_options, deliver, output_options

EXAMPLE = """examples:
  orchard predict slopes --csv predicted.csv
  orchard predict slopes --new-observation --csv next-harvest.csv
  orchard predict slopes --new next-season.csv --json
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fit", metavar="FIT", help="a name given to --save, or the path of its file")
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
    columns = {
        "predicted": made.predicted, "se": made.se, "low": made.low, "high": made.high,
        "predicted_average": made.average, "residual": made.residual,
    } | {f"probability[{level}]": p for level, p in made.probabilities.items()}  # fmt: skip
    names = {c.name for c in fit.design.units}
    frame = table.frame.assign(**columns)
    rows = [
        {"row": int(r)} | {str(k): v for k, v in record.items()}
        for r, record in zip(table.row_numbers, frame.to_dict("records"))
    ]
    document = {
        "schema": "bold-orchard/predict/1",
        "name": fit.name,
        "model": fit.result["model"],
        "confidence": confidence,
        "df": fit.settings.df,
        "units": sorted(names),
        "new_units": int((made.known == 0).any(axis=1).sum()),
        "rows": rows,
        "new_observation": args.new_observation,
        "notes": [*_notes(made.known), *_beyond(outside(fit, table))],
    }
    deliver(args, document, predict_page, lambda: rows)
    return 0 if fit.converged else 4


def _beyond(found: list[tuple[str, int]]) -> list[str]:
    return [
        f"{rows:,} rows have {column} beyond the values of the fit's data: their predictions extrapolate."
        for column, rows in found
    ]


def _notes(known) -> list[str]:  # type: ignore[no-untyped-def]
    new = int((known == 0).any(axis=1).sum())
    if not new:
        return []
    return [
        f"{new:,} rows belong to units that were not in the fit: they get the average, and the wider error that belongs to it."
    ]
