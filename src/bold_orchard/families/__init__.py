"""Families of outcomes that are not Gaussian, one small class each."""

from __future__ import annotations

from bold_orchard.families.base import Data, Family
from bold_orchard.families.binomial import Binomial
from bold_orchard.families.counts import NegativeBinomial, Poisson
from bold_orchard.families.ordinal import Ordinal
from bold_orchard.families.positive import Beta, Gamma, LogGaussian

__all__ = ["FAMILIES", "Data", "Family"]

FAMILIES: dict[str, type[Family]] = {
    f.name: f for f in (Binomial, Poisson, NegativeBinomial, Gamma, Beta, Ordinal, LogGaussian)
}
