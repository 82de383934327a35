"""The figure of one client.

Raw values faint, corrected ones strong with their band, scans, events and the two dates.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import numpy as np

from ..analysis.people.fat_ranges import Placed
from ..analysis.time.track import TrackResult
from ..domain.events import Event
from ..domain.metrics import metric_of
from ..domain.snapshot import Floats, Ints
from ..stats.one_client import WEEK_DAYS
from ..wording.names import axis_name, event_words
from .style import Mark, Palette, dates, prepare


@dataclass(frozen=True, eq=False)
class TrackInfo:
    """Content of the figure of one instrument and client.

    Days (ordinals) with raw and corrected values, weekly means, scans, events, dates and
    goal.
    """

    name: str
    day: Ints
    raw: Floats
    value: Floats
    low: Floats
    high: Floats
    corrected: np.ndarray
    week: Floats
    half: Floats
    changes: tuple[tuple[int, str], ...]
    anchor_day: Ints
    anchor: Floats
    events: tuple[tuple[int, int, str], ...]
    since: int
    until: int
    goal: float | None
    label: str


def info(r: TrackResult, settings: dict[int, str]) -> TrackInfo:
    """What the picture of a result shows; ``settings`` are labels by number."""
    m = metric_of(r.metric)
    s = r.named(r.chosen)
    none, days = np.empty(0), np.empty(0, dtype=np.int64)
    changes: list[tuple[int, str]] = []
    if s is not None:
        for k in np.flatnonzero(np.diff(s.setting)).tolist():
            changes.append((int(s.day[k + 1]), settings.get(int(s.setting[k + 1]), "")))
    return TrackInfo(
        name=axis_name(r.chosen),
        day=s.day if s is not None else days,
        raw=s.raw if s is not None else none,
        value=s.value if s is not None else none,
        low=s.low if s is not None else none,
        high=s.high if s is not None else none,
        corrected=s.corrected if s is not None else np.empty(0, dtype=bool),
        week=s.week.mean if s is not None else none,
        half=s.week.half if s is not None else none,
        changes=tuple(changes),
        anchor_day=r.anchor_day,
        anchor=r.anchor_value,
        events=events_of(r),
        since=r.since,
        until=r.until,
        goal=r.goal,
        label=f"{m.label} ({m.symbol})" if m is not None else "",
    )


def in_unit(what: TrackInfo, factor: float, label: str) -> TrackInfo:
    """The same picture in another unit: ``factor`` times each value, under this label."""
    return replace(
        what,
        **{k: getattr(what, k) * factor for k in _VALUES},
        goal=None if what.goal is None else what.goal * factor,
        label=label,
    )


_VALUES = ("raw", "value", "low", "high", "week", "half", "anchor")


def events_of(r: TrackResult) -> tuple[tuple[int, int, str], ...]:
    """Spans of events, without those that begin after everything else that is shown."""
    shown = [d for s in r.series for d in s.day[-1:].tolist()]
    last = max([*shown, *r.anchor_day[-1:].tolist(), r.until])
    return tuple(x for x in map(_span, r.events) if x[0] <= last)


def _span(e: Event) -> tuple[int, int, str]:
    start = date.fromisoformat(e.starts[:10]).toordinal()
    end = date.fromisoformat(e.ends[:10]).toordinal() if e.ends else start
    return start, end + 1, event_words(e.kind) + (f": {e.note}" if e.note else "")


def plot_days(ordinals: Any) -> Any:
    """Ordinals as days since 1970, which is what an axis of dates counts in."""
    return np.asarray(ordinals, dtype=float) - date(1970, 1, 1).toordinal()


def draw_days(
    axes: Any,
    events: tuple[tuple[int, int, str], ...],
    dates_asked: tuple[int, ...],
    palette: Palette,
    family: str,
) -> None:
    """Draw spans of events, and the two dates of the change."""
    for start, end, words in events:
        axes.axvspan(*plot_days([start, end]), color=palette.line, alpha=0.45, lw=0, zorder=0)
        axes.text(
            plot_days(start),
            0.02,
            f" {words}",
            transform=axes.get_xaxis_transform(),
            rotation=90,
            va="bottom",
            color=palette.faint,
            fontsize=8,
            fontfamily=family,
        )
    for at in dates_asked:
        half = WEEK_DAYS // 2
        axes.axvspan(
            *plot_days([at - half, at + half + 1]), color=palette.accent, alpha=0.14, lw=0, zorder=0
        )
        axes.axvline(plot_days(at + 0.5), color=palette.accent, lw=1.2, zorder=1)


def draw_goal(axes: Any, goal: float, palette: Palette, family: str) -> None:
    """Draw the line of a goal."""
    axes.axhline(goal, color=palette.faint, lw=1.2, ls="--", zorder=1)
    axes.text(
        0.005,
        goal,
        "goal",
        transform=axes.get_yaxis_transform(),
        va="bottom",
        color=palette.faint,
        fontsize=9,
        fontfamily=family,
    )


def draw(
    axes: Any, what: TrackInfo, mark: Mark, reference: Mark, palette: Palette, family: str
) -> None:
    """Draw the client on ``axes``."""
    prepare(axes, palette, family)
    draw_days(axes, what.events, (what.since, what.until), palette, family)
    for at, words in what.changes:
        axes.axvline(plot_days(at), color=palette.warn, lw=1.2, ls=(0, (4, 3)), zorder=1)
        axes.text(
            plot_days(at),
            0.99,
            f" {words}",
            transform=axes.get_xaxis_transform(),
            va="top",
            color=palette.warn,
            fontsize=9,
            fontfamily=family,
        )
    x = plot_days(what.day) + 0.5
    if what.day.size:
        known = what.corrected
        axes.plot(
            x,
            what.raw,
            ls="none",
            marker=mark.shape,
            ms=4,
            mfc="none",
            mec=mark.colour,
            alpha=0.5,
            zorder=2,
        )
        if known.any():
            axes.fill_between(
                x[known],
                what.low[known],
                what.high[known],
                color=mark.colour,
                alpha=0.16,
                lw=0,
                zorder=1,
            )
            axes.plot(
                x[known],
                what.value[known],
                ls="none",
                marker=mark.shape,
                ms=6,
                color=mark.colour,
                mec=palette.surface,
                zorder=4,
            )
        axes.fill_between(
            x,
            what.week - what.half,
            what.week + what.half,
            color=mark.colour,
            alpha=0.22,
            lw=0,
            zorder=1,
        )
        axes.plot(
            x,
            what.week,
            color=mark.colour,
            lw=2,
            ls=mark.line,
            alpha=0.9 if known.any() else 0.5,
            zorder=3,
        )
    if what.anchor_day.size:
        axes.plot(
            plot_days(what.anchor_day) + 0.5,
            what.anchor,
            ls="none",
            marker=reference.shape,
            ms=9,
            color=reference.colour,
            mec=palette.surface,
            zorder=5,
        )
    if what.goal is not None:
        draw_goal(axes, what.goal, palette, family)
    axes.set_ylabel(what.label, fontfamily=family, fontsize=9)
    filled = "filled: corrected; " if what.corrected.any() else ""
    axes.set_xlabel(f"open: not corrected; {filled}diamond: scan", fontfamily=family, fontsize=9)
    dates(axes)


def ordinal_at(position: float) -> int:
    """The ordinal of a place on the axis of time."""
    return int(np.floor(position)) + date(1970, 1, 1).toordinal()


def draw_place(axes: Any, p: Placed, mark: Mark, palette: Palette, family: str) -> None:
    """Four ranges side by side, and the value with its interval across their bounds."""
    prepare(axes, palette, family)
    low = min(p.bounds[0] - 8, p.interval.low - 2)
    high = max(p.bounds[2] + 8, p.interval.high + 2)
    edges = [low, *p.bounds, high]
    for k in range(4):
        axes.axvspan(
            edges[k], edges[k + 1], color=palette.band if k % 2 else palette.paper, lw=0, zorder=0
        )
        text = ("< 18.5", "18.5–25", "25–30", "≥ 30")[k]
        axes.text(
            (edges[k] + edges[k + 1]) / 2,
            0.86,
            text,
            transform=axes.get_xaxis_transform(),
            ha="center",
            va="center",
            color=palette.faint,
            fontsize=8,
            fontfamily=family,
        )
    axes.plot(
        [p.interval.low, p.interval.high],
        [0.38, 0.38],
        color=mark.colour,
        lw=3,
        solid_capstyle="butt",
        zorder=2,
    )
    axes.plot(
        [p.value], [0.38], marker=mark.shape, ms=8, color=mark.colour, mec=palette.surface, zorder=3
    )
    axes.set_xlim(low, high)
    axes.set_ylim(0, 1)
    axes.set_yticks([])
    axes.set_ylabel("BMI", fontfamily=family, fontsize=9, rotation=0, ha="right", va="center")
    axes.set_xticks([round(b, 1) for b in p.bounds])
