"""The demo scenario: a coastal rowing squad of 14 clients over 26 weeks.

The tests know its true values.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta

import numpy as np

from ..domain.import_rows import ImportRow
from ..domain.metrics import METRICS
from .device import Device

CLIENTS = (
    "Auk",
    "Brill",
    "Cod",
    "Dory",
    "Eider",
    "Fulmar",
    "Gannet",
    "Hake",
    "Ibis",
    "Knot",
    "Ling",
    "Merle",
    "Narwhal",
    "Orca",
)
WEEKS = 26
SCAN_WEEKS = (0, 12, 24)
NEXT_MORNING_WEEKS = (4, 5, 16, 17, 20, 21)  # clients come on the next day as well
SCAN_SD = 0.4  # error of one scan, as its laboratory states it


@dataclass(frozen=True, slots=True)
class Truth:
    """What the scenario was made with."""

    bias: dict[str, float]
    client_sd: dict[str, float]
    occasion_sd: dict[str, float]
    replicate_sd: dict[str, float]
    dogwood_drift_per_week: float = 0.12
    birch_step: float = -3.2
    birch_step_week: int = 13
    odd_client: str = "Merle"
    odd_offset: float = 6.0
    mistyped_client: str = "Hake"
    mistyped_week: int = 12
    broken_client: str = "Cod"
    broken_week: int = 12


TRUTH = Truth(
    bias={"Alder": 2.1, "Birch": -0.8, "Cedar": -2.4, "Dogwood": 0.5},
    client_sd={"Alder": 1.3, "Birch": 0.9, "Cedar": 2.2, "Dogwood": 1.8},
    occasion_sd={"Alder": 0.8, "Birch": 0.5, "Cedar": 0.9, "Dogwood": 1.2},
    replicate_sd={"Alder": 0.25, "Birch": 0.15, "Cedar": 0.4, "Dogwood": 0.6},
)
# how each device sees fat; Cedar is blind to water
MODELS = {
    "Alder": Device(TRUTH.bias["Alder"], TRUTH.replicate_sd["Alder"], hydration=0.6),
    "Birch": Device(
        TRUTH.bias["Birch"], TRUTH.replicate_sd["Birch"], hydration=0.6, athlete=TRUTH.birch_step
    ),
    "Cedar": Device(TRUTH.bias["Cedar"], TRUTH.replicate_sd["Cedar"], failures=0.12),
    "Dogwood": Device(
        TRUTH.bias["Dogwood"],
        TRUTH.replicate_sd["Dogwood"],
        hydration=0.6,
        drift=TRUTH.dogwood_drift_per_week,
        step=0.5,
    ),
}
# what each device is, and the resolution of body fat that it shows (percent)
DEVICES = {
    "Alder": ("feet", 0.1),
    "Birch": ("eight", 0.1),
    "Cedar": ("hands", 0.1),
    "Dogwood": ("feet", 0.5),
}


UNSPOILED = replace(
    TRUTH, odd_client="", mistyped_client="", broken_client=""
)  # nothing to be found


def first_day(today: date) -> date:
    """Return the Monday of the first visits.

    The last visits are on the Monday before ``today``.
    """
    last = today - timedelta(days=(today.weekday() or 7))
    return last - timedelta(weeks=WEEKS - 1)


def squad_rows(today: date, seed: int = 20260302, truth: Truth = TRUTH) -> tuple[ImportRow, ...]:
    """Draw the whole study as rows; the same seed gives the same values, whatever the day.

    Parameters
    ----------
    today : date
        The study ends in the week before this day.
    seed : int
        Seed of all random numbers.
    truth : Truth
        Which client is odd, which value is mistyped, and who came unprepared.

    Returns
    -------
    tuple of ImportRow
        One row a reading, in the order in which they were taken.
    """
    start = first_day(today)
    rng = np.random.default_rng(seed)
    rows: list[ImportRow] = []
    n = len(CLIENTS)
    male = np.arange(n) % 2 == 0
    age = rng.integers(19, 38, n)
    height = np.where(male, rng.normal(186, 5, n), rng.normal(174, 5, n)).round(1)
    mass0 = np.where(male, rng.normal(84, 6, n), rng.normal(70, 5, n))
    fat0 = np.where(male, rng.normal(15, 3, n), rng.normal(25, 3.5, n))
    change = rng.normal(-2.0, 1.2, n)  # over the 26 weeks
    own = {k: rng.normal(0, s, n) for k, s in TRUTH.client_sd.items()}
    if truth.odd_client:
        own["Alder"][CLIENTS.index(truth.odd_client)] = truth.odd_offset
    water_share = rng.normal(0.732, 0.004, n)

    def row(
        c: int,
        when: str,
        instrument: str,
        kind: str,
        metric: str,
        value: float | None,
        rep: int = 1,
        *,
        setting: str = "",
        status: str = "ok",
        note: str = "",
        conditions: tuple[tuple[str, str], ...] = (),
    ) -> None:
        m = METRICS[metric]
        entered = "" if value is None else f"{value:.{m.decimals}f}"
        rows.append(
            ImportRow(
                len(rows) + 2,
                CLIENTS[c],
                "male" if male[c] else "female",
                float(age[c]),
                float(height[c]),
                when,
                instrument,
                kind,
                setting,
                metric,
                None if value is None else float(entered),
                entered,
                m.unit,
                rep,
                status,
                note,
                conditions,
            )
        )

    def devices(
        draw: np.random.Generator,
        c: int,
        clock: datetime,
        week: int,
        fat: float,
        mass: float,
        wet: float,
        conditions: tuple[tuple[str, str], ...],
    ) -> None:
        """One client steps on every device in turn."""
        birch = "standard" if week < TRUTH.birch_step_week else "athlete"
        for position, device in enumerate(("Alder", "Birch", "Cedar", "Dogwood")):
            when = (clock + timedelta(minutes=4 * position)).isoformat(timespec="minutes")
            day_error = float(own[device][c]) + float(draw.normal(0, TRUTH.occasion_sd[device]))
            setting = birch if device == "Birch" else ""
            for rep in (1, 2, 3):
                if MODELS[device].failures and draw.random() < MODELS[device].failures:
                    row(
                        c,
                        when,
                        device,
                        "device",
                        "body_fat_percent",
                        None,
                        rep,
                        status="failed",
                        note="no value shown",
                        conditions=conditions,
                    )
                    continue
                error = day_error + float(draw.normal(0, MODELS[device].noise))
                reading = MODELS[device].shown(
                    fat, error, wet=wet, week=week, athlete=setting == "athlete"
                )
                if (
                    device == "Alder"
                    and CLIENTS[c] == truth.mistyped_client
                    and week == truth.mistyped_week
                    and rep == 2
                ):
                    reading += 20  # a digit mistyped: 3 for 1
                row(
                    c,
                    when,
                    device,
                    "device",
                    "body_fat_percent",
                    reading,
                    rep,
                    setting=setting,
                    conditions=conditions,
                )
            if device in ("Alder", "Birch"):
                row(
                    c,
                    when,
                    device,
                    "device",
                    "body_mass",
                    mass + float(draw.normal(0, 0.05)),
                    setting=setting,
                )
                row(
                    c,
                    when,
                    device,
                    "device",
                    "total_body_water_percent",
                    float((100 - fat) * water_share[c] + (wet if device == "Birch" else 0.6 * wet)),
                    setting=setting,
                )

    for week in range(WEEKS):
        day = start + timedelta(weeks=week)
        scan = week in SCAN_WEEKS
        for c in range(n):
            if not scan and (week + c) % 2:
                continue  # tallies every second week, always at a scan
            wet = float(rng.normal(0, 0.7))  # water above the usual, in points
            fat = fat0[c] + change[c] * week / WEEKS
            mass = mass0[c] + 0.6 * change[c] * week / WEEKS + 0.3 * wet
            broken = scan and week == truth.broken_week and CLIENTS[c] == truth.broken_client
            if broken:
                wet += 2.5
            clock = datetime.combine(day, datetime.min.time()).replace(
                hour=6, minute=30
            ) + timedelta(minutes=int(rng.integers(0, 40)))
            conditions = (
                ("fasted", "no" if broken else "yes"),
                ("voided", "yes"),
                ("exercise_24h", "yes" if broken else "no"),
            )
            devices(rng, c, clock, week, fat, mass, wet, conditions)
            tape = (clock + timedelta(minutes=20)).isoformat(timespec="minutes")
            waist = height[c] * 20 / (64 + 12 * (not male[c]) - (fat + float(rng.normal(1.0, 2.0))))
            for rep in (1, 2):
                row(
                    c, tape, "Tape", "method", "girth_waist", float(waist + rng.normal(0, 0.4)), rep
                )
            if scan:
                when = (clock + timedelta(minutes=50)).isoformat(timespec="minutes")
                row(
                    c,
                    when,
                    "Lab scan",
                    "reference",
                    "body_fat_percent",
                    float(fat + rng.normal(0, SCAN_SD)),
                    note="whole body",
                )
    # the morning after some visits, with its own random numbers: day-to-day variation
    later = np.random.default_rng([seed, 1])
    for week in NEXT_MORNING_WEEKS:
        day = start + timedelta(weeks=week, days=1)
        for c in range(week % 2, n, 2):
            wet = float(later.normal(0, 0.7))
            clock = datetime.combine(day, datetime.min.time()).replace(hour=6, minute=45)
            devices(
                later,
                c,
                clock + timedelta(minutes=12 * (c // 2)),
                week,
                fat0[c] + change[c] * week / WEEKS,
                mass0[c] + 0.6 * change[c] * week / WEEKS + 0.3 * wet,
                wet,
                (("fasted", "yes"), ("voided", "yes"), ("exercise_24h", "no")),
            )
    return tuple(rows)
