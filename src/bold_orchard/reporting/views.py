"""Which page and which picture belong to the answer of which command."""

from __future__ import annotations

import importlib
import importlib.util
from typing import TYPE_CHECKING, Any

from bold_orchard.errors import UsageError
from bold_orchard.results.base import Result

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bold_orchard.reporting.figures.style import Ground
    from bold_orchard.reporting.page import Page


def page_of(result: Result, digits: int = 4, **view: Any) -> Page:
    """The printed page; ``view`` says what it shows beside the usual (differences, sed)."""
    module = importlib.import_module(f"bold_orchard.reporting.pages.{result.command}")
    page: Page = getattr(module, f"{result.command}_page")(result, digits, **view)
    return page


def figure_of(result: Result, ground: Ground | None = None, **view: Any) -> Figure:
    """The command's picture, on a ``ground`` of somebody's own if there is one; raises UsageError where there is
    nothing to draw."""
    name = f"bold_orchard.reporting.figures.{result.command}"
    if importlib.util.find_spec(name) is None:
        raise UsageError(f"orchard {result.command} has no picture; leave --figure out")
    from bold_orchard.reporting.figures.style import drawn_on, styled, wrap_titles

    module = importlib.import_module(name)
    with styled(), drawn_on(ground):
        made: Figure = getattr(module, f"{result.command}_figure")(result, **view)
        if ground is not None and made is ground:
            wrap_titles(made)
    return made
