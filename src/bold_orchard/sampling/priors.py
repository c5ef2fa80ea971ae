"""The priors of a model: those asked for, and weak ones on the data's scale for the rest (Gelman, Simpson & Betancourt 2017)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Clause
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.variances.quantities import own_places
from bold_orchard.own_parameter import OwnParameter
from bold_orchard.parameters.parameter import Parameter
from bold_orchard.sampling.covariances import Covariance
from bold_orchard.sampling.laws import LAWS, Law, law

Array = NDArray[Any]
ETA = 2.0  # of the default law of correlations
OWN: dict[str, Law] = {  # of what a family estimates beside its mean, where nothing is asked
    "dispersion": law("half-student", 3.0, 10.0),
    "zero_chance": law("flat"),
    "tail_df": law("exponential", 0.05),
}


@dataclass(frozen=True)
class Priors:
    """``fixed`` by kept column, ``thresholds``, one ``Covariance`` a clause, ``own`` of the residual and the family by parameter.

    ``parameters`` are all that is drawn, in order. ``listed`` are (parameter, law, default) as they are printed, in the order of the parameters.
    """

    fixed: tuple[Law, ...]
    thresholds: tuple[Law, ...]
    covariances: tuple[Covariance, ...]
    own: dict[Parameter, Law]
    residual: Covariance | None
    parameters: tuple[Parameter, ...]
    listed: tuple[tuple[str, str, bool], ...]


def priors_of(fit: Fit, asked: dict[str, Law]) -> Priors:
    """Raises UsageError for a parameter that the model does not have, and for a law that it cannot take."""
    maker, known = _Maker(fit, asked), fit.catalogue
    fixed = maker.fixed()
    thresholds = tuple(maker.take(p, law("normal", 0.0, 10.0)) for p in known.thresholds)
    covariances = tuple(maker.clause(c) for c in fit.design.clauses)
    residual = maker.occasions()
    own = maker.own()
    coefficients = [known.coefficients[k] for k in fit.model.kept]
    of_units = [p for c in known.clauses for p in c.covariance]
    occasions = [*known.occasions, *known.occasion_correlations.values()]
    parameters = (*known.thresholds, *coefficients, *of_units, *occasions, *own)
    return Priors(fixed, thresholds, covariances, own, residual, parameters, tuple(maker.listed))


class _Maker:
    def __init__(self, fit: Fit, asked: dict[str, Law]) -> None:
        self.fit, self.design, self.known = fit, fit.design, fit.catalogue
        self.listed: list[tuple[str, str, bool]] = []
        d, self.of_all = fit.design, asked.get("fixed")
        self.asked = {self._meant(text): given for text, given in asked.items() if text != "fixed"}
        identity = d.additive
        self.unit = _sd(d.outcome_values) if identity else 1.0
        self.identity = identity

    def _meant(self, text: str) -> Parameter:
        try:
            return self.known.find(text, self._drawn(), f"the fit {self.fit.name!r}", others=("fixed",))
        except OrchardError as e:
            raise UsageError(f"--prior: {e}") from None

    def _drawn(self) -> list[Parameter]:
        """All parameters but coefficients without an estimate."""
        aliased = {p for k, p in enumerate(self.known.coefficients) if k not in set(self.fit.model.kept)}
        return [p for p in self.known if p not in aliased]

    def take(self, parameter: Parameter, default: Law) -> Law:
        """The law asked for, or the default one."""
        given = self.asked.get(parameter)
        made = default if given is None else given
        if made.name == "lkj":
            raise UsageError(f"--prior: lkj is a law of correlations, not of {parameter.label}")
        if parameter.kind in ("coefficient", "vary", "spread") and LAWS[made.name].half:
            raise UsageError(
                f"--prior: {made.name} is a law of what cannot be negative, and {parameter.label} can; use normal, student or flat"
            )
        self.listed.append((parameter.label, made.text, given is None))
        return made

    def fixed(self) -> tuple[Law, ...]:
        """One law for each column that has an estimate; ``fixed`` stands for all but the intercept."""
        design, out = self.design, []
        mean = float(np.mean(design.outcome_values))
        for k in self.fit.model.kept:
            parameter, values = self.known.coefficients[k], design.fixed.values[k]
            if k == design.fixed.constant:
                default = law("normal", mean, 10.0 * self.unit) if self.identity else law("normal", 0.0, 10.0)
            else:
                default = law("normal", 0.0, (10.0 * self.unit if self.identity else 5.0) / _sd(values))
                if self.of_all is not None:
                    self.asked.setdefault(parameter, self.of_all)
            out.append(self.take(parameter, default))
        return tuple(out)

    def clause(self, clause: Clause) -> Covariance:
        known, kind, k = self.known.of(clause), clause.structure.kind, len(clause.part.names)
        kind = "unstructured" if kind == "known" else kind
        if clause.given is not None:
            return Covariance("given", k, (), ETA, {}, (), clause.given)
        shared = kind in ("identity", "exchangeable")
        laws = []
        for i, (sd, values) in enumerate(zip(known.sds, clause.part.values)):
            if shared and i:
                if sd in self.asked:
                    raise UsageError(
                        f"--prior: {kind} gives all effects of {sd.group} one SD; name {known.sds[0].label} alone"
                    )
                continue
            size = 1.0 if clause.wiggle else np.sqrt(np.mean(values**2))
            spread = sd.term == "spread" and clause.has_spread
            wide = 1.0 if spread else (2.0 * self.unit if self.identity else 2.5) / size
            laws.append(self.take(sd, law("half-normal", wide)))
        eta, pair_laws = self._correlations(known.correlations)
        if kind not in ("unstructured", "diagonal", "identity", "exchangeable"):
            raise UsageError(f"sample does not know the structure '{kind}'; write the clause with another one")
        return Covariance(kind, k, tuple(laws), eta, pair_laws, tuple(known.correlations), one=clause.wiggle)

    def _correlations(self, pairs: dict[tuple[int, int], Parameter]) -> tuple[float, dict[tuple[int, int], Law]]:
        """eta of the whole matrix, and laws of single correlations; a single law takes the place of the matrix's default."""
        eta: float | None = None
        single: dict[tuple[int, int], Law] = {}
        for (i, j), parameter in pairs.items():
            given = self.asked.get(parameter)
            if given is None:
                continue
            if given.name == "lkj":
                eta = given.figures[0]
            else:
                single[j, i] = given
            self.listed.append((parameter.label, given.text, False))
        made = eta if eta is not None else 1.0 if single else ETA
        if pairs and not single and eta is None:
            self.listed += [(parameter.label, f"lkj({ETA:g})", True) for parameter in pairs.values()]
        return made, single

    def occasions(self) -> Covariance | None:
        """SDs and correlations of the occasions of unstructured residuals."""
        known = self.known
        if not known.occasions:
            return None
        if self.design.residual.by is not None:
            raise OrchardError(
                f"sample is not made for residuals by {self.design.residual.by} yet; write within without by, or let spread depend on it"
            )
        laws = tuple(self.take(p, law("half-normal", 2.0 * self.unit)) for p in known.occasions)
        eta, single = self._correlations(known.occasion_correlations)
        return Covariance("unstructured", len(laws), laws, eta, single, tuple(known.occasion_correlations))

    def own(self) -> dict[Parameter, Law]:
        """Of the residual or the family, of what spreads and SDs depend on."""
        known, residual, out = self.known, self.design.residual, {}
        for clause, own in zip(self.design.clauses, known.clauses):
            for parameter, values in zip(own.vary, () if clause.vary is None else clause.vary.values):
                out[parameter] = self.take(parameter, law("normal", 0.0, 2.5 / _sd(values)))
        mine = {p: own for p, own, _ in own_places(self.fit)}
        out |= {p: self.take(p, self._default(mine[p])) for p in known.residual_own}
        for parameter, values in zip(known.spread, () if residual.spread is None else residual.spread.values):
            out[parameter] = self.take(parameter, law("normal", 0.0, 2.5 / _sd(values)))
        if known.residual_sd is not None:
            out[known.residual_sd] = self.take(known.residual_sd, law("half-normal", 2.0 * self.unit))
        return out | {p: self.take(p, self._default(mine[p])) for p in known.family_own}

    def _default(self, own: OwnParameter) -> Law:
        """Flat where a parameter has two ends; weak where it has one."""
        if own.name == "dispersion" and self.design.family == "beta":
            return law("half-student", 3.0, 50.0)
        bounded = np.isfinite(own.ends).all()
        one_end = (
            law("half-student", 3.0, 2.0 * own.size) if own.ends[0] == 0.0 else law("student", 3.0, 0.0, 2.0 * own.size)
        )
        return OWN.get(own.name, law("flat") if bounded or not self.design.additive else one_end)


def _sd(values: Array) -> float:
    sd = float(np.std(values, ddof=1)) if len(values) > 1 else 1.0
    return sd if sd > 0 else max(float(np.abs(values).max()), 1.0)
