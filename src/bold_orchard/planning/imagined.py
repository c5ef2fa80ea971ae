"""An imagined study: a file that says units, columns, a sentence, effects and variation, and the rows that it makes.

sentence = "yield = rain + pruning; each orchard: intercept"
[units]
orchard = 20
"tree in orchard" = 5
rows = 4
[columns]
rain = "normal(60, 15) by orchard"
pruning = "levels(none, light, hard) by tree in orchard"
[effects]
intercept = 20
rain = 0.1
"pruning[light]" = 1
"pruning[none]" = -1
[variation]
"sd(orchard: intercept)" = 3
"sd(residual)" = 4
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import of_array
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.design.over import design_over
from bold_orchard.errors import OrchardError, nearest, unknown_name
from bold_orchard.estimation.assumed import Assumed, assumed_of, changed, model_at
from bold_orchard.families import family_of
from bold_orchard.inference.coefficients.methods import precision
from bold_orchard.inference.fit import Fit, Settings, fit
from bold_orchard.inference.variances.quantities import own_places
from bold_orchard.parameters.parameter import Parameter
from bold_orchard.planning.layouts import Size, check_rows, sizes, whole_numbers
from bold_orchard.planning.power import Study
from bold_orchard.sentence import tree
from bold_orchard.sentence.parse import read_sentence

Array = NDArray[Any]
KEYS = (
    "sentence",
    "units",
    "columns",
    "effects",
    "variation",
    "family",
    "link",
    "rows",
    "grades",
    "baseline",
    "method",
    "df",
)
NEEDED = ("sentence", "units", "effects", "variation")
ROWS = "rows"
COLUMN = re.compile(r"^\s*(\w[\w-]*)\s*\((.*)\)\s*(?:by\s+(.+?))?\s*$", re.DOTALL)


@dataclass(frozen=True)
class Column:
    """A column of each level of ``unit`` (each row where None): ``make`` (number of levels, generator); ``turn`` values come in turn, of texts
    the ``first`` is the baseline."""

    unit: str | None
    make: Callable[[int, np.random.Generator], Any]
    turn: int = 0
    first: str | None = None

    @property
    def drawn(self) -> bool:
        return not self.turn


@dataclass(frozen=True)
class Imagined:
    """The file, read: counts of units (of a nested one in each level of its parent), columns by name, and parameters."""

    name: str
    sentence: tree.Sentence
    units: dict[str, list[int]]
    rows: list[int]
    columns: dict[str, Column]
    effects: dict[str, float]
    variation: dict[str, float]
    settings: Settings
    grades: tuple[str, ...]


def read_imagined(path: str) -> Imagined:
    """Raises OrchardError for a file that is not there, lacks a part or holds one it should not."""
    try:
        raw = tomllib.loads(Path(path).read_text(encoding="utf-8"))
    except OSError as e:
        raise OrchardError(f"{path} cannot be read: {e.strerror or e}") from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as e:
        raise OrchardError(f"{path} is no TOML file: {e}") from None
    for key in raw:
        if key not in KEYS:
            near = nearest(key, list(KEYS))
            raise OrchardError(
                f"{path} has a part '{key}' that a design does not have" + (f"; did you mean '{near}'?" if near else "")
            )
    for key in NEEDED:
        if key not in raw:
            raise OrchardError(
                f"{path} lacks {'the ' if key == 'sentence' else ''}{key if key == 'sentence' else f'[{key}]'}; see: orchard power --help"
            )
    for key in ("units", "columns", "effects", "variation"):
        if not isinstance(raw.get(key, {}), dict):
            raise OrchardError(f"[{key}] of {path} is a table of names and values")
    sentence = read_sentence(str(raw["sentence"]))
    counts = dict(raw["units"])
    rows = counts.pop(ROWS, raw.get(ROWS, 1))
    units = {" ".join(k.split()): _counts(v, k) for k, v in counts.items()}
    if not units:
        raise OrchardError(f"[units] of {path} names no unit; write orchard = 20")
    order = [*units]
    columns = {k: _column(k, v, order) for k, v in raw.get("columns", {}).items()}
    family = raw.get("family") or ("binomial" if sentence.outcome.trials is not None else None)
    grades = tuple(map(str, raw.get("grades", ())))
    first = {k: c.first for k, c in columns.items() if c.first is not None}
    options = Options(baselines=first | {k: str(v) for k, v in dict(raw.get("baseline", {})).items()}, family=family, link=raw.get("link"),
                      grades=grades)  # fmt: skip
    settings = Settings(
        method=str(raw.get("method", "reml")).lower(), options=options, df=str(raw.get("df", "satterthwaite"))
    )
    return Imagined(
        Path(path).stem, sentence, units, _counts(rows, ROWS), columns, _numbers(raw["effects"], "effects"),
        _numbers(raw["variation"], "variation"), settings, grades,
    )  # fmt: skip


def _counts(value: Any, name: str) -> list[int]:
    return whole_numbers(",".join(map(str, value)) if isinstance(value, list) else str(value), f"[units] {name}")


def _numbers(table: dict[str, Any], name: str) -> dict[str, float]:
    for key, value in table.items():
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise OrchardError(f"[{name}] {key} must be a number, not {value!r}")
    return {k: float(v) for k, v in table.items()}


def _column(name: str, value: Any, units: list[str]) -> Column:
    """One column; raises OrchardError for what cannot be read."""
    if isinstance(value, list):
        return Column(
            None, _in_turn(value), len(value), None if not value or not isinstance(value[0], str) else value[0]
        )
    match = COLUMN.match(value) if isinstance(value, str) else None
    ways = "normal(mean, sd), uniform(low, high), chance(p), levels(a, b, ...), values(1, 2, ...)"
    if match is None:
        raise OrchardError(f'[columns] {name} is written "normal(60, 15) by orchard" or as a list; there are {ways}')
    law, inner, unit = match.group(1).lower(), match.group(2), match.group(3)
    home = None if unit is None or unit.strip() in ("row", "rows") else " ".join(unit.split())
    if home is not None and home not in units:
        same = [u for u in units if u.split(" in ")[0] == home]
        if len(same) != 1:
            raise OrchardError(unknown_name("unit", home, units, "[units]") + f" (in [columns] {name})")
        home = same[0]
    parts = [p.strip() for p in inner.split(",")]
    if law == "values":
        return Column(home, _in_turn([_number(p, name) for p in parts]), len(parts))
    if law == "levels":
        return Column(home, _in_turn(parts), len(parts), parts[0])
    laws: dict[str, tuple[int, Any]] = {
        "normal": (2, lambda a: lambda n, rng: rng.normal(a[0], a[1], n)),
        "uniform": (2, lambda a: lambda n, rng: rng.uniform(a[0], a[1], n)),
        "chance": (1, lambda a: lambda n, rng: (rng.random(n) < a[0]).astype(int)),
    }
    if law not in laws:
        near = nearest(law, [*laws, "levels", "values"])
        raise OrchardError(
            f"[columns] {name}: there is no '{law}'" + (f"; did you mean '{near}'?" if near else f"; there are {ways}")
        )
    wanted, make = laws[law]
    numbers = [_number(p, name) for p in parts]
    if len(numbers) != wanted or (law == "normal" and numbers[1] < 0) or (law == "chance" and not 0 <= numbers[0] <= 1):
        raise OrchardError(
            f"[columns] {name}: {law} takes {'a chance between 0 and 1' if law == 'chance' else 'two numbers'}, not ({inner})"
        )
    return Column(home, make(numbers))


def _number(text: str, name: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise OrchardError(f"[columns] {name}: '{text}' is no number") from None


def _in_turn(values: list[Any]) -> Callable[[int, np.random.Generator], Any]:
    return lambda n, rng: [values[i % len(values)] for i in range(n)]


def study_of(imagined: Imagined, seed: int) -> Study:
    """The study at its parameters, over rows of its smallest size."""
    start = sizes(imagined.units, imagined.rows)[0]
    table = rows_of(imagined, start, np.random.default_rng([seed, 0, 0]))
    shape = _shape(imagined, table)
    assumed = _parameters(imagined, shape)
    design = design_over(shape.design, shape.design.table)
    model = model_at(design, shape.settings.search, assumed, np.random.default_rng([seed, 1]))
    settings = replace(shape.settings, max_steps=imagined.settings.max_steps)
    base = replace(shape, model=model, known=precision(model, settings.df), settings=settings)
    drawn = any(c.drawn for c in imagined.columns.values())
    return Study(base, assumed, lambda size, rng: rows_of(imagined, _filled(imagined, size), rng), drawn)


def all_sizes(imagined: Imagined, units: dict[str, list[int]], rows: list[int]) -> list[Size]:
    """Every combination of what the file says, with what the command says instead."""
    for name in units:
        if name not in imagined.units:
            raise OrchardError(
                unknown_name("unit", name, list(imagined.units), f"[units] of {imagined.name}") + " (in --units)"
            )
    return sizes(imagined.units | units, rows or imagined.rows)


def _filled(imagined: Imagined, size: Size) -> Size:
    return Size({u: size.units.get(u, c[0]) for u, c in imagined.units.items()}, size.rows or imagined.rows[0])


def rows_of(imagined: Imagined, size: Size, rng: np.random.Generator) -> Table:
    """Every combination of units, ``size.rows`` rows each; columns of a unit are drawn for each of its levels.

    Levels that come in turn are dealt out over a unit's levels inside each level of its parent, over rows inside the smallest; a
    second such column of one unit changes more slowly, so that the two are crossed.
    """
    counts = [size.units[u] for u in imagined.units] + [int(size.rows or 1)]
    check_rows(float(np.prod(np.array(counts, dtype=float))))
    grid = dict(zip([*imagined.units, ROWS], (g.ravel() for g in np.indices(counts))))
    frame: dict[str, Any] = {unit.split(" in ")[0]: grid[unit] + 1 for unit in imagined.units}
    slower: dict[str | None, int] = {}
    for name, column in imagined.columns.items():
        frame[name] = _made(imagined, column, grid, rng, slower.get(column.unit, 1))
        slower[column.unit] = slower.get(column.unit, 1) * max(column.turn, 1)
    return Table(frame, imagined.name, len(grid[ROWS]))


def _made(imagined: Imagined, column: Column, grid: dict[str, Array], rng: np.random.Generator, slower: int) -> Array:
    """The column over all rows; one in turn moves on after ``slower`` levels, so that all combinations meet."""
    home = ROWS if column.unit is None else column.unit
    names = [*imagined.units] if home == ROWS else _line(home, list(imagined.units))
    own = [*names, ROWS] if home == ROWS else names
    joint = np.zeros(len(grid[ROWS]), dtype=np.int64)
    for name in own:
        joint = joint * (int(grid[name].max()) + 1) + grid[name]
    _, code = np.unique(joint, return_inverse=True)
    if column.drawn:
        return np.asarray(column.make(int(code.max()) + 1, rng))[code.ravel()]
    inside = grid[home] // slower
    turned = np.asarray(column.make(int(inside.max()) + 1, rng), dtype=object)[inside]
    return np.asarray(turned.tolist())


def _line(unit: str, units: list[str]) -> list[str]:
    """The units whose levels tell one level of this one: its parents, then itself."""
    columns = unit.split(" in ")
    return [u for u in units if u != unit and u.split(" in ")[0] in columns[1:]] + [unit]


def _shape(imagined: Imagined, table: Table) -> Fit:
    """The sentence coded on the imagined rows; the outcome stands in for one that is not yet there."""
    outcome = imagined.sentence.outcome
    names = [c.name for c in tree.columns_of(outcome)]
    columns = table.columns
    if names[0] in columns:
        raise OrchardError(f"'{names[0]}' is the outcome, so it is no unit and no column of the design")
    family = family_of(imagined.settings.options.family or "gaussian")
    stand_ins: list[list[Any]] = [[1.0, 2.0, 1.5], [0.0, 1.0], [0.25, 0.75, 0.5]]
    if family.reads == "grades":
        if len(imagined.grades) < 2:
            raise OrchardError('a graded outcome needs its grades, lowest first: grades = ["poor", "fair", "good"]')
        stand_ins = [list(imagined.grades)]
    trouble: Exception | None = None
    for values in stand_ins:
        outcomes = [values[(i * i + i // len(values)) % len(values)] for i in range(len(table))]
        if outcome.trials is not None:
            outcomes = [i % 2 for i in range(len(table))]
        stood_in = table.with_columns({names[0]: of_array(np.asarray(outcomes))})
        try:
            return _coded(imagined, stood_in)
        except OrchardError as e:
            trouble = trouble or e
    assert trouble is not None
    raise OrchardError(f"the sentence cannot be coded on the imagined rows: {trouble}")


def _coded(imagined: Imagined, table: Table) -> Fit:
    settings = replace(imagined.settings, options=replace(imagined.settings.options, force=True), max_steps=1)
    return fit(imagined.sentence, table, settings, imagined.name)


def needed_variation(shape: Fit) -> list[Parameter]:
    """Parameters an imagined study must give; correlations and what depends on columns are zero where it does not."""
    known = shape.catalogue
    sds = [p for own in known.clauses for p in own.sds]
    residual = [] if known.residual_sd is None else [known.residual_sd]
    return [*sds, *residual, *(p for p, own, _ in own_places(shape) if own.nothing is None)]


def _parameters(imagined: Imagined, shape: Fit) -> Assumed:
    """Raises OrchardError for effects and variation that are missing or strange."""
    design, known = shape.design, shape.catalogue
    thresholds = [p.label for p in known.thresholds]
    names = {n: i for i, n in enumerate(design.fixed.names)}
    labels = dict(zip(design.fixed.labels, design.fixed.names))
    given = {labels.get(k, k): v for k, v in imagined.effects.items()}
    strange = [k for k in given if k not in names and k not in thresholds]
    if strange:
        raise OrchardError(unknown_name("effect", strange[0], [*names, *thresholds], "[effects]"))
    missing = [k for k in [*names, *thresholds] if k not in given]
    if missing:
        raise OrchardError(f"[effects] lacks {', '.join(missing)}; write 0 where there is none")
    given_there = {known.find(k, known, "[variation]") for k in imagined.variation}
    absent = [p.label for p in needed_variation(shape) if p not in given_there]
    if absent:
        raise OrchardError(f"[variation] lacks {', '.join(absent)}")
    b = np.array([given[n] for n in design.fixed.names])
    start = replace(assumed_of(shape.model), b=b)
    start = replace(start, covariances=tuple(np.zeros_like(c) for c in start.covariances), spread=np.zeros_like(start.spread),
                    own=tuple(own.nothing or 0.0 for _, own, _ in own_places(shape)) if design.additive else ())  # fmt: skip
    if thresholds:
        cuts = np.array([given[t] for t in thresholds])
        if (np.diff(cuts) <= 0).any():
            raise OrchardError("the thresholds of [effects] must rise from grade to grade")
        start = replace(start, extra=np.append(cuts[0], np.log(np.diff(cuts))))
    return changed(start, design, imagined.variation)
