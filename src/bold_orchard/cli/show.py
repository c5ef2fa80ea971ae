"""Print a saved fit again, in any form."""

from __future__ import annotations

import argparse
import os
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import fit_argument, fit_tables, output_options, say, write_fit_tables
from bold_orchard.errors import OrchardError, UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

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
    fit_tables(parser)
    output_options(parser, idle=("seed",))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import show

    if args.matrices:
        _write_matrices(args)
    return show(args.fit, effects=args.effects, ratios=args.ratios, confidence=args.confidence)


def _write_matrices(args: argparse.Namespace) -> None:
    from pathlib import Path

    from bold_orchard.api import matrices
    from bold_orchard.cli.driver import inputs
    from bold_orchard.storage.files import write_rows

    made, folder = matrices(args.fit, args.level), Path(args.matrices)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise OrchardError(f"{folder} cannot be made: {e.strerror}; give another folder") from None
    read = {os.path.realpath(path): what for what, path in inputs(args)}
    for name in made:
        target = folder / f"{name}.csv"
        if os.path.realpath(target) in read:
            raise UsageError(
                f"--matrices would write over {target}, {read[os.path.realpath(target)]} of this command; give another folder"
            )
    for name, frame in made.items():
        write_rows(folder / f"{name}.csv", frame.rename_axis("").reset_index())
    say(args, f"wrote {', '.join(f'{name}.csv' for name in made)} to {folder}")


COMMAND = Command(
    str(__doc__),
    EXAMPLE,
    add_options,
    answer,
    beside=write_fit_tables,
    other_files=("csv_variation", "csv_figures"),
    folders=("matrices",),
    one_fit=True,
)
