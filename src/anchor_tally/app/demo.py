"""The demo study: a fresh copy in a temporary place, so that it can be spoiled."""

from __future__ import annotations

import hashlib
import logging
import os
import shutil
from dataclasses import replace
from datetime import date, timedelta
from importlib import resources
from pathlib import Path

import platformdirs

from ..domain.clock import SYSTEM, Clock
from ..domain.events import Event
from ..domain.instants import system_zone
from ..domain.scheme import DEVICES as SCHEME_DEVICES
from ..domain.scheme import SCAN, SPACING_DAYS, SchemeRule
from ..domain.temporary import own_folder, sweep_folders
from ..study.edits.checks import StateValue
from ..study.edits.events import AddEvent
from ..study.edits.imports import ImportReadings
from ..study.edits.instruments import OfferMetric, OrderInstruments, PutInstrument
from ..study.edits.scheme import AddRules
from ..study.open_file import migrations
from .session import Session

NAME = "rowing-squad.tally"
TITLE = "Coastal rowing squad (demo)"
log = logging.getLogger("anchor_tally")


def demo_session(folder: Path | None = None, *, clock: Clock = SYSTEM) -> Session:
    """Open a fresh copy of the demo study, which ends in the week before today.

    Parameters
    ----------
    folder : Path, optional
        Where the copy goes. By default a new temporary folder, which is removed when the study is
        closed.
    clock : Clock
        Tells which day is today.

    Returns
    -------
    Session
        The open study.
    """
    place, today = folder, clock.today()
    if place is None:
        sweep_folders()
        place = own_folder("demo")
    path = place / NAME
    kept = _kept(today)
    if not kept.exists():
        _make(path, today)
        try:
            kept.parent.mkdir(parents=True, exist_ok=True)
            part = kept.with_suffix(f".{os.getpid()}.part")  # two programs may draw it at once
            shutil.copy(path, part)
            part.replace(kept)
            _drop_old(kept)
        except OSError as error:
            log.info("the demo study is drawn anew each time: %s", error)
    elif not _copied(kept, path):
        _make(path, today)
    session = Session.open(path, clock=clock)
    if folder is None:
        session.closed.append(lambda: shutil.rmtree(place, ignore_errors=True))
    return session


def _copied(kept: Path, path: Path) -> bool:
    """Copy the kept study; False where another version of the program has removed it just now."""
    try:
        shutil.copy(kept, path)
    except FileNotFoundError:
        return False
    return True


def _kept(today: date) -> Path:
    """Return where the drawn study is kept between starts.

    Its name changes with the scenario, the schema, the zone and the first day.
    """
    from ..scenario.squad import first_day

    package = resources.files("anchor_tally")
    parts = ("scenario/device.py", "scenario/squad.py", "app/demo.py")
    made_by = b"".join((package / part).read_bytes() for part in parts)
    mark = hashlib.sha256(made_by + "".join((*migrations(), system_zone())).encode()).hexdigest()[
        :12
    ]
    return (
        Path(platformdirs.user_cache_dir("anchor-tally")) / f"demo-{mark}-{first_day(today)}.tally"
    )


def _drop_old(kept: Path) -> None:
    """Remove demo studies of earlier weeks and versions, except the newest three.

    Several versions of the program may be in use.
    """
    drawn = sorted(kept.parent.glob("demo-*.tally"), key=lambda p: p.stat().st_mtime, reverse=True)
    for old in drawn[3:]:
        old.unlink(missing_ok=True)
    for part in kept.parent.glob("demo-*.part"):
        owner = part.name.split(".")[-2]
        if not Path(f"/proc/{owner}").exists():
            part.unlink(missing_ok=True)


def _make(path: Path, today: date) -> None:
    from ..scenario.squad import DEVICES, SCAN_SD, first_day, squad_rows

    session = Session.new(path, TITLE)
    session.do(ImportReadings(squad_rows(today), "demo scenario"))
    items = {i.name: i for i in session.catalogue().instruments.values()}
    session.do(
        OrderInstruments(
            (
                *(items[name].id for name in DEVICES),
                *(i.id for n, i in items.items() if n not in DEVICES),
            )
        )
    )
    for name, (electrodes, resolution) in DEVICES.items():
        item = next(i for i in session.catalogue().instruments.values() if i.name == name)
        session.do(PutInstrument(replace(item, electrodes=electrodes)))
        session.do(OfferMetric(item.id, "body_fat_percent", resolution))
    session.do(StateValue("body_fat_percent", "reference_sd", SCAN_SD))
    start = first_day(today)
    session.do(
        AddRules(
            (
                SchemeRule(0, None, SCAN, "every", (SPACING_DAYS,), start.isoformat()),
                SchemeRule(0, None, SCHEME_DEVICES, "every", (14,), start.isoformat()),
                SchemeRule(0, None, "girths", "every", (14,), start.isoformat()),
            )
        )
    )
    away, client = start + timedelta(weeks=28), session.catalogue().client_coded("Dory")
    if client is not None:
        end = (away + timedelta(days=12)).isoformat()
        session.do(AddEvent(Event(0, client.id, None, away.isoformat(), end, "travel", "")))
    race = start + timedelta(weeks=31)
    end = (race + timedelta(days=6)).isoformat()
    session.do(AddEvent(Event(0, None, None, race.isoformat(), end, "race", "crossing")))
    session.close()
