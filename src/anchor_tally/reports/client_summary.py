"""The page that a client takes home: values with intervals, what changed, what not to conclude."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

from ..analysis.people.fat_ranges import Placed
from ..analysis.plan.schedule import Schedule
from ..analysis.time.best_estimate_result import BestEstimateResult
from ..analysis.time.client_series import TrackSeries
from ..analysis.time.track import TrackResult
from ..domain.catalogue import Catalogue
from ..domain.metrics import is_fat, metric_of
from ..figures import best_course
from ..figures import track as track_figure
from ..figures.paper import PAPER, PaperFigure
from ..figures.style import Mark, marks_of
from ..wording import summary as words
from ..wording.numbers import day_words
from ..wording.track import place_words
from .document import Block, Document, FigureBlock, Paragraph, Section, TableBlock


@dataclass(frozen=True, slots=True)
class Followed:
    """One measure of the client, with the series that gives its level (None: no series)."""

    result: TrackResult
    series: TrackSeries | None


@dataclass(frozen=True, slots=True)
class SummaryFindings:
    """What the page is made of; the first measure has the figure. ``name`` is empty by default.

    ``units`` are those in which measures were typed. ``ranges``: the ranges of a published table
    are shown, with the interval across them.
    """

    catalogue: Catalogue
    followed: tuple[Followed, ...]
    schedule: Schedule
    name: str
    made_on: str
    units: Mapping[str, str] = field(default_factory=dict)
    ranges: bool = False

    def unit(self, x: Followed) -> str:
        """The unit in which a measure was typed; "" where it is the metric's."""
        return self.units.get(x.result.metric, "")


def client_summary(f: SummaryFindings, paper: str = "A4") -> Document:
    """Make the document.

    Parameters
    ----------
    f : SummaryFindings
        Results for one client, at least one.
    paper : str
        A4 or Letter.

    Returns
    -------
    Document
        One page. It holds no goal, no event and no other person; ranges only where they are
        asked for.
    """
    main, client = f.followed[0], f.followed[0].result.client
    rows = tuple(
        (
            metric_of(x.result.metric).label,
            words.level_words(x.result, x.series, f.unit(x)),
            words.change_words(x.result, f.unit(x)),
            words.dates_words(x.result),
            words.meaning_words(x.result),
        )
        for x in f.followed
    )
    found: list[Block] = [
        TableBlock("What was found", ("Measure", "Latest", "Change", "Between", "Meaning"), rows, 9)
    ]
    if main.result.best is not None and main.result.best.scans:
        found.append(_course(f, main, main.result.best))
    elif main.series is not None and main.series.day.size:
        found.append(_figure(f, main))
    place = main.result.place if f.ranges else None
    if place is not None and main.series is not None:
        found.append(_ranges(f, place, main.series))
    told = [words.variation_words(x.result, x.series, f.unit(x)) for x in f.followed[:2]]
    told += [words.waiting_words(x.result) for x in f.followed]
    told.append(words.next_date_words(f.schedule, client.id))
    told.append(words.PREGNANT if "pregnant" in client.cautions else "")
    found += [Paragraph(t) for t in told if t]
    asked = [words.ASK_FIRST] if any(x.result.cautions for x in f.followed) else []
    limits = [*asked, *words.CANNOT, words.AT_EASE, words.PRECEDENCE]
    return Document(
        f"Summary for {f.name or client.code}",
        (f"Made on {day_words(f.made_on)}",),
        (
            Section("found", "Your measurements", tuple(found)),
            Section(
                "limits", "What these numbers cannot tell", tuple(Paragraph(x) for x in limits)
            ),
        ),
        paper,
        contents=False,
    )


def _course(f: SummaryFindings, x: Followed, best: BestEstimateResult) -> FigureBlock:
    """The level that the table gives, by day, in the unit of the table."""
    r, unit = x.result, f.unit(x)
    bare = replace(r, goal=None, events=())  # no goal and no remark on a client's page
    what = best_course.info(bare, replace(best, goal=None))
    items = (*f.catalogue.instruments.values(), *(s.instrument for s in r.series))
    mark_of, m = marks_of(f.catalogue.instruments.values(), PAPER), metric_of(r.metric)
    shown = words.shown_in(m, unit)
    what = best_course.in_unit(what, shown.factor, f"{m.label} ({shown.symbol})")
    return FigureBlock(
        f"{m.label} by day, from scans and all devices. Band: 95 % interval. Diamonds: scans. Open"
        " marks: readings, less what their device differs by.",
        f"{m.label}: {words.level_words(r, None, unit)}; change: {words.change_words(r, unit)}",
        PaperFigure(
            partial(_draw_course, what, {i.name: mark_of(i) for i in items}),
            "summary-course",
            what,
            height=66,
            margins=(16.0, 6.0, 13.0, 3.0),
        ),
    )


def _draw_course(
    what: best_course.BestCourseInfo, marks: Mapping[str, Mark], axes: Any, family: str
) -> None:
    best_course.draw(axes, what, marks, PAPER, family)


def _figure(f: SummaryFindings, x: Followed) -> FigureBlock:
    r = replace(x.result, goal=None, events=())  # no goal and no remark on a client's page
    what = track_figure.info(r, {})
    items = f.catalogue.instruments.values()
    mark_of = marks_of(items, PAPER)
    reference = next((i for i in items if i.kind == "reference"), None)
    assert x.series is not None
    own = mark_of(x.series.instrument)
    kept = own if reference is None else mark_of(reference)
    m, unit = metric_of(r.metric), f.unit(x)
    shown = words.shown_in(m, unit)
    what = track_figure.in_unit(what, shown.factor, f"{m.label} ({shown.symbol})")
    return FigureBlock(
        f"{m.label} by day. Line and narrow band: mean of seven days and its variation."
        + (
            " Wide band: 95 % interval of one morning. Open marks: as read."
            if what.corrected.any()
            else " The line is not corrected: its changes count, its level does not."
            if is_fat(r.metric)
            else ""
        ),
        f"{m.label}: {words.level_words(r, x.series, unit)}; change: {words.change_words(r, unit)}",
        PaperFigure(
            partial(_draw, what, own, kept),
            f"summary-{x.series.instrument.name}",
            what,
            height=66,
            margins=(16.0, 6.0, 13.0, 3.0),
        ),
    )


def _ranges(f: SummaryFindings, place: Placed, s: TrackSeries) -> FigureBlock:
    """The value with its interval across the ranges of a published table."""
    mark = marks_of(f.catalogue.instruments.values(), PAPER)(s.instrument)
    return FigureBlock(
        "The value with its interval, across the ranges of body fat that go with a body mass index"
        f" below 18.5, 18.5 to 25, 25 to 30 and from 30 (%). {place_words(place)}",
        place_words(place),
        PaperFigure(
            partial(_draw_place, place, mark),
            "ranges",
            place,
            height=26,
            margins=(16.0, 6.0, 9.0, 2.0),
        ),
    )


def _draw_place(place: Placed, mark: Mark, axes: Any, family: str) -> None:
    track_figure.draw_place(axes, place, mark, PAPER, family)


def _draw(what: track_figure.TrackInfo, own: Mark, reference: Mark, axes: Any, family: str) -> None:
    track_figure.draw(axes, what, own, reference, PAPER, family)
    axes.set_xlabel("diamond: scan" if what.anchor_day.size else "", fontfamily=family, fontsize=9)
