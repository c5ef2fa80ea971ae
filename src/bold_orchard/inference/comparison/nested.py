"""Whether one model is a special case of another, decided on column spaces and covariance structures."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects import structure_of
from bold_orchard.covariance.effects.base import Structure
from bold_orchard.design.design import Clause, Design
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.families import family_of
from bold_orchard.frozen import Frozen, frozen

Array = NDArray[Any]


@frozen
class Relation(Frozen):
    """``extra_effects`` counts what the larger model has and the smaller holds at zero: variances of random effects, and the
    extra variation by which a negative binomial exceeds a Poisson."""

    nested: bool
    same_fixed: bool
    extra_effects: int


def relation(small: Design, large: Design) -> Relation:
    """How ``small`` stands to ``large``; both on the same rows."""
    same = spans(large, small) and spans(small, large)
    wider = small.family in family_of(large.family).limits and small.link == large.link
    alike = wider or (small.family, small.link) == (large.family, large.link)
    nested = alike and spans(large, small) and _same_offset(small, large) and random_nested(small, large)
    extra = _effects(large) - _effects(small) + int(wider)
    return Relation(nested, same, extra)


def _same_offset(a: Design, b: Design) -> bool:
    if a.offset is None or b.offset is None:
        return a.offset is b.offset
    return bool(np.allclose(a.offset, b.offset, rtol=1e-12, atol=0))


def _effects(design: Design) -> int:
    return sum(len(c.part.names) for c in design.clauses)


def spans(large: Design, small: Design) -> bool:
    """Whether every column of the small model's X lies in the column space of the large one's."""
    extra = [v for n, v in zip(small.fixed.names, small.fixed.values) if n not in large.fixed.names]
    if not extra or not large.fixed.values:  # grades alone have no column, not even an intercept
        return not extra
    return _in_space(np.column_stack(large.fixed.values), np.column_stack(extra))


def _in_space(basis: Array, columns: Array) -> bool:
    scale = np.linalg.norm(basis, axis=0)
    q, r = np.linalg.qr(basis / np.where(scale > 0, scale, 1.0))
    q = q[:, np.abs(np.diag(r)) > 1e-9]
    rest = columns - q @ (q.T @ columns)
    return bool(np.all(np.linalg.norm(rest, axis=0) <= 1e-7 * np.linalg.norm(columns, axis=0)))


def random_nested(small: Design, large: Design) -> bool:
    """Whether every each clause of the small model is a special case of one of the large model's, however both are written."""
    return homes(small, large) is not None or homes(_apart(small), _apart(large)) is not None


def _apart(design: Design) -> Design:
    """Independent effects as clauses of their own: (diagonal): intercept + rain says each: intercept; each: rain."""
    clauses: list[Clause] = []
    for c in design.clauses:
        if c.structure.kind != "diagonal" or len(c.part.names) == 1:
            clauses.append(c)
            continue
        for k, (name, label, values) in enumerate(zip(c.part.names, c.part.labels, c.part.values)):
            part = replace(c.part, names=(name,), labels=(label,), values=(values,), owner=c.part.owner[k : k + 1])
            clauses.append(replace(c, part=part, columns=slice(c.columns.start + k, c.columns.start + k + 1)))
    return replace(design, clauses=tuple(clauses))


def homes(small: Design, large: Design) -> list[tuple[Clause, Clause]] | None:
    """Each clause of the small model with the clause of the large one that contains it; None when one has no home."""
    free, found = list(large.clauses), []
    for clause in small.clauses:
        home = next((c for c in free if _clause_nested(clause, small, c, large)), None)
        if home is None:
            return None
        found.append((clause, home))
        if home.structure.kind != "unstructured":
            free.remove(home)
    return found


def _clause_nested(a: Clause, small: Design, b: Clause, large: Design) -> bool:
    one, two = small.units[a.unit], large.units[b.unit]
    if one.name != two.name and not _same_partition(one.codes, two.codes):
        return False
    if a.vary is not None and (b.vary is None or not _in_space(_with_ones(b.vary), _with_ones(a.vary))):
        return False
    if b.vary is not None and set(a.part.names) != set(b.part.names):  # the SDs of all terms move together
        return False
    terms, others = set(a.part.names), set(b.part.names)
    if terms == others:
        return b.structure.kind in _own(a).contained_in
    if terms < others:
        return b.structure.kind in _own(a).contained_in_wider
    if b.structure.kind != "unstructured":
        return False
    return _in_space(np.column_stack(b.part.values), np.column_stack(a.part.values))


def _with_ones(part: ModelMatrix) -> Array:
    return np.column_stack([np.ones(len(part.values[0])), *part.values])


def _own(clause: Clause) -> type[Structure]:
    """The structure itself, that of one effect being no more than a variance; matrices from files are special cases of nothing."""
    if clause.structure.file is not None:
        return Structure
    return structure_of("identity") if len(clause.part.names) == 1 else clause.kind


def _same_partition(a: NDArray[np.intp], b: NDArray[np.intp]) -> bool:
    return bool(a.max() == b.max()) and len(np.unique(a * (b.max() + 1) + b)) == a.max() + 1
