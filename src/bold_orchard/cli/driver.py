"""The one road of every command: refuse, ask, write, print, and say what usually comes next."""

from __future__ import annotations

import argparse
import json
import os
import re
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from bold_orchard.answers import PICTURES
from bold_orchard.cli.command import Command
from bold_orchard.cli.interrupt import look
from bold_orchard.cli.options import fill_in_fit
from bold_orchard.errors import OrchardError, UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer

FORMS = (".html", ".docx", ".tex", ".md", ".txt", ".csv", ".json")
NOT_CSV = (".docx", ".html", ".json", ".md", ".ods", ".parquet", ".pdf", ".png", ".svg", ".tex", ".xls")
NOT_CONVERGED = 4  # the exit code of an answer that must not be used


def run(command: Command, args: argparse.Namespace) -> int:
    """Run a command with parsed arguments; returns the exit code."""
    from bold_orchard.cli.progress import Steps

    if command.one_fit:
        fill_in_fit(args)
    make_ready(command, args)
    working = command.working if isinstance(command.working, str) else command.working(args)
    with Steps(working, args.quiet) as progress:
        answer = command.answer(args, progress)
    figure = (
        answer.figure(args.size, args.dpi, args.figure_title) if args.figure else None
    )  # refused before anything is written
    look()
    command.beside(args, answer)
    if args.csv:
        from bold_orchard.storage.files import write_rows

        write_rows(args.csv, answer.table())
    if figure is not None:
        from bold_orchard.reporting.figures.style import save
        from bold_orchard.storage.files import write_safely

        write_safely(args.figure, lambda path: save(figure, path))
    for path in args.to:
        answer.save(path, args.digits)
    if command.short and args.to and not args.json:
        if not args.quiet:
            print("\n".join(f"wrote {path}" for path in args.to))
    else:
        deliver(args, answer)
    command.after(args, answer)
    return command.code(args) if answer.converged else NOT_CONVERGED


def make_ready(command: Command, args: argparse.Namespace) -> None:
    """Refuse and complete the arguments of a command before any work is done."""
    command.prepare(args)
    check_targets(args, command.other_files, command.forms)


def check_targets(args: argparse.Namespace, others: tuple[str, ...] = (), forms: tuple[str, ...] = ()) -> None:
    """Refuse output files that cannot be written, before any work is done."""
    if args.figure and Path(args.figure).suffix.lower() not in PICTURES:
        ending = Path(args.figure).suffix or args.figure
        raise UsageError(f"--figure writes {', '.join(PICTURES)}, not '{ending}'; give another ending")
    for option, given in (("--size", args.size), ("--dpi", args.dpi), ("--title", args.figure_title)):
        if given is not None and not args.figure:
            raise UsageError(f"{option} shapes the picture; add --figure FILE")
    _check_tables(args, others)
    for path in args.to:
        if Path(path).suffix.lower() not in FORMS + forms:
            raise UsageError(
                f"--to writes {', '.join(forms + FORMS)}, not '{Path(path).suffix or path}'; give another ending"
            )
    check_harmless(args, others)
    named = {name: getattr(args, name) for name in others}
    for name, path in {"csv": args.csv, "figure": args.figure, **named}.items():
        if path == "":
            raise UsageError(f"--{name.replace('_', '-')} is given an empty name; give the name of a file")
    if any(0xD800 <= ord(c) < 0xE000 for c in getattr(args, "save", None) or ""):
        raise UsageError("--save needs a name in UTF-8, since it stands in pages and files; give another name")
    kept = named.pop("save", None)  # a name that gets an ending: a folder may bear it
    for path in (args.csv, args.figure, *named.values(), kept, *args.to):
        if path is None:
            continue
        folder = Path(path).parent
        if not folder.is_dir():
            raise OrchardError(f"{path} cannot be written: there is no folder {folder}; make it first")
        if path.endswith(("/", "\\")) or (Path(path).is_dir() and path is not kept):
            raise OrchardError(f"{path} is a folder; give a file name")


def _check_tables(args: argparse.Namespace, others: tuple[str, ...]) -> None:
    """Refuse tables in a form that is not theirs, or whose package is not installed."""
    from bold_orchard.storage.files import check_package

    for option in ("csv", *(o for o in others if o.startswith("csv"))):
        path = getattr(args, option)
        if not path:
            continue
        check_package(path)
        if Path(path).suffix.lower() in NOT_CSV:
            raise UsageError(
                f"--{option.replace('_', '-')} writes CSV (or .xlsx), not {Path(path).suffix}; give it another ending, or use --to"
            )


def check_harmless(args: argparse.Namespace, others: tuple[str, ...]) -> None:
    """Refuse to write over what the command reads, over a saved fit, or two things to one place."""
    from bold_orchard.storage.save_path import ENDING, save_path

    named = {f"--{name.replace('_', '-')}": getattr(args, name) for name in ("csv", "figure", *others)}
    targets = [(option, str(save_path(path)) if option == "--save" else path) for option, path in named.items() if path]
    targets += [("--to", path) for path in args.to]
    read = {os.path.realpath(path): what for what, path in inputs(args)} if targets else {}
    seen: dict[str, str] = {}
    for option, path in targets:
        place = os.path.realpath(path)
        if place in read:
            raise UsageError(f"{option} {path} would write over {read[place]} of this command; give another name")
        if option != "--save" and Path(place).exists() and place.endswith((ENDING, ".posterior.json")):
            raise UsageError(f"{option} {path} would write over a saved fit; give another name")
        if place in seen and not place.startswith("/dev/"):
            raise UsageError(f"{seen[place]} and {option} both write {path}; give two names")
        seen[place] = option


def inputs(args: argparse.Namespace) -> Iterator[tuple[str, str]]:
    """What a command reads, and what it is: data, saved fits and theirs, matrices of the sentence, plans."""
    from bold_orchard.storage.save_path import save_path

    for name in ("data", "new", "posterior", "plan", "design", "labels"):
        path = getattr(args, name, None)
        if isinstance(path, str):
            yield ("the data" if name in ("data", "new") else f"the {name}"), path
    for path in re.findall(r'"([^"]+)"', getattr(args, "sentence", None) or ""):
        yield "a matrix", path
    own = [getattr(args, "fit", None), getattr(args, "against", None), *(getattr(args, "fits", None) or [])]
    for fit in (n for n in own if isinstance(n, str)):
        for file in (Path(fit), save_path(fit)):
            if file.is_file():
                yield "a saved fit", str(file)
                yield from _data_of(file)
                break


def _data_of(file: Path) -> Iterator[tuple[str, str]]:
    """The data of a saved fit, where it can be read."""
    try:
        saved = json.loads(file.read_text(encoding="utf-8"))["saved"]
        places = [saved["data_absolute"], str(file.parent / saved["data"])]
    except (OSError, ValueError, KeyError, TypeError):
        return
    yield from (("the data of a saved fit", path) for path in places if isinstance(path, str))


def deliver(args: argparse.Namespace, answer: Answer) -> None:
    """Print the document or its page."""
    if args.json:
        sys.stdout.write(answer.json() + "\n")
        return
    from bold_orchard.reporting.page import print_page

    if args.quiet:
        answer = answer.without_notes()
    print_page(answer.page(args.digits), sys.stdout, args.strips or sys.stdout.isatty())
    if sys.stdout.isatty() and not args.quiet:
        from bold_orchard.cli.hints import following

        hint = following(args, answer.result)
        dim, plain = ("", "") if os.environ.get("NO_COLOR") else ("\x1b[2m", "\x1b[0m")
        print(f"\n{dim}next: {hint}{plain}" if hint else "")
