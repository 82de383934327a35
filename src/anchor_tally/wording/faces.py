"""The first sentence of each face of Compare, and its lines of figures."""

from __future__ import annotations

from collections.abc import Sequence

from ..analysis.change import ChangeResult
from ..analysis.repeat import RepeatResult
from ..analysis.water import WaterResult
from ..domain.metrics import Metric, metric_named
from ..stats.estimate import Estimate, Note
from .numbers import MISSING, count, number, signed, span
from .sentences import sentence, side
from .statistics import Line

OLD = ("settings_pooled",)


def _metric(name: str) -> Metric:
    found = metric_named(name)
    if found is None:
        raise KeyError(name)
    return found


def notes_words(notes: Sequence[Note]) -> str:
    """Notes as sentences, each once."""
    return "\n".join(dict.fromkeys(sentence(n) for n in notes))


def _line(name: str, e: Estimate | None, k: int, *, sign: bool = False) -> Line:
    value = MISSING if e is None else (signed if sign else number)(e.value, k)
    return Line(name, value, span(e.interval, k, sign=sign) if e is not None and e.interval is not None else "")


# consistency
def repeat_headline(r: RepeatResult) -> str:
    """How far repeats of a device differ, minutes and days apart."""
    name, m, f = r.instrument.name, _metric(r.metric), r.found
    if f.sd is None:
        return f"{name}: no repeats yet; take two or three readings minutes apart."
    k, unit = max(m.decimals, 1), m.difference_unit
    twice = number(f.coefficient.value, k) if f.coefficient else MISSING
    head = f"{name}: two readings minutes apart differ by up to {twice} {unit} (95 of 100 times)"
    if f.limited and f.resolution is not None:
        head = f"{name}: repeats agree to the step of its display ({f.resolution:g} {unit})"
    if f.day is None:
        return f"{head}; from day to day nothing can be said yet."
    return f"{head}; from day to day a client's value strays by {number(f.day.value, k)} {unit} (SD)."


def repeat_lines(r: RepeatResult) -> list[Line]:
    """Figures of consistency."""
    f, m = r.found, _metric(r.metric)
    k, unit = max(m.decimals, 1) + 1, m.difference_unit
    lines = [
        _line(f"SD within tallies ({unit})", f.sd, k),
        _line(f"Repeatability coefficient ({unit})", f.coefficient, k),
        Line("CV (%)", number(f.cv_percent, 2), ""),
        Line(f"Technical error ({unit})", number(f.tem, k), ""),
        Line("Technical error (% of the mean)", number(f.tem_percent, 2), ""),
        Line(f"Largest range of a tally ({unit})", number(f.largest, m.decimals), ""),
        _line(f"SD from day to day ({unit})", f.day, k),
        Line(f"SD of one reading on one day ({unit})", number(f.single_day, k), ""),
        Line(f"Smallest change of two single readings ({unit})", number(f.detectable, k), ""),
    ]
    if f.icc is not None:
        for label, e in (("ICC 1,1", f.icc.one), ("ICC 2,1", f.icc.random), ("ICC 3,1", f.icc.mixed)):
            lines.append(_line(label, e, 3))
        for label, e in (("ICC 1,k", f.icc.one_mean), ("ICC 2,k", f.icc.random_mean), ("ICC 3,k", f.icc.mixed_mean)):
            lines.append(_line(label.replace("k", str(f.icc.k)), e, 3))
    lines.append(Line(f"Step of the display ({m.unit})", MISSING if f.resolution is None else f"{f.resolution:g}", ""))
    lines.append(Line("Tallies with repeats", str(f.tallies), ""))
    return lines


# change
def change_headline(r: ChangeResult) -> str:
    """Whether the device moved with the reference, and what it can show of one client."""
    name, m, f = r.instrument.name, _metric(r.metric), r.found
    k, unit, with_ = m.decimals, m.difference_unit, r.pairs.compared_with
    if f.n == 0 or f.bias is None:
        return f"{name}: no client has two anchors with readings of it; a second scan shows whether it follows change."
    s = f.slope.slope if f.slope is not None else None
    if s is not None and s.interval is not None and s.interval.low > 0:
        head = f"{name} follows change: it shows {number(s.value, 2)} ({span(s.interval, 2)}) of each {unit} of {with_}"
    elif s is not None and s.interval is not None and s.interval.high < 0.5:
        head = f"{name} does not follow change: it shows {number(s.value, 2)} ({span(s.interval, 2)}) of each {unit} of {with_}"
    else:
        head = f"{name}: whether it follows change cannot be said from {count(f.n, 'change')} of {count(f.clients, 'client')}"
    if f.limits is not None and f.clients >= 5:
        head += f"; one client's change is read from {side(f.limits.lower, k)} to {side(f.limits.upper, k)}"
    return f"{head}."


def change_lines(r: ChangeResult) -> list[Line]:
    """Figures of change."""
    f, m = r.found, _metric(r.metric)
    k, unit = m.decimals + 1, m.difference_unit
    signs = f.signs
    share = signs.share
    lines = [
        Line("Changes", str(f.n), f"{count(f.clients, 'client')}"),
        _line(f"Bias of the change ({unit})", f.bias, k, sign=True),
        Line(f"SD of one change ({unit})", number(f.sd, k), ""),
    ]
    if f.limits is not None:
        lines.append(Line(f"Upper limit ({unit})", signed(f.limits.upper, k), span(f.limits.upper_interval, k, sign=True)))
        lines.append(Line(f"Lower limit ({unit})", signed(f.limits.lower, k), span(f.limits.lower_interval, k, sign=True)))
    lines.append(_line("Slope of change on change", f.slope.slope if f.slope else None, 2))
    agree = MISSING if share is None else f"{100 * share.value:.0f} %"
    ends = f"{100 * share.interval.low:.0f} to {100 * share.interval.high:.0f} %" if share is not None and share.interval else ""
    lines.append(Line("Same direction", agree, ends))
    lines.append(Line(f"Within ± {number(f.zone, 1)} {unit}: too small to judge", str(signs.excluded), ""))
    for days, least in r.smallest:
        lines.append(Line(f"Smallest change shown by {count(days, 'day')} each ({unit})", number(least, m.decimals), ""))
    return lines


# water
def water_headline(r: WaterResult) -> str:
    """Whether fat moves with water, and what that means."""
    name = r.instrument.name
    if r.r is None:
        return f"{name}: {count(r.n, 'visit')} with fat and water, too few to see them move together."
    if r.circular:
        return f"{name}: its fat and its water are one number told twice; water cannot correct fat here."
    if r.slope is not None and r.slope.slope.interval is not None:
        s = r.slope.slope
        i = s.interval
        if i is not None and (i.high < 0 or i.low > 0):
            way = "falls" if s.value < 0 else "rises"
            return f"{name}: when a client's water is one point up, its fat {way} by {number(abs(s.value), 2)} pp ({span(i, 2, sign=True)})."
        return f"{name}: its fat is not shown to move with its water ({span(i, 2, sign=True)} pp for a point)."
    return f"{name}: fat and water move together with r {number(r.r.value, 2)} within clients."


def water_lines(r: WaterResult) -> list[Line]:
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
        lines.append(Line("Water over what is not fat", number(r.share[0], 3), f"varies {100 * r.share[1]:.2f} %"))
    return lines
