"""Rows of the bench: which exist, which readings belong to them, what is hidden from a client."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from statistics import median
from types import MappingProxyType

from ...domain.catalogue import Catalogue
from ...domain.metrics import metric_named, region_of, tells_fat
from ...domain.records import Instrument, Reading
from ...domain.repeats import Rule
from ...domain.stations import STATIONS, base_of, has_side

MOST_ROWS = 24  # rows shown at once; further instruments are one choice away
ANY_THREE = Rule()
_AT_STATIONS = frozenset(m for s in STATIONS for m in s.metrics)
GridRow = tuple[str, str, str]  # instrument, kind, metric


@dataclass(frozen=True, slots=True)
class EntryRow:
    """One row: an instrument and its metric, the rule for its repeats, and the order of cells.

    ``setting`` is that of all readings of the row (None: the one in force); ``unit`` is that of
    a number typed without one.
    """

    instrument: str
    kind: str
    metric: str
    rule: Rule = ANY_THREE
    walk: str = "down"
    setting: str | None = None
    unit: str = ""

    @property
    def cells(self) -> int:
        """Cells shown: the planned repeats, and room for one more that is asked for."""
        return cells_of(self.rule)

    def owns(self, r: Reading) -> bool:
        """Whether a reading belongs to this row.

        A site counts with any landmark; a site in the middle of the body with any side.
        """
        if (r.instrument, r.metric) != (self.instrument, self.metric):
            return False
        if self.setting is None or not has_side(self.metric):
            return True
        if self.kind == "device":
            return r.setting == self.setting
        return base_of(r.setting) == base_of(self.setting)

    def on_other_side(self, r: Reading) -> bool:
        """Whether a reading is of the same site on the other side of the body."""
        if (
            (r.instrument, r.metric) != (self.instrument, self.metric)
            or self.setting is None
            or self.kind == "device"
        ):
            return False
        own, other = base_of(self.setting), base_of(r.setting)
        swapped = own.replace("right", "*").replace("left", "right").replace("*", "left")
        return swapped != own and other == swapped


def cells_of(rule: Rule) -> int:
    """Number of cells for repeats under a rule.

    The planned ones, and one more where the rule for agreement may ask for it.
    """
    return max(rule.repeats, 3 if rule.counts == "agree" and rule.repeats > 1 else 2)


@dataclass(frozen=True, slots=True)
class LastVisit:
    """What a client had at the visit before: ok readings, and the body mass (kg)."""

    readings: tuple[Reading, ...] = ()

    def of(self, plan: EntryRow) -> float | None:
        """The median of a row's readings then."""
        values = [r.value for r in self.readings if r.value is not None and plan.owns(r)]
        return median(values) if values else None

    @property
    def mass(self) -> float | None:
        """Body mass then, the median of all scales."""
        values = [r.value for r in self.readings if r.metric == "body_mass" and r.value is not None]
        return median(values) if values else None


def may_be_said(metric: str) -> bool:
    """Whether a computed value may be shown to a client who is shown no fat number.

    Sums of skinfolds and ratios of girths may.
    """
    return metric.startswith(("sum_skinfolds", "waist_"))


def device_rows(
    catalogue: Catalogue,
    read: Iterable[GridRow],
    added: Iterable[GridRow],
    here: Iterable[Reading] = (),
    *,
    also: Mapping[str, Sequence[str]] = MappingProxyType({}),
    day: str = "",
    client: str = "",
    without_fat: bool = False,
    order: Sequence[str] = (),
) -> tuple[tuple[EntryRow, ...], int]:
    """Rows of the devices.

    What was read or is sent by a device, what has no station, and what was just added.

    An instrument that was read under several settings in this visit, or is about to be (``also``
    names further settings), has a row for each. At most MOST_ROWS are given, those read in this
    visit and just added first; the second value counts the others. ``order`` names the devices
    in the order of this visit, where it is not that of the study.
    """
    named = {i.name: i for i in catalogue.instruments.values() if i.id > 0}
    here = list(here)
    there = [
        x
        for x in read
        if x[1] == "device" or (x[2] not in _AT_STATIONS and region_of(x[2])[1] == "total")
    ]
    for number, metrics in catalogue.offers.items():
        i = catalogue.instruments.get(number)
        there += [(i.name, i.kind, m) for m in metrics if i and i.kind == "device"]
    added = list(added)
    used = {(r.instrument, r.kind, r.metric) for r in here}
    entry_rows = [
        x
        for x in dict.fromkeys((*there, *added))
        if metric_named(x[2]) and not (without_fat and tells_fat(x[2]))
    ]

    turn = {name: k - len(order) for k, name in enumerate(order)}  # before all others

    def place(x: GridRow) -> tuple[bool, int, int, int]:
        """Position of a row: by instrument, then in the order of its display.

        A new reading moves no row.
        """
        i = named.get(x[0])
        if i is None:
            return True, 10**6, 10**6, 0
        shown = list(catalogue.offers.get(i.id, ()))
        return (
            i.kind == "reference",
            turn.get(i.name, i.position),
            i.id,
            shown.index(x[2]) if x[2] in shown else len(shown),
        )

    entry_rows.sort(key=place)
    wanted = set(sorted(entry_rows, key=lambda x: x not in used and x not in added)[:MOST_ROWS])
    shown = [x for x in entry_rows if x in wanted]
    settings = {
        x[0]: _settings_here(catalogue, x[0], here, also.get(x[0], ()), day, client) for x in shown
    }
    plans = []
    for name in dict.fromkeys(x[0] for x in shown):
        for setting in settings[name]:
            plans += [_plan(x, named.get(name), setting) for x in shown if x[0] == name]
    return tuple(plans), len(entry_rows) - len(shown)


def _settings_here(
    catalogue: Catalogue,
    name: str,
    here: Sequence[Reading],
    also: Sequence[str],
    day: str,
    client: str,
) -> tuple[str | None, ...]:
    """The settings that an instrument has rows for; one None when there is only one."""
    used = dict.fromkeys(r.setting for r in here if r.instrument == name)
    if also and not used:
        used = dict.fromkeys([catalogue.setting_in_force(name, day, client)])
    found = tuple(dict.fromkeys((*used, *also)))
    return found if len(found) > 1 else (None,)


def _plan(entry_row: GridRow, item: Instrument | None, setting: str | None) -> EntryRow:
    if item is None:
        return EntryRow(*entry_row, setting=setting)
    rule = Rule(1) if item.kind == "reference" else Rule(item.repeats, item.counts)
    return EntryRow(*entry_row, rule, item.walk, setting)
