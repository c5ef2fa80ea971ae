"""One parameter's entry in the document of intervals."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.quantities import Quantity
from bold_orchard.parameters.parameter import Parameter

Array = NDArray[Any]


def fixed_places(fit: Fit) -> list[tuple[Parameter, int | None]]:
    """Each coefficient with its place among those kept, None where aliased."""
    place = {column: i for i, column in enumerate(fit.criterion.products.standard.kept)}
    return [(p, place.get(column)) for column, p in enumerate(fit.catalogue.coefficients)]


def ordered(low: float | None, high: float | None) -> tuple[float | None, float | None]:
    """The two ends, the lower first: a dispersion may fall where its parameter rises."""
    return (high, low) if low is not None and high is not None and high < low else (low, high)


def row_of(
    p: Parameter, estimate: float | None = None, low: float | None = None, high: float | None = None
) -> dict[str, Any]:
    """One entry of the document."""
    ends = [None if v is None else number(v) for v in ordered(low, high)]
    return {"parameter": p.label, "estimate": None if estimate is None else number(estimate), "low": ends[0], "high": ends[1],
            "kind": p.reported_kind, "group": p.group, "term": p.term, "term2": p.term2}  # fmt: skip


def quantity_row(q: Quantity, psi: Array, low: float | None, high: float | None) -> dict[str, Any]:
    """The entry of a variance parameter; all null for a correlation with something that does not vary."""
    if not q.exists(psi):
        return row_of(q.parameter)
    return row_of(q.parameter, q.back(q.at(psi)), low, high)
