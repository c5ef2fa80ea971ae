"""One palette and one style for every picture; nothing here knows a model."""

from __future__ import annotations

import io
import textwrap
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any, cast

from matplotlib.axes import Axes
from matplotlib.figure import Figure, SubFigure

from bold_orchard.errors import UsageError

Ground = Axes | Figure | SubFigure

# dark to light, told apart by hue and by lightness under the common colour-vision deficiencies
LEAF, PLUM, AMBER, SKY, BARK = "#1b6b50", "#7a2e5d", "#d98c1f", "#4f9bd0", "#4a4038"
PALETTE = (LEAF, AMBER, PLUM, SKY, BARK)
GRID = "#e4e0da"
LETTERS = 11  # of a title, for each inch of a picture
SETTINGS: Any = {
    "font.size": 11,
    "axes.titlesize": 12,
    "axes.titleweight": "bold",
    "axes.titlelocation": "left",
    "axes.titley": 1.0,  # no ticks above: no search for room
    "axes.edgecolor": BARK,
    "axes.labelcolor": BARK,
    "text.color": BARK,
    "xtick.color": BARK,
    "ytick.color": BARK,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.grid": True,
    "grid.color": GRID,
    "axes.axisbelow": True,
    "text.parse_math": False,  # a name with dollar signs is no formula
    "svg.fonttype": "none",
    "svg.hashsalt": "orchard",
    "savefig.facecolor": "white",
}


def styled() -> AbstractContextManager[None]:
    """Inside it pictures are drawn in this style; whoever calls the library keeps a style of their own."""
    import matplotlib

    return matplotlib.rc_context(SETTINGS)


GROUND: ContextVar[Ground | None] = ContextVar("GROUND", default=None)  # what the picture being made is drawn on


@contextmanager
def drawn_on(ground: Ground | None) -> Iterator[None]:
    """Inside it pictures are drawn on axes, or on a part of a figure, of somebody's own."""
    token = GROUND.set(ground)
    try:
        yield
    finally:
        GROUND.reset(token)


def shaped(figure: Figure, size: tuple[int, int] | None, dpi: int | None) -> Figure:
    """The picture in another size (pixels at 100 dpi), with other pixels per inch."""
    if size is not None:
        figure.set_layout_engine("constrained")  # the margins were made for the usual size
        figure.set_size_inches(size[0] / 100, size[1] / 100)
        titled(figure, figure.get_suptitle())
        wrap_titles(figure)
    if dpi is not None:
        figure.set_dpi(dpi)
    return figure


def wrap_titles(ground: Figure | SubFigure) -> None:
    """Headings of panels in lines no longer than the panel is wide."""
    for ax in ground.axes:
        place = ax.get_subplotspec()
        across = place.get_gridspec().ncols if place is not None else 1
        words = textwrap.fill(ax.get_title(loc="left"), max(int(0.75 * _letters(ground) / across), 12))
        ax.set_title(words, loc="left")


def _letters(ground: Ground) -> int:
    """How many letters of a title stand in one line."""
    inches = ground.bbox.width / (ground.figure if isinstance(ground, Axes) else ground).dpi
    return max(int(LETTERS * inches), 20)


def titled(ground: Ground, title: str, **where: Any) -> None:
    """What stands above a picture, or above the axes that it was drawn on."""
    words = textwrap.fill(textwrap.shorten(title, 380, placeholder=" ..."), _letters(ground))
    if isinstance(ground, Axes):
        ground.set_title(words, loc="left")
    else:
        ground.suptitle(words, x=0.01, ha="left", fontsize=13, color=BARK, **where)


def canvas(
    rows: int, columns: int, title: str, width: float = 12.8, height: float = 8.0, steady: bool = False
) -> tuple[Figure, list[Axes]]:
    """A titled figure of 1280x800 pixels (at 100 dpi) with ``rows`` x ``columns`` axes, in reading order.

    ``steady`` margins serve axes whose labels are known to be short, and save the search for room. Raises UsageError
    where one pair of axes is given for a picture of several.
    """
    ground = GROUND.get()
    if isinstance(ground, Axes):
        if rows * columns > 1:
            raise UsageError(
                f"this picture has {rows * columns} panels and one pair of axes holds one; give a figure or a subfigure"
            )
        titled(ground, title)
        return ground.figure, [ground]  # type: ignore[return-value]
    if ground is not None:
        figure, steady = cast(Figure, ground), False
    else:
        figure = Figure(figsize=(width, height), dpi=100, layout=None if steady else "constrained")
    titled(figure, title, **({"y": 0.99, "va": "top"} if steady else {}))  # elsewhere the layout finds room for it
    words = figure.get_suptitle()
    axes = list(figure.subplots(rows, columns, squeeze=False).ravel())
    if steady:
        top = 1.0 - (0.42 + 0.22 * (words.count("\n") + 1)) / height
        figure.subplots_adjust(left=0.055, right=0.985, bottom=0.068, top=top, wspace=0.21, hspace=0.29)
    for ax in axes if len(axes) > 4 else []:
        ax.locator_params(nbins=5)
    return figure, axes


def short(name: str, most: int) -> str:
    """A long name cut in its middle, where names differ least."""
    if len(name) <= most:
        return name
    head = (most - 1) * 2 // 5
    return name[:head] + "…" + name[len(name) - (most - 1 - head) :]


def name_places(ax: Axes, names: Sequence[str], room: int) -> None:
    """Names at 0, 1, ... along the axis below; ``room`` is how many letters fit side by side.

    Names that do not fit side by side are turned, then shortened, and of very many only some are written.
    """
    step = -(-len(names) // max(room // 2, 1))
    places = range(0, len(names), step)
    if sum(len(n) + 3 for n in names) <= room:
        ax.set_xticks(places, names)
    else:
        angle = 40 if 4 * len(names) <= room else 90
        ax.set_xticks(places, [short(names[i], 22) for i in places], rotation=angle, ha="right" if angle < 90 else "center",
                      rotation_mode="anchor" if angle < 90 else "default", fontsize=10)  # fmt: skip


def name_dates(ax: Axes) -> None:
    """Dates along the axis below, of numbers that are days since 1970-01-01."""
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    locator = AutoDateLocator()  # type: ignore[no-untyped-call]
    ax.xaxis.set_major_locator(locator)
    ax.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]


def save(figure: Figure, path: Path) -> None:
    """Write a picture in the form its ending asks for."""
    with styled():
        _save(figure, path)


def _save(figure: Figure, path: Path) -> None:
    if path.suffix.lower() == ".png":
        from matplotlib.backends.backend_agg import FigureCanvasAgg

        drawing: Any = FigureCanvasAgg(figure)
        drawing.print_png(path)  # one drawing; savefig makes a trial one before
    else:
        made = io.BytesIO()  # a full disk is then found by the one write that follows
        kind = path.suffix[1:].lower()
        when: Any = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}[kind]  # the same picture, the same bytes
        figure.savefig(made, format=kind, metadata=when)
        path.write_bytes(made.getvalue())


def png(figure: Figure) -> bytes:
    """The picture as PNG."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    out = io.BytesIO()
    drawing: Any = FigureCanvasAgg(figure)
    with styled():
        drawing.print_png(out, metadata={"Software": None})
    return out.getvalue()


def caption(figure: Figure) -> str:
    """The picture's own title, for where it cannot be seen."""
    return " ".join(figure.get_suptitle().split())
