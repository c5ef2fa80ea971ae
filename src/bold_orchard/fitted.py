"""A fitted model as it stands: its tables as attributes, kept as a file."""

from __future__ import annotations

import dataclasses
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Self

from bold_orchard.answers import Answer
from bold_orchard.data.table import Table
from bold_orchard.design.magnitudes import number_sds
from bold_orchard.errors import UsageError
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.progress import silent
from bold_orchard.results.fit import FitResult

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from bold_orchard.data.pieces import Pieces
    from bold_orchard.reporting.figures.style import Ground
    from bold_orchard.wording import Wording


@dataclasses.dataclass(frozen=True)
class Origin:
    """Where a fit's data came from: a file with its codes and filter, or the name of a saved fit."""

    source: str | None = None
    missing: tuple[str, ...] = ()
    where: str | None = None
    saved_as: str | None = None
    index: Any = dataclasses.field(
        default=None, compare=False, repr=False
    )  # of a frame of rows, where it has one of its own


@dataclasses.dataclass(frozen=True, repr=False, eq=False)
class Fitted:
    """A fitted model: its tables as attributes.

    ``core`` is the engine's own fit, ``read`` the table it was made from (None for one made in pieces).
    """

    core: Fit
    read: Table | None
    origin: Origin = Origin()

    def __eq__(self, other: object) -> bool:
        """Whether both are fits of one model to the same rows, with the same document."""
        return isinstance(other, Fitted) and self.core == other.core

    def __hash__(self) -> int:
        return hash(self.core)

    def __repr__(self) -> str:
        state = "" if self.converged else ", NOT CONVERGED"
        return f"<fit '{self.core.name}': {self.core.result.model}; loglik {self.core.result.fit.loglik}{state}>"

    def __str__(self) -> str:
        return str(self.answer)

    def _repr_html_(self) -> str:
        return self.answer._repr_html_()

    @property
    def answer(self) -> Answer:
        """What ``orchard fit`` prints, as an answer."""
        draws = {"sds": partial(number_sds, self.core.design)}  # asked for by the picture alone
        return Answer(self.core.result, self.converged, draws=draws, wording=self.core.settings.wording)

    @property
    def result(self) -> FitResult:
        """The typed document of the fit."""
        return self.core.result

    def completed_tables(self) -> pd.DataFrame:
        """The completed tables of a fit with ``impute``, one under the other, numbered from 1 in the column ``imputation``.

        Returns
        -------
        DataFrame

        Raises
        ------
        UsageError : other fits.
        """
        import pandas as pd

        if not self.core.imputations:
            raise UsageError("completed tables are there for fits with --impute whose covariates have gaps")
        cells: Any = self.core.cells  # type: ignore[attr-defined]
        parts = [cells.every(i) for i in range(cells.asked.draws)]
        frames = [p.frame.assign(row=p.row_numbers) if not p.has("row") else p.frame for p in parts]
        number = "imputation" if not parts[0].has("imputation") else f"imputation of {self.core.name}"
        made = pd.concat(frames, keys=range(1, len(frames) + 1), names=[number, None])
        return made.reset_index(level=0).reset_index(drop=True)

    @property
    def rows(self) -> Table:
        """All rows of the data, used or not; of a fit in pieces the used columns, on disk."""
        if self.read is not None:
            return self.read
        from bold_orchard.data.on_disk import table_on_disk

        pieces = self._pieces()
        return table_on_disk(pieces, pieces.used, silent)

    def _pieces(self) -> Pieces:
        from bold_orchard.data.pieces import pieces_of
        from bold_orchard.sentence.parse import used_columns
        from bold_orchard.storage.saved_fits import own_pieces

        o, design = self.origin, self.core.design
        used = used_columns(design.sentence, self.core.settings.options.weights, o.where)
        return (
            pieces_of(o.source, used, o.missing, o.where) if o.source is not None else own_pieces(str(o.saved_as), used)
        )

    def with_wording(self, wording: Wording) -> Self:
        """The same fit with more texts of columns and levels.

        Parameters
        ----------
        wording : the texts.

        Returns
        -------
        Model
        """
        own = self.core.settings.wording
        made = wording if own is None else own.beside(wording)
        core = dataclasses.replace(self.core, settings=dataclasses.replace(self.core.settings, wording=made or None))
        return dataclasses.replace(self, core=core)

    def with_rows(self) -> Self:
        """The same fit with its rows at hand: where only their sums were kept they are laid down on disk.

        Returns
        -------
        Model
        """
        if self.core.design.counts is None:
            return self
        from bold_orchard.inference.fit import with_rows

        return dataclasses.replace(self, core=with_rows(self.core, self._pieces()))

    @property
    def converged(self) -> bool:
        return self.core.converged

    @property
    def notes(self) -> list[str]:
        return list(self.core.result.notes)

    @property
    def loglik(self) -> float | None:
        return number(-0.5 * self.core.evaluation.deviance)

    @property
    def coefficients(self) -> pd.DataFrame:
        """One row per term: term, estimate, se, df, statistic, p, low, high."""
        return self.answer.to_frame()

    def to_dict(self) -> dict[str, Any]:
        """The JSON contract of ``orchard fit``.

        Returns
        -------
        dict
        """
        return self.answer.to_dict()

    def to_frame(self) -> pd.DataFrame:
        """The average effects: term, estimate, se, df, statistic, p, low, high.

        Returns
        -------
        DataFrame
        """
        return self.coefficients

    def figure(
        self,
        size: tuple[int, int] | None = None,
        dpi: int | None = None,
        title: str | None = None,
        ax: Ground | None = None,
    ) -> Figure:
        """The average effects with their intervals.

        Parameters
        ----------
        size : width and height in pixels at 100 dpi.
        dpi : pixels per inch.
        title : what stands above the picture.
        ax : axes, a figure or a subfigure of your own.

        Returns
        -------
        Figure
            of Matplotlib.
        """
        return self.answer.figure(size, dpi, title, ax)

    def save(self, name: str) -> Path:
        """Keep the fit as NAME.fit.json for later commands; a name that ends in .txt, .json, .html, ... writes what is
        printed.

        Parameters
        ----------
        name : of the fit, or a file.

        Returns
        -------
        Path
            what was written.

        Raises
        ------
        OrchardError : the file cannot be written.
        """
        from bold_orchard.answers import ENDINGS
        from bold_orchard.storage.save_path import ENDING

        if Path(name).suffix.lower() in ENDINGS and not name.endswith(ENDING):
            return self.answer.save(name)
        return self.keep(name)

    def called(self, name: str) -> Self:
        """The same fit under another name.

        Parameters
        ----------
        name : what tables and notes call it.

        Returns
        -------
        Model
        """
        return dataclasses.replace(self, core=self.core.called(Path(name).name.removesuffix(".fit.json")))

    def keep(self, name: str) -> Path:
        """Keep the fit as NAME.fit.json, whatever the name ends in.

        Parameters
        ----------
        name : of the fit.

        Returns
        -------
        Path
            what was written.

        Raises
        ------
        OrchardError : the file cannot be written.
        """
        from bold_orchard.storage.saved_fits import save_fit

        named, o = self.called(name).core, self.origin
        if o.source is not None:
            return save_fit(named, name, o.source, list(o.missing), o.where)
        raw = self.rows.frame.to_csv(index=False).encode()
        design = dataclasses.replace(named.design, table=dataclasses.replace(named.design.table, raw=raw))
        named = dataclasses.replace(named, model=dataclasses.replace(named.model, design=design))
        return save_fit(named, name, "-", [], None)

    def matrices(self, level: str | None = None) -> dict[str, pd.DataFrame]:
        """X, Z, G, R, their inverses and the mixed-model equations, for models small enough to look at.

        Parameters
        ----------
        level : of the topmost unit, whose rows R shows (default: the first).

        Returns
        -------
        dict of DataFrame
            by name.

        Raises
        ------
        OrchardError : too many rows or effects, or no such level.
        """
        import pandas as pd

        from bold_orchard.inference.equations import write_out

        return {
            n: pd.DataFrame(m.values, m.rows, m.columns) for n, m in write_out(self.with_rows().core, level).items()
        }
