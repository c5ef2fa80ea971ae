"""A second outcome explained by the effects of a first model's units."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from bold_orchard.answers import Answer
from bold_orchard.progress import silent
from bold_orchard.sampled import draws_of
from bold_orchard.tables import table

if TYPE_CHECKING:
    from bold_orchard.inference.fit import Fit

SEED = 20260101  # that of the command line


def carry(
    first: Fit, data: Any, sentence: str, *, imputations: int = 100, naive: bool = False, drop_constant: bool = False,
    method: str = "reml", family: str | None = None, link: str | None = None, baseline: Mapping[str, str] | None = None,
    missing: Sequence[str] = (), where: str | None = None, weights: str | None = None, df: str = "satterthwaite",
    confidence: float = 0.95, success: str | None = None, grades: Sequence[str] = (), ratios: bool = False, force: bool = False,
    name: str = "carry", seed: int = SEED, posterior: Answer | str | None = None, progress: Callable[[int, int], None] | None = None,
) -> Answer:  # fmt: skip
    """The second model, a fit's options and all, with effect(UNIT: TERM) of the first among its terms; see ``orchard carry``.

    The first model's parameters are drawn about their estimates, or with ``posterior`` (a file of draws, or the answer of ``sample``) from there.
    Raises OrchardError for effects, units and rows that do not belong together, UsageError for options that do not exist.
    """
    from bold_orchard.carrying.carry import CarryOptions
    from bold_orchard.carrying.carry import carry as carried
    from bold_orchard.design.design import Options
    from bold_orchard.inference.fit import Settings

    options = Options({str(k): str(v) for k, v in (baseline or {}).items()}, (), weights, family, force, link, success,
                      tuple(str(g) for g in grades))  # fmt: skip
    settings = Settings(method, options, df, confidence)
    asked = CarryOptions(imputations, naive, drop_constant, ratios, seed)
    rows, draws = table(data, missing, where), None if posterior is None else draws_of(first, posterior)
    result = carried(first, rows, sentence, settings, name, asked, progress or silent, draws)
    return Answer(result, result.converged)
