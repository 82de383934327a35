"""How many clients, scans, mornings and repeats a question needs, and what one more brings."""

from __future__ import annotations

import math
from collections.abc import Callable, Generator, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np

from ...domain.costs import USUAL_COSTS, Costs
from ...domain.lens import Lens
from ...domain.metrics import metric_of
from ...domain.scheme import SPACING_DAYS
from ...domain.snapshot import Snapshot
from ...stats.components import NestedFit
from ...stats.distributions import chi2_quantile, normal_quantile
from ...stats.estimate import Interval, Note, note
from ...stats.planning import (
    QUICK,
    Design,
    Expected,
    Spreads,
    bias_error,
    chance_to_see,
    clients_needed,
    expected,
    mean_of_mornings,
    mornings_to_see,
    power_of_drift,
    power_of_equivalence,
    power_of_group_change,
    power_of_two_groups,
    smallest_real_change,
)
from ..agreement.agreement import CompareRequest
from ..agreement.repeatability import RepeatabilityRequest
from ..ask.question import Asked
from ..pairs.comparator import CannotCompare
from ..pairs.reference_slopes import scan_error
from ..time.study_model import StudyModelRequest

# standard deviations of a consumer scale in percentage points of body fat (common practice)
USUAL = Spreads(client=2.5, scan=0.6, day=1.5, repeat=0.3)
_Z = normal_quantile(0.975)
MOST_TRIED = 60  # clients, scans, mornings or repeats tried to reach a wanted half-width


@dataclass(frozen=True, slots=True)
class Effort:
    """What a design asks for: scans, minutes and money, over all clients."""

    scans: int
    minutes: float
    cost: float


@dataclass(frozen=True, slots=True)
class Option:
    """One way to make a design better.

    Attributes
    ----------
    what : str
        scans, mornings, repeats or clients.
    count : int
        How many more of it (of scans, mornings and repeats: for each client).
    half_width : float or None
        Expected half-width of the wanted interval then, in the metric's unit.
    more : Effort
        What it asks for on top.
    reaches : bool
        Whether the wanted half-width is reached; False where none was wanted.
    window : float or None
        Hours around a scan within which the filters must average mornings for it; None where they
        do already.
    """

    what: str
    count: int
    half_width: float | None
    more: Effort
    reaches: bool
    window: float | None = None


@dataclass(frozen=True, slots=True)
class Source:
    """Where a standard deviation comes from: study, stated or usual; with its interval."""

    origin: str
    interval: Interval | None = None


@dataclass(frozen=True, slots=True)
class Precision:
    """The precision to expect of a design.

    ``interval`` names what is planned for: bias, limits, offset or reading. ``equivalence`` is
    the power to show the bias inside the margin, ``drift`` that to show ``drift_per_week`` with
    scans in ``weeks``, both from 0 to 1; ``real_change`` the smallest real change by mornings.
    ``wanted``, ``margin`` and ``real_change`` are in the unit of the metric's differences,
    ``drift_per_week`` in that unit a week. ``ignored`` are mornings of the design that the filters
    do not count.
    """

    spreads: Spreads
    sources: Mapping[str, Source]
    design: Design
    expected: Expected
    interval: str
    wanted: float | None
    options: tuple[Option, ...]
    effort: Effort
    margin: float | None
    equivalence: float | None
    drift_per_week: float
    drift: float
    real_change: tuple[tuple[int, float], ...]
    ignored: int = 0

    @property
    def half_width(self) -> float | None:
        """The half-width that is planned for."""
        return half_width(self.expected, self.interval)


def half_width(e: Expected, interval: str) -> float | None:
    """One field of the expected half-widths by name."""
    return {"bias": e.bias, "limits": e.limits, "offset": e.offset, "reading": e.reading}[interval]


@dataclass(frozen=True, slots=True)
class StudySpreads:
    """Standard deviations of one instrument in a study, and the design that gave them."""

    asked: Asked | None
    spreads: Spreads
    sources: Mapping[str, Source]
    design: Design | None
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class SpreadsRequest:
    """The standard deviations of an instrument, as far as the study can tell them.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    instrument : str
        Its name.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str

    def run(self) -> Generator[float, None, StudySpreads]:
        """Yield progress; return the spreads, the usual ones where the study has none.

        Raises
        ------
        CannotCompare
            Where the instrument has no pairs with a reference.
        """
        r = yield from CompareRequest(self.snapshot, self.lens, self.instrument).run()
        stated = self.snapshot.catalogue.stated.get((self.lens.metric, "reference_sd"))
        scan = scan_error(r.pairs, stated)
        repeats = (
            yield from RepeatabilityRequest(self.snapshot, self.lens, self.instrument).run()
        )[0].found
        scale = 1.0 if metric_of(self.lens.metric).unit == "percent" else 0.5
        found: dict[str, tuple[float, Source]] = {}
        notes: list[Note] = []
        parts = _parts(r.fit) if r.fit is not None else {}
        if "client" in parts:
            found["client"] = parts["client"]
        if scan.sd > 0:
            known = "study" if scan.known else "usual"
            found["scan"] = scan.sd, Source("stated" if stated is not None else known)
        if repeats.sd is not None:
            found["repeat"] = repeats.sd.value, Source("study", repeats.sd.interval)
        if repeats.day is not None:
            found["day"] = repeats.day.value, Source("study", repeats.day.interval)
        elif "occasion" in parts:
            left = parts["occasion"][0] ** 2 - scan.sd**2
            found["day"] = math.sqrt(max(left, 0.0)), Source("study")
        alike = yield from self._correlation()
        values: dict[str, float] = {"correlation": alike}
        sources: dict[str, Source] = {}
        for name in ("client", "scan", "day", "repeat"):
            usual = getattr(USUAL, name) * scale
            values[name], sources[name] = found.get(name, (usual, Source("usual")))
        if any(s.origin == "usual" for s in sources.values()):
            notes.append(note("usual_spreads"))
        p = r.pairs
        design = None
        if p.n:
            _, taken = np.unique(p.anchors.client[np.unique(p.occasion)], return_counts=True)
            most = int(taken.max())
            kept = p.occasions / (p.clients * most)
            design = Design(p.clients, most, 1, max(1, round(p.n / p.occasions)), kept)
        return StudySpreads(
            r.asked, Spreads(**values), MappingProxyType(sources), design, tuple(notes)
        )

    def _correlation(self) -> Generator[float, None, float]:
        """Correlation of neighbouring mornings of the study's devices; 0 where none is known."""
        try:
            model = yield from StudyModelRequest(self.snapshot, Lens(self.lens.metric)).run()
        except CannotCompare:
            return 0.0
        return model.model.tried[0].correlation


def mornings_counted(lens: Lens) -> int:
    """Mornings around a scan that the filters count: the nearest, or all in the window."""
    return 2 * int(lens.window_hours // 24) + 1 if lens.around else 1


def window_for(mornings: int) -> float:
    """Hours around a scan that hold so many mornings."""
    return 24.0 * math.ceil((mornings - 1) / 2)


def _parts(fit: NestedFit) -> dict[str, tuple[float, Source]]:
    """SDs of the client and the occasion with intervals by Satterthwaite's chi-square."""
    out = {}
    for k, name in ((0, "client"), (1, "occasion")):
        if not fit.separable[k] or fit.counts[0] < 2:
            continue
        value, error = fit.variances[k], float(fit.theta_cov[k, k])
        interval = None
        if value > 0 and error > 0:
            df = 2 * value**2 / error
            interval = Interval(
                math.sqrt(value * df / chi2_quantile(0.975, df)),
                math.sqrt(value * df / max(chi2_quantile(0.025, df), 1e-12)),
            )
        out[name] = math.sqrt(max(value, 0.0)), Source("study", interval)
    return out


def effort(design: Design, costs: Costs) -> Effort:
    """Scans, minutes and money of a design."""
    scans = design.clients * design.scans
    mornings = scans * design.mornings
    minutes = scans * costs.scan_minutes
    minutes += mornings * (costs.morning_minutes + (design.repeats - 1) * costs.repeat_minutes)
    return Effort(scans, minutes, scans * costs.money)


def plan_weeks(scans: int) -> tuple[float, ...]:
    """Weeks of the scans at the usual spacing."""
    return tuple(k * SPACING_DAYS / 7 for k in range(max(scans, 1)))


@dataclass(frozen=True, slots=True)
class PrecisionRequest:
    """The precision of a design, and what more of each thing brings.

    Parameters
    ----------
    spreads : Spreads
        Standard deviations.
    sources : mapping
        Where they come from.
    design : Design
        Clients, scans, mornings, repeats.
    interval : str
        What is planned for: bias, limits, offset or reading.
    wanted : float, optional
        Half-width to reach, in the metric's unit.
    margin : float, optional
        Margin of equivalence.
    drift_per_week : float
        Drift that should be shown.
    costs : Costs
        Minutes and money.
    counted : int
        Mornings around a scan that the filters count, as ``mornings_counted`` gives them.
    """

    spreads: Spreads
    sources: Mapping[str, Source]
    design: Design
    interval: str = "offset"
    wanted: float | None = None
    margin: float | None = None
    drift_per_week: float = 0.1
    costs: Costs = USUAL_COSTS
    counted: int = 1

    def run(self) -> Generator[float, None, Precision]:
        """Yield progress; return the plan."""
        s, planned = self.spreads, self.design
        d = replace(planned, mornings=min(planned.mornings, self.counted))
        now = expected(s, d)
        yield 0.2
        options = []
        for k, (what, more) in enumerate(_MORE.items()):
            options.append(self._option(what, more, half_width(now, self.interval)))
            yield 0.2 + 0.2 * (k + 1)
        se, df = bias_error(s, d) if d.clients > 1 else (0.0, 0)
        return Precision(
            s,
            self.sources,
            planned,
            now,
            self.interval,
            self.wanted,
            tuple(options),
            effort(planned, self.costs),
            self.margin,
            power_of_equivalence(se, df, self.margin) if self.margin and df else None,
            self.drift_per_week,
            power_of_drift(s, d, plan_weeks(d.scans), self.drift_per_week),
            tuple((m, smallest_real_change(s, m, d.repeats, s.correlation)) for m in (1, 3, 7, 14)),
            planned.mornings - d.mornings,
        )

    def _option(
        self, what: str, more: Callable[[Design, int], Design], now: float | None
    ) -> Option:
        """One more of something, or as many as the wanted half-width takes."""

        def width(count: int) -> float | None:
            d = more(self.design, count)
            if what != "mornings":
                d = replace(d, mornings=min(d.mornings, self.counted))
            return half_width(expected(self.spreads, d, self.interval), self.interval)

        step = 7 if what == "mornings" else 1
        count, reached = step, False
        found = width(count)
        if self.wanted is not None and now is not None and now > self.wanted:
            low, high = 0, step  # doubled until it is enough, then halved
            while (found is None or found > self.wanted) and high < MOST_TRIED:
                low, high = high, min(2 * high, MOST_TRIED)
                found = width(high)
            reached = found is not None and found <= self.wanted
            while reached and high - low > 1:
                middle = (low + high) // 2
                w = width(middle)
                if w is not None and w <= self.wanted:
                    high, found = middle, w
                else:
                    low = middle
            count = high if reached else step
            found = found if reached else width(step)
        elif self.wanted is not None and now is not None:
            reached = True
        before, after = (
            effort(self.design, self.costs),
            effort(more(self.design, count), self.costs),
        )
        extra = Effort(
            after.scans - before.scans, after.minutes - before.minutes, after.cost - before.cost
        )
        mornings = self.design.mornings + count if what == "mornings" else 0
        window = window_for(mornings) if mornings > self.counted else None
        return Option(what, count, found, extra, reached, window)


_MORE: dict[str, Callable[[Design, int], Design]] = {
    "scans": lambda d, k: replace(d, scans=d.scans + k),
    "mornings": lambda d, k: replace(d, mornings=d.mornings + k),
    "repeats": lambda d, k: replace(d, repeats=d.repeats + k),
    "clients": lambda d, k: replace(d, clients=d.clients + k),
}


@dataclass(frozen=True, slots=True)
class Curve:
    """Expected half-widths by number of scans, one line for each number of repeats.

    ``lines`` holds (repeats, half-widths); None where a design gives no interval.
    """

    interval: str
    scans: tuple[int, ...]
    lines: tuple[tuple[int, tuple[float | None, ...]], ...]
    design: Design
    wanted: float | None


@dataclass(frozen=True, slots=True)
class CurveRequest:
    """The picture of the planner, quick enough to follow a slider.

    Parameters
    ----------
    spreads : Spreads
        Standard deviations.
    design : Design
        Its clients and mornings are used, and its repeats as one of the lines.
    interval : str
        What is planned for: bias, limits, offset or reading.
    wanted : float, optional
        Half-width to reach.
    """

    spreads: Spreads
    design: Design
    interval: str = "offset"
    wanted: float | None = None

    def run(self) -> Generator[float, None, Curve]:
        """Yield progress; return the curve."""
        scans = tuple(range(1, max(8, self.design.scans + 2) + 1))
        repeats = sorted({1, 3, self.design.repeats})
        lines = []
        for k, repeat in enumerate(repeats):
            widths = []
            for scan in scans:
                plan = replace(self.design, scans=scan, repeats=repeat)
                found = expected(self.spreads, plan, self.interval, QUICK)
                widths.append(half_width(found, self.interval))
            lines.append((repeat, tuple(widths)))
            yield (k + 1) / len(repeats)
        return Curve(self.interval, scans, tuple(lines), self.design, self.wanted)


# SD between clients of a true change in percentage points of body fat (common practice)
CHANGE_SD = 1.0


@dataclass(frozen=True, slots=True)
class GroupPower:
    """Whether a mean change of a group is shown, each client by two 7-day means.

    Attributes
    ----------
    change : float
        True mean change, and true difference of two groups, in the metric's unit.
    clients : int
        Clients of the one group; two groups have half of them each.
    change_sd : float
        SD between clients of their true changes (assumed).
    one, two : float
        Power to show the change of the group, and the difference of two groups.
    needed, needed_each : int or None
        Clients for 80 % of either; None where hundreds are too few.
    """

    change: float
    clients: int
    change_sd: float
    one: float
    two: float
    needed: int | None
    needed_each: int | None


def group_power(
    s: Spreads, change: float, clients: int, repeats: int = 1, change_sd: float = CHANGE_SD
) -> GroupPower:
    """Power to show a mean change of a group, and the clients that it takes.

    Parameters
    ----------
    s : Spreads
        Day, repeat and correlation are used.
    change : float
        True mean change.
    clients, repeats : int
        Clients of the group, and repeats on a morning.
    change_sd : float
        SD between clients of their true changes.
    """
    sd = math.hypot(change_sd, math.sqrt(2) * mean_of_mornings(s, 7, repeats, s.correlation))
    half = clients // 2
    return GroupPower(
        change,
        clients,
        change_sd,
        power_of_group_change(sd, clients, change),
        power_of_two_groups(sd, half, clients - half, change) if half else 0.0,
        clients_needed(lambda n: power_of_group_change(sd, n, change)),
        clients_needed(lambda n: power_of_two_groups(sd, n, n, change)),
    )


@dataclass(frozen=True, slots=True)
class WouldShow:
    """Whether a device could show a planned change of one client.

    Attributes
    ----------
    change, weeks, start : float
        True change in the metric's unit, over so many weeks, and the value at the start.
    single, week : float
        Chance to see it between two mornings, and between two 7-day means (95 % limits).
    wrong_single, wrong_week : float
        Chance that the difference points the wrong way.
    mornings : int or None
        Mornings at each date for a chance of 80 %; None where four weeks of them are too few.
    band_single, band_week : float
        Half-width of the 95 % band of a single morning and of a 7-day mean.
    real_change : float
        Smallest change that two single mornings can show.
    """

    change: float
    weeks: float
    start: float
    single: float
    week: float
    wrong_single: float
    wrong_week: float
    mornings: int | None
    band_single: float
    band_week: float
    real_change: float


def would_show(
    s: Spreads, change: float, weeks: float, start: float, repeats: int = 1
) -> WouldShow:
    """What a device with these spreads would show of a planned change.

    Parameters
    ----------
    s : Spreads
        Day and repeat are used: the device's offset is the same at both dates.
    change, weeks, start : float
        True change, weeks between the dates, and the value at the start.
    repeats : int
        Repeats on a morning.
    """
    one, seven = (mean_of_mornings(s, m, repeats, s.correlation) for m in (1, 7))
    single, wrong_single = chance_to_see(change, math.sqrt(2) * one)
    week, wrong_week = chance_to_see(change, math.sqrt(2) * seven)
    return WouldShow(
        change,
        weeks,
        start,
        single,
        week,
        wrong_single,
        wrong_week,
        mornings_to_see(change, s, repeats, s.correlation),
        _Z * one,
        _Z * seven,
        smallest_real_change(s, 1, repeats, s.correlation),
    )
