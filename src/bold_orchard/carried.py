"""A second outcome explained by the effects of a first model's units."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from bold_orchard.answers import Answer
from bold_orchard.tables import table

if TYPE_CHECKING:
    from bold_orchard.inference.fit import Fit

SEED = 20260101  # that of the command line


def carry(
    first: Fit, data: Any, sentence: str, *, imputations: int = 100, naive: bool = False, drop_constant: bool = False,
    method: str = "reml", family: str | None = None, link: str | None = None, baseline: Mapping[str, str] | None = None,
    missing: Sequence[str] = (), where: str | None = None, weights: str | None = None, df: str = "satterthwaite",
    confidence: float = 0.95, success: str | None = None, grades: Sequence[str] = (), ratios: bool = False, force: bool = False,
    name: str = "carry", seed: int = SEED, progress: Callable[[int, int], None] | None = None,
) -> Answer:  # fmt: skip
    """The second model, a fit's options and all, with effect(UNIT: TERM) of the first among its terms; see ``orchard carry``.

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
    result = carried(
        first, table(data, missing, where), sentence, settings, name, asked, progress or (lambda done, of: None)
    )
    return Answer(result, result.converged)
