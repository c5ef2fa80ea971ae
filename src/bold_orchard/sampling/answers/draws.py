"""Draws of a posterior taken up again beside the fit they were drawn from, and what each draw says of the model."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Clause
from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.response_scale import grades_at, mean_grade
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.averages import mean_products
from bold_orchard.parameters.parameter import Parameter
from bold_orchard.sampling.diagnostics import rhat
from bold_orchard.sampling.scales import found
from bold_orchard.sampling.words import RHAT, block_effect_names, effect_names, some

Array = NDArray[Any]
METHOD = "posterior"  # what stands in a document where a method of the likelihood would
FEWEST = 20  # draws below which nothing is answered


@dataclass(frozen=True)
class Draws:
    """``columns`` (D,) by parameter and effect as ``sample --keep`` writes them; ``source`` is the file they come from.

    Raises OrchardError, when it is asked for what another model's draws do not hold.
    """

    fit: Fit
    columns: Mapping[str, Array]
    source: str

    def checked(self) -> Draws:
        """Itself; raises OrchardError for too few draws, and for those of a parameter that the model does not have."""
        if self.count < FEWEST:
            raise OrchardError(f"{self.source} holds {self.count} draws; {FEWEST} are the fewest that say anything")
        fit = self.fit
        known = {"chain", "draw", *(p.label for p in fit.catalogue), *effect_names(fit)}
        other = next((name for name in self.columns if name not in known), None)
        if other is not None:
            raise OrchardError(
                f"{self.source} has draws of '{other}', which '{fit.name}' does not have: it is another model's posterior; make one with: "
                f"orchard sample {fit.name} --keep {self.source}"
            )
        return self

    def column(self, name: str) -> Array:
        """(D,) of a parameter or effect."""
        if name not in self.columns:
            raise OrchardError(
                f"{self.source} has no draws of '{name}', so it is not a posterior of '{self.fit.name}'; make one with: "
                f"orchard sample {self.fit.name} --keep {self.source}"
            )
        try:
            values = np.asarray(self.columns[name], dtype=float)
        except (TypeError, ValueError):  # texts among them
            values = np.array([np.nan])
        if not np.isfinite(values).all():
            raise OrchardError(f"{self.source}: the draws of '{name}' are not all numbers; sample again")
        return values

    def of(self, parameter: Parameter) -> Array:
        """(D,) of a parameter."""
        return self.column(parameter.label)

    def table(self, parameters: Sequence[Parameter]) -> Array:
        """(D, parameters)."""
        return np.array([self.of(p) for p in parameters]).reshape(len(parameters), self.count).T

    @cached_property
    def count(self) -> int:
        return len(next(iter(self.columns.values()), ()))

    @property
    def chains(self) -> int:
        return len(np.unique(self.columns["chain"])) if "chain" in self.columns else 1

    @property
    def origin(self) -> dict[str, Any]:
        """What a document says of where its figures come from."""
        return {"file": self.source, "chains": self.chains, "draws": self.count}

    @cached_property
    def warnings(self) -> list[str]:
        """Why nothing should be read from these draws, the chains not agreeing; nothing where they do."""
        known = {"chain", "draw", *effect_names(self.fit)}
        if self.chains < 2 or self.count % self.chains:
            return []
        apart = [
            name for name in self.columns if name not in known and rhat(self.column(name).reshape(self.chains, -1)) > RHAT
        ]  # fmt: skip
        if not apart:
            return []
        return [
            f"The chains do NOT agree on {some(apart)} (R-hat above {RHAT:g}): do not use these figures. Sample again with a longer --warmup, "
            "tighter priors or a simpler sentence."
        ]

    def thinned(self, most: int) -> Draws:
        """At most that many, evenly spaced."""
        if self.count <= most:
            return self
        at = np.linspace(0, self.count - 1, most).astype(np.intp)
        return Draws(self.fit, {k: np.asarray(v)[at] for k, v in self.columns.items()}, self.source)

    # -- coefficients

    @cached_property
    def b(self) -> Array:
        """Coefficients with an estimate, (D, p')."""
        return self.table([self.fit.catalogue.coefficients[k] for k in self.fit.model.kept])

    @cached_property
    def average(self) -> Array:
        """The coefficients, then those of the wiggles of curves of all rows, (D, p' + m)."""
        design = self.fit.design
        curves = [c for c in design.clauses if design.units[c.unit].curve]
        return np.concatenate([self.b, *(self.effects[c.block].reshape(self.count, -1) for c in curves)], axis=1)

    @cached_property
    def cuts(self) -> Array:
        """Thresholds of grades, (D, grades - 1); of other outcomes nothing."""
        return self.table(self.fit.catalogue.thresholds)

    @cached_property
    def extra(self) -> Array:
        """What the family estimates of its own, as the family takes it, (D, m)."""
        design = self.fit.design
        if design.additive or design.graded:
            return np.zeros((self.count, 0))
        out = np.zeros((self.count, len(self.fit.model.extra)))
        for parameter, own in zip(self.fit.catalogue.family_own, self.fit.model.family.own):
            out[:, own.place] = [found(own.back, v) for v in self.of(parameter)]
        return out

    # -- the rows' own spread

    @cached_property
    def log_sd(self) -> Array | None:
        """Logarithm of the residual SD at the baseline, (D,), of known errors 0, to which their weights are added; None where occasions have their own."""
        if self.fit.design.known_errors:
            return np.zeros(self.count)
        sd = self.fit.catalogue.residual_sd
        return None if sd is None else np.asarray(np.log(self.of(sd)))

    @cached_property
    def occasion_sds(self) -> Array:
        """Of the occasions of unstructured residuals, (D, occasions)."""
        return self.table(self.fit.catalogue.occasions)

    @cached_property
    def gamma(self) -> Array:
        """Coefficients of what the residual SD depends on, (D, m)."""
        return self.table(self.fit.catalogue.spread)

    # -- effects

    @cached_property
    def effects(self) -> list[Array]:
        """Of every block, (D, levels, k); raises OrchardError for draws that were kept without effects."""
        out: list[Array] = []
        names = effect_names(self.fit)
        if names and not any(n in self.columns for n in names):
            raise OrchardError(
                f"{self.source} holds no effects of units: {len(names):,} at every draw were too many to keep; sample fewer draws: "
                f"orchard sample {self.fit.name} --draws 100 --keep {self.source}"
            )
        for f in range(len(self.fit.design.blocks)):
            rows = block_effect_names(self.fit, f)
            made = np.array([[self.column(name) for name in row] for row in rows])
            out.append(made.reshape(len(rows), -1, self.count).transpose(2, 0, 1))
        return out

    def covariance(self, clause: Clause) -> Array:
        """Of the effects of a clause, where SDs vary at zero, (D, k, k)."""
        own, k = self.fit.catalogue.of(clause), len(clause.part.names)
        if clause.given is not None:
            g = self.fit.evaluation.covariance(clause.block)[clause.columns, clause.columns]
            return np.broadcast_to(g, (self.count, *g.shape))
        sd, r = self.table(own.sds), np.broadcast_to(np.eye(k), (self.count, k, k)).copy()
        for (i, j), parameter in own.correlations.items():
            r[:, i, j] = r[:, j, i] = self.of(parameter)
        return np.asarray(sd[:, :, None] * r * sd[:, None, :])

    def grown(self, clause: Clause, columns: Any) -> Array:
        """By what the SDs of a clause's effects exceed those at zero, (D, n), at ``columns`` (n,) of what they vary with."""
        if clause.vary is None:
            return np.ones((self.count, 1))
        alpha = self.alpha(clause)
        return np.asarray(np.exp(alpha @ np.array(columns).reshape(alpha.shape[1], -1)))

    def alpha(self, clause: Clause) -> Array:
        """Coefficients of what the SDs of a clause's effects vary with, (D, m)."""
        return self.table(self.fit.catalogue.of(clause).vary)

    @cached_property
    def random_variance(self) -> Array:
        """Variance of the random part on the linear scale, averaged over the rows, (D,)."""
        total = np.zeros(self.count)
        for clause in self.fit.design.clauses:
            if self.fit.design.units[clause.unit].curve:
                continue
            total += (self.mean_products(clause) * self.covariance(clause)).sum(axis=(1, 2))
        return total

    def random_variances(self, products: Sequence[Array]) -> Array:
        """What units' effects add to the variance of eta at some points, (D, points), from the mean of z z' there, (points, k, k) a clause."""
        total: Any = 0.0
        for clause, m in zip(self.fit.design.clauses, products):
            if self.fit.design.units[clause.unit].curve:
                continue
            total = total + np.einsum("pij,dij->dp", m, self.covariance(clause))
        return np.asarray(total)

    def mean_products(self, clause: Clause) -> Array:
        """The mean over the rows of z z', times what the variance of the row's level exceeds that at zero by, (D, k, k)."""
        design = self.fit.design
        if clause.vary is None:
            return np.broadcast_to(
                mean_products(design, clause), (self.count, len(clause.part.names), len(clause.part.names))
            )
        values = np.array(clause.vary.values)
        return np.array([mean_products(design, clause, np.exp(2.0 * alpha @ values)) for alpha in self.alpha(clause)])

    # -- the outcome's own scale

    def outcome(self, eta: Array) -> Array:
        """The mean of the outcome at a linear predictor of each draw, (D, ...); of grades the mean grade."""
        return np.array([self.mean_at(d)(eta[d]) for d in range(self.count)])

    def mean_at(self, d: int) -> Any:
        """eta -> the mean of the outcome at one draw."""
        if self.fit.design.graded:
            return lambda eta: mean_grade(self.chances_at(d)(eta))
        family, extra = self.fit.model.family, self.extra[d]
        return lambda eta: np.asarray(family.mean(eta, extra))

    def chances_at(self, d: int) -> Any:
        """eta -> the chances of the grades (..., grades) at one draw."""
        return lambda eta: grades_at(self.fit, self.cuts[d], eta)


def told(values: Array, confidence: float) -> tuple[float | None, float | None, list[float | None]]:
    """Mean, SD and equal-tailed interval of draws (D,)."""
    level = (1.0 - confidence) / 2.0
    low, high = np.quantile(values, [level, 1.0 - level])
    return number(values.mean()), number(values.std(ddof=1)), [number(low), number(high)]


def chance_above(values: Array) -> float:
    """The posterior chance of a value above zero: the share of the draws that are."""
    return float(np.mean(values > 0))
