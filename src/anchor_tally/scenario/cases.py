"""Training cases: drawn studies in which one thing is wrong, or nothing."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..domain.import_rows import ImportRow
from .drawn import DEVICE, SCAN, Truth, draw, rows_of

WATER = "total_body_water_percent"
TWIN = "Second device"
# what can be wrong, in the order of the choices
PROBLEMS = {
    "nothing": "Nothing is wrong",
    "settings": "Two settings are mixed under one name",
    "drift": "The device drifts",
    "response": "The device does not respond to change",
    "odd_client": "One client is unlike the others",
    "digits": "Readings are mistyped",
    "alike": "Two devices are one measurement",
    "circular": "Body water is computed from fat",
    "few": "There are too few scans",
}


@dataclass(frozen=True, slots=True)
class Case:
    """A training case.

    Attributes
    ----------
    key : str
        Its number as a text; it says nothing about the problem.
    problem : str
        A key of ``PROBLEMS``.
    truth : Truth
        What it was drawn with.
    subtract : float or None
        What to subtract from the device's readings, in pp; None where nothing should be.
    tolerance : float
        How far an answer may be off, in pp.
    seed : int
        Seed of its random numbers.
    why : str
        What shows the problem, and where.
    """

    key: str
    problem: str
    truth: Truth
    subtract: float | None
    tolerance: float
    seed: int
    why: str


_BASE = Truth(clients=12, scans=4, repeats=3, client_sd=1.2, day_sd=0.7, repeat_sd=0.3, scan_sd=0.4)
CASES = (
    Case(
        "1",
        "drift",
        replace(_BASE, bias=1.0, drift_per_week=0.11),
        None,
        0.0,
        11,
        "Drift shows a slope that the clients' own change does not explain. One offset does not"
        " hold for all scans: measure again after the battery and the floor are checked.",
    ),
    Case(
        "2",
        "nothing",
        replace(_BASE, bias=2.4, change_per_week=-0.08),
        2.4,
        1.0,
        12,
        "The clients lose fat, and the device shows it: its error stays the same. Drift says"
        " stable, Change says that it responds. Its bias can be subtracted.",
    ),
    Case(
        "3",
        "odd_client",
        replace(_BASE, bias=-1.5),
        -1.5,
        1.2,
        13,
        "Calibrate shows one client's offset far from all others. The client has an offset of"
        " their own; the pooled offset serves the others.",
    ),
    Case(
        "4",
        "settings",
        replace(_BASE, bias=2.0, step=-4.0, step_week=20.0),
        None,
        0.0,
        14,
        "Drift shows a step on one day. The setting was changed and not noted: note it at that day"
        " in Drift, and each setting gets an offset of its own.",
    ),
    Case(
        "5",
        "circular",
        replace(_BASE, bias=1.2),
        1.2,
        1.0,
        15,
        "Hydration and Similar devices show that water is a fixed function of fat. Correcting fat"
        " for that water changes nothing; the bias can still be subtracted.",
    ),
    Case(
        "6",
        "digits",
        replace(_BASE, bias=1.8),
        1.8,
        1.2,
        16,
        "Review names the readings whose digits are swapped: they lie far from their own repeats."
        " Correct or exclude them, then subtract the bias.",
    ),
    Case(
        "7",
        "alike",
        replace(_BASE, bias=2.2, day_sd=1.2, change_sd=0.05),
        2.2,
        1.2,
        17,
        "Similar devices shows that both devices err together, beyond the clients' own course."
        " They are one source and not two.",
    ),
    Case(
        "8",
        "few",
        replace(_BASE, clients=3, scans=1, bias=2.5),
        None,
        0.0,
        18,
        "Three clients with one scan each: the interval of the bias is wider than the bias, and no"
        " client's own offset can be told. Scan again before anything is subtracted.",
    ),
    Case(
        "9",
        "response",
        replace(_BASE, bias=0.5, slope=0.0, change_per_week=-0.1, change_sd=0.25),
        None,
        0.0,
        19,
        "Change shows that the device does not move when the scan does. It cannot follow a client,"
        " whatever is subtracted.",
    ),
)
CASE = {c.key: c for c in CASES}


def case_rows(case: Case) -> tuple[ImportRow, ...]:
    """The rows of a case, in the order of time; settings are not named in them."""
    rng = np.random.default_rng(case.seed)
    d = draw(case.truth, rng)
    rows = [r._replace(setting="") for r in rows_of(d)]
    if case.problem == "odd_client":
        rows = [
            _shifted(r, 8.0) if (r.client, r.instrument) == ("C05", DEVICE) else r for r in rows
        ]
    elif case.problem == "digits":
        device = [k for k, r in enumerate(rows) if r.instrument == DEVICE]
        for k in rng.choice(device, 3, replace=False).tolist():
            rows[k] = _swapped(rows[k])
    elif case.problem == "alike":
        rows += [
            _shifted(r, -1.0 + 0.15 * float(rng.standard_normal()))._replace(instrument=TWIN)
            for r in rows
            if r.instrument == DEVICE
        ]
    elif case.problem == "circular":
        rows += [_water(r) for r in rows if r.instrument == DEVICE]
    rows.sort(key=lambda r: (r.taken_at, r.instrument == SCAN))
    return tuple(r._replace(line=k) for k, r in enumerate(rows, start=2))


def _with(r: ImportRow, value: float) -> ImportRow:
    value = round(min(max(value, 3.0), 65.0), 1)
    return r._replace(value=value, entered=f"{value:.1f}")


def _shifted(r: ImportRow, by: float) -> ImportRow:
    return r if r.value is None else _with(r, r.value + by)


def _swapped(r: ImportRow) -> ImportRow:
    """The first two digits in the wrong order; 21.4 becomes 12.4, and 22.4 becomes 42.4."""
    if r.value is None:
        return r
    tens, ones = divmod(int(r.value), 10)
    other = 10 * ones + tens if ones not in (tens, 0) else int(r.value) + 20
    return _with(r, other + r.value % 1)


def _water(r: ImportRow) -> ImportRow:
    """Body water in percent as a fixed function of the fat shown."""
    if r.value is None:
        return r._replace(metric=WATER)
    value = round(0.732 * (100 - r.value), 1)
    return r._replace(metric=WATER, value=value, entered=f"{value:.1f}")
