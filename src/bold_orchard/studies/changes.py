"""What changed in the estimates of a study since its last run."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from bold_orchard.reporting.formats.markdown import document
from bold_orchard.reporting.page import Page
from bold_orchard.reporting.pages.run import change_table

SAME = 1e-9  # relative difference below which a figure is the same
DIGITS = 5


def estimates_of(path: Path) -> dict[str, Any]:
    """The figures of a saved fit that a change is told of: name -> [value, SE]."""
    d = json.loads(path.read_text(encoding="utf-8"))
    out: dict[str, Any] = {"rows used": [d["rows"]["used"], None]}
    out |= {r["label"]: [r["estimate"], r["se"]] for r in d["fixed"]}
    for own in d.get("parts", []):
        out |= {f"{own['part']}: {r['label']}": [r["estimate"], r["se"]] for r in own["fixed"]}
    for part in d["random"]:
        out |= {f"SD of {t} ({part['group']})": [sd, None] for t, sd in zip(part["terms"], part["sd"])}
    for name, value in (d["residual"] or {}).items():
        if name == "sd" or (isinstance(value, (int, float)) and name != "variance"):
            out["SD of the residual" if name == "sd" else name.replace("_", " ")] = [value, None]
    return out | {"log-likelihood": [d["fit"]["loglik"], None]}


def changes_between(before: dict[str, Any], after: dict[str, Any]) -> list[dict[str, Any]]:
    """Figures that differ, fit by fit; of fits that are new nothing is said."""
    out = []
    for fit, now in after.items():
        then = before.get(fit)
        if then is None:
            continue
        for name in {**then, **now}:
            (a, se), (b, _) = then.get(name, [None, None]), now.get(name, [None, None])
            if a == b or (a is not None and b is not None and abs(a - b) <= SAME * max(abs(a), abs(b))):
                continue
            moved = (b - a) / se if se and a is not None and b is not None else None
            out.append({"fit": fit, "figure": name, "before": a, "after": b, "in_se": moved})
    return out


def told(title: str, changes: list[dict[str, Any]]) -> str:
    """The file of changes, as Markdown."""
    page = Page().title(f"{title}: what changed since the run before")
    for fit in dict.fromkeys(c["fit"] for c in changes):
        columns, rows = change_table([c for c in changes if c["fit"] == fit], DIGITS)
        page.title(fit, 2).table("", columns[1:], [r[1:] for r in rows])
    return document(page)
