"""Families of outcomes, one file each; a name leads to its class, loaded when first asked for."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from bold_orchard.families.base import Family

# name -> module and class
HOMES = {
    "gaussian": "gaussian.Gaussian",
    "binomial": "binomial.Binomial",
    "beta-binomial": "beta_binomial.BetaBinomial",
    "poisson": "poisson.Poisson",
    "negative-binomial": "negative_binomial.NegativeBinomial",
    "gamma": "gamma.Gamma",
    "beta": "beta.Beta",
    "ordinal": "ordinal.Ordinal",
    "nominal": "nominal.Nominal",
    "student": "student.Student",
    "lognormal": "lognormal.Lognormal",
    "zero-inflated-poisson": "zeros.ZeroInflated",
    "zero-inflated-negative-binomial": "zeros.ZeroInflatedNegativeBinomial",
    "hurdle-poisson": "zeros.Hurdle",
    "hurdle-negative-binomial": "zeros.HurdleNegativeBinomial",
}
_known: dict[str, type[Family]] = {}


def names() -> tuple[str, ...]:
    """All families, built in and registered."""
    return (*HOMES, *(n for n in _known if n not in HOMES))


def register(family: type[Family]) -> type[Family]:
    """Make a family known by its name; may stand as a decorator."""
    _known[family.name] = family
    return family


def family_of(name: str, link: str | None = None, censored: bool = False) -> type[Family]:
    """The class of a family, by its link where that matters and by whether outcomes are ``censored``. Raises KeyError for a name that is not there."""
    if censored:
        from bold_orchard.families.censored import CENSORED

        return CENSORED[name]
    if name not in _known:
        module, _, kind = HOMES[name].partition(".")
        _known[name] = getattr(importlib.import_module(f"bold_orchard.families.{module}"), kind)
    return _known[name] if link is None else _known[name].by(link)


def kind_of(name: str, link: str | None, censored: bool, predictors: tuple[str, ...]) -> type[Family]:
    """The class of a family with several linear ``predictors``; the same as ``family_of`` where there is one."""
    kind = family_of(name, link, censored)
    if not predictors:
        return kind
    if kind.reads == "levels":
        from bold_orchard.families.nominal import nominal_of

        return nominal_of(predictors)
    from bold_orchard.families.joint import joint_of

    return joint_of(kind, predictors)


def containing(name: str, own: str) -> list[str]:
    """Families that have this one as a limit of the parameter ``own``."""
    wider = [(n, family_of(n)) for n in names()]
    return [n for n, f in wider if name in f.limits and any(o.name == own and f.limits[o.place] == name for o in f.own)]
