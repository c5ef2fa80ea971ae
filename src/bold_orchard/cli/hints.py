"""What a person usually does next, as a command ready to paste; shown on a terminal only."""

from __future__ import annotations

import argparse
import shlex
from typing import Any


def following(args: argparse.Namespace, document: Any) -> str | None:
    """The next command after the one that made the document, or None."""
    command = str(document.get("schema", "//")).split("/")[1]
    name = shlex.quote(str(getattr(args, "fit", "") or ""))
    if command == "scout" and document["sentences"]:
        missing = [f"--missing {shlex.quote(m)}" for m in args.missing]
        return " ".join(
            ["orchard fit", shlex.quote(args.data), shlex.quote(document["sentences"][0]), *missing, "--save empty"]
        )
    if command == "fit" and hasattr(args, "sentence"):
        return (
            f"orchard check {shlex.quote(args.save)}"
            if args.save
            else "the same with --save NAME, then orchard check NAME"
        )
    if command == "fit":
        return f"orchard check {name}"
    if command == "compare":
        best = min(document["models"], key=lambda m: m["aic"] if m["aic"] is not None else float("inf"))
        return f"orchard check {shlex.quote(best['name'])}"
    after = {
        "check": "components",
        "components": "terms",
        "terms": "intervals",
        "intervals": "groups",
        "groups": "draw",
        "means": "predict",
    }
    return f"orchard {after[command]} {name}" if command in after else None
