"""Answers as a notebook holds them: the document of a command that prints, draws, and turns into a frame."""

from __future__ import annotations

import importlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from bold_orchard.reporting.page import Page

ENDINGS = (".txt", ".json", ".csv", ".html", ".md", ".png", ".svg", ".pdf")
PAGES = {
    "fit": "fit.fit_page", "scout": "others.scout_page", "compare": "others.compare_page", "components": "others.components_page",
    "terms": "terms.terms_page", "means": "means.means_page", "intervals": "intervals.intervals_page",
    "groups": "groups.groups_page", "check": "check.check_page", "predict": "others.predict_page",
}  # fmt: skip
FIGURES = {
    "fit": "fit.fit_figure", "components": "components.components_figure", "terms": "terms.terms_figure",
    "means": "means.means_figure", "intervals": "intervals.intervals_figure", "groups": "groups.groups_figure",
    "predict": "predict.predict_figure",
}  # fmt: skip
MAIN = {
    "fit": "fixed", "scout": "columns", "compare": "models", "components": "components", "terms": "tests", "means": "means",
    "intervals": "parameters", "groups": "groups", "check": "levels", "predict": "rows",
}  # fmt: skip


def _named(room: str, place: str) -> Any:
    module, name = place.split(".")
    return getattr(importlib.import_module(f"bold_orchard.{room}.{module}"), name)


@dataclass(frozen=True, repr=False)
class Answer:
    """The answer to one question; ``command`` says which. Keys of the document are attributes too: ``answer.pairs``."""

    command: str
    document: dict[str, Any]
    draw: Callable[[], Figure] | None = field(default=None, compare=False)

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_") or name not in self.__dict__.get("document", {}):
            raise AttributeError(f"the answer of {self.__dict__.get('command')} has no '{name}'")
        return self.document[name]

    def __getitem__(self, key: str) -> Any:
        return self.document[key]

    def __repr__(self) -> str:
        return f"<answer of {self.command}: {self.document.get('name', '')} {MAIN[self.command]} {len(self.document[MAIN[self.command]])}>"

    def __str__(self) -> str:
        from bold_orchard.reporting.formats.markup import rendered

        return rendered(self.page(), ".txt", "")

    def _repr_html_(self) -> str:
        from bold_orchard.reporting.formats.markup import html_fragment

        return html_fragment(self.page())

    def page(self) -> Page:
        """The printed page, as pieces."""
        extra = {"differences": True} if self.command == "means" else {}
        page: Page = _named("reporting.pages", PAGES[self.command])(self.document, **extra)
        return page

    def to_dict(self) -> dict[str, Any]:
        """The JSON contract: plain dictionaries, lists, numbers and texts."""
        from bold_orchard.results.plain import clean

        made: dict[str, Any] = clean(self.document)
        return made

    def to_frame(self, table: str | None = None) -> pd.DataFrame:
        """The main table, or another list of the document by its key ('pairs', 'tests', 'icc', ...), flat."""
        import pandas as pd

        key = table or MAIN[self.command]
        rows = self.document.get(key)
        if not isinstance(rows, list):
            lists = [k for k, v in self.document.items() if isinstance(v, list)]
            raise UsageError(f"the answer of {self.command} has no table '{key}'; there are: {', '.join(lists)}")
        if self.command == "groups" and key == "groups":
            return pd.DataFrame(
                [_effects(part["group"], t, r) for part in rows for r in part["rows"] for t in part["terms"]]
            )
        return pd.DataFrame([_flat(r) if isinstance(r, dict) else {key: r} for r in rows])

    def figure(self) -> Figure:
        """The command's picture (a Matplotlib figure); raises UsageError where it has none."""
        if self.draw is not None:
            return self.draw()
        if self.command not in FIGURES:
            raise UsageError(f"the answer of {self.command} has no picture of its own")
        made: Figure = _named("reporting.figures", FIGURES[self.command])(self.document)
        return made

    def save(self, name: str) -> Path:
        """Write what is printed (.txt, .md, .html), the contract (.json), the main table (.csv) or the picture (.png, .svg, .pdf)."""
        from bold_orchard.reporting.formats.markup import rendered
        from bold_orchard.storage.saved_fits import write_safely

        path, kind = Path(name), Path(name).suffix.lower()
        if kind not in ENDINGS:
            raise UsageError(f"an answer is written as {', '.join(ENDINGS)}, not '{kind or name}'; give another ending")
        if kind in (".png", ".svg", ".pdf"):
            from bold_orchard.reporting.figures.style import save

            made = self.figure()
            write_safely(path, lambda p: save(made, p))
            return path
        if kind == ".json":
            text = json.dumps(self.to_dict(), indent=1, allow_nan=False, ensure_ascii=False) + "\n"
        elif kind == ".csv":
            text = self.to_frame().to_csv(index=False, lineterminator="\n")
        else:
            text = rendered(self.page(), kind, str(self.document.get("name", self.command)))
        write_safely(path, lambda p: p.write_text(text, encoding="utf-8"))
        return path


def _effects(group: str, term: str, row: dict[str, Any]) -> dict[str, Any]:
    low, high = row["ci"][term]
    return {"group": group, "level": row["level"], "term": term, "effect": row["effects"][term], "se": row["se"][term],
            "low": low, "high": high, "coefficient": row["coefficients"][term], "rows": row["rows"]}  # fmt: skip


def _flat(row: dict[str, Any]) -> dict[str, Any]:
    """Intervals in two columns, dictionaries spread over columns, lists left as they are."""
    out: dict[str, Any] = {}
    for key, value in row.items():
        if key.endswith("ci"):
            stem = key.removesuffix("ci")
            out[f"{stem}low"], out[f"{stem}high"] = value or (None, None)
        elif key == "levels" and isinstance(value, dict):
            out |= value
        elif key == "chances" and isinstance(value, list):
            out |= {f"chance[{c['grade']}]": c["chance"] for c in value}
        elif isinstance(value, dict):
            out |= {f"{key} {k}": v for k, v in value.items()}
        elif key not in ("label", "parts"):
            out[key] = value
    return out
