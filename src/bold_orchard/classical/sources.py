"""The sources of a classical analysis: which cells each has, what it contains, and its directions in the data.

Every source, random ones too, is taken as fixed for its sum of squares SS = y'C y with C = Q Q', Q (n, df) orthonormal.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design
from bold_orchard.design.transformations import Category, ColumnMaker
from bold_orchard.errors import OrchardError

Array = NDArray[Any]
Codes = NDArray[np.intp]
SMALL = 1e-9  # relative length below which a direction is none
MOST_CELLS, MOST_ROWS = 3_000, 50_000  # of dense matrices that are made in seconds


@dataclass(frozen=True)
class Source:
    """``codes`` (n,) number the cells of its ``factors``; ``kind`` is fixed or random."""

    name: str
    kind: str
    factors: frozenset[str]
    codes: Codes
    cells: int

    def inside(self, other: Source) -> bool:
        """Whether every cell of the other lies in one cell of this one, and they differ: the other contains this source."""
        first = np.zeros(other.cells, dtype=np.intp)
        first[other.codes] = self.codes
        return self.cells < other.cells and bool(np.array_equal(first[other.codes], self.codes))


def sources_of(design: Design) -> list[Source]:
    """Fixed terms in their order, then units, coarse ones before those inside them.

    Raises OrchardError for what the classical analysis does not know: another family, numbers in the fixed part, slopes of units,
    correlated residuals, weights.
    """
    if not design.additive:
        raise OrchardError(f"anova is for gaussian fits; tests of this {design.family} fit: orchard terms")
    residual = design.residual
    if (
        residual.kind != "independent"
        or residual.spread is not None
        or any(c.vary is not None for c in design.clauses)
        or design.random_spread
        or design.weights is not None
        or design.offset is not None
    ):
        raise OrchardError(
            "anova knows independent residuals of one spread, without weights or offsets; orchard terms tests this fit"
        )
    if len(design.y) > MOST_ROWS:
        raise OrchardError(f"anova makes dense matrices, for up to {MOST_ROWS:,} rows; orchard terms tests this fit")
    maker = ColumnMaker(design.table, design.memory, learn=False)
    out = []
    for term in design.fixed.terms:
        if term.is_intercept:
            continue
        made = [maker.make(f) for f in term.factors]
        for factor, m in zip(term.factors, made):
            if not isinstance(m, Category):
                raise OrchardError(
                    f"'{factor}' is a number, and anova is of categories; write category({factor}), or use orchard terms"
                )
        codes, cells = _joined([(m.codes, len(m.levels)) for m in made if isinstance(m, Category)])
        out.append(
            Source(str(term), "fixed", frozenset(m.column for m in made if isinstance(m, Category)), codes, cells)
        )
    random = []
    for clause in design.clauses:
        unit = design.units[clause.unit]
        if clause.part.names != ("intercept",) or clause.structure.file is not None:
            raise OrchardError(
                f"anova takes 'each {unit.name}: intercept' alone; what varies there is more, so use orchard terms"
            )
        columns = frozenset(c.name for c in design.sentence.clauses[design.clauses.index(clause)].unit.columns)
        random.append(Source(unit.name, "random", columns, unit.codes, unit.size))
    out += sorted(random, key=lambda s: sum(o.inside(s) for o in random))
    too_many = [s for s in out if s.cells > MOST_CELLS]
    if too_many:
        raise OrchardError(
            f"anova makes dense matrices, for up to {MOST_CELLS:,} cells; {too_many[0].name} has {too_many[0].cells:,}"
        )
    return out


def _joined(parts: Sequence[tuple[Codes, int]]) -> tuple[Codes, int]:
    """One number for each combination that occurs."""
    joint = parts[0][0].astype(np.int64)
    for codes, size in parts[1:]:
        joint = joint * size + codes
    present, codes = np.unique(joint, return_inverse=True)
    return codes.ravel().astype(np.intp), len(present)


def indicator(source: Source) -> Array:
    """(n, cells) of zeros and ones."""
    out = np.zeros((len(source.codes), source.cells))
    out[np.arange(len(source.codes)), source.codes] = 1.0
    return out


def orthonormal(columns: Array, beside: Array | None = None) -> Array:
    """A basis of the columns' span, of what ``beside`` (orthonormal) leaves of it."""
    scale = np.maximum(np.linalg.norm(columns, axis=0), 1e-300)
    left = columns / scale
    for _ in range(2 if beside is not None else 0):  # twice, for the last digits
        assert beside is not None
        left = left - beside @ (beside.T @ left)
    if not left.size:
        return left
    u, s, _ = np.linalg.svd(left, full_matrices=False)
    return np.asarray(u[:, s > SMALL * max(1.0, float(np.sqrt(len(scale))))])


def own_columns(source: Source, others: Sequence[Source]) -> Array:
    """Columns (n, m) of a source that sum to zero over the cells inside each cell of what it contains, every cell counted once."""
    first = np.zeros(source.cells, dtype=np.intp)
    contained = [np.ones((source.cells, 1))]
    for other in others:
        if other.inside(source):
            first[source.codes] = other.codes
            table = np.zeros((source.cells, other.cells))
            table[np.arange(source.cells), first] = 1.0
            contained.append(table)
    span = orthonormal(np.hstack(contained))
    full = np.linalg.qr(np.hstack([span, np.eye(source.cells)]))[0][:, span.shape[1] : source.cells]
    return indicator(source) @ full


def directions(sources: Sequence[Source], kind: int) -> list[Array]:
    """Q of every source, by sums of squares of type 1, 2 or 3."""
    n = len(sources[0].codes)
    mean = np.full((n, 1), 1.0 / np.sqrt(n))
    out = []
    if kind == 1:
        so_far = mean
        for s in sources:
            q = orthonormal(indicator(s), so_far)
            out.append(q)
            so_far = np.hstack([so_far, q])
        return out
    own = [own_columns(s, sources) for s in sources]
    for i, s in enumerate(sources):
        if kind == 2:
            rest = [indicator(o) for j, o in enumerate(sources) if j != i and not s.inside(o)]
            beside = orthonormal(np.hstack([mean, *rest]))
            out.append(orthonormal(indicator(s), beside))
        else:
            rest = [w for j, w in enumerate(own) if j != i]
            beside = orthonormal(np.hstack([mean, *rest]))
            out.append(orthonormal(own[i], beside))
    return out
