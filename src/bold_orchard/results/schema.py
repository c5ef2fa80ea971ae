"""JSON Schema (draft 2020-12) of every command's document, generated from the typed results."""

from __future__ import annotations

import dataclasses
import json
import types
import typing
from pathlib import Path
from typing import Any, Union, get_args, get_origin

from bold_orchard.results import HOMES, result_of
from bold_orchard.results.base import Absent, Part, Result, key_of

SHIPPED = Path(__file__).parent / "schemas"
PLAIN = {str: "string", bool: "boolean", int: "integer", float: "number", type(None): "null"}


def schema_of(result: type[Result]) -> dict[str, Any]:
    """The schema of one command's document."""
    parts: dict[str, Any] = {}
    top = _object(result, parts)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"orchard {result.command}",
        "description": (result.__doc__ or "").strip().split("\n\n")[0].replace("\n", " "),
        **top,
        "$defs": dict(sorted(parts.items())),
    }


def all_schemas() -> dict[str, dict[str, Any]]:
    """By command."""
    return {command: schema_of(result_of(command)) for command in HOMES}


def _object(part: type[Part], parts: dict[str, Any]) -> dict[str, Any]:
    hints = typing.get_type_hints(part)
    properties, required = {}, []
    for f in dataclasses.fields(part):
        if "beside" in f.metadata:
            continue
        properties[key_of(f)] = _of(hints[f.name], parts)
        if f.default is dataclasses.MISSING:
            required.append(key_of(f))
    return {"type": "object", "properties": properties, "required": required, "additionalProperties": False}


def _of(hint: Any, parts: dict[str, Any]) -> dict[str, Any]:
    origin, arguments = get_origin(hint), get_args(hint)
    if origin in (Union, types.UnionType):
        made = [_of(a, parts) for a in arguments if a is not Absent]
        return made[0] if len(made) == 1 else {"anyOf": made}
    if isinstance(hint, type) and issubclass(hint, Part):
        if hint.__name__ not in parts:
            parts[hint.__name__] = {}
            parts[hint.__name__] = _object(hint, parts)
        return {"$ref": f"#/$defs/{hint.__name__}"}
    if origin is list:
        return {"type": "array", "items": _of(arguments[0], parts)}
    if origin is dict:
        return {"type": "object", "additionalProperties": _of(arguments[1], parts)}
    return {"type": PLAIN[hint]} if hint in PLAIN else {}


def write(folder: Path) -> None:
    """Put every schema into a folder, COMMAND.json."""
    folder.mkdir(parents=True, exist_ok=True)
    for command, made in all_schemas().items():
        (folder / f"{command}.json").write_text(json.dumps(made, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    write(SHIPPED)
