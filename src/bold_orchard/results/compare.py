"""The document of ``orchard compare``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.results.base import ABSENT, BESIDE, Absent, Number, Part, Result, Row


@dataclass(frozen=True)
class ComparedModel(Part):
    """One fit and how far it stands from the best."""

    name: str
    model: str
    n_parameters: int
    loglik: Number
    deviance: Number
    aic: Number
    aicc: Number
    bic: Number
    converged: bool
    boundary: bool
    delta_aic: Number
    delta_bic: Number
    akaike_weight: Number


@dataclass(frozen=True)
class Explained(Part):
    """1 - variance in the larger / in the smaller model."""

    group: str
    term: str
    proportion: Number


@dataclass(frozen=True)
class RatioTest(Part):
    """A likelihood-ratio test; null where the smaller is not a special case of the larger."""

    smaller: str
    larger: str
    nested: bool
    chisq: Number
    df: int | None
    p: Number
    p_boundary: Number
    p_bootstrap: Number
    bayes_factor: Number
    variance_explained: list[Explained]
    den_df: Number | Absent = ABSENT


@dataclass(frozen=True)
class LeftOutLevel(Part):
    level: str
    log_score: Number


@dataclass(frozen=True)
class LeftOut(Part):
    """How well a fit foretells units that it has not seen: the log density of their rows, summed over ``levels``, with its standard
    error, and the root mean squared error of its fixed part on the outcome's scale."""

    name: str
    unit: str
    folds: int
    log_score: Number
    se: Number
    rmse: Number
    levels: list[LeftOutLevel]


@dataclass(frozen=True)
class Lines:
    """Data (n,) and, per fit, the average line at ``at``; ``covariate`` names the horizontal axis.

    ``units`` has the lines (x, y) of units by each fit, where the fits differ in what varies.
    """

    covariate: str
    x: Any
    y: Any
    at: Any
    lines: dict[str, Any]
    units: dict[str, list[tuple[Any, Any]]] = field(default_factory=dict)


@dataclass(frozen=True)
class CompareResult(Result):
    """Fits of the same rows, smallest first, with tests of consecutive pairs."""

    command: ClassVar[str] = "compare"
    main: ClassVar[str] = "models"

    schema: str
    method: str
    refitted: list[str]
    outcome: str
    rows: int
    models: list[ComparedModel]
    tests: list[RatioTest]
    notes: list[str]
    leave_out: list[LeftOut] | Absent = ABSENT
    lines: Lines | None = field(default=None, metadata=BESIDE, repr=False, compare=False)

    def table(self, **view: bool) -> list[Row]:
        """The models, and below them the tests of each pair with the variances explained."""
        rows: list[Row] = [{"part": "model"} | m for m in self["models"]]
        for t in self["tests"]:
            kept = {k: v for k, v in t.items() if k != "variance_explained"}
            explained = {f"explained {v['group']}: {v['term']}": v["proportion"] for v in t["variance_explained"]}
            rows.append({"part": "test"} | kept | explained)
        return rows

    def to_frame(self, name: str | None = None) -> Any:
        import pandas as pd

        return pd.DataFrame(self.rows_of(name or self.main))
