"""Words that options of the Python interface take, so that editors complete and type checkers refuse them."""

from __future__ import annotations

from typing import Literal

Method = Literal["reml", "ml"]
Df = Literal["residual", "normal", "satterthwaite", "kenward-roger"]
Correction = Literal["tukey", "sidak", "bonferroni", "holm", "none"]
FamilyName = Literal[
    "gaussian", "binomial", "beta-binomial", "poisson", "negative-binomial", "gamma", "beta", "ordinal", "nominal",
    "student", "lognormal", "zero-inflated-poisson", "zero-inflated-negative-binomial",
    "hurdle-poisson", "hurdle-negative-binomial",
]  # fmt: skip
ComponentsMethod = Literal["wald", "profile"]
IntervalsMethod = Literal["profile", "wald", "bootstrap"]
CheckKind = Literal["overview", "rows", "predictors", "effects", "influence", "time"]
DrawKind = Literal["lines", "panels", "against", "effects", "coefficients", "imputed"]
Influence = Literal["one-step", "exact", "none"]
