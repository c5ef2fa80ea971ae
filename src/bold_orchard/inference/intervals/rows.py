"""One parameter's entry in the document of intervals."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from bold_orchard.inference.coefficients.maximum_likelihood import threshold_names
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.quantities import Quantity

Array = NDArray[Any]


def fixed_labels(fit: Fit) -> list[str]:
    """Names of all rows of the fixed part as parameters: thresholds of grades first."""
    return [*(threshold_names(fit.design) if fit.design.graded else []), *fit.design.coefficient_labels]


def fixed_places(fit: Fit) -> list[tuple[str, int | None]]:
    """Each fixed term with its place among the kept coefficients, None where aliased."""
    place = {column: i for i, column in enumerate(fit.criterion.products.standard.kept)}
    return [(name, place.get(column)) for column, name in enumerate(fit.design.coefficient_labels)]


def ordered(low: float | None, high: float | None) -> tuple[float | None, float | None]:
    """The two ends, the lower first: a dispersion may fall where its parameter rises."""
    return (high, low) if low is not None and high is not None and high < low else (low, high)


def row_of(
    name: str, kind: str, group: str | None, terms: tuple[str | None, str | None], estimate: float | None,
    low: float | None, high: float | None,
) -> dict[str, Any]:  # fmt: skip
    """One entry of the document."""
    ends = [None if v is None else number(v) for v in ordered(low, high)]
    return {"parameter": name, "estimate": None if estimate is None else number(estimate), "low": ends[0], "high": ends[1],
            "kind": kind, "group": group, "term": terms[0], "term2": terms[1]}  # fmt: skip


def quantity_row(q: Quantity, psi: Array, low: float | None, high: float | None) -> dict[str, Any]:
    """The entry of a variance parameter; all null for a correlation with something that does not vary."""
    if not q.exists(psi):
        return row_of(q.parameter, q.kind, q.group, (q.term, q.term2), None, None, None)
    estimate = q.back(q.at(psi))
    return row_of(q.parameter, q.kind, q.group, (q.term, q.term2), estimate, low, high)
