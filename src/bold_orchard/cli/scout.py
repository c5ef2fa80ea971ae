"""Meet the data: columns, missing cells, which columns group the rows, what varies inside a group."""

from __future__ import annotations

import argparse

from bold_orchard.cli.options import check_targets, data_options, deliver, output_options
from bold_orchard.errors import UsageError

EXAMPLE = """examples:
  orchard scout harvest.csv
  orchard scout harvest.csv --unit orchard --outcome yield --figure yield.png
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "data", metavar="DATA", help="CSV, TSV, Parquet, xlsx, ods or JSON lines; - for CSV on standard input"
    )
    parser.add_argument("--unit", metavar="COLUMN", action="append", default=[],
                        help="a grouping column to look inside (repeatable; default: the likeliest ones)")  # fmt: skip
    parser.add_argument("--outcome", metavar="COLUMN", help="the column to draw by unit (with --figure)")
    data_options(parser)
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.data.read import check_missing_syntax, read_table
    from bold_orchard.data.scout import scout
    from bold_orchard.reporting.pages.others import scout_page

    check_targets(args)
    check_missing_syntax(args.missing)
    table = read_table(args.data, args.missing, args.where)
    document = scout(table, args.unit)

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.reporting.figures.scout import scout_figure

        units = args.unit or [g["column"] for g in document["groupings"]]
        if not units:
            raise UsageError("--figure needs --unit: no column seems to group the rows")
        outcome = args.outcome or (
            document["sentences"][0].split(" = ")[0].strip("[]") if document["sentences"] else None
        )
        if outcome is None:
            raise UsageError("--figure needs --outcome: name the column to draw")
        labels = table.labels(units[0])
        return scout_figure(outcome, units[0], table.numbers(outcome), labels.codes, labels.texts)

    deliver(args, document, scout_page, lambda: [_flat(c) for c in document["columns"]], picture)
    return 0


def _flat(column: dict) -> dict:  # type: ignore[type-arg]
    row = {k: column[k] for k in ("column", "kind", "missing", "distinct")}
    row["suspected_missing_codes"] = " ".join(f"{c:g}" for c in column["suspected_missing_codes"])
    return row | {f"within {u}": v for u, v in column["levels_within"].items()}
