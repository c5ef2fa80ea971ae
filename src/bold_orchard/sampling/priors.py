"""The priors of a model: those asked for, and weak ones on the data's scale for the rest (Gelman, Simpson & Betancourt 2017)."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Clause
from bold_orchard.errors import UsageError, unknown_name
from bold_orchard.inference.coefficients.maximum_likelihood import threshold_names
from bold_orchard.inference.fit import Fit
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

    ``listed`` are (parameter, law, default) as they are printed, in the order of the parameters.
    """

    fixed: tuple[Law, ...]
    thresholds: tuple[Law, ...]
    covariances: tuple[Covariance, ...]
    own: dict[str, Law]
    residual: Covariance | None
    listed: tuple[tuple[str, str, bool], ...]


def priors_of(fit: Fit, asked: dict[str, Law]) -> Priors:
    """Raises UsageError for a parameter that the model does not have, and for a law that it cannot take."""
    design = fit.design
    maker = _Maker(fit, dict(asked))
    fixed = maker.fixed()
    thresholds = (
        tuple(maker.take(n, law("normal", 0.0, 10.0)) for n in threshold_names(design)) if design.graded else ()
    )
    covariances = tuple(maker.clause(c) for c in design.clauses)
    residual = maker.occasions()
    own = maker.own(residual is not None)
    maker.rest()
    return Priors(fixed, thresholds, covariances, own, residual, tuple(maker.listed))


class _Maker:
    def __init__(self, fit: Fit, asked: dict[str, Law]) -> None:
        self.fit, self.design, self.asked = fit, fit.design, asked
        self.listed: list[tuple[str, str, bool]] = []
        self.known: list[str] = []
        d = fit.design
        identity = d.additive
        self.unit = _sd(d.outcome_values) if identity else 1.0
        self.identity = identity

    def take(self, name: str, default: Law, kind: str = "any") -> Law:
        """The law asked for, or the default one."""
        self.known.append(name)
        given = self.asked.pop(name, None)
        made = default if given is None else given
        if made.name == "lkj":
            raise UsageError(f"--prior: lkj is a law of correlations, not of {name}")
        if kind == "coefficient" and LAWS[made.name].half:
            raise UsageError(
                f"--prior: {made.name} is a law of what cannot be negative, and {name} can; use normal, student or flat"
            )
        self.listed.append((name, made.text, given is None))
        return made

    def fixed(self) -> tuple[Law, ...]:
        """One law for each column that has an estimate; ``fixed`` stands for all but the intercept."""
        design, out = self.design, []
        both = self.asked.pop("fixed", None)
        self.known.append("fixed")
        mean = float(np.mean(design.outcome_values))
        for k in self.fit.model.kept:
            name, values = design.coefficient_labels[k], design.fixed.values[k]
            if k == design.fixed.constant:
                default = law("normal", mean, 10.0 * self.unit) if self.identity else law("normal", 0.0, 10.0)
            else:
                default = law("normal", 0.0, (10.0 * self.unit if self.identity else 5.0) / _sd(values))
                if both is not None and name not in self.asked:
                    self.asked[name] = both
            out.append(self.take(name, default, "coefficient"))
        return tuple(out)

    def clause(self, clause: Clause) -> Covariance:
        names, group = clause.part.names, self.design.label_of(clause)
        kind, k = clause.structure.kind, len(names)
        kind = "unstructured" if kind == "known" else kind
        if clause.given is not None:
            return Covariance("given", k, (), ETA, {}, (), (), clause.given)
        sds = tuple(f"sd({group}: {n})" for n in names)
        shared = kind in ("identity", "exchangeable")
        laws = []
        for i, (name, term, values) in enumerate(zip(sds, names, clause.part.values)):
            if shared and i:
                if name in self.asked:
                    raise UsageError(f"--prior: {kind} gives all effects of {group} one SD; name {sds[0]} alone")
                continue
            size = np.sqrt(np.mean(values**2))
            spread = term == "spread" and clause.has_spread
            laws.append(
                self.take(
                    name, law("half-normal", 1.0 if spread else (2.0 * self.unit if self.identity else 2.5) / size)
                )
            )
        pairs = (
            tuple(itertools.combinations(range(k), 2))
            if clause.kind.correlated and kind not in ("diagonal", "identity")
            else ()
        )
        eta, pair_laws = self._correlations(group, names, pairs)
        if kind not in ("unstructured", "diagonal", "identity", "exchangeable"):
            raise UsageError(f"sample does not know the structure '{kind}'; write the clause with another one")
        return Covariance(kind, k, tuple(laws), eta, pair_laws, sds, pairs)

    def _correlations(self, group: str, names: tuple[str, ...], pairs: Any) -> tuple[float, dict[tuple[int, int], Law]]:
        """eta of the whole matrix, and laws of single correlations; a single law takes the place of the matrix's default."""
        eta: float | None = None
        single: dict[tuple[int, int], Law] = {}
        for i, j in pairs:
            name = f"correlation({group}: {names[i]}, {names[j]})"
            self.known.append(name)
            given = self.asked.pop(name, None) or self.asked.pop(f"correlation({group}: {names[j]}, {names[i]})", None)
            if given is None:
                continue
            if given.name == "lkj":
                eta = given.figures[0]
            else:
                single[j, i] = given
            self.listed.append((name, given.text, False))
        made = eta if eta is not None else 1.0 if single else ETA
        if pairs and not single and eta is None:
            for i, j in pairs:
                self.listed.append((f"correlation({group}: {names[i]}, {names[j]})", f"lkj({ETA:g})", True))
        return made, single

    def occasions(self) -> Covariance | None:
        """SDs and correlations of the occasions of unstructured residuals."""
        residual = self.design.residual
        if residual.kind != "unstructured":
            return None
        labels, k = residual.labels, len(residual.labels)
        sds = tuple(f"sd(residual: {x})" for x in labels)
        laws = tuple(self.take(n, law("half-normal", 2.0 * self.unit)) for n in sds)
        pairs = tuple(itertools.combinations(range(k), 2))
        eta, single = self._correlations("residual", labels, pairs)
        return Covariance("unstructured", k, laws, eta, single, sds, pairs)

    def own(self, occasions: bool) -> dict[str, Law]:
        """Of the residual or the family, of what spreads and SDs depend on."""
        design, out = self.design, {}
        for clause in design.clauses:
            if clause.vary is not None:
                group = design.label_of(clause)
                for name, values in zip(clause.vary.names, clause.vary.values):
                    key = f"vary({group}: {name})"
                    out[key] = self.take(key, law("normal", 0.0, 2.5 / _sd(values)), "coefficient")
        if design.residual.kind in ("ar1", "exchangeable"):
            out["rho"] = self.take("rho", law("flat"))
        if design.residual.spread is not None:
            for name, values in zip(design.residual.spread.names, design.residual.spread.values):
                key = f"spread {name}"
                out[key] = self.take(key, law("normal", 0.0, 2.5 / _sd(values)), "coefficient")
        if design.additive and not occasions:
            out["sd(residual)"] = self.take("sd(residual)", law("half-normal", 2.0 * self.unit))
        for own in () if design.additive else self.fit.model.family.own:
            default = OWN.get(own.name, law("flat"))
            if own.name == "dispersion" and design.family == "beta":
                default = law("half-student", 3.0, 50.0)
            out[own.name] = self.take(own.name, default)
        return out

    def rest(self) -> None:
        """Refuse what was asked of a parameter that is not there."""
        if self.asked:
            name = next(iter(self.asked))
            raise UsageError(f"--prior: {unknown_name('parameter', name, self.known, f'the fit {self.fit.name!r}')}")


def _sd(values: Array) -> float:
    sd = float(np.std(values, ddof=1)) if len(values) > 1 else 1.0
    return sd if sd > 0 else max(float(np.abs(values).max()), 1.0)
