"""Print a saved fit again, in any form."""

from __future__ import annotations

import argparse

from bold_orchard.cli.fit import effects, fixed_table, ratios
from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options, say, write_csv

EXAMPLE = """examples:
  orchard show slopes
  orchard show slopes --json
  orchard show slopes --matrices algebra --level Barrow
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument(
        "--matrices", metavar="FOLDER", help="write X, Z, G, R, their inverses and the mixed-model equations as CSV"
    )
    parser.add_argument(
        "--level", metavar="LABEL", help="the level of the first unit whose R is written (with --matrices)"
    )
    parser.add_argument("--effects", action="store_true", help="also average effects on the outcome's own scale")
    parser.add_argument("--ratios", action="store_true", help="also odds, rate or hazard ratios")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.inference.summary import with_confidence
    from bold_orchard.reporting.pages.fit import fit_page
    from bold_orchard.storage.saved_fits import load_document

    check_targets(args)
    document = load_document(args.fit)
    if args.matrices:
        _write_matrices(args)
    if args.confidence:
        document = with_confidence(document, args.confidence)
    if args.effects:
        from bold_orchard.storage.saved_fits import open_fit

        document = document | {"average_effects": effects(open_fit(args.fit))}
    if args.ratios:
        document = ratios(document)
    if args.json:
        document = {k: v for k, v in document.items() if k != "saved"}

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.reporting.figures.fit import fit_figure

        return fit_figure(document)

    deliver(args, document, fit_page, lambda: fixed_table(document), picture)
    return 0 if document["convergence"]["converged"] else 4


def _write_matrices(args: argparse.Namespace) -> None:
    from pathlib import Path

    from bold_orchard.errors import OrchardError
    from bold_orchard.inference.equations import write_out
    from bold_orchard.storage.saved_fits import open_fit

    made = write_out(open_fit(args.fit), args.level)
    folder = Path(args.matrices)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise OrchardError(f"{folder} cannot be made: {e.strerror}; give another folder") from None
    for name, m in made.items():
        rows = [{"": label} | dict(zip(m.columns, values)) for label, values in zip(m.rows, m.values.tolist())]
        write_csv(str(folder / f"{name}.csv"), rows)
    say(args, f"wrote {', '.join(f'{name}.csv' for name in made)} to {folder}")
