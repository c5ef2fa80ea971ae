"""Answers as a notebook holds them: a result that prints, draws, and turns into a frame or a file."""

from __future__ import annotations

import json
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bold_orchard.errors import UsageError, visible
from bold_orchard.results.base import Result
from bold_orchard.results.rows import Rows

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from bold_orchard.reporting.figures.style import Ground
    from bold_orchard.reporting.page import Page
    from bold_orchard.wording import Wording

PICTURES = (".png", ".svg", ".pdf")
ALONE = ((".toml", "plan"), (".parquet", "simulate"), (".parquet", "scan"))  # endings that one command writes
MANY = 3_000  # rows of all tables from which a document is written in one line, eight times as fast
ENDINGS = (".txt", ".json", ".csv", ".html", ".docx", ".tex", ".md", *PICTURES)


@dataclass(frozen=True, repr=False)
class Answer:
    """The answer to one question. What its result holds are attributes here too: ``answer.pairs``, ``answer["pairs"]``.

    ``shows`` says what page, table and picture show beside the usual; ``converged`` is False where the fit it comes
    from must not be used; ``wording`` are texts of columns and levels for pages and pictures; ``index`` is that of the
    frame whose rows the main table has.
    """

    result: Result
    converged: bool = True
    shows: dict[str, Any] = field(default_factory=dict, compare=False)
    draws: dict[str, Any] = field(default_factory=dict, compare=False)
    wording: Wording | None = field(default=None, compare=False)
    index: Any = field(default=None, compare=False, repr=False)

    @property
    def shown(self) -> Result:
        """The result as pages and pictures show it: with the texts of columns and levels, where there are some."""
        if not self.wording:
            return self.result
        from bold_orchard.results.worded import worded

        return worded(self.result, self.wording)

    @property
    def command(self) -> str:
        """The command whose answer it is."""
        return self.result.command

    @property
    def document(self) -> dict[str, Any]:
        """The JSON contract."""
        return self.result.document

    def __getattr__(self, name: str) -> Any:
        result = self.__dict__.get("result")
        if name.startswith("_") or result is None or name not in result:
            raise AttributeError(f"the answer of {getattr(result, 'command', 'nothing')} has no '{name}'")
        return result[name]

    def __getitem__(self, key: str) -> Any:
        return self.result[key]

    def __repr__(self) -> str:
        main = self.result[self.result.main]
        size = f" {self.result.main} {len(main)}" if isinstance(main, list) else ""
        return f"<answer of {self.command}: {self.result.get('name', '')}{size}>"

    def __str__(self) -> str:
        from bold_orchard.reporting.formats import rendered

        return str(rendered(self.page(), ".txt", ""))

    def _repr_html_(self) -> str:
        from bold_orchard.reporting.formats.html import fragment

        return fragment(self.page())

    def page(self, digits: int = 4) -> Page:
        """The printed page, as pieces, with ``digits`` significant digits."""
        from bold_orchard.reporting.views import page_of

        return page_of(self.shown, digits, **self.shows)

    def without_notes(self) -> Answer:
        """The same without its notes."""
        return replace(self, result=self.result.with_keys(notes=[]))

    def to_dict(self) -> dict[str, Any]:
        """The JSON contract: plain dictionaries, lists, numbers and texts."""
        return {k: list(v) if isinstance(v, Rows) else v for k, v in self.document.items()}

    def to_frame(self, table: str | None = None) -> pd.DataFrame:
        """The main table, or another list of the document by its key ('pairs', 'tests', 'icc', ...), flat."""
        made: pd.DataFrame = self.result.to_frame(table)
        return made if self.index is None or table is not None else made.set_index(self.index)

    def table(self) -> Any:
        """The main table as ``--csv`` writes it: rows as dictionaries, or a frame."""
        return self.result.table(**self.shows)

    def figure(
        self,
        size: tuple[int, int] | None = None,
        dpi: int | None = None,
        title: str | None = None,
        ax: Ground | None = None,
    ) -> Figure:
        """The command's picture, a Matplotlib figure.

        Parameters
        ----------
        size : width and height in pixels at 100 dpi (default: 1280 by 800, more where there are many lines).
        dpi : pixels per inch (default: 100); letters and lines grow with it.
        title : what stands above the picture (default: what it shows, and the model).
        ax : axes of your own, for a picture of one panel, or a figure or subfigure, for any; its own size and dpi hold.

        Returns
        -------
        The figure that was drawn, or that ``ax`` belongs to.

        Raises
        ------
        UsageError : there is nothing to draw, or one pair of axes is given for several panels.
        """
        from bold_orchard.reporting.figures.style import shaped, styled, titled
        from bold_orchard.reporting.views import figure_of

        made = figure_of(self.shown, ax, **self.draws)
        with styled():
            if title is not None:
                titled(made if ax is None else ax, title)
            return shaped(made, size, dpi) if ax is None else made

    def save(self, name: str | Path, digits: int = 4) -> Path:
        """Write what is printed (.txt, .md, .html, .docx, .tex), the contract (.json), the main table (.csv) or the picture (.png, .svg, .pdf)."""
        from bold_orchard.storage.files import write_rows, write_text

        path, kind = Path(name), Path(name).suffix.lower()
        if kind not in ENDINGS and (kind, self.command) not in ALONE:
            raise UsageError(f"an answer is written as {', '.join(ENDINGS)}, not '{kind or name}'; give another ending")
        if kind in PICTURES:
            from bold_orchard.reporting.figures.style import save
            from bold_orchard.storage.files import write_safely

            made = self.figure()
            write_safely(path, lambda p: save(made, p))
        elif kind in (".csv", ".parquet"):
            write_rows(path, self.table())
        elif kind == ".toml":
            write_text(path, self.result["toml"])
        elif kind == ".json":
            write_text(path, self.json() + "\n")
        else:
            from bold_orchard.reporting.formats import WITH_PICTURES, content
            from bold_orchard.storage.files import write_safely

            page = self.illustrated(digits) if kind in WITH_PICTURES else self.page(digits)
            written = content(page, kind, visible(self.title))
            write_safely(path, lambda p: p.write_bytes(written))
        return path

    @property
    def title(self) -> str:
        """What a file that holds the answer is called inside."""
        return str(self.result.get("name", self.command))

    def illustrated(self, digits: int = 4) -> Page:
        """The page with the command's picture at its end, where there is one."""
        from bold_orchard.reporting.figures.style import caption, png

        page = self.page(digits)
        try:
            made = self.figure()
        except UsageError:
            return page
        return page.picture(png(made), caption(made))

    def json(self) -> str:
        """The contract as text: a key on every line, or, of thousands of rows, all in one."""
        document = self.to_dict()
        return json.dumps(document, indent=1 if _rows(document) < MANY else None, allow_nan=False, ensure_ascii=False)


def _rows(value: Any) -> int:
    """Rows of all tables of a document, those inside rows of other tables too."""
    if isinstance(value, dict):
        return sum(map(_rows, value.values()))
    return len(value) + sum(map(_rows, value[:MANY])) if isinstance(value, list) else 0
