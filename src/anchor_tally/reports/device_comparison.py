"""The devices of a study: what they read beside the scan, and what they cannot show."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from ..analysis.offsets.device_comparison import DeviceComparison, DeviceSummary, MetricDifference
from ..domain.free_text import FreeText
from ..domain.metrics import metric_of
from ..stats.estimate import Estimate
from ..wording.names import axis_name
from ..wording.numbers import MISSING, count, day_words, number, signed, span
from .document import Block, Document, Paragraph, Section, TableBlock

A_TABLE = 4  # devices beside each other in one table
_VALUE = re.compile(r"\d+(?:[.,]\d+)?")


def hand_words(days: Sequence[tuple[str, str]], unit: str) -> str:
    """Sentence on a level that was set by hand; "" where it was not.

    Parameters
    ----------
    days : sequence of (str, str)
        Day of each setting, and the text noted with it; of the text only the number is told.
    unit : str
        Unit of the number.
    """
    if not days:
        return ""
    day, note = days[-1]
    told = _VALUE.search(note)
    value = f" to {told[0].replace(',', '.')} {unit}" if told else ""
    return f"Set by hand{value} on {day_words(day)}: its level is what it was set to."


def device_comparison(
    r: DeviceComparison, free: FreeText, made_on: str, paper: str = "A4"
) -> Document:
    """Make the document; codes of clients stand nowhere in it."""
    m = metric_of(r.metric)
    blocks: list[Block] = [
        Paragraph(
            f"Difference of each device from {r.reference} (device − scan), mean of"
            f" {count(r.clients, 'client')} and {count(r.scans, 'scan')}.",
            "lead",
        )
    ]
    if r.clients == 1:
        few = "one scan" if r.scans == 1 else count(r.scans, "scan")
        blocks.append(Paragraph(f"One person, {few}: not for others.", "caution"))
    parts = [r.devices[k : k + A_TABLE] for k in range(0, len(r.devices), A_TABLE)]
    for devices in parts:
        blocks.append(_differences(r, devices))
    spread: list[Block] = [
        _properties(devices, m.name, m.difference_unit, free) for devices in parts
    ]
    for d in r.devices:
        told = hand_words(d.set_by_hand, m.symbol)
        if told:
            spread.append(Paragraph(f"{d.instrument.name}: {told}"))
        if d.circular:
            spread.append(
                Paragraph(
                    f"{d.instrument.name}: body fat and body water come from one measurement, so"
                    " one cannot correct the other.",
                    "note",
                )
            )
    cannot = [
        f"{d.instrument.name} does not show: "
        + ", ".join(metric_of(x).name for x in d.missing)
        + "."
        for d in r.devices
        if d.missing
    ]
    return Document(
        "Comparison of devices",
        (f"Made on {day_words(made_on)}",),
        (
            Section("differences", "Difference from the scan", tuple(blocks)),
            Section("properties", "Spread, failures and practical matters", tuple(spread)),
            Section(
                "limits",
                "What this page cannot show",
                (
                    *(Paragraph(x) for x in cannot),
                    Paragraph(
                        "A mean difference is not the error for one person: see the limits of"
                        " agreement. Differences include the error of the scan."
                    ),
                    Paragraph(
                        "A small variation from day to day does not show that a device responds to"
                        " change: a device that always shows the same value varies least."
                    ),
                ),
            ),
        ),
        paper,
        contents=False,
    )


def _differences(r: DeviceComparison, devices: Sequence[DeviceSummary]) -> TableBlock:
    return TableBlock(
        "Mean difference and its 95 % confidence interval",
        ("Metric", *(axis_name(d.instrument.name) for d in devices)),
        tuple(
            (_metric_head(metric), *(_difference(d.of(metric)) for d in devices))
            for metric in r.metrics
        ),
    )


def _metric_head(metric: str) -> str:
    m = metric_of(metric)
    return f"{m.label} ({m.difference_unit})" if m.difference_unit != "1" else m.label


def _difference(x: MetricDifference | None) -> str:
    if x is None:
        return MISSING
    k = metric_of(x.metric).decimals
    if x.single is not None:
        return f"{signed(x.single, k)} (one pair)"
    if x.bias is None:
        return MISSING
    interval = "" if x.bias.interval is None else f" ({span(x.bias.interval, k, sign=True)})"
    return f"{signed(x.bias.value, k)}{interval}"


def _properties(
    devices: Sequence[DeviceSummary], label: str, unit: str, free: FreeText
) -> TableBlock:
    def row(head: str, cell: Callable[[DeviceSummary], str]) -> tuple[str, ...]:
        return (head, *(cell(d) for d in devices))

    exports = {True: "yes", False: "no", None: "not stated"}
    return TableBlock(
        f"Spread of {label}, failed readings, price, export and setting",
        ("What", *(axis_name(d.instrument.name) for d in devices)),
        (
            row(f"SD of repeats, minutes apart ({unit})", lambda d: _spread(d.repeat)),
            row(f"SD from day to day ({unit})", lambda d: _spread(d.day)),
            row("pp of fat for 1 pp more body water", lambda d: _spread(d.water, sign=True)),
            row("Failed readings", lambda d: f"{d.failed:,} of {d.readings:,}"),
            row("Price", lambda d: d.instrument.price or "not stated"),
            row("Exports data", lambda d: exports[d.instrument.exports_data]),
            row(
                "Setting",
                lambda d: ", ".join(free.setting(s) for s in d.settings if s) or "not stated",
            ),
        ),
    )


def _spread(e: Estimate | None, *, sign: bool = False) -> str:
    if e is None:
        return MISSING
    value = signed(e.value, 2) if sign else number(e.value, 2)
    return value if e.interval is None else f"{value} ({span(e.interval, 2, sign=sign)})"
