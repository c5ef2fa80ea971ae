"""Small strips at the end of a table's rows: an interval around zero, a share as a bar."""

from __future__ import annotations

from collections.abc import Sequence

WIDTH = 19  # cells: an odd number, so that zero has one of its own in the middle
EIGHTHS = " ▏▎▍▌▋▊▉"


def interval(estimate: float | None, ends: Sequence[float | None] | None, signed: bool = True) -> str:
    """The interval as a line with the estimate on it, on a scale of its own; zero in the middle, or at the left end."""
    if estimate is None or ends is None or None in ends:
        return ""
    low, high = (float(v) for v in ends if v is not None)
    reach = max(abs(low), abs(high), abs(estimate))
    if reach == 0:
        return ""
    first = -reach if signed else 0.0

    def place(value: float) -> int:
        return min(max(round((value - first) / (reach - first) * (WIDTH - 1)), 0), WIDTH - 1)

    cells = [" "] * WIDTH
    cells[place(0.0)] = "┊"
    for i in range(place(low), place(high) + 1):
        cells[i] = "┿" if cells[i] == "┊" else "━"
    cells[place(estimate)] = "●"
    return "".join(cells)


def bar(share: float | None, width: int = 10) -> str:
    """A bar as long as the share of the whole."""
    if share is None or not 0 <= share <= 1:
        return ""
    eighths = round(share * width * 8)
    return "█" * (eighths // 8) + EIGHTHS[eighths % 8].strip()
