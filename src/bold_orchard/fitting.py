"""The road's middle: sentence + table -> design -> likelihood -> search -> Fit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance import STRUCTURES
from bold_orchard.design.build import Clause, Design, Options, build_design
from bold_orchard.errors import OrchardError, SentenceError, UsageError
from bold_orchard.inference.summary import summarise
from bold_orchard.likelihood.crossproducts import cross_products
from bold_orchard.likelihood.gaussian import Criterion, Evaluation
from bold_orchard.likelihood.model import Arrays, RandomBlock, RandomUnit
from bold_orchard.search import Found, minimise
from bold_orchard.sentence.parse import read_sentence
from bold_orchard.sentence.spec import Sentence
from bold_orchard.table.table import Table

Array = NDArray[Any]


@dataclass(frozen=True)
class Settings:
    """Everything about a fit beside the sentence and the table."""

    method: str = "reml"
    options: Options = field(default_factory=Options)
    df: str = "residual"
    confidence: float = 0.95
    tolerance: float = 1e-10
    max_steps: int = 100


@dataclass(frozen=True)
class Fit:
    """A fitted model. ``result`` is the JSON document of the contract (docs/json.md)."""

    name: str
    design: Design
    settings: Settings
    criterion: Criterion
    found: Found[Evaluation]
    result: dict[str, Any]

    @property
    def evaluation(self) -> Evaluation:
        return self.found.point

    @property
    def converged(self) -> bool:
        return self.found.converged


def fit(
    sentence: str | Sentence,
    table: Table,
    settings: Settings | None = None,
    name: str = "fit",
    progress: Callable[[int], None] | None = None,
) -> Fit:
    """Fit a Gaussian mixed model.

    Raises OrchardError for a sentence or data that cannot be fitted; a fit that did not converge is returned with
    ``converged`` False.
    """
    settings = settings or Settings()
    spec = read_sentence(sentence) if isinstance(sentence, str) else sentence
    refuse_unbuilt(spec)
    if settings.method not in ("reml", "ml"):
        raise UsageError(f"the method is reml or ml, not '{settings.method}'")
    design = build_design(spec, table, settings.options)
    criterion = make_criterion(design, settings.method == "reml")
    found = minimise(
        criterion.at, criterion.start(), criterion.bounded, settings.tolerance, settings.max_steps, progress
    )
    return finish(name, design, settings, criterion, found)


def finish(name: str, design: Design, settings: Settings, criterion: Criterion, found: Found[Evaluation]) -> Fit:
    result = summarise(name, design, criterion, found, settings.df, settings.confidence)
    return Fit(name, design, settings, criterion, found, result)


def refit(earlier: Fit, method: str) -> Fit:
    """The same model by another method, from the estimates of the first."""
    settings = replace(earlier.settings, method=method)
    criterion = Criterion(earlier.criterion.products, method == "reml")
    start = np.where(criterion.bounded, np.maximum(earlier.evaluation.theta, 1e-2), earlier.evaluation.theta)
    found = minimise(criterion.at, start, criterion.bounded, settings.tolerance, settings.max_steps)
    return finish(earlier.name, earlier.design, settings, criterion, found)


def make_criterion(design: Design, reml: bool) -> Criterion:
    """The numeric model of a design."""
    products = cross_products(to_arrays(design))
    if products.dense[-1, -1] <= 1e-22 * float(design.y @ design.y) * (1 + products.n):
        raise OrchardError(
            f"the fixed part reproduces '{design.outcome}' exactly, so nothing is left to vary; "
            "is one of the terms computed from the outcome?"
        )
    return Criterion(products, reml)


def to_arrays(design: Design) -> Arrays:
    units = []
    for index, unit in enumerate(design.units):
        blocks = tuple(_block(c) for c in design.clauses if c.unit == index)
        units.append(RandomUnit(unit.codes, unit.size, blocks))
    fixed = design.fixed
    return Arrays(design.y, fixed.values, fixed.intercept, tuple(units), design.weights)


def _block(clause: Clause) -> RandomBlock:
    structure = STRUCTURES[clause.structure.kind](len(clause.part.names))
    return RandomBlock(clause.part.values, structure, 0 if clause.part.intercept else None)


def refuse_unbuilt(sentence: Sentence) -> None:
    """Name what the sentence can say but the engine cannot do yet; raises SentenceError."""
    for each in sentence.each:
        if each.structure.kind not in STRUCTURES:
            place = each.structure.place
            message = f"the structure '{each.structure.kind}' is not built yet"
            raise SentenceError(message, sentence.text, place[0], place[1] - place[0])
    if sentence.within is not None:
        place = sentence.within.structure.place
        raise SentenceError("'within' is not built yet", sentence.text, place[0], place[1] - place[0])
    if sentence.spread:
        place = sentence.spread[0].place
        raise SentenceError("'spread' is not built yet", sentence.text, place[0], place[1] - place[0])
