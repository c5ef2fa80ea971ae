"""What a command that runs once does not wait for: modules and descriptions of other packages that it hardly ever asks for."""

from __future__ import annotations

import importlib
import sys
from types import ModuleType
from typing import Any

RARE = ("ctypeslib", "f2py", "ma", "polynomial", "random", "testing")  # a fifth of a second, and most commands use few
DOCSTRINGS = ("numpy._core._add_newdocs", "numpy._core._add_newdocs_scalars")  # modules that do nothing but add them
READER = "scipy._lib._docscrape"
SOLID = "mpl_toolkits.mplot3d"


class Unread:
    """Stands for a docstring taken apart: it is given back as it was, whatever is added to its sections."""

    def __init__(self, described: object = None, *rest: object, **named: object) -> None:
        self.text = getattr(described, "__doc__", None) or ""

    def __getitem__(self, section: str) -> list[Any]:
        return []

    def __setitem__(self, section: str, lines: object) -> None:
        pass

    def __str__(self) -> str:
        return "\n" + self.text


class Rare(ModuleType):
    """Stands for a module until something in it is asked for; then the module itself is loaded into its place."""

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):  # questions of the import system
            raise AttributeError(name)
        if sys.modules.get(self.__name__) is self:
            del sys.modules[self.__name__]
        return getattr(importlib.import_module(self.__name__), name)


class Reader(Rare):
    """Stands for SciPy's reader of docstrings, which takes apart those of a hundred functions as they load to add a note on
    other array libraries."""

    FunctionDoc = Unread


class Solid(ModuleType):
    """Stands for Matplotlib's axes of three dimensions, which it loads with the flat ones; no picture of a command has them."""

    class Axes3D:
        name = "3d"


def put_off_rare_modules() -> None:
    """What loads all of NumPy's names, as SciPy does, does not load these modules with them; docstrings are left alone."""
    if "numpy" not in sys.modules:
        for name in DOCSTRINGS:
            sys.modules[name] = Rare(name)
    import numpy as np

    for name in RARE:
        if name not in vars(np):
            setattr(np, name, Rare(f"numpy.{name}"))
    sys.modules.setdefault(READER, Reader(READER))
    if "matplotlib" not in sys.modules:
        sys.modules.setdefault(SOLID, Solid(SOLID))
