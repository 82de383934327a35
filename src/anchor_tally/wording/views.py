"""The first sentence of each view of Compare, and its lines of figures."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

from ..analysis.agreement.agreement import CompareResult
from ..analysis.agreement.change import ChangeResult
from ..analysis.agreement.hydration import HydrationResult
from ..analysis.agreement.hydration_test import HydrationTestResult
from ..analysis.agreement.redundancy import RedundancyResult
from ..analysis.agreement.repeatability import RepeatabilityResult
from ..analysis.pairs.reference_slopes import (
    RESPONDS,
    SIZE_UNCERTAIN,
    TOO_LITTLE,
    UNKNOWN,
    answer_on_change,
)
from ..domain.metrics import metric_of
from ..stats.estimate import Estimate, Interval, Note
from .names import short_name
from .notes import sentence
from .numbers import MISSING, ci, count, number, p_value, signed, span
from .sentences import scan_word
from .statistics import Line


def weeks_words(weeks: float) -> str:
    """A distance in time in days below two weeks, else in weeks."""
    return count(round(7 * weeks), "day") if weeks < 2 else count(round(weeks), "week")


def notes_words(notes: Sequence[Note]) -> str:
    """Notes as sentences, each once."""
    return "\n".join(dict.fromkeys(sentence(n) for n in notes))


def _line(name: str, e: Estimate | None, k: int, *, sign: bool = False, main: bool = False) -> Line:
    value = MISSING if e is None else (signed if sign else number)(e.value, k)
    shown = span(e.interval, k, sign=sign) if e is not None and e.interval is not None else ""
    return Line(name, value, shown, main)


# repeatability
def repeatability_headline(r: RepeatabilityResult) -> str:
    """How far repeats of a device differ, minutes and days apart."""
    name, m, f = r.instrument.name, metric_of(r.metric), r.found
    k, unit = max(m.decimals, 1), m.difference_unit
    if f.sd is None:
        if f.day is None:
            return f"{name}: no repeats yet. Take two or three readings minutes apart."
        return (
            f"{name}: single readings of one client vary from day to day by"
            f" {number(f.day.value, k)} {unit} (SD). No repeats yet."
        )
    twice = number(f.coefficient.value, k) if f.coefficient else MISSING
    head = f"{name}: repeats minutes apart agree within {twice} {unit} (95 % of pairs)"
    if f.limited and f.resolution is not None:
        head = f"{name}: repeats agree to the step of the display ({f.resolution:g} {unit})"
    if f.day is None and f.apart is not None:
        return (
            f"{head}. Between visits about {weeks_words(f.apart.weeks)} apart: SD"
            f" {number(f.apart.sd.value, k)} {unit}, real change included."
        )
    if f.day is None:
        return f"{head}. Not enough data for day-to-day variation."
    return f"{head}. Day-to-day variation: SD {number(f.day.value, k)} {unit}."


def repeatability_lines(r: RepeatabilityResult) -> list[Line]:
    """Figures of repeatability."""
    f, m = r.found, metric_of(r.metric)
    k, unit = max(m.decimals, 1) + 1, m.difference_unit
    lines = [
        _line(f"SD of repeats ({unit})", f.sd, k, main=True),
        _line(f"Repeatability coefficient ({unit})", f.coefficient, k, main=True),
        _line(f"Day-to-day SD ({unit})", f.day, k, main=True),
        Line(f"SD of one reading ({unit})", number(f.single_day, k), "", main=True),
        _line(f"Detectable, minutes apart ({unit})", f.detectable, k),
        Line(f"Detectable, on two days ({unit})", number(f.detectable_days, k), ""),
        *(
            [_line(f"SD between visits ({unit})", f.apart.sd, k, main=True)]
            if f.apart is not None
            else []
        ),
        Line(f"Technical error ({unit})", number(f.tem, k), ""),
        Line("Technical error (% of mean)", number(f.tem_percent, 2), ""),
        Line("Coefficient of variation (%)", number(f.cv_percent, 2), ""),
        Line(f"Largest range of repeats ({unit})", number(f.largest, m.decimals), ""),
    ]
    if f.icc is not None:
        for label, e in (
            ("ICC 1,1", f.icc.one),
            ("ICC 2,1", f.icc.random),
            ("ICC 3,1", f.icc.mixed),
            (f"ICC 1,{f.icc.k}", f.icc.one_mean),
            (f"ICC 2,{f.icc.k}", f.icc.random_mean),
            (f"ICC 3,{f.icc.k}", f.icc.mixed_mean),
        ):
            lines.append(_line(label, e, 3))
    step = MISSING if f.resolution is None else f"{f.resolution:g}"
    lines.append(Line(f"Display step ({m.symbol})", step, ""))
    lines.append(Line("Sets of repeats", str(f.tallies), ""))
    return lines


# change
_ANSWERS = {
    RESPONDS: "responds to change",
    SIZE_UNCERTAIN: "responds to change, size uncertain",
    TOO_LITTLE: "responds too little to change, or not at all",
}


def change_headline(r: ChangeResult) -> str:
    """Whether the device responds to change, and its error for one client."""
    name, m, f = r.instrument.name, metric_of(r.metric), r.found
    k, unit, scan = m.decimals, m.difference_unit, scan_word(r.pairs)
    if f.n == 0 or f.bias is None:
        return f"{name}: no client has two scans with readings of it. A second scan is needed."
    s = r.follows
    shows = ""
    if s is not None:
        shows = f"{signed(s.value, 2)} {unit} per 1 {unit} on {scan}{ci(s.interval, 2)}"
    answer = answer_on_change(s)
    if r.reference.kind != "reference":
        head = f"{name}: only a scan as the reference shows whether it responds to change"
    elif answer == UNKNOWN:
        known = f"{count(f.n, 'change')} of {count(f.clients, 'client')}"
        head = f"Whether {name} responds to change cannot be told yet: {shows or known}"
    else:
        head = f"{name} {_ANSWERS[answer]}: {shows}"
    if f.limits is not None and f.clients >= 5:
        low, high = signed(f.limits.lower, k), signed(f.limits.upper, k)
        head += f". A single client's change can be off by {low} to {high} {unit}"
    return f"{head}."


def change_lines(r: ChangeResult) -> list[Line]:
    """Figures of change."""
    f, m = r.found, metric_of(r.metric)
    k, unit = m.decimals + 1, m.difference_unit
    share = f.signs.share
    lines = [
        _line("Response within clients (slope)", r.follows, 2, main=True),
        _line(f"Bias of the change ({unit})", f.bias, k, sign=True, main=True),
    ]
    if f.limits is not None:
        for name, value, interval in (
            ("Upper", f.limits.upper, f.limits.upper_interval),
            ("Lower", f.limits.lower, f.limits.lower_interval),
        ):
            shown = span(interval, k, sign=True)
            lines.append(Line(f"{name} limit ({unit})", signed(value, k), shown, main=True))
    agree = MISSING if share is None else f"{number(100 * share.value, 0)} %"
    ends = (
        f"{number(100 * share.interval.low, 0)} to {number(100 * share.interval.high, 0)} %"
        if share is not None and share.interval
        else ""
    )
    lines += [
        Line("Same direction as the scan", agree, ends, main=True),
        Line("Changes", str(f.n), count(f.clients, "client")),
        _line(f"SD of one change ({unit})", f.sd, k),
        _line("Slope of change on change", f.slope.slope if f.slope else None, 2),
        _line("Correlation of changes", f.correlation, 2, sign=True),
        Line(f"Changes below ± {number(f.zone, 1)} {unit}", str(f.signs.excluded), "not judged"),
    ]
    for days, least in r.smallest:
        name = f"Detectable, means of {count(days, 'day')} ({unit})"
        lines.append(_line(name, least, m.decimals))
    return lines


# hydration
def hydration_headline(r: HydrationResult) -> str:
    """Whether fat varies with water, and what that means."""
    name = r.instrument.name
    if r.r is None:
        return f"{name}: not enough data: {count(r.n, 'visit')} with both fat and water."
    if r.circular:
        return (
            f"{name} derives fat and water from the same measurement, so water cannot be used to"
            " correct fat."
        )
    if r.slope is not None and r.slope.slope.interval is not None:
        s = r.slope.slope
        i = s.interval
        if i is not None and (i.high < 0 or i.low > 0):
            way, ends = ("falls", Interval(-i.high, -i.low)) if s.value < 0 else ("rises", i)
            return (
                f"{name}: when a client's water rises by one point, fat {way} by"
                f" {number(abs(s.value), 2)} pp{ci(ends, 2)}."
            )
        return (
            f"{name}: no effect of water on fat found ({span(i, 2, sign=True)} pp per point,"
            " 95 % CI)."
        )
    return (
        f"{name}: correlation of fat and water within clients {signed(r.r.value, 2)}"
        f"{ci(r.r.interval, 2, sign=True)}."
    )


def hydration_lines(r: HydrationResult) -> list[Line]:
    """Figures of hydration."""
    slope = r.slope.slope if r.slope is not None else None
    lines = [
        _line("Correlation within clients", r.r, 2, sign=True, main=True),
        _line("Fat per point of water (pp)", slope, 2, sign=True, main=True),
        Line("SD of fat within clients (pp)", number(r.uncorrected, 2), "", main=True),
        Line("  water corrected 1:1 (pp)", number(r.by_rule, 2), ""),
        Line("  corrected by the slope (pp)", number(r.by_slope, 2), ""),
        Line("Visits with both", str(r.n), ""),
    ]
    if r.share is not None:
        varies = f"varies by {number(100 * r.share[1], 2)} %"
        lines.append(Line("Water / fat-free mass", number(r.share[0], 3), varies))
    return lines


def hydration_test_result_words(r: HydrationTestResult) -> str:
    """Result of a hydration test on two mornings."""
    i = r.per_kg.interval
    known = i is not None and (i.low > 0 or i.high < 0)
    means = "Water affects this device" if known else "This can be noise"
    notes = " ".join(sentence(n) for n in r.notes)
    return (
        f"{r.client} with {r.instrument.name}: {signed(r.mass, 1)} kg of water changed the fat"
        f" shown by {signed(r.fat, 1)} pp, of which {signed(r.dilution, 1)} pp is real (the same"
        f" fat in more mass). {means}: {signed(r.per_kg.value, 1)} pp per kg{ci(i, 1, sign=True)}."
        f" {notes}"
    ).strip()


def hydration_test_words(excluded: Sequence[str]) -> str:
    """Who is never offered a hydration test, named first; then what it is."""
    first = (
        f"No hydration test for {', '.join(excluded)}: caution or under 18. " if excluded else ""
    )
    return (
        f"{first}Points are visits, less the client's mean. A hydration test on two mornings (dry"
        " and loaded) shows the device's sensitivity to water. It is for healthy adult volunteers;"
        " licensed staff decide."
    )


# similar devices
def redundancy_headline(r: RedundancyResult) -> str:
    """Which devices behave alike."""
    if r.groups:
        groups = "; ".join(" and ".join(g) for g in r.groups)
        return (
            f"{groups} behave alike. Possible reasons: a shared formula or sensor, shared body"
            " water, or both follow the client well."
        )
    if not r.known.sum() > len(r.names):
        return "Not enough data: devices share too few visits to be compared."
    return "No two devices behave alike: each adds its own information."


def redundancy_lines(r: RedundancyResult) -> list[Line]:
    """Devices that behave alike, values computed from others, parts beside body mass."""
    lines = [
        Line(
            f"{a.first} and {a.second} behave alike: r",
            number(a.r.value, 2),
            span(a.r.interval, 2),
            main=True,
        )
        for a in r.alike
    ]
    for c in r.computed:
        top, bottom = metric_of(c.top).name, metric_of(c.bottom).name
        lines.append(
            Line(
                f"{c.instrument}: {top} is computed from {bottom}: ×",
                number(c.ratio, 3),
                f"varies by {number(100 * c.spread, 2)} %",
                main=True,
            )
        )
    for b in r.balances:
        parts = " + ".join(metric_of(m).name for m in b.parts)
        name = f"{b.instrument}: body mass − ({parts}) (%)"
        lines.append(Line(name, signed(b.mean, 1), f"at most {signed(b.worst, 1)}", main=True))
    if not lines:
        lines.append(Line("No value is computed from another", "", "", main=True))
    for i, j in combinations(range(len(r.names)), 2):
        if r.known[i, j]:
            ends = Interval(float(r.low[i, j]), float(r.high[i, j]))
            name = f"{short_name(r.names[i])} and {short_name(r.names[j])}: r"
            lines.append(Line(name, signed(float(r.r[i, j]), 2), span(ends, 2, sign=True)))
    return lines


def agreement_lines(r: CompareResult) -> list[Line]:
    """Figures of the other forms of agreement."""
    f = r.forms
    if f is None:
        return []
    m = metric_of(r.pairs.metric)
    k, unit = max(m.decimals, 1), m.difference_unit
    lines = []
    for name, line in (
        ("Passing–Bablok", f.passing_bablok.line if f.passing_bablok else None),
        ("Deming", r.deming),
        ("Least squares", f.ols),
    ):
        lines.append(_line(f"{name}: slope", line.slope if line else None, 2))
        lines.append(_line(f"  intercept ({unit})", line.intercept if line else None, k, sign=True))
    lines.append(_line("Theil–Sen: slope", f.theil_sen, 2))
    if f.ratio is not None:
        lines.append(_line("Ratio device / reference", f.ratio.ratio, 2))
        lines.append(
            Line(
                "  limits of the ratio",
                f"{number(f.ratio.lower, 2)} to {number(f.ratio.upper, 2)}",
                "",
            )
        )
    if f.of_means is not None:
        of, means = f.of_means
        for side_, value, interval in (
            ("Upper", means.upper, means.upper_interval),
            ("Lower", means.lower, means.lower_interval),
        ):
            lines.append(
                Line(
                    f"{side_} limit, means of {of} ({unit})",
                    signed(value, k),
                    span(interval, k, sign=True),
                )
            )
    if f.percentiles is not None:
        lines.append(
            Line(
                f"97.5th percentile ({unit})",
                signed(f.percentiles.upper, k),
                span(f.percentiles.upper_interval, k, sign=True),
            )
        )
        lines.append(
            Line(
                f"2.5th percentile ({unit})",
                signed(f.percentiles.lower, k),
                span(f.percentiles.lower_interval, k, sign=True),
            )
        )
    for bound, share in f.near:
        said = MISSING if share is None else f"{number(100 * share.value, 0)} %"
        ends = (
            f"{number(100 * share.interval.low, 0)} to {number(100 * share.interval.high, 0)} %"
            if share is not None and share.interval
            else ""
        )
        lines.append(Line(f"Within ± {number(bound, 1)} {unit}", said, ends))
    if f.without_scan_error is not None:
        w = f.without_scan_error
        lines.append(
            Line(
                f"SD without the scan's error ({unit})",
                number(w.sd, k),
                f"limits {signed(w.lower, k)} to {signed(w.upper, k)}",
            )
        )
    n = f.null_devices
    lines.append(Line(f"RMSE at scans ({unit})", number(n.instrument, k), ""))
    lines.append(Line("  of the previous scan", number(n.last_scan, k), ""))
    lines.append(Line("  of the other clients' mean", number(n.sample_mean, k), ""))
    lines.append(Line("  of an equation from body mass index", number(n.bmi_equation, k), ""))
    if f.normality is not None:
        lines.append(
            Line(
                "Shapiro–Wilk (client means)",
                f"W {number(f.normality[0], 3)}",
                f"p {p_value(f.normality[1])}",
            )
        )
    return lines
