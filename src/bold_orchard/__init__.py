"""Bold Orchard: mixed-effects models for grouped data.

    import bold_orchard as bo
    fit = bo.fit("yield = rain; each orchard: intercept", frame)

Heavy libraries load on first use. See docs/python.md.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "1.0.0"
__all__ = [
    "Answer",
    "Model",
    "NotConverged",
    "OrchardError",
    "Settings",
    "UsageError",
    "compare",
    "draw",
    "explain",
    "fit",
    "open_fit",
    "plan",
    "read_table",
    "refit",
    "report",
    "run",
    "scan",
    "scout",
    "show",
    "side_by_side",
]

_HOMES = {
    "Answer": "answers",
    "Model": "api",
    "NotConverged": "errors",
    "OrchardError": "errors",
    "Settings": "inference.fit",
    "UsageError": "errors",
    "compare": "api",
    "draw": "api",
    "explain": "api",
    "fit": "api",
    "open_fit": "api",
    "read_table": "data.read",
    "refit": "api",
    "scan": "api",
    "scout": "api",
    "show": "api",
    "side_by_side": "api",
    "plan": "api",
    "report": "api",
    "run": "cli.run",
}

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.api import (
        Model,
        compare,
        draw,
        explain,
        fit,
        open_fit,
        plan,
        refit,
        report,
        scout,
        show,
        side_by_side,
    )
    from bold_orchard.cli.run import run
    from bold_orchard.data.read import read_table
    from bold_orchard.errors import NotConverged, OrchardError, UsageError
    from bold_orchard.inference.fit import Settings


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'bold_orchard' has no attribute '{name}'")
    import importlib

    value = getattr(importlib.import_module(f"bold_orchard.{_HOMES[name]}"), name)
    globals()[name] = value
    return value
