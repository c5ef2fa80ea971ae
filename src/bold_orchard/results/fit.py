"""The document of ``orchard fit`` and ``orchard show``."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, ClassVar

from bold_orchard.families import family_of
from bold_orchard.families.links import LINKS
from bold_orchard.results.base import ABSENT, BESIDE, Absent, Interval, Number, Part, Result, Row, flat
from bold_orchard.results.components import IntraclassCorrelation, RSquared

Matrix = list[list[Number]]


@dataclass(frozen=True)
class DroppedRows(Part):
    column: str
    rows: int


@dataclass(frozen=True)
class FilledCells(Part):
    column: str
    rows: int
    value: float


@dataclass(frozen=True)
class Reading(Part):
    """How the rows were read: ``engine`` is memory, pieces or cluster."""

    pieces: int
    rows: int
    engine: str
    workers: int


@dataclass(frozen=True)
class CensoredRows(Part):
    """Rows at or beyond the lower and the upper limit of the outcome."""

    below: int
    above: int


@dataclass(frozen=True)
class RowCounts(Part):
    """Rows read and used; each lost row counts under the first column that lost it."""

    read: int
    used: int
    dropped: list[DroppedRows]
    filled: list[FilledCells]
    censored: CensoredRows | Absent = ABSENT
    observed: dict[str, int] | Absent = ABSENT


@dataclass(frozen=True)
class UnitCounts(Part):
    """Levels of a unit and their numbers of rows."""

    group: str
    levels: int
    smallest: int
    median: Number
    largest: int


@dataclass(frozen=True)
class Coefficient(Part):
    """One column of the fixed part; null where it is aliased."""

    term: str
    estimate: Number
    se: Number
    df: Number
    statistic: Number
    p: Number
    ci: Interval
    label: str
    ratio: Number | Absent = ABSENT
    ratio_ci: Interval | Absent = ABSENT


@dataclass(frozen=True)
class PartCoefficients(Part):
    """Coefficients of a linear predictor beside the mean's: ``part`` is zeros or spread, ``link`` its scale; terms
    stand without the part's name."""

    part: str
    link: str
    fixed: list[Coefficient]
    fixed_covariance: Matrix


@dataclass(frozen=True)
class SpreadCoefficient(Part):
    """What a column adds to the log of an SD."""

    term: str
    label: str
    estimate: Number
    se: Number


@dataclass(frozen=True)
class RandomPart(Part):
    """One ``each`` clause: covariance of its effects on the user's scale; where their SDs ``vary`` with columns, that at zero."""

    group: str
    structure: str
    terms: list[str]
    covariance: Matrix
    correlation: Matrix
    sd: list[Number]
    vary: list[SpreadCoefficient] | Absent = ABSENT


@dataclass(frozen=True)
class Residual(Part):
    """Of a gaussian fit its variance and structure, of others what belongs to their family."""

    variance: Number | Absent = ABSENT
    sd: Number | Absent = ABSENT
    structure: str | Absent = ABSENT
    unit: str | Absent | None = ABSENT
    levels: int | Absent = ABSENT
    parameters: dict[str, Any] | Absent = ABSENT
    dispersion: Number | Absent = ABSENT
    zero_chance: Number | Absent = ABSENT
    tail_df: Number | Absent = ABSENT


@dataclass(frozen=True)
class LikelihoodFigures(Part):
    loglik: Number
    deviance: Number
    aic: Number
    bic: Number
    n_parameters: int


@dataclass(frozen=True)
class Convergence(Part):
    """How the search ended; ``gradient`` is the root of twice the decrease of the deviance still expected."""

    converged: bool
    boundary: bool
    boundary_terms: list[str]
    iterations: int
    evaluations: int
    gradient: Number
    identified: bool


@dataclass(frozen=True)
class MonteCarlo(Part):
    """Of crossings too large for a dense factor: standard error of the log-likelihood, the largest error of a covariance parameter as a
    share of its own standard error, and the vectors of random ``signs`` behind the first."""

    loglik: Number
    share_of_se: Number
    signs: int


@dataclass(frozen=True)
class Transformation(Part):
    term: str
    meaning: str


@dataclass(frozen=True)
class AverageEffect(Part):
    """Change of the outcome's mean: for an average unit, and averaged over units."""

    term: str
    unit_specific: Number
    population: Number


@dataclass(frozen=True)
class Smooth(Part):
    """A curve: ``basis`` functions, ``edf`` of line and wiggle (1: a straight line), ``sd`` of the wiggle, ``p`` of it against the line."""

    smooth: str
    basis: int
    edf: Number
    sd: Number
    p: Number


@dataclass(frozen=True)
class ErrorsUsed(Part):
    """Errors of coefficients that are not the model's own: ``kind`` robust, over the ``clusters`` levels of a unit."""

    kind: str
    unit: str
    clusters: int


@dataclass(frozen=True)
class ImputedColumn(Part):
    """A covariate with gaps: rows ``missing`` it, of what ``kind`` it was drawn, at which ``level``, and R-hat of its draws' means and SDs."""

    column: str
    missing: int
    kind: str
    level: str
    mean_r_hat: Number
    sd_r_hat: Number


@dataclass(frozen=True)
class MissingFraction(Part):
    """Of the information on a coefficient, the fraction that is missing."""

    term: str
    fraction: Number


@dataclass(frozen=True)
class Imputation(Part):
    """Completed tables that were drawn, fitted and pooled; ``with`` are columns beside the sentence that helped."""

    draws: int
    columns: list[ImputedColumn]
    fraction_missing: list[MissingFraction]
    beside: list[str]
    seed: int


@dataclass(frozen=True)
class FitResult(Result):
    """A fitted model: coefficients, variation, figures of the likelihood, and how the search ended."""

    command: ClassVar[str] = "fit"
    main: ClassVar[str] = "fixed"

    schema: str
    name: str
    model: str
    outcome: str
    family: str
    link: str
    method: str
    rows: RowCounts
    groups: list[UnitCounts]
    fixed: list[Coefficient]
    fixed_covariance: Matrix
    random: list[RandomPart]
    residual: Residual | None
    fit: LikelihoodFigures
    convergence: Convergence
    notes: list[str]
    warnings: list[str]
    df_method: str
    confidence: float
    intercept_at: list[str]
    transformations: list[Transformation]
    mean_random_variance: list[Number]
    mean_residual_variance: Number | Absent = ABSENT
    points: int | Absent = ABSENT
    levels: list[str] | Absent = ABSENT
    reading: Reading | Absent = ABSENT
    monte_carlo: MonteCarlo | Absent = ABSENT
    average_effects: list[AverageEffect] | Absent = ABSENT
    ratio_kind: str | Absent = ABSENT
    errors: ErrorsUsed | Absent = ABSENT
    smooths: list[Smooth] | Absent = ABSENT
    icc: list[IntraclassCorrelation] | Absent = ABSENT
    r2: RSquared | Absent = ABSENT
    parts: list[PartCoefficients] | Absent = ABSENT
    imputation: Imputation | Absent = ABSENT
    labels: dict[str, Any] | Absent = ABSENT
    source: str | None = field(default=None, metadata=BESIDE, repr=False, compare=False)

    @property
    def thresholds(self) -> list[Coefficient]:
        """Rows of the thresholds of grades, which stand first."""
        grades = self.levels if self.family == "ordinal" and not isinstance(self.levels, Absent) else ["one"]
        count = len(grades) - 1
        return list(self.fixed[:count])

    @property
    def coefficients(self) -> list[Coefficient]:
        """Rows of all linear predictors in the order of the model's parameters; beside the mean's with the part's name
        before the term."""
        parts = [] if isinstance(self.parts, Absent) else self.parts
        named = [r.with_keys(term=f"{p.part}: {r.term}", label=f"{p.part}: {r.label}") for p in parts for r in p.fixed]
        return [*self.fixed, *named]

    @property
    def coefficient_rows(self) -> list[Row]:
        """The same as plain dictionaries."""
        return [r.to_dict() for r in self.coefficients]

    @property
    def eta_of(self) -> str:
        """What of the outcome the linear predictor describes by its link."""
        return family_of(self.family, self.link).describes

    @property
    def ratio_name(self) -> str | None:
        """What exp(coefficient) is called; None where it means nothing."""
        return LINKS[self.link].ratio

    @property
    def own_meanings(self) -> dict[str, str]:
        """What the family's own parameters mean, by name."""
        own = {o.name: o.meaning for o in family_of(self.family, self.link).own}
        return own or {"dispersion": "the residual variance"}

    @property
    def converged(self) -> bool:
        return self.convergence.converged

    def table(self, **view: bool) -> list[Row]:
        return [flat(r) for r in self["fixed"]]

    def variation_table(self) -> list[Row]:
        """Variances, covariances and correlations of the effects, and what the residual or the family has."""
        rows: list[Row] = []
        d = self
        for part in d["random"]:
            for i, one in enumerate(part["terms"]):
                for j, two in enumerate(part["terms"][: i + 1]):
                    rows.append({
                        "group": part["group"], "structure": part["structure"], "term": two, "term2": None if i == j else one,
                        "covariance": part["covariance"][i][j], "sd": part["sd"][i] if i == j else None,
                        "correlation": None if i == j else part["correlation"][i][j],
                    })  # fmt: skip
        residual = dict(d["residual"] or {})
        blank = {"term2": None, "sd": None, "correlation": None}
        if "variance" in residual:
            own = {"structure": residual["structure"], "term": "residual", "covariance": residual["variance"]}
            rows.append({"group": "residual"} | blank | own | {"sd": residual["sd"]})
            residual = {k: v for k, v in residual["parameters"].items() if isinstance(v, (int, float))}
        return rows + [
            {"group": "residual", "structure": None, "term": k, "covariance": v} | blank for k, v in residual.items()
        ]

    def figures_table(self) -> list[Row]:
        """Rows, units, likelihood figures and how the search ended, one line each."""
        d = self
        made = {"rows read": d["rows"]["read"], "rows used": d["rows"]["used"]}
        made |= {f"levels of {g['group']}": g["levels"] for g in d["groups"]}
        made |= {"method": d["method"], "df": d["df_method"], **d["fit"]}
        return [
            {"figure": k, "value": v}
            for k, v in (made | {k: v for k, v in d["convergence"].items() if k != "boundary_terms"}).items()
        ]
