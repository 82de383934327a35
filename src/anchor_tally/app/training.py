"""Training cases: made studies to look through."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

from ..domain.clock import SYSTEM, Clock
from ..scenario.cases import CASE, case_rows
from ..study.edits.imports import ImportReadings
from .demo import PREFIX
from .session import Session


def training_session(key: str, *, clock: Clock = SYSTEM) -> Session:
    """Open a fresh study of a case in a temporary place; it is removed when it is closed.

    Raises KeyError for a case that does not exist.
    """
    case = CASE[key]
    place = Path(tempfile.mkdtemp(prefix=PREFIX))
    session = Session.new(place / f"case-{key}.tally", f"Training case {key}", clock=clock)
    session.do(ImportReadings(case_rows(case), "training case"))
    session.close()
    session = Session.open(place / f"case-{key}.tally", clock=clock)
    session.case = key
    session.closed.append(lambda: shutil.rmtree(place, ignore_errors=True))
    return session
