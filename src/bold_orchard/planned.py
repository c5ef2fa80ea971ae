"""Studies to come: how large they must be."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from bold_orchard.answers import Answer
from bold_orchard.errors import UsageError
from bold_orchard.progress import silent

if TYPE_CHECKING:
    from bold_orchard.inference.fit import Fit
    from bold_orchard.progress import Progress

SEED = 20260101  # that of the command line


def power(
    study: Fit | str | Path, *effect: str, units: Mapping[str, Sequence[int]] | Sequence[str] = (), rows: Sequence[int] | str = (),
    alpha: float = 0.05, df: str | None = None, runs: int = 400, quick: bool = False, want: float | None = None,
    uncertain: bool = False, seed: int = SEED, progress: Progress | None = None,
) -> Answer:  # fmt: skip
    """How often a study would find its effects, by formula and by simulation; see ``orchard power``.

    Parameters
    ----------
    study : a fit to plan from, or the path of a file that describes an imagined study.
    effect : "TERM = VALUE", a contrast with its value, "sd(unit: term) = VALUE", or a term alone; all terms where none is named.
    units, rows : the sizes to try, {"orchard": [10, 20]} and rows in each level of the smallest unit; every combination.
    """
    from bold_orchard.planning.imagined import all_sizes, read_imagined, study_of
    from bold_orchard.planning.layouts import read_counts, sizes, whole_numbers
    from bold_orchard.planning.power import PowerOptions, of_fit
    from bold_orchard.planning.power import power as asked

    counts = (
        {k: _list(v) for k, v in units.items()}
        if isinstance(units, Mapping)
        else read_counts([units] if isinstance(units, str) else units)
    )
    each = whole_numbers(rows, "--rows") if isinstance(rows, str) else _list(rows)
    if isinstance(study, (str, Path)):
        imagined = read_imagined(str(study))
        tried, made = all_sizes(imagined, counts, each), study_of(imagined, seed)
    else:
        study.needs_one_table("power")
        tried, made = sizes(counts, each), of_fit(study)
    options = PowerOptions(effect, tuple(tried), alpha, df, 0 if quick else runs, want, uncertain, seed)
    return Answer(asked(made, options, progress or silent))


def _list(value: Sequence[int] | int) -> list[int]:
    values = [value] if isinstance(value, int) else list(value)
    if not all(isinstance(v, int) and v > 0 for v in values):
        raise UsageError(f"numbers of units and rows are whole numbers above zero, not {values}")
    return sorted(set(values))
