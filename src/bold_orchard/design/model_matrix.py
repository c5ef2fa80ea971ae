"""Terms -> columns: categories coded, products formed, every column named."""

from __future__ import annotations

import itertools
from typing import Any

from numpy.typing import NDArray

from bold_orchard.design.transformations import Category, ColumnMaker, Numeric
from bold_orchard.frozen import Frozen, frozen
from bold_orchard.sentence import tree

Array = NDArray[Any]


@frozen
class ModelMatrix(Frozen):
    """The columns of a fixed part or of an each clause.

    ``names`` (contract) and ``labels`` (printed) and ``values`` (each (n,)) run over columns;
    ``owner`` gives the index in ``terms`` of each column's term. In a fixed part the intercept comes first.
    ``degrees`` names the power of each column of a power(...) term, rain^2 or rain^2*pruning; None for others.
    """

    terms: tuple[tree.Term, ...]
    names: tuple[str, ...]
    labels: tuple[str, ...]
    values: tuple[Array, ...]
    owner: tuple[int, ...]
    zeros: tuple[str, ...] = ()
    degrees: tuple[str | None, ...] = ()

    @property
    def constant(self) -> int | None:
        """The column of the intercept, if it is there."""
        return self.names.index("intercept") if self.intercept else None

    @property
    def intercept(self) -> bool:
        return any(t.is_intercept for t in self.terms)


def build_part(terms: tuple[tree.Term, ...], intercept: bool, maker: ColumnMaker, sums: bool = False) -> ModelMatrix:
    """Code the terms of one part in their order; with ``intercept`` an intercept stands before them.

    A category is coded against its baseline where the rest of its term (nothing, for a main effect) is
    already spanned by the part, else with one column per level. With ``sums`` the baseline's rows hold -1 instead of 0
    (sum-to-zero contrasts).
    """
    ordered = (tree.Term(()), *(t for t in terms if not t.is_intercept)) if intercept else terms
    spanned = {t.key for t in ordered}
    names: list[str] = []
    labels: list[str] = []
    values: list[Array] = []
    owner: list[int] = []
    degrees: list[str | None] = []
    for index, term in enumerate(ordered):
        made = [maker.make(f) for f in term.factors]
        full = _full_coded(term, made, spanned)
        spanned |= _margins(term, full)
        for name, label, column, degree in _products(term, made, full, maker.ones, sums):
            degrees.append(degree)
            names.append(name)
            labels.append(label)
            values.append(column)
            owner.append(index)
    zeros = _zeros(ordered, maker)
    return ModelMatrix(ordered, tuple(names), tuple(labels), tuple(values), tuple(owner), zeros, tuple(degrees))


def _full_coded(term: tree.Term, made: list[Numeric | Category], spanned: set[frozenset[str]]) -> frozenset[str]:
    """The categories of a term that get one column per level."""
    return frozenset(
        f.written
        for f, m in zip(term.factors, made)
        if isinstance(m, Category) and term.key - {f.written} not in spanned
    )


def _margins(term: tree.Term, full: frozenset[str]) -> set[frozenset[str]]:
    """What a term with fully coded categories spans beside itself: each margin over them."""
    sizes = range(1, len(full) + 1)
    return {term.key - set(c) for size in sizes for c in itertools.combinations(sorted(full), size)}


def _products(
    term: tree.Term, made: list[Numeric | Category], full: frozenset[str], ones: Array, sums: bool
) -> list[tuple[str, str, Array, str | None]]:
    if not made:
        return [("intercept", "intercept", ones, None)]
    powers = [_is_power(f) and isinstance(m, Numeric) and len(m.names) > 1 for f, m in zip(term.factors, made)]
    parts = [_columns(m, f.written in full, sums) for f, m in zip(term.factors, made)]
    rows = []
    for combination in itertools.product(*parts):
        column = combination[0][2]
        for _, _, values in combination[1:]:
            column = column * values
        degree = "*".join(c[0] if p else str(f) for c, p, f in zip(combination, powers, term.factors))
        names = "*".join(c[0] for c in combination), " * ".join(c[1] for c in combination)
        rows.append((*names, column, degree if any(powers) else None))
    return rows


def _is_power(factor: tree.Factor) -> bool:
    inner = factor.factor if isinstance(factor, tree.Named) else factor
    return isinstance(inner, tree.Call) and inner.function == "power"


def _columns(made: Numeric | Category, full: bool, sums: bool) -> list[tuple[str, str, Array]]:
    if isinstance(made, Numeric):
        return [(n, n, v) for n, v in zip(made.names, made.values)]
    base = made.levels[0]
    return [
        (
            f"{made.name}[{level}]",
            f"{made.name}: {level}" if full else f"{made.name}: {level} vs {base}",
            (made.codes == i).astype(float) - (0.0 if full or not sums else (made.codes == 0).astype(float)),
        )
        for i, level in enumerate(made.levels)
        if full or i > 0
    ]


def _zeros(terms: tuple[tree.Term, ...], maker: ColumnMaker) -> tuple[str, ...]:
    """Where every factor of the part is zero or at its baseline: what an intercept refers to."""
    seen: dict[str, None] = {}
    for factor in (f for t in terms for f in t.factors):
        made = maker.make(factor)
        text = f"{made.name} = {made.levels[0]}" if isinstance(made, Category) else made.zero
        seen.setdefault(text)
    return tuple(seen)
