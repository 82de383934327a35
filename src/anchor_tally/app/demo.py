"""The demo study: a fresh copy in a temporary place, so that it can be spoiled."""

from __future__ import annotations

import hashlib
import logging
import shutil
import tempfile
from importlib import resources
from pathlib import Path

import platformdirs

from ..study.open_file import migrations
from .session import Session

TITLE = "Coastal rowing squad (demo)"
log = logging.getLogger("anchor_tally")


def demo_session(folder: Path | None = None) -> Session:
    """Open a fresh copy of the demo study in ``folder`` (default: a new temporary one)."""
    place = folder or Path(tempfile.mkdtemp(prefix="anchor-tally-demo-"))
    path = place / "rowing-squad.tally"
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
    return Session.open(path)


def _kept() -> Path:
    """Where the drawn study is kept between starts; its name changes with the scenario and the schema."""
    package = resources.files("anchor_tally")
    made_by = (package / "scenario" / "squad.py").read_bytes() + (package / "app" / "demo.py").read_bytes()
    mark = hashlib.sha256(made_by + "".join(migrations()).encode()).hexdigest()[:12]
    return Path(platformdirs.user_cache_dir("anchor-tally")) / f"demo-{mark}.tally"


def _make(path: Path) -> None:
    from ..scenario.squad import DEVICES, squad_rows
    from ..study.cards import ChangeRow, PutPair, SetOrder
    from ..study.commands import ImportReadings

    session = Session.new(path, TITLE)
    session.do(ImportReadings(squad_rows(), "demo scenario"))
    numbers = {i.name: i.id for i in session.snapshot().instruments.values()}
    session.do(
        SetOrder((*(numbers[name] for name in DEVICES), *(n for name, n in numbers.items() if n > 0 and name not in DEVICES)))
    )
    for name, (electrodes, resolution) in DEVICES.items():
        session.do(ChangeRow("instrument", numbers[name], (("electrodes", electrodes),)))
        keys = (("instrument", numbers[name]), ("metric", "body_fat_percent"))
        session.do(PutPair("instrument_metric", keys, "resolution", resolution))
    session.close()
