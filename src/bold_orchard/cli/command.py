"""What a command declares: its options, its answer by the Python interface, and what it shows of it."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

Arguments = argparse.Namespace


def nothing(args: Arguments, answer: Answer) -> None:
    """No file beside the usual ones."""


@dataclass(frozen=True)
class Command:
    """``about`` and ``examples`` stand in its help; ``options`` adds its own; ``answer`` asks the question.

    ``prepare`` refuses and completes arguments before any work; ``beside`` writes the files that only this command has, and
    ``after`` says what was kept once the answer is printed; ``working`` is what the progress line calls the work. ``other_files`` are options
    that name files to write, ``folders`` those that name folders. A ``short`` command says only what it wrote when files are asked for; ``forms`` are endings that --to
    takes of this command alone; ``code`` gives the exit code of one whose answer is whole. Of ``one_fit`` the fit saved last is meant where none is named.
    """

    about: str
    examples: str
    options: Callable[[argparse.ArgumentParser], None]
    answer: Callable[[Arguments, Steps], Answer]
    prepare: Callable[[Arguments], None] = lambda args: None
    beside: Callable[[Arguments, Answer], None] = nothing
    after: Callable[[Arguments, Answer], None] = nothing
    working: str | Callable[[Arguments], str] = "working"
    other_files: tuple[str, ...] = ()
    folders: tuple[str, ...] = ()
    short: bool = False
    code: Callable[[Arguments], int] = lambda args: 0
    forms: tuple[str, ...] = ()
    one_fit: bool = False
