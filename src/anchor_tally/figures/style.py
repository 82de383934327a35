"""Colours, fonts and marks of figures; the same for screen and report."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from importlib import resources
from typing import Any

from ..domain.records import Instrument


@dataclass(frozen=True, slots=True)
class Palette:
    """Colours of one theme; ``inks`` colour the instruments, ``reference`` nothing else."""

    paper: str
    surface: str
    ink: str
    faint: str
    line: str
    accent: str
    band: str
    reference: str
    warn: str
    inks: tuple[str, ...]


LIGHT = Palette(
    "#f4f2ec",
    "#fffdf8",
    "#1c2b33",
    "#5c6a70",
    "#d5d1c6",
    "#0b6e75",
    "#dfeceb",
    "#1c2b33",
    "#a33b16",
    (
        "#0a6fa8",
        "#b5540b",
        "#6a4c9c",
        "#3f7d20",
        "#a3286a",
        "#7a6400",
        "#2a7f79",
        "#8a4b3c",
        "#4a5fc1",
        "#5d6b2f",
    ),
)
DARK = Palette(
    "#151c20",
    "#1d262b",
    "#e9e6dd",
    "#a2adb1",
    "#38444a",
    "#5cc0c4",
    "#24393b",
    "#f4efe2",
    "#f0936b",
    (
        "#6db7e8",
        "#f0a35e",
        "#bda2ea",
        "#97cf72",
        "#ec8cc0",
        "#d9c25a",
        "#77cfc7",
        "#dba495",
        "#9fb0ff",
        "#b9c789",
    ),
)

_SHAPES = ("o", "s", "^", "v", "P", "X", "h", "p", "<", ">")
_LINES = (
    "-",
    "--",
    "-.",
    ":",
    (0, (5, 1)),
    (0, (3, 1, 1, 1)),
    (0, (1, 1)),
    (0, (8, 2)),
    (0, (4, 1, 1, 1)),
    (0, (2, 2)),
)


@dataclass(frozen=True, slots=True)
class Mark:
    """An instrument's colour, marker shape and line style: the same everywhere."""

    colour: str
    shape: str
    line: Any


def mark_of(position: int, palette: Palette) -> Mark:
    """The mark of the instrument at ``position`` in the study's order."""
    k = position % len(_SHAPES)
    return Mark(palette.inks[k], _SHAPES[k], _LINES[k])


def marks_of(instruments: Iterable[Instrument], palette: Palette) -> Callable[[Instrument], Mark]:
    """Marks by the study's order of instruments, references in the ink of their own.

    Computed methods take theirs from the end.

    So the mark of a method stays when an instrument is added.
    """
    order = {i.id: k for k, i in enumerate(i for i in instruments if i.kind != "reference")}

    def mark(item: Instrument) -> Mark:
        if item.kind == "reference":
            return Mark(palette.reference, "D", "-")
        return mark_of(item.id if item.id < 0 else order.get(item.id, 0), palette)

    return mark


def use_fonts() -> str:
    """Register the shipped font with matplotlib, names being plain text and no formulas.

    Return its family name.
    """
    import matplotlib as mpl
    from matplotlib import font_manager

    mpl.rcParams["text.parse_math"] = False
    family = "IBM Plex Sans"
    if family not in {f.name for f in font_manager.fontManager.ttflist}:
        folder = resources.files("anchor_tally") / "assets" / "fonts"
        for name in ("IBMPlexSans_400Regular.ttf", "IBMPlexSans_600SemiBold.ttf"):
            font_manager.fontManager.addfont(str(folder / name))
    return family


def empty(axes: Any) -> None:
    """Take everything off axes that are drawn on again.

    Clearing them would make axis and ticks anew, a third of a redraw.
    """
    for group in (
        axes.lines,
        axes.patches,
        axes.collections,
        axes.texts,
        axes.images,
        axes.artists,
    ):
        for artist in tuple(group):
            artist.remove()
    legend = axes.get_legend()
    if legend is not None:
        legend.remove()
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_units(None)
        axis.set_label_text("")
    axes.yaxis.label.set(rotation=90, horizontalalignment="center", verticalalignment="bottom")
    axes.set(
        xscale="linear", yscale="linear", title="", aspect="auto"
    )  # the scale brings its own ticks
    axes.apply_aspect()
    axes.autoscale(True)
    axes.dataLim.set(
        axes.dataLim.null()
    )  # else limits of the last picture stay where a span comes first


def prepare(axes: Any, palette: Palette, family: str) -> None:
    """Give axes the theme: quiet spines, ticks in the faint ink."""
    axes.set_facecolor(palette.surface)
    axes.figure.set_facecolor(palette.surface)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(palette.line)
    # by parameter: asking for the labels would make all ticks once more
    axes.tick_params(colors=palette.faint, labelsize=9, length=3, labelfontfamily=family)
    axes.xaxis.label.set_color(palette.faint)
    axes.yaxis.label.set_color(palette.faint)


def rows(
    axes: Any,
    names: Sequence[str],
    palette: Palette,
    family: str,
    *,
    chosen: int = -1,
    size: float = 10,
) -> None:
    """A row a name, row k at height −k, the names on the left, and a frame about the chosen one."""
    if 0 <= chosen < len(names):
        axes.axhspan(
            -chosen - 0.46,
            -chosen + 0.46,
            facecolor="none",
            edgecolor=palette.accent,
            lw=1.2,
            zorder=1,
        )
    axes.set_yticks([])
    beside = axes.get_yaxis_transform()
    for k, name in enumerate(names):  # texts, not ticks: those cost three times as much
        axes.text(
            -0.012,
            -k,
            name,
            transform=beside,
            ha="right",
            va="center",
            color=palette.ink,
            fontsize=size,
            fontfamily=family,
        )
    axes.set_ylim(-len(names) + 0.45, 0.55)


MANY = 300  # points from which on they are drawn small and pale


def points(axes: Any, x: Any, y: Any, mark: Mark, palette: Palette) -> Any:
    """An instrument's points in its mark."""
    many = len(x) > MANY
    return axes.scatter(
        x,
        y,
        s=14 if many else 32,
        marker=mark.shape,
        color=mark.colour,
        alpha=0.35 if many else 0.8,
        linewidths=0.6,
        edgecolors=palette.surface,
        zorder=3,
    )


def ring(axes: Any, x: Any, y: Any, palette: Palette) -> None:
    """A ring round the chosen points."""
    axes.scatter(x, y, s=140, facecolors="none", edgecolors=palette.accent, linewidths=2, zorder=4)


def minus(value: float, _position: int = 0) -> str:
    """Tick label of a difference: sign shown, real minus."""
    return "0" if abs(value) < 1e-9 else f"{value:+g}".replace("-", "−")


LABEL_WIDE = 95  # pixels for a date under the axis


def dates(axes: Any) -> None:
    """As many dates under an axis of time as there is room for."""
    from matplotlib.dates import DAILY, MONTHLY, AutoDateFormatter, AutoDateLocator

    room = max(int(axes.get_window_extent().width / LABEL_WIDE), 2)
    locator = AutoDateLocator(minticks=2, maxticks=room)  # type: ignore[no-untyped-call]
    # the library's own steps end too early for a long study on a narrow axis
    locator.intervald[MONTHLY] = [1, 2, 3, 4, 6, 12]
    locator.intervald[DAILY] = [1, 2, 3, 7, 14, 21, 28]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(AutoDateFormatter(locator))  # type: ignore[no-untyped-call]
