"""The demo study: a fresh copy in a temporary place, so that it can be spoiled."""

from __future__ import annotations

import hashlib
import logging
import os
import shutil
import tempfile
from dataclasses import replace
from importlib import resources
from pathlib import Path

import platformdirs

from ..study.edits.checks import StateValue
from ..study.edits.imports import ImportReadings
from ..study.edits.instruments import OfferMetric, OrderInstruments, PutInstrument
from ..study.one_writer import OneWriter
from ..study.open_file import migrations
from .session import Session

NAME = "rowing-squad.tally"
_PREFIX = "anchor-tally-demo-"
TITLE = "Coastal rowing squad (demo)"
log = logging.getLogger("anchor_tally")


def demo_session(folder: Path | None = None) -> Session:
    """Open a fresh copy of the demo study in ``folder`` (default: a new temporary one, which goes when the study is closed)."""
    place = folder
    if place is None:
        _sweep()
        place = Path(tempfile.mkdtemp(prefix=_PREFIX))
    path = place / NAME
    kept = _kept()
    if not kept.exists():
        _make(path)
        try:
            kept.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(path, kept.with_suffix(".part"))
            kept.with_suffix(".part").replace(kept)
        except OSError as error:
            log.info("the demo study is drawn anew each time: %s", error)
    else:
        shutil.copy(kept, path)
    session = Session.open(path)
    if folder is None:
        session.closed.append(lambda: shutil.rmtree(place, ignore_errors=True))
    return session


def _sweep() -> None:
    """Take away demo folders that a killed process has left: nobody holds the study in them."""
    for left in Path(tempfile.gettempdir()).glob(f"{_PREFIX}*"):
        study = left / NAME
        if left.is_symlink() or left.stat().st_uid != os.getuid() or not study.exists():
            continue
        writer = OneWriter.of(study)
        if writer is not None:
            writer.release()
            shutil.rmtree(left, ignore_errors=True)


def _kept() -> Path:
    """Where the drawn study is kept between starts; its name changes with the scenario and the schema."""
    package = resources.files("anchor_tally")
    parts = ("scenario/device.py", "scenario/squad.py", "app/demo.py")
    made_by = b"".join((package / part).read_bytes() for part in parts)
    mark = hashlib.sha256(made_by + "".join(migrations()).encode()).hexdigest()[:12]
    return Path(platformdirs.user_cache_dir("anchor-tally")) / f"demo-{mark}.tally"


def _make(path: Path) -> None:
    from ..scenario.squad import DEVICES, SCAN_SD, squad_rows

    session = Session.new(path, TITLE)
    session.do(ImportReadings(squad_rows(), "demo scenario"))
    items = {i.name: i for i in session.catalogue().instruments.values()}
    session.do(OrderInstruments((*(items[name].id for name in DEVICES), *(i.id for n, i in items.items() if n not in DEVICES))))
    for name, (electrodes, resolution) in DEVICES.items():
        item = next(i for i in session.catalogue().instruments.values() if i.name == name)
        session.do(PutInstrument(replace(item, electrodes=electrodes)))
        session.do(OfferMetric(item.id, "body_fat_percent", resolution))
    session.do(StateValue("body_fat_percent", "reference_sd", SCAN_SD))
    session.close()
