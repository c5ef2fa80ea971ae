"""Whether one model is a special case of another, decided on column spaces and covariance structures."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.effects import structure_of
from bold_orchard.covariance.effects.base import Structure
from bold_orchard.design.design import Clause, Design
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.design.predictors import over_all, over_predictors
from bold_orchard.design.residual import ResidualPart
from bold_orchard.design.validation import constant_inside
from bold_orchard.families import family_of
from bold_orchard.sentence.tree import Named

Array = NDArray[Any]
HELD_BY = {  # residual structures that are special cases of another one of the same unit
    "toeplitz": ("exchangeable", "ar1", "exponential"),
    "unstructured": ("exchangeable", "ar1", "exponential", "toeplitz"),
}


@dataclass(frozen=True)
class Relation:
    """``extra_effects`` counts what the larger model has and the smaller holds at zero, its edge: variances of random effects, the extra
    variation by which a negative binomial exceeds a Poisson, and a correlation that may not be negative."""

    nested: bool
    same_fixed: bool
    extra_effects: int


def relation(small: Design, large: Design) -> Relation:
    """How ``small`` stands to ``large``; both on the same rows."""
    if small.predictors != large.predictors:
        names = over_all(small, large)
        if names is None:
            return Relation(False, False, 0)
        small, large = over_predictors(small, names), over_predictors(large, names)
    same = spans(large, small) and spans(small, large)
    wider = small.family in family_of(large.family).limits and small.link == large.link and not large.predictors
    alike = wider or (small.family, small.link) == (large.family, large.link)
    extra = _extra_effects(small, large)
    nested = alike and spans(large, small) and _same_offset(small, large) and extra is not None
    return Relation(nested, same, (extra or 0) + int(wider))


def _same_offset(a: Design, b: Design) -> bool:
    if a.offset is None or b.offset is None:
        return a.offset is b.offset
    return a.offset.shape == b.offset.shape and bool(np.allclose(a.offset, b.offset, rtol=1e-12, atol=0))


def _effects(design: Design) -> int:
    return sum(1 if c.structure.kind == "identity" else len(c.part.names) for c in design.clauses)


def same_columns(a: Design, b: Design) -> bool:
    """Whether both fixed parts hold the same columns under the same names."""
    return a.fixed.names == b.fixed.names and not _missing(a, a.fixed, b, b.fixed)


def _missing(large: Design, basis: ModelMatrix, small: Design, part: ModelMatrix) -> list[Array]:
    """The columns of ``part`` that are not themselves columns of ``basis``, a name alone being none: ``let`` may give it to anything."""
    known = dict(zip(basis.names, basis.values))
    if len(large.y) != len(
        small.y
    ):  # summed in pieces, each by its own cells: what is written in the same way is the same
        same = {n for n in known if _definitions(large).get(n) == _definitions(small).get(n)}
        return [v for n, v in zip(part.names, part.values) if n not in same]
    return [
        v for n, v in zip(part.names, part.values)
        if n not in known or not (known[n] is v or np.allclose(known[n], v, rtol=1e-9, atol=1e-12 * float(np.abs(v).max(initial=0.0))))
    ]  # fmt: skip


def _definitions(design: Design) -> dict[str, str]:
    """What each name that ``let`` gave stands for, by the names of its columns."""
    out = {}
    for part in (design.fixed, *(c.part for c in design.clauses)):
        for name, owner in zip(part.names, part.owner):
            named = [f for f in part.terms[owner].factors if isinstance(f, Named)]
            out[name] = "; ".join(f"{f.name} = {f.factor.written}" for f in named)
    return out


def spans(large: Design, small: Design) -> bool:
    """Whether every column of the small model's X lies in the column space of the large one's."""
    return _holds(large, large.fixed, small, small.fixed, large.graded)


def _holds(large: Design, basis: ModelMatrix, small: Design, part: ModelMatrix, constant: bool = False) -> bool:
    """Whether the columns of ``part`` lie in the span of ``basis``, and of a constant where the model has one beside."""
    extra = _missing(large, basis, small, part)
    if not extra:
        return True
    if len(large.y) != len(small.y) or not (basis.values or constant):
        return False
    ones = [np.ones(len(large.y))] if constant else []
    return _in_space(np.column_stack([*ones, *basis.values]), np.column_stack(extra))


def _in_space(basis: Array, columns: Array) -> bool:
    scale = np.linalg.norm(basis, axis=0)
    q, r = np.linalg.qr(basis / np.where(scale > 0, scale, 1.0))
    q = q[:, np.abs(np.diag(r)) > 1e-9]
    rest = columns - q @ (q.T @ columns)
    return bool(np.all(np.linalg.norm(rest, axis=0) <= 1e-7 * np.linalg.norm(columns, axis=0)))


def _extra_effects(small: Design, large: Design) -> int | None:
    """How many parameters of the larger covariance stand at their edge in the smaller one; None where it does not contain it.

    An exchangeable correlation of rows is the variance of an effect of their unit, written in another way, and an unstructured covariance
    of occasions holds every effect of its unit that depends on the occasion alone.
    """
    pairs = [(small, large)]
    inner, outer = small.residual, large.residual
    if inner.kind == "exchangeable" and outer.kind != "exchangeable" and inner.by is None:
        pairs.append((_as_effect(small, large), large))
    if outer.kind in ("exchangeable", "unstructured") and inner.kind != outer.kind:
        pairs.append((_taken_up(small, large), large))
    for one, two in pairs:
        if random_nested(one, two) and _rows_nested(one, two):
            new = two.residual.kind if one.residual.kind == "independent" else ""
            bounded = new == "exponential" or (new == "ar1" and not _whole_gaps(two.residual))
            return _effects(two) - _effects(one) + int(bounded)
    return None


def _as_effect(small: Design, large: Design) -> Design:
    """The small model with its exchangeable correlation as an effect of the large model's own unit, where that has one."""
    codes = small.residual.codes
    home = next(
        (
            c
            for c in large.clauses
            if c.part.names == ("intercept",) and _same_partition(large.units[c.unit].codes, codes)
        ),
        None,
    )
    if home is None or codes is None:
        return small
    unit = large.units[home.unit]
    clause = replace(home, unit=len(small.units))
    return replace(
        small, units=(*small.units, unit), clauses=(*small.clauses, clause), residual=ResidualPart("independent", spread=small.residual.spread)
    )  # fmt: skip


def _taken_up(small: Design, large: Design) -> Design:
    """The small model without the effects that the large model's covariance of rows takes up."""
    rows = large.residual

    def inside(c: Clause) -> bool:
        own = small.units[c.unit].codes
        if (
            rows.codes is None
            or len(own) != len(rows.codes)
            or not _same_partition(own, rows.codes)
            or c.vary is not None
            or c.has_spread
        ):
            return False
        if c.structure.file is not None:
            return False
        place = (
            np.zeros(len(own), dtype=np.intp) if rows.kind == "exchangeable" else np.asarray(rows.time, dtype=np.intp)
        )
        return all(constant_inside(place, int(place.max()) + 1, v) for v in c.part.values)

    return replace(small, clauses=tuple(c for c in small.clauses if not inside(c)))


def _rows_nested(small: Design, large: Design) -> bool:
    """Whether the covariance of rows of the small model is a special case of the large one's, its spread too."""
    a, b = small.residual, large.residual
    if small.known_errors or large.known_errors:
        return small.known_errors and large.known_errors and np.array_equal(_weights(small), _weights(large))
    if a.by is not None and not _levels_inside(a, b):
        return False
    if a.spread is not None and (
        b.spread is None or len(small.y) != len(large.y) or not _in_space(_with_ones(b.spread), _with_ones(a.spread))
    ):
        return False
    if a.kind == "independent":
        return True
    if a.codes is None or b.codes is None or not _same_partition(a.codes, b.codes):
        return False
    if a.kind == b.kind:
        return a.time is None or b.time is None or _same_times(a, b)
    if a.kind not in HELD_BY.get(b.kind, ()) or (a.time is not None and a.time.ndim > 1):
        return False
    if a.time is None:
        return True
    if b.kind == "toeplitz":  # only where equal steps in occasions are equal steps of time
        return _in_space(_with_constant(b.time), a.time[:, None])
    return constant_inside(np.asarray(b.time, dtype=np.intp), len(b.labels), a.time)


def _weights(design: Design) -> Array:
    return np.zeros(0) if design.weights is None else design.weights


def _levels_inside(a: ResidualPart, b: ResidualPart) -> bool:
    """Whether rows of one level of b's column lie in one level of a's."""
    if a.level is None or b.level is None or len(a.level) != len(b.level):
        return False
    return constant_inside(np.asarray(b.level), len(b.levels), a.level.astype(float))


def _same_times(a: ResidualPart, b: ResidualPart) -> bool:
    """Whether gaps are the same but for their unit, or occasions but for their names."""
    assert a.time is not None and b.time is not None
    if a.kind == "unstructured":
        return _same_partition(a.time.astype(np.intp), b.time.astype(np.intp))
    if a.time.ndim > 1 or b.time.ndim > 1:
        return a.time.shape == b.time.shape and np.allclose(a.time, b.time)
    same = _in_space(_with_constant(b.time), a.time[:, None])
    return same and (a.kind != "ar1" or _whole_gaps(a) == _whole_gaps(b))


def _with_constant(time: Any) -> Array:
    return np.column_stack([np.ones(len(time)), time])


def _whole_gaps(rows: ResidualPart) -> bool:
    """Whether all gaps between times inside a unit are whole numbers, so that an AR(1) correlation may be negative."""
    assert rows.codes is not None and rows.time is not None
    order = np.lexsort((rows.time, rows.codes))
    gaps = np.diff(rows.time[order])[np.diff(rows.codes[order]) == 0]
    return bool(np.all(gaps == np.round(gaps)))


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
    if a.structure.file is not None or b.structure.file is not None:
        return _same_matrix(a, small, b, large)
    if a.vary is not None and (b.vary is None or not _in_space(_with_ones(b.vary), _with_ones(a.vary))):
        return False
    inside, around = not _missing(large, b.part, small, a.part), not _missing(small, a.part, large, b.part)
    if b.vary is not None and not (inside and around):  # the SDs of all terms move together
        return False
    if inside and around:
        return b.structure.kind in _own(a).contained_in
    if inside:
        return b.structure.kind in _own(a).contained_in_wider
    return b.structure.kind == "unstructured" and _holds(large, b.part, small, a.part)


def _same_matrix(a: Clause, small: Design, b: Clause, large: Design) -> bool:
    """Whether two clauses with a matrix from a file say the same."""
    if a.structure.kind != b.structure.kind or a.part.names != b.part.names or _missing(large, b.part, small, a.part):
        return False
    matrices = (
        (a.given, b.given),
        (small.blocks[a.block].relationship_factor, large.blocks[b.block].relationship_factor),
    )
    return all(x is y or (x is not None and y is not None and np.array_equal(x, y)) for x, y in matrices)


def _with_ones(part: ModelMatrix) -> Array:
    return np.column_stack([np.ones(len(part.values[0])), *part.values])


def _own(clause: Clause) -> type[Structure]:
    """The structure itself, that of one effect being no more than a variance."""
    return structure_of("identity") if len(clause.part.names) == 1 else clause.kind


def _same_partition(a: Any, b: Any) -> bool:
    """Whether two numberings (n,) put the same rows together; False where there is none."""
    if a is None or b is None or len(a) != len(b):
        return False
    a, b = (np.unique(v, return_inverse=True)[1].ravel() for v in (a, b))
    return bool(a.max() == b.max()) and len(np.unique(a * (b.max() + 1) + b)) == a.max() + 1
