"""Terms -> columns: categories coded, products formed, every column named."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from math import prod
from typing import Any, NamedTuple

from numpy.typing import NDArray

from bold_orchard.design.transformations import Category, ColumnMaker, Numeric
from bold_orchard.machine import check_room
from bold_orchard.sentence import tree

Array = NDArray[Any]
REMEDY = "levels that are a sample of all such levels go into an each clause: each UNIT: intercept"


@dataclass(frozen=True)
class ModelMatrix:
    """The columns of a fixed part or of an each clause.

    ``names`` (contract) and ``labels`` (printed) and ``values`` (each (n,)) run over columns;
    ``owner`` gives the index in ``terms`` of each column's term. In a fixed part the intercept comes first.
    ``degrees`` names the power of each column of a power(...) term, rain^2 or rain^2*pruning; None for others.
    ``cells`` says of each column what stands at each factor of its term: the place of a level of a category, or the name of a number.
    """

    terms: tuple[tree.Term, ...]
    names: tuple[str, ...]
    labels: tuple[str, ...]
    values: tuple[Array, ...]
    owner: tuple[int, ...]
    zeros: tuple[str, ...] = ()
    degrees: tuple[str | None, ...] = ()
    cells: tuple[tuple[int | str, ...], ...] = ()

    def without_intercept(self) -> ModelMatrix:
        """The same columns without the intercept, which stands first."""
        return ModelMatrix(
            self.terms[1:], self.names[1:], self.labels[1:], self.values[1:], tuple(o - 1 for o in self.owner[1:]), self.zeros,
            self.degrees[1:], self.cells[1:],
        )  # fmt: skip

    @property
    def constant(self) -> int | None:
        """The column of the intercept, if it is there."""
        return self.names.index("intercept") if self.intercept else None

    @property
    def intercept(self) -> bool:
        return any(t.is_intercept for t in self.terms)


class _Made(NamedTuple):
    """One column of a term, or of one of its factors."""

    name: str
    label: str
    values: Array
    degree: str | None
    cell: tuple[int | str, ...]


def build_part(terms: tuple[tree.Term, ...], intercept: bool, maker: ColumnMaker) -> ModelMatrix:
    """Code the terms of one part in their order; with ``intercept`` an intercept stands before them.

    A category is coded against its baseline where the rest of its term (nothing, for a main effect) is
    already spanned by the part, else with one column per level.
    """
    ordered = (tree.Term(()), *(t for t in terms if not t.is_intercept)) if intercept else terms
    spanned = {t.key for t in ordered}
    columns: list[_Made] = []
    owner: list[int] = []
    for index, term in enumerate(ordered):
        made = [maker.make(f) for f in term.factors]
        full = _full_coded(term, made, spanned)
        spanned |= _margins(term, full)
        own = _products(term, made, full, maker.ones)
        columns += own
        owner += [index] * len(own)
    names, labels, values, degrees, cells = zip(*columns) if columns else ((),) * 5
    return ModelMatrix(ordered, names, labels, values, tuple(owner), _zeros(ordered, maker), degrees, cells)


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


def _products(term: tree.Term, made: list[Numeric | Category], full: frozenset[str], ones: Array) -> list[_Made]:
    if not made:
        return [_Made("intercept", "intercept", ones, None, ())]
    powers = [_is_power(f) and isinstance(m, Numeric) and len(m.names) > 1 for f, m in zip(term.factors, made)]
    counts = [len(m.names) if isinstance(m, Numeric) else len(m.levels) for m in made]
    check_room(
        8.0 * prod(counts) * len(ones), f"the {prod(counts):,} columns of {term} over {len(ones):,} rows", REMEDY
    )
    parts = [_columns(m, f.written in full) for f, m in zip(term.factors, made)]
    out = []
    for combination in itertools.product(*parts):
        column = combination[0].values
        for c in combination[1:]:
            column = column * c.values
        degree = "*".join(c.name if p else str(f) for c, p, f in zip(combination, powers, term.factors))
        rest = combination if term.outcome is None else combination[1:]
        name, label = ("*".join(c.name for c in rest) or "intercept", " * ".join(c.label for c in rest) or "intercept")
        name, label = (term.bare, term.bare) if term.bare is not None else (term.prefix + name, term.prefix + label)
        out.append(_Made(name, label, column, degree if any(powers) else None, sum((c.cell for c in combination), ())))
    return out


def _is_power(factor: tree.Factor) -> bool:
    inner = factor.factor if isinstance(factor, tree.Named) else factor
    return isinstance(inner, tree.Call) and inner.function == "power"


def _columns(made: Numeric | Category, full: bool) -> list[_Made]:
    if isinstance(made, Numeric):
        return [_Made(n, n, v, None, (n,)) for n, v in zip(made.names, made.values)]
    base = made.levels[0]
    return [
        _Made(
            f"{made.name}[{level}]",
            f"{made.name}: {level}" if full else f"{made.name}: {level} vs {base}",
            (made.codes == i).astype(float),
            None,
            (i,),
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
    return tuple(text for text in seen if text)
