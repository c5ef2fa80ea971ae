"""Bold Orchard: mixed-effects models for grouped data.

The core is importable: ``from bold_orchard import read_table, fit, compare``. Heavy libraries load on first use.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"
__all__ = ["OrchardError", "Settings", "compare", "fit", "read_table"]

_HOMES = {
    "OrchardError": "errors",
    "Settings": "fitting",
    "compare": "inference.compare",
    "fit": "fitting",
    "read_table": "table.read",
}

if TYPE_CHECKING:
    from bold_orchard.errors import OrchardError
    from bold_orchard.fitting import Settings, fit
    from bold_orchard.inference.compare import compare
    from bold_orchard.table.read import read_table


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'bold_orchard' has no attribute '{name}'")
    import importlib

    value = getattr(importlib.import_module(f"bold_orchard.{_HOMES[name]}"), name)
    globals()[name] = value
    return value
