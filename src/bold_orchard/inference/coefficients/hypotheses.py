"""What a test of a term says is zero: combinations of coefficients that no coding, baseline, name or order of levels enters.

Each term is taken whole, one column for each combination of levels, whatever coding was fitted; what rows cannot tell apart from
other terms is no part of its hypothesis (Searle 1987).
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.column_space import basis
from bold_orchard.design.transformations import Category
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.tree import Term

Array = NDArray[Any]
Numbers = tuple[tuple[str, str], ...]
COMBINATIONS = "empty combinations of categories, or aliased terms"


@dataclass(frozen=True)
class Hypothesis:
    """``rows`` (q, p') @ b = 0, independent; ``parts`` the same of each power; ``why`` says what is missing of it, or None."""

    term: str
    rows: Array
    parts: tuple[tuple[str, Array], ...] = ()
    why: str | None = None


def hypotheses(fit: Fit, kind: int) -> list[Hypothesis]:
    """One for each term but the intercept; ``kind`` is 1 (sequential), 2 (partial) or 3 (marginal)."""
    if not fit.model.kept:
        return []
    return {1: _sequential, 2: _partial, 3: _marginal}[kind](_Terms(fit))


class _Terms:
    """The terms of a fixed part with their categories, numbers and columns."""

    def __init__(self, fit: Fit) -> None:
        self.part, self.design = fit.design.fixed, fit.design
        self.space = fit.model.column_space
        maker = fit.design.maker()
        made = {f.written: maker.make(f) for t in self.part.terms for f in t.factors}
        self.categories = {n: m for n, m in made.items() if isinstance(m, Category)}
        self.tested = [(i, t) for i, t in enumerate(self.part.terms) if t.alone.factors]
        # over stacked rows every outcome or linear predictor has an intercept that is a term like the others
        self.intercepts = [i for i, t in enumerate(self.part.terms) if t.outcome is not None and not t.alone.factors]

    def of(self, term: Term) -> frozenset[str]:
        """Its categories."""
        return term.key & self.categories.keys()

    def numbers(self, column: int) -> Numbers:
        """The numbers of which a column is a product, by factor."""
        term = self.part.terms[self.part.owner[column]]
        return tuple(
            sorted((f.written, c) for f, c in zip(term.factors, self.part.cells[column]) if isinstance(c, str))
        )

    def levels(self, column: int) -> dict[str, int]:
        """The level at which each category stands in a column."""
        term = self.part.terms[self.part.owner[column]]
        return {f.written: c for f, c in zip(term.factors, self.part.cells[column]) if not isinstance(c, str)}

    def columns(self, index: int) -> list[int]:
        return [c for c, o in enumerate(self.part.owner) if o == index]

    def powers(self, index: int) -> dict[str, list[Numbers]]:
        """For each power of power(x, k) the numbers that it multiplies; nothing in other terms."""
        out: dict[str, dict[Numbers, None]] = {}
        for c in self.columns(index):
            degree = self.part.degrees[c] if self.part.degrees else None
            if degree is None:
                return {}
            out.setdefault(degree, {})[self.numbers(c)] = None
        return {d: list(n) for d, n in out.items()}

    @cached_property
    def _products(self) -> dict[Numbers, Array]:
        """Products of numbers over the rows, known from the columns themselves, as rows that stand for sums are no rows."""
        out: dict[Numbers, Array] = {}
        for index in sorted(
            (*self.intercepts, *(i for i, _ in self.tested)), key=lambda i: len(self.of(self.part.terms[i]))
        ):
            found: dict[Numbers, Array] = {}
            for c in self.columns(index):
                found[self.numbers(c)] = found.get(self.numbers(c), 0.0) + self.part.values[c]
            out = found | out
        return out | {(): np.ones(len(self.design.y))}

    def span(self, index: int, some: Sequence[Numbers] | None = None) -> Array:
        """The term, one column for each combination of levels that occurs, in the coordinates of the space (p', m)."""
        term = self.part.terms[index]
        codes, size = np.zeros(len(self.design.y), dtype=np.intp), 1
        for name in sorted(self.of(term)):
            codes, size = (
                codes * len(self.categories[name].levels) + self.categories[name].codes,
                size * len(self.categories[name].levels),
            )
        present, codes = np.unique(codes, return_inverse=True) if size > 1 else (np.zeros(1), codes)
        numbers = list(dict.fromkeys(map(self.numbers, self.columns(index)))) if some is None else some
        made = []
        for own in numbers:
            values = self._products[own]
            if not self.of(term) and self.space.constant:
                values = values - self.design.mean_of(values)
            made.append(self.space.coordinates(codes.ravel(), len(present), values))
        return np.hstack(made)

    def hypothesis(self, index: int, directions: Array, parts: Sequence[tuple[str, Array]], why: str) -> Hypothesis:
        rows = [(degree, self.space.rows(own)) for degree, own in parts]
        return Hypothesis(
            str(self.part.terms[index]), self.space.rows(directions), tuple(rows), None if len(directions) else why
        )


def _sequential(terms: _Terms) -> list[Hypothesis]:
    """Type 1: what each term adds to those before it."""
    out, before = [], np.zeros((0, len(terms.space.kept)))
    for index in terms.intercepts:
        before = np.vstack([before, basis(terms.span(index), before)])
    for index, _ in terms.tested:
        first, parts = before, []
        for degree, numbers in terms.powers(index).items():
            parts.append((degree, basis(terms.span(index, numbers), before)))
            before = np.vstack([before, parts[-1][1]])
        own = basis(terms.span(index), first)
        before = np.vstack([first, own])
        out.append(terms.hypothesis(index, own, parts, "the terms before it take up all that it could add"))
    return out


def _partial(terms: _Terms) -> list[Hypothesis]:
    """Type 2: what each term adds to every term that does not contain it."""
    out = []
    for index, term in terms.tested:
        others = [terms.span(i) for i in terms.intercepts]
        others += [terms.span(i) for i, t in terms.tested if i != index and not term.key < t.key]
        nothing = np.zeros((len(terms.space.kept), 0))
        own = basis(terms.span(index), basis(np.hstack([nothing, *others])))
        parts, powers = [], terms.powers(index)
        for degree, numbers in powers.items():
            rest = [n for d, own_numbers in powers.items() if d != degree for n in own_numbers]
            beside = [*others, terms.span(index, rest)] if rest else others
            parts.append((degree, basis(terms.span(index, numbers), basis(np.hstack([nothing, *beside])))))
        out.append(terms.hypothesis(index, own, parts, "the other terms take up all that it could add"))
    return out


def _marginal(terms: _Terms) -> list[Hypothesis]:
    """Type 3: contrasts of means over all combinations of the other categories, numbers at zero, as far as they are estimable."""
    out, space = [], terms.space
    for index, _ in terms.tested:
        whole = _contrasts(terms, index)
        made = space.rows(space.directions(space.estimable(whole)))
        powers = terms.powers(index)
        parts = [
            (degree, space.rows(space.directions(space.estimable(_contrasts(terms, index, numbers)))))
            for degree, numbers in powers.items()
        ]
        why = None
        if not len(made):
            why = f"nothing of it can be told apart from the other terms ({COMBINATIONS})"
        elif len(made) < len(whole):
            why = (
                f"{len(made)} of its {len(whole)} df are tested; the rest has no answer in these rows ({COMBINATIONS})"
            )
        out.append(Hypothesis(str(terms.part.terms[index]), made, tuple(parts), why))
    return out


def _contrasts(terms: _Terms, index: int, some: Sequence[Numbers] | None = None) -> Array:
    """Combinations of all coefficients, (q, p), that a term's absence would make zero."""
    columns = range(len(terms.part.names))
    numbers = list(dict.fromkeys(map(terms.numbers, terms.columns(index)))) if some is None else some
    rows = []
    for own in numbers:
        alike = [(c, terms.levels(c)) for c in columns if terms.numbers(c) == own]
        for effect in _own_effects(terms, terms.part.terms[index]):
            made = np.zeros((int(np.prod([len(terms.categories[f].levels) - 1 for f in effect])), len(columns)))
            for c, levels in alike:
                if effect <= levels.keys():
                    made[:, c] = _weights(terms, sorted(effect), levels)
            rows.append(made)
    return np.vstack(rows)


def _weights(terms: _Terms, effect: Sequence[str], levels: dict[str, int]) -> Array:
    """What a combination of levels weighs in the contrasts of an effect: means over the other categories."""
    weights = np.ones(1)
    for f in effect:
        k = len(terms.categories[f].levels)
        weights = np.kron(weights, (np.arange(k - 1) == levels[f]) - 1.0 / k)
    return weights / float(np.prod([len(terms.categories[f].levels) for f in levels.keys() - set(effect)]))


def _own_effects(terms: _Terms, term: Term) -> list[frozenset[str]]:
    """The effects that are this term's: its own, and those of its parts that no other term holds."""
    categories = terms.of(term)
    alike = [terms.of(t) for t in terms.part.terms if t.key - terms.of(t) == term.key - categories]
    if terms.design.graded and categories == term.key:
        alike.append(frozenset())
    out = []
    for size in range(len(categories) + 1):
        for effect in map(frozenset, itertools.combinations(sorted(categories), size)):
            holders = [c for c in alike if effect <= c]
            least = [c for c in holders if not any(other < c for other in holders)]
            if least == [categories]:
                out.append(effect)
    return out
