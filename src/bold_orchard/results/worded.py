"""Results as they are shown: names of columns and levels replaced by the texts that a person gave, in every field that
holds one."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from bold_orchard.results.base import Result
from bold_orchard.results.check import CheckArrays
from bold_orchard.results.draw import DrawPicture
from bold_orchard.wording import Wording

R = TypeVar("R", bound=Result)
TERMS = (
    "label",
    "term",
    "term2",
    "predictor",
    "along",
    "parameter",
    "slope",
    "within",
    "column",
    "effect",
    "contrast",
    "averaged",
    "intercept_at",
    "terms",
)
UNITS = ("group", "unit", "level_of", "units_named")
CONTRAST = re.compile(r"^(?P<before>(?:[^:]+: )*)(?P<column>[^:]+): (?P<one>.+) vs (?P<other>.+)$")
LEVEL = re.compile(r"^(?P<before>(?:[^:\[\]]+: )*)(?P<column>.+)\[(?P<level>[^\[\]]*)\]$")
EQUAL = re.compile(r"^(?P<column>.+?) = (?P<level>.+)$")
INSIDE = re.compile(r"^(?P<what>sd|correlation|vary|covariance)\((?P<group>.+?): (?P<terms>.+)\)$")


class Worded:
    """The texts of one wording in the place of names."""

    def __init__(self, wording: Wording, left: tuple[str, ...] = ()) -> None:
        self.words, self.left = wording, left
        names = sorted(wording.texts, key=len, reverse=True)
        self.pattern = re.compile(r"(?<![\w.])(?:" + "|".join(map(re.escape, names)) + r")(?![\w.])") if names else None

    def columns(self, text: str) -> str:
        """A text in which names of columns stand."""
        return text if self.pattern is None else self.pattern.sub(lambda m: self.words.column(m[0]), text)

    def plain(self, column: str) -> str:
        """The raw column of a factor: category(graft) is graft."""
        inner = re.fullmatch(r"category\(\[?([^\[\]()]+)\]?\)", column)
        return inner[1] if inner is not None and inner[1] in self.words.columns else column

    def level(self, column: str, level: object) -> str:
        return self.words.level(self.plain(column), str(level))

    def term(self, text: str) -> str:
        """A term, as names have it (graft[1], rain*graft[1]) or as it is printed (graft: 1 vs 0)."""
        if " * " in text:
            return " * ".join(self.term(part) for part in text.split(" * "))
        inside = INSIDE.match(text)
        if inside is not None:
            terms = ", ".join(self.term(t) for t in inside["terms"].split(", "))
            return f"{inside['what']}({self.columns(inside['group'])}: {terms})"
        made = CONTRAST.match(text)
        if made is not None:
            column = made["column"]
            return f"{self.columns(made['before'])}{self.factor(column)}: {self.level(column, made['one'])} vs {self.level(column, made['other'])}"
        column, colon, level = text.rpartition(": ")
        if colon and self.plain(column) in self.words.columns:
            return f"{self.factor(column)}: {self.level(column, level)}"
        if "*" in text:
            return "*".join(self.term(part) for part in text.split("*"))
        made = LEVEL.match(text)
        if made is not None:
            return f"{self.columns(made['before'])}{self.factor(made['column'])}: {self.level(made['column'], made['level'])}"
        made = EQUAL.match(text)
        if made is not None and self.plain(made["column"]) in self.words.columns:
            return f"{self.factor(made['column'])} = {self.level(made['column'], made['level'])}"
        return self.factor(text)

    def factor(self, text: str) -> str:
        return self.columns(self.plain(text))

    def levels(self, found: Mapping[str, Any]) -> dict[str, Any]:
        """Levels by column."""
        return {self.factor(k): self.level(k, v) if isinstance(v, str) else v for k, v in found.items()}

    def joined(self, text: str, columns: list[str]) -> str:
        """Levels of several columns in one text, as pairs of means have them."""
        parts = text.split(", ")
        if len(parts) != len(columns):
            return text
        return ", ".join(self.level(c, p) for c, p in zip(columns, parts))


def worded(result: R, wording: Wording | None, left: tuple[str, ...] = ()) -> R:
    """The result with texts where its document and its picture name columns and levels, but in the keys ``left``;
    itself where there are none."""
    if not wording:
        return result
    w = Worded(wording, left)
    document = _of_dict(result.document, w, ())
    made = type(result).from_dict(document)
    return made.with_keys(**{k: v for k, v in _beside(result, w).items() if v is not None})


def _beside(result: Result, w: Worded) -> dict[str, Any]:
    """What pictures need beside the document."""
    out: dict[str, Any] = {}
    for f in dataclasses.fields(result):
        if not f.metadata.get("beside"):
            continue
        value = getattr(result, f.name)
        if isinstance(value, DrawPicture):
            by = str(result.get("by") or "")
            points = {w.factor(k): v for k, v in value.points.items()} if value.points else value.points
            value = dataclasses.replace(
                value, label=w.columns(value.label), levels=tuple(w.level(by, t) for t in value.levels), points=points
            )
        elif isinstance(value, CheckArrays):
            value = dataclasses.replace(
                value, outcome=w.columns(value.outcome), fitted_name=w.columns(value.fitted_name), numbers={w.factor(k): v for k, v in value.numbers.items()},
                categories={w.factor(k): (codes, [w.level(k, t) for t in texts]) for k, (codes, texts) in value.categories.items()},
            )  # fmt: skip
        out[f.name] = value
    return out


def _of_dict(d: Mapping[str, Any], w: Worded, factors: tuple[str, ...]) -> dict[str, Any]:
    own = tuple(_factors(d)) or factors
    return {key: _value(key, value, d, w, own) for key, value in d.items()}


def _factors(d: Mapping[str, Any]) -> list[str]:
    """The columns whose levels pairs of a means document are of."""
    means = d.get("means")
    if (
        isinstance(means, list)
        and means
        and isinstance(means[0], Mapping)
        and isinstance(means[0].get("levels"), Mapping)
    ):
        return list(means[0]["levels"])
    return []


def _value(key: str, value: Any, d: Mapping[str, Any], w: Worded, factors: tuple[str, ...]) -> Any:
    if key in w.left:
        return value
    change: Callable[[str], str] | None = (
        w.term if key in TERMS else w.columns if key in UNITS or key == "outcome" else None
    )
    if key == "levels" and isinstance(value, Mapping):
        return w.levels(value)
    if key in ("a", "b") and isinstance(value, str):
        return w.joined(value, list(factors))
    if key in ("level", "ticks") and _column_of(d):
        column = _column_of(d)
        return (
            [w.level(column, v) for v in value]
            if isinstance(value, list)
            else w.level(column, value)
            if isinstance(value, str)
            else value
        )
    if key == "first_rows" and isinstance(value, list):
        return [{w.factor(k): w.level(k, v) if isinstance(v, str) else v for k, v in row.items()} for row in value]
    if key == "by" and isinstance(value, str):
        return w.factor(value)
    if key == "covariates" and isinstance(value, Mapping):
        return {w.factor(k): v for k, v in value.items()}
    if key == "levels" and isinstance(value, list) and isinstance(d.get("outcome"), str):
        return [w.level(d["outcome"], v) if isinstance(v, str) else v for v in value]
    if isinstance(value, str):
        return value if change is None else change(value)
    if isinstance(value, Mapping):
        return _of_dict(value, w, factors)
    if isinstance(value, list):
        return [
            _value(key, v, d, w, factors)
            if isinstance(v, str)
            else _of_dict(v, w, factors)
            if isinstance(v, Mapping)
            else v
            for v in value
        ]
    return value


def _column_of(d: Mapping[str, Any]) -> str:
    """The column whose levels an object names."""
    if isinstance(d.get("by"), str) and d.get("level") is not None:
        return str(d["by"])
    for key in ("predictor", "along", "column"):
        if isinstance(d.get(key), str):
            return str(d[key])
    return ""
