"""The demo study: a fresh copy in a temporary place, so that it can be spoiled."""

from __future__ import annotations

import tempfile
from pathlib import Path

from ..scenario.squad import squad_rows
from ..study.commands import ImportReadings
from .session import Session


def demo_session(folder: Path | None = None) -> Session:
    """Create the demo study in ``folder`` (default: a new temporary one) and open it."""
    place = folder or Path(tempfile.mkdtemp(prefix="anchor-tally-demo-"))
    path = place / "rowing-squad.tally"
    session = Session.new(path, "Coastal rowing squad (demo)")
    session.do(ImportReadings(squad_rows(), "demo scenario"))
    session.forget_history()
    return session
