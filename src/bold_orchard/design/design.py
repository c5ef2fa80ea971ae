"""What the likelihood and the printed result need of a sentence on a table: response, X, the blocks of Z, unit codes."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects import structure_of
from bold_orchard.covariance.effects.base import Structure
from bold_orchard.data.table import Labels, Table
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.residual import ResidualPart
from bold_orchard.design.transformations import OUTCOME, Category, ColumnMaker, Numeric
from bold_orchard.families import family_of, kind_of
from bold_orchard.families.base import Data, Family
from bold_orchard.sentence import tree

Array = NDArray[Any]


@dataclass(frozen=True)
class Options:
    """Choices that shape the design: baselines by column, covariates to fill, weights, family and link, force."""

    baselines: dict[str, str] = field(default_factory=dict)
    fill_mean: tuple[str, ...] = ()
    weights: str | None = None
    family: str | None = None
    force: bool = False
    link: str | None = None
    success: str | None = None
    grades: tuple[str, ...] = ()


@dataclass(frozen=True)
class UnitCodes:
    """Levels of one unit over the rows used: ``codes`` (n,); texts such as '3 in north'. That of a ``curve`` of all rows is no unit of the data."""

    name: str
    codes: NDArray[np.intp]
    size: int
    parts: tuple[tuple[Labels, NDArray[np.intp]], ...]
    labels: tuple[str, ...] = ()
    curve: bool = False

    @cached_property
    def texts(self) -> list[str]:
        if self.labels:
            return list(self.labels)
        columns = [[labels.texts[i] for i in index.tolist()] for labels, index in self.parts]
        return [" in ".join(t) for t in zip(*columns)]

    @cached_property
    def places(self) -> dict[str, int]:
        """The code of each text."""
        return {t: i for i, t in enumerate(self.texts)}

    @cached_property
    def counts(self) -> NDArray[np.intp]:
        """Rows per level, (size,)."""
        return np.bincount(self.codes, minlength=self.size)


@dataclass(frozen=True)
class Clause:
    """One ``each`` clause: its columns of Z and its structure.

    ``unit`` is its place among the design's units; ``block`` and ``columns`` say which random unit of the likelihood
    holds it and where. ``given`` is a factor of the covariance between its terms that is not estimated, ``vary`` the columns on
    which the log SD of its effects depends, constant in each level.
    """

    unit: int
    part: ModelMatrix
    structure: tree.Structure
    block: int
    columns: slice
    given: Array | None = None
    vary: ModelMatrix | None = None

    @property
    def has_spread(self) -> bool:
        """Whether each level has a residual spread of its own among its effects."""
        return any(t.is_spread for t in self.part.terms)

    @property
    def wiggle(self) -> bool:
        """Whether its effects are the wiggle of a curve, which have one variance."""
        factors = self.part.terms[0].factors if self.part.terms else ()
        return len(factors) == 1 and isinstance(factors[0], tree.Call) and factors[0].function == "wiggle"

    @property
    def names(self) -> tuple[str, ...]:
        """Its terms as they are reported: of a wiggle one for all its functions."""
        return (str(self.part.terms[0]),) if self.wiggle else self.part.names

    @property
    def kind(self) -> type[Structure]:
        """The class of its structure; that of ``known`` is unstructured."""
        return structure_of(self.structure.kind)


@dataclass(frozen=True)
class Block:
    """A random unit of the likelihood: levels, and the factor ``relationship_factor`` of a known covariance between them, or None."""

    unit: UnitCodes
    relationship_factor: Array | None = None


@dataclass(frozen=True)
class Design:
    """Everything the likelihood and the printed result need; ``table`` holds the rows used only.

    Where rows were summed in pieces each row here stands for ``counts`` (n,) of them, which may be a broken number and is its weight,
    ``engine`` says where and by how many workers; ``unstacked`` says that rows are those of the table though each has
    several linear predictors; ``ends`` are the least and the largest value of the model's raw numbers; ``prepared``
    holds the numeric factors over these rows: their transformations cannot be made from its raw columns.
    """

    sentence: tree.Sentence
    table: Table
    y: Array
    fixed: ModelMatrix
    offset: Array | None
    weights: Array | None
    units: tuple[UnitCodes, ...]
    clauses: tuple[Clause, ...]
    blocks: tuple[Block, ...]
    residual: ResidualPart
    memory: dict[str, Any]
    rows: dict[str, Any]
    notes: tuple[str, ...]
    meanings: dict[str, str]
    family: str = "gaussian"
    link: str = "identity"
    trials: Array | None = None
    limits: tuple[Array, Array] | None = None
    levels: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()
    counts: Array | None = None
    prepared: dict[str, Numeric] = field(default_factory=dict)
    engine: tuple[str, int] = ("memory", 1)
    ends: dict[str, tuple[float, float]] = field(default_factory=dict)
    unstacked: bool = False

    @property
    def on_disk(self) -> bool:
        """Whether the rows are more than memory should hold, and are mapped from disk."""
        return self.engine[0] != "memory" and self.counts is None

    @property
    def outcomes(self) -> tuple[str, ...]:
        """The names of several outcomes, each of which has rows of its own; nothing where there is one."""
        return () if self.sentence.stacked is None else self.sentence.stacked.names

    @property
    def groups(self) -> tuple[UnitCodes, ...]:
        """The units of the data, without those of curves."""
        return tuple(u for u in self.units if not u.curve)

    @property
    def additive(self) -> bool:
        """Whether the outcome is the linear predictor plus a residual: gaussian with the identity link."""
        return self.kind.additive

    @property
    def kind(self) -> type[Family]:
        """The class of its family, by its link, by whether outcomes are censored and by its linear predictors."""
        return kind_of(self.family, self.link, self.limits is not None, self.predictors)

    @property
    def plain_kind(self) -> type[Family]:
        """The same with the mean's linear predictor alone."""
        return family_of(self.family, self.link, self.limits is not None)

    def data_of(self, y: Array | None = None) -> Data:
        """The outcome (or another one, (n,)) with what its family needs beside it."""
        low, high = (None, None) if self.limits is None else self.limits
        made = Data(self.y if y is None else y, self.trials, self.weights, low, high)
        return made.take(slice(None, None, len(self.predictors))) if self.stacked else made

    @property
    def stacked(self) -> bool:
        """Whether rows are of one linear predictor each."""
        return bool(self.predictors) and not self.unstacked

    @property
    def stacked_names(self) -> tuple[str, ...]:
        """What tells stacked rows apart: several outcomes or linear predictors."""
        return self.outcomes or self.predictors

    @property
    def predictors(self) -> tuple[str, ...]:
        """The names of several linear predictors, each of which has a row of its own for every row of the table;
        nothing where there is one."""
        return self.sentence.predictors

    def folded(self, eta: Array) -> Array:
        """Linear predictors over the rows (..., n P) as a family of several takes them, (P, ..., n)."""
        made = np.asarray(eta).reshape(*np.shape(eta)[:-1], -1, len(self.predictors))
        return np.moveaxis(made, -1, 0)

    @property
    def n_rows(self) -> int:
        """Rows used, summed ones too; of several linear predictors those of the table."""
        if self.stacked:
            return len(self.y) // len(self.predictors)
        return len(self.y) if self.counts is None else int(self.rows["used"])

    def mean_of(self, values: Array) -> float:
        """The mean of a column over the rows used."""
        return float(values.mean()) if self.counts is None else float(self.counts @ values / self.counts.sum())

    def root_counts(self) -> Array | float:
        """The square root of the rows that each row stands for, (n,)."""
        return 1.0 if self.counts is None else np.sqrt(self.counts)

    @property
    def known_errors(self) -> bool:
        """Whether the SD of each row's error is known, so that no residual variance is estimated; ``weights`` are then 1 / SD^2."""
        return self.sentence.known is not None

    @property
    def random_spread(self) -> bool:
        """Whether some unit has a residual spread of its own."""
        return any(c.has_spread for c in self.clauses)

    @property
    def graded(self) -> bool:
        """Whether the outcome is one of several ordered grades, ``levels``."""
        return family_of(self.family).reads == "grades"

    @property
    def outcome_values(self) -> Array:
        """The outcome as it was measured, (n,): ``y`` with the offset that was taken off it."""
        return self.y if self.offset is None or not self.additive else self.y + self.offset

    @property
    def orders(self) -> dict[str, tuple[str, ...]]:
        """Levels of the data's own columns in the order that was declared, of those that have one."""
        return {c: o for c, o in self.table.orders.items() if not (self.stacked_names and c == OUTCOME)}

    def maker(self) -> ColumnMaker:
        """What makes columns over the rows of the design as they were made for the fit."""
        return ColumnMaker(self.table, self.memory, learn=False, counts=self.counts, _cache=dict(self.prepared))

    def categories(self) -> list[tuple[str, Category]]:
        """Categories of the fixed part: the factor as written, and its coding."""
        maker = self.maker()
        made = {f.written: (str(f), maker.make(f)) for t in self.fixed.terms for f in t.factors}
        return [(name, m) for name, m in made.values() if isinstance(m, Category)]

    def coded_columns(self) -> dict[str, str]:
        """Columns that stand in the fixed part as categories, with the factor as written: week -> category(week)."""
        return {c.column: name for name, c in self.categories()}

    @property
    def outcome(self) -> str:
        return str(self.sentence.outcome if self.sentence.stacked is None else self.sentence.stacked)
