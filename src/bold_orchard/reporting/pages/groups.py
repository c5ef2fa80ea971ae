"""The page of groups, from its document alone."""

from __future__ import annotations

from typing import Any

from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import figure, percent
from bold_orchard.reporting.page import Page
from bold_orchard.reporting.pages.origin import from_draws
from bold_orchard.results.groups import GroupsResult

SHOWN = 10  # levels listed from each end; all are in the CSV


def groups_page(d: GroupsResult, digits: int = 4) -> Page:
    scale = "" if d["link"] == "identity" else f" on the {d['link']} scale"
    page = Page().title(d["model"]).text(f"Predicted effects of each unit in {d['name']}{scale}, largest first.")
    drawn = from_draws(page, d)
    level, error = f"{100 * d['confidence']:g}% interval", "SD" if drawn else "SE"
    for part in d["groups"]:
        hidden = max(len(part["rows"]) - 2 * SHOWN, 0)
        for term in part["terms"]:
            rows = sorted(part["rows"], key=lambda r: -(r["effects"][term] or 0.0))
            listed = rows if hidden <= 2 else [*rows[:SHOWN], None, *rows[-SHOWN:]]
            table = []
            for r in listed:
                if r is None:
                    table.append(("...", "", "", "", "", *(("",) if drawn else ())))
                    continue
                table.append((r["level"], figure(r["effects"][term], digits), figure(r["se"][term], 3), _ends(r["ci"][term], digits),
                              figure(r["coefficients"][term], digits), *((_ends(r["coefficients_ci"][term], digits),) if drawn else ())))  # fmt: skip
            if term == "spread" and "residual_sd" in part["rows"][0]:
                _spread(page, part["group"], listed, level, digits, error)
                continue
            if "own" in part["rows"][0] and term == "intercept":
                _studies(page, d, part["group"], listed, level, digits)
                continue
            columns = (part["group"], "effect", error, level, "with the\naverage", *((level,) if drawn else ()))
            page.table(f"{part['group']}: {term}", columns, table)
        if drawn and "rank_ci" in part["rows"][0]:
            _places(page, part, level)
        if hidden > 2:
            page.text(f"{count(len(part['rows']), 'level')} in all; every one goes to a file with --csv FILE.")
    return page.notes(d["notes"])


def _ends(ends: list[float | None], digits: int) -> str:
    return f"{figure(ends[0], digits)} to {figure(ends[1], digits)}"


def _places(page: Page, part: dict[str, Any], level: str) -> None:
    """How surely the first and the last stand where they stand."""
    rows = sorted(part["rows"], key=lambda r: r["rank"])
    said = [
        f"{r['level']} {r['rank_ci'][0]:.0f} to {r['rank_ci'][1]:.0f}"
        for r in (rows if len(rows) <= 4 else [*rows[:2], *rows[-2:]])
    ]
    page.text(f"Places by {part['terms'][0]} among {len(rows)}, {level}: " + "; ".join(said) + ".")


def _studies(
    page: Page, d: GroupsResult, group: str, listed: list[dict[str, Any] | None], level: str, digits: int
) -> None:
    """What each found beside what the model makes of it, then the mean and a new one."""
    table: list[tuple[str, ...]] = []
    for r in listed:
        if r is None:
            table.append(("...", *[""] * 6))
            continue
        own = r["own"]
        table.append((r["level"], figure(own["estimate"], digits), figure(own["se"], 3), percent(own["weight"]),
                      figure(r["coefficients"]["intercept"], digits), figure(r["se"]["intercept"], 3), figure(r["effects"]["intercept"], digits)))  # fmt: skip
    columns = (group, "found", "known\nSE", "weight", "by the\nmodel", "SE of the\neffect", "effect")
    page.table(f"{group}: intercept", columns, table)
    new = d.get("new_unit")
    if new:
        page.text(
            f"Mean {figure(new['mean'], digits)} ({level} {_ends(new['ci'], digits)}); the true value of a new {group}: {_ends(new['new_ci'], digits)}."
        )


def _spread(page: Page, group: str, listed: list[dict[str, Any] | None], level: str, digits: int, error: str) -> None:
    """Each unit's own residual SD, the widest first."""
    table: list[tuple[str, ...]] = []
    for r in listed:
        if r is None:
            table.append(("...", "", "", "", ""))
            continue
        low, high = r["residual_sd_ci"]
        table.append((r["level"], figure(r["effects"]["spread"], digits), figure(r["se"]["spread"], 3), figure(r["residual_sd"], digits),
                      f"{figure(low, digits)} to {figure(high, digits)}"))  # fmt: skip
    page.table(f"{group}: spread", (group, "effect on\nthe log SD", error, "residual\nSD", level), table)
