"""Saved fits as a plan: the TOML that makes them, and what is usually asked of them, again."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from bold_orchard.errors import OrchardError, visible

PLAIN = (
    "method",
    "df",
    "confidence",
    "tolerance",
    "max_steps",
    "points",
    "errors",
)  # settings of a fit, by their options' names
DEFAULTS = {
    "method": "reml",
    "df": "satterthwaite",
    "confidence": 0.95,
    "tolerance": 1e-10,
    "max_steps": 100,
    "points": 1,
    "errors": None,
}


def plan_text(models: Sequence[Any], title: str | None = None, folder: Path | None = None) -> str:
    """The plan of a study. Raises OrchardError for a fit whose data are no file."""
    sources = [_source(m) for m in models]
    first = sources[0]
    out = [f"title = {_toml(title or title_of(models))}", "", "[data]", *_data(first, folder)]
    for m, source in zip(models, sources):
        out += ["", f"[fits.{_key(m.core.name)}]", f"sentence = {_toml(_sentence(m))}"]
        out += _data(source, folder, own=True) if source != first else []
        out += [f"{k} = {_toml(v)}" for k, v in _options(m).items()]
    names = [m.core.name for m in models]
    alike = [
        m.core.name
        for m in models
        if m.result["outcome"] == models[0].result["outcome"]
        and m.result["rows"]["used"] == models[0].result["rows"]["used"]
    ]
    if len(alike) > 1:
        figure = {} if any(m.core.imputations for m in models) else {"figure": "compare.png"}
        out += _step("compare", fits=alike, **figure)
    for m in models:
        if not m.core.imputations:
            out += _step("check", fit=m.core.name, figure=f"check-{m.core.name}.png")
        out += _step("components", fit=m.core.name)
    out += _step("table", fits=names, to=["table.html", "table.tex"])
    out += _step("report", fits=names, to=["report.html"])
    return "\n".join(out) + "\n"


def _source(m: Any) -> tuple[str, tuple[str, ...], str | None]:
    """The file, its missing codes and the filter of a fit."""
    o = m.origin
    if o.saved_as is not None:
        from bold_orchard.storage.saved_fits import find_fit, load_document

        saved = load_document(o.saved_as)["saved"]
        if saved["data"] == "-":
            raise OrchardError(
                f"the data of '{m.core.name}' came from a pipe or from memory, not from a file, so a plan cannot name them"
            )
        path = find_fit(o.saved_as).parent / saved["data"]
        return str(path.resolve()), tuple(saved["missing"]), saved["where"]
    if o.source is None or o.source == "-":
        raise OrchardError(f"the data of '{m.core.name}' came from memory, not from a file, so a plan cannot name them")
    return str(Path(o.source).resolve()), o.missing, o.where


def _data(source: tuple[str, tuple[str, ...], str | None], folder: Path | None, own: bool = False) -> list[str]:
    path, missing, where = source
    name = os.path.relpath(path, folder or Path.cwd())
    out = [f"{'data' if own else 'file'} = {_toml(name)}"]
    out += [f"missing = {_toml(list(missing))}"] if missing else []
    return out + ([f"where = {_toml(where)}"] if where else [])


def _options(m: Any) -> dict[str, Any]:
    """The options of ``orchard fit`` that differ from their defaults."""
    s, o = m.core.settings, m.core.settings.options
    made: dict[str, Any] = {k: getattr(s, k) for k in PLAIN if getattr(s, k) != DEFAULTS[k]}
    if o.baselines:
        made["baseline"] = [f"{k}={v}" for k, v in o.baselines.items()]
    for key, value in (("family", o.family), ("link", o.link), ("weights", o.weights), ("success", o.success)):
        if value is not None:
            made[key] = value
    if s.impute is not None:
        made |= {"impute": s.impute.draws, "impute_with": list(s.impute.beside), "seed": s.impute.seed}
    if o.fill_mean:
        made["fill-mean"] = list(o.fill_mean)
    if o.grades:
        made["grades"] = ",".join(o.grades)
    if o.force:
        made["force"] = True
    if labels := _labels(m):
        made["label"] = labels
    if orders := _orders(m):
        made["order"] = orders
    return {k.replace("_", "-"): v for k, v in made.items()}


def _labels(m: Any) -> list[str]:
    """The texts of columns and levels, as options."""
    wording = m.core.settings.wording
    if wording is None:
        return []
    columns = [f"{c}={text}" for c, text in wording.texts.items()]
    return [
        *columns,
        *(f"{c}:{level}={text}" for c, own in wording.columns.items() for level, text in own.levels.items()),
    ]


def _orders(m: Any) -> list[str]:
    """The declared orders of levels; raises OrchardError for a level that holds the comma between them."""
    out = []
    for column, levels in m.core.design.orders.items():
        if any("," in v for v in levels):
            raise OrchardError(f"levels of {column} hold commas, so their order cannot stand in a plan; rename them")
        out.append(f"{column}={','.join(levels)}")
    return out


def _sentence(m: Any) -> str:
    return str(m.core.design.sentence.source)


def title_of(models: Sequence[Any]) -> str:
    """What a study is called that was given no title."""
    return "A study of " + " and ".join(dict.fromkeys(str(m.result["outcome"]) for m in models))


def _step(command: str, **keys: Any) -> list[str]:
    return ["", "[[steps]]", f"command = {_toml(command)}", *(f"{k} = {_toml(v)}" for k, v in keys.items())]


def _key(name: str) -> str:
    return name if name.replace("-", "").replace("_", "").isalnum() and name.isascii() else _toml(name)


def _toml(value: Any) -> str:
    """A TOML value of a text, a number, a switch or a list."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, (int, float)):
        return repr(value)
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(_toml, value)) + "]"
    text = str(value).replace("\\", "\\\\").replace('"', '\\"')
    if any(0xD800 <= ord(c) < 0xE000 for c in text):
        raise OrchardError(
            f"{visible(text)} is no name in UTF-8, and a plan is a text in UTF-8; rename that file and fit again"
        )
    text = "".join(c if ord(c) >= 32 and ord(c) != 127 else f"\\u{ord(c):04x}" for c in text)
    return f'"{text}"'
