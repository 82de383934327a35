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
from ..analysis.agreement.which_device import SURELY, WhichDeviceResult
from ..analysis.pairs.reference_slopes import shows_too_little
from ..domain.metrics import metric_of
from ..stats.estimate import Estimate, Interval, Note
from .names import short_name
from .notes import sentence
from .numbers import MISSING, count, number, signed, span
from .sentences import side
from .statistics import Line

SURE = 0.8  # share of resamples from which on one is called the first


def notes_words(notes: Sequence[Note]) -> str:
    """Notes as sentences, each once."""
    return "\n".join(dict.fromkeys(sentence(n) for n in notes))


def _line(name: str, e: Estimate | None, k: int, *, sign: bool = False) -> Line:
    value = MISSING if e is None else (signed if sign else number)(e.value, k)
    return Line(
        name,
        value,
        span(e.interval, k, sign=sign) if e is not None and e.interval is not None else "",
    )


# consistency
def repeatability_headline(r: RepeatabilityResult) -> str:
    """How far repeats of a device differ, minutes and days apart."""
    name, m, f = r.instrument.name, metric_of(r.metric), r.found
    if f.sd is None:
        return f"{name}: no repeats yet; take two or three readings minutes apart."
    k, unit = max(m.decimals, 1), m.difference_unit
    twice = number(f.coefficient.value, k) if f.coefficient else MISSING
    head = f"{name}: two readings minutes apart differ by up to {twice} {unit} (95 of 100 times)"
    if f.limited and f.resolution is not None:
        head = f"{name}: repeats agree to the step of its display ({f.resolution:g} {unit})"
    if f.day is None:
        return f"{head}; from day to day nothing can be said yet."
    return (
        f"{head}; from day to day a client's value strays by {number(f.day.value, k)} {unit} (SD)."
    )


def repeatability_lines(r: RepeatabilityResult) -> list[Line]:
    """Figures of consistency."""
    f, m = r.found, metric_of(r.metric)
    k, unit = max(m.decimals, 1) + 1, m.difference_unit
    lines = [
        _line(f"SD within tallies ({unit})", f.sd, k),
        _line(f"Repeatability coefficient ({unit})", f.coefficient, k),
        Line("CV (%)", number(f.cv_percent, 2), ""),
        Line(f"Technical error ({unit})", number(f.tem, k), ""),
        Line("Technical error (% of the mean)", number(f.tem_percent, 2), ""),
        Line(f"Largest range of a tally ({unit})", number(f.largest, m.decimals), ""),
        _line(f"SD from day to day ({unit})", f.day, k),
        Line(f"SD of one reading, one day ({unit})", number(f.single_day, k), ""),
        _line(f"Change shown by two readings ({unit})", f.detectable, k),
    ]
    if f.icc is not None:
        for label, e in (
            ("ICC 1,1", f.icc.one),
            ("ICC 2,1", f.icc.random),
            ("ICC 3,1", f.icc.mixed),
        ):
            lines.append(_line(label, e, 3))
        for label, e in (
            ("ICC 1,k", f.icc.one_mean),
            ("ICC 2,k", f.icc.random_mean),
            ("ICC 3,k", f.icc.mixed_mean),
        ):
            lines.append(_line(label.replace("k", str(f.icc.k)), e, 3))
    lines.append(
        Line(
            f"Step of the display ({m.unit})",
            MISSING if f.resolution is None else f"{f.resolution:g}",
            "",
        )
    )
    lines.append(Line("Tallies with repeats", str(f.tallies), ""))
    return lines


# change
def change_headline(r: ChangeResult) -> str:
    """Whether the device moved with the reference, and what it can show of one client."""
    name, m, f = r.instrument.name, metric_of(r.metric), r.found
    k, unit, with_ = m.decimals, m.difference_unit, r.pairs.compared_with
    if f.n == 0 or f.bias is None:
        return (
            f"{name}: no client has two anchors with readings of it; a second scan shows whether it"
            " follows change."
        )
    s = r.follows
    shows = (
        f"{number(s.value, 2)} ({span(s.interval, 2)}) of each {unit} of {with_}"
        if s is not None
        else ""
    )
    if s is not None and s.interval is not None and s.interval.low > 0:
        head = f"{name} follows change: it shows {shows}"
        if shows_too_little(s):
            head = f"{name} shows only {shows}: too little to follow change by it"
    elif shows_too_little(s):
        head = f"{name} does not follow change: it shows {shows}"
    else:
        head = (
            f"{name}: whether it follows change cannot be said from {count(f.n, 'change')} of"
            f" {count(f.clients, 'client')}"
        )
    if f.limits is not None and f.clients >= 5:
        head += (
            f"; one client's change is read from {side(f.limits.lower, k)} to"
            f" {side(f.limits.upper, k)}"
        )
    return f"{head}."


def change_lines(r: ChangeResult) -> list[Line]:
    """Figures of change."""
    f, m = r.found, metric_of(r.metric)
    k, unit = m.decimals + 1, m.difference_unit
    signs = f.signs
    share = signs.share
    lines = [
        Line("Changes", str(f.n), f"{count(f.clients, 'client')}"),
        _line(f"Bias of the change ({unit})", f.bias, k, sign=True),
        _line(f"SD of one change ({unit})", f.sd, k),
    ]
    if f.limits is not None:
        lines.append(
            Line(
                f"Upper limit ({unit})",
                signed(f.limits.upper, k),
                span(f.limits.upper_interval, k, sign=True),
            )
        )
        lines.append(
            Line(
                f"Lower limit ({unit})",
                signed(f.limits.lower, k),
                span(f.limits.lower_interval, k, sign=True),
            )
        )
    lines.append(_line("Slope within clients", r.follows, 2))
    lines.append(_line("Slope of change on change", f.slope.slope if f.slope else None, 2))
    lines.append(_line("Correlation of changes", f.correlation, 2, sign=True))
    agree = MISSING if share is None else f"{100 * share.value:.0f} %"
    ends = (
        f"{100 * share.interval.low:.0f} to {100 * share.interval.high:.0f} %"
        if share is not None and share.interval
        else ""
    )
    lines.append(Line("Same direction", agree, ends))
    lines.append(
        Line(f"Too small to judge (± {number(f.zone, 1)} {unit})", str(signs.excluded), "")
    )
    for days, least in r.smallest:
        lines.append(_line(f"Shown by means of {count(days, 'day')} ({unit})", least, m.decimals))
    return lines


# water
def hydration_headline(r: HydrationResult) -> str:
    """Whether fat moves with water, and what that means."""
    name = r.instrument.name
    if r.r is None:
        return (
            f"{name}: {count(r.n, 'visit')} with fat and water, too few to see them move together."
        )
    if r.circular:
        return (
            f"{name}: its fat and its water are one number told twice; water cannot correct fat"
            " here."
        )
    if r.slope is not None and r.slope.slope.interval is not None:
        s = r.slope.slope
        i = s.interval
        if i is not None and (i.high < 0 or i.low > 0):
            way, ends = ("falls", Interval(-i.high, -i.low)) if s.value < 0 else ("rises", i)
            return (
                f"{name}: when a client's water is one point up, its fat {way} by"
                f" {number(abs(s.value), 2)} pp ({span(ends, 2)})."
            )
        return (
            f"{name}: its fat is not shown to move with its water ({span(i, 2, sign=True)} pp for a"
            " point)."
        )
    return (
        f"{name}: fat and water move together with r {signed(r.r.value, 2)}"
        f" ({span(r.r.interval, 2, sign=True)}) within clients."
    )


def hydration_lines(r: HydrationResult) -> list[Line]:
    """Figures of water."""
    slope = r.slope.slope if r.slope is not None else None
    lines = [
        _line("Correlation within clients", r.r, 2, sign=True),
        _line("Fat (pp) for one point of water", slope, 2, sign=True),
        Line("Visits with both", str(r.n), ""),
        Line("SD of fat within clients (pp)", number(r.uncorrected, 2), ""),
        Line("  water corrected 1:1", number(r.by_rule, 2), ""),
        Line("  by the fitted slope", number(r.by_slope, 2), ""),
    ]
    if r.share is not None:
        lines.append(
            Line(
                "Water over what is not fat",
                number(r.share[0], 3),
                f"varies {100 * r.share[1]:.2f} %",
            )
        )
    return lines


def hydration_test_result_words(r: HydrationTestResult) -> str:
    """What two mornings showed."""
    i = r.per_kg.interval
    per = signed(r.per_kg.value, 1)
    span = f" (95 %: {signed(i.low, 1)} to {signed(i.high, 1)})" if i is not None else ""
    known = i is not None and (i.low > 0 or i.high < 0)
    means = "it is moved by water" if known else "that may be noise"
    notes = " ".join(sentence(n) for n in r.notes)
    return (
        f"{r.client} with {r.instrument.name}: {signed(r.mass, 1)} kg of water moved the fat shown"
        f" by {signed(r.fat, 1)} pp, of which {signed(r.dilution, 1)} is true (the same fat in more"
        f" mass): {per} pp for one kilogram{span}; {means}. {notes}".strip()
    )


def hydration_test_words(excluded: Sequence[str]) -> str:
    """Who is never offered a hydration challenge, named first; then what it is."""
    first = (
        f"No hydration challenge for {', '.join(excluded)} (a caution, or under 18). "
        if excluded
        else ""
    )
    return (
        f"{first}Points are visits, less the client's mean. A challenge (two mornings, dry and"
        " loaded, for healthy adults who want to) would show the device's own sensitivity;"
        " licensed practice decides."
    )


# look-alikes
def redundancy_headline(r: RedundancyResult) -> str:
    """Which devices move as one."""
    if r.groups:
        groups = "; ".join(" and ".join(g) for g in r.groups)
        return (
            f"{groups} move as one within clients: they likely share a formula, and count as one"
            " opinion."
        )
    if not r.known.sum() > len(r.names):
        return "Too few visits in common to see whether devices are alike."
    return "No two devices move as one within clients: none of them is another under a second name."


def redundancy_lines(r: RedundancyResult) -> list[Line]:
    """Pairs that move as one, values computed from others, parts beside the whole."""
    lines = [
        Line(f"{a.first} and {a.second} move as one", number(a.r.value, 2), span(a.r.interval, 2))
        for a in r.alike
    ]
    for c in r.computed:
        top, bottom = metric_of(c.top).label.lower(), metric_of(c.bottom).label.lower()
        lines.append(
            Line(
                f"{c.instrument}: {top} is computed, not measured: {bottom} ×",
                number(c.ratio, 3),
                f"varies {100 * c.spread:.2f} %",
            )
        )
    for b in r.balances:
        parts = " + ".join(metric_of(m).label.lower() for m in b.parts)
        lines.append(
            Line(
                f"{b.instrument}: body mass less {parts} (%)",
                signed(b.mean, 1),
                f"at most {signed(b.worst, 1)}",
            )
        )
    if not lines:
        lines.append(Line("No value computed from another", "", ""))
    for i, j in combinations(range(len(r.names)), 2):
        if r.known[i, j]:
            ends = Interval(float(r.low[i, j]), float(r.high[i, j]))
            name = f"{short_name(r.names[i])} and {short_name(r.names[j])}: r"
            lines.append(Line(name, signed(float(r.r[i, j]), 2), span(ends, 2, sign=True)))
    return lines


# score card
def which_device_headline(r: WhichDeviceResult) -> str:
    """What to keep, and how sure that is."""
    left = [c for c in r.cards if not c.ruled_out and c.score is not None]
    if not left:
        return "Nothing is left to choose from: every instrument is ruled out, or has no pairs."
    best = left[0]
    if best.first is None:
        text = f"{best.instrument.name} scores highest; how sure that is cannot be said"
    elif best.first >= SURE:
        text = f"{best.instrument.name} comes first (in {100 * best.first:.0f} % of resamples)"
    else:
        often = sorted((c for c in left if c.first is not None), key=lambda c: -(c.first or 0))[:3]
        text = "No clear first: " + ", ".join(
            f"{short_name(c.instrument.name)} in {100 * (c.first or 0):.0f} %" for c in often
        )
        text += " of resamples"
    change = r.keep.get("change")
    text += f"; for change keep {change}" if change else "; none is shown to follow change"
    return f"{text}."


def which_device_lines(r: WhichDeviceResult) -> list[tuple[str, ...]]:
    """One row an instrument.

    Name, error at scans, error of changes, slope, SD of repeats, failures, price, score or
    reason.
    """
    k = max(metric_of(r.metric).decimals, 1)
    out: list[tuple[str, ...]] = []
    for c in r.cards:
        why = "; ".join(sentence(n) for n in c.ruled_out)
        out.append(
            (
                c.instrument.name + (f"\n{why}" if why else ""),
                number(c.closeness, k),
                number(c.change, k),
                (
                    MISSING
                    if c.follows is None
                    else f"{number(c.follows.value, 2)} ({span(c.follows.interval, 2)})"
                ),
                number(c.consistency, k + 1),
                f"{100 * c.failed:.0f} %",
                number(c.price, 0),
                "out" if why else number(c.score, 2),
            )
        )
    return out


def keep_words(r: WhichDeviceResult) -> str:
    """What to keep for level, for change, and for value."""
    said = [f"{what}: {name}" for what, name in r.keep.items()]
    text = f"Keep for {'; for '.join(said)}." if said else ""
    best = next((c for c in r.cards if c.instrument.name == r.keep.get("change")), None)
    if best is not None and (best.beats_last_scan or 0) < SURELY:
        text += " So far the last scan carried over is as close: the changes were small."
    little = [c.instrument.name for c in r.cards if not c.ruled_out and shows_too_little(c.follows)]
    if little:
        text += (
            f" Not for change, however small the error: {', '.join(little)}"
            f" show{'s' if len(little) == 1 else ''} less than half of it."
        )
    return text


def agreement_lines(r: CompareResult) -> list[Line]:
    """The other forms of closeness."""
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
        lines.append(_line("Ratio instrument / reference", f.ratio.ratio, 2))
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
        said = MISSING if share is None else f"{100 * share.value:.0f} %"
        ends = (
            f"{100 * share.interval.low:.0f} to {100 * share.interval.high:.0f} %"
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
    lines.append(Line(f"RMSE on anchors ({unit})", number(n.instrument, k), ""))
    lines.append(Line("  of the last scan, carried over", number(n.last_scan, k), ""))
    lines.append(Line("  of the other clients' mean", number(n.sample_mean, k), ""))
    lines.append(Line("  of an equation from body mass index", number(n.bmi_equation, k), ""))
    if f.normality is not None:
        lines.append(
            Line(
                "Normal? (Shapiro–Wilk of client means)",
                f"W {number(f.normality[0], 3)}",
                f"p {f.normality[1]:.3f}",
            )
        )
    return lines
