"""Training cases: made studies to look through."""

from __future__ import annotations

import shutil

import numpy as np

from ..domain.clock import SYSTEM, Clock
from ..domain.import_rows import ImportRow
from ..domain.temporary import own_folder
from ..scenario.cases import CASE, case_rows
from ..scenario.drawn import Truth, draw, rows_of
from ..study.edits.imports import ImportReadings
from ..wording.training import DRAWN, truth_words
from .session import Session


def drawn_session(truth: Truth, seed: int, *, clock: Clock = SYSTEM) -> Session:
    """Open one drawn study in a temporary place, to practise on.

    It is removed when it is closed.
    """
    d = draw(truth, np.random.default_rng(seed))
    session = _temporary("drawn-study", "Drawn study", rows_of(d), clock)
    session.case = f"{DRAWN}{truth_words(truth)}"
    return session


def _temporary(name: str, title: str, rows: tuple[ImportRow, ...], clock: Clock) -> Session:
    place = own_folder("demo")
    session = Session.new(place / f"{name}.tally", title, clock=clock)
    session.do(ImportReadings(rows, "made"))
    session.close()
    session = Session.open(place / f"{name}.tally", clock=clock)
    session.closed.append(lambda: shutil.rmtree(place, ignore_errors=True))
    return session


def training_session(key: str, *, clock: Clock = SYSTEM) -> Session:
    """Open a fresh study of a case in a temporary place; it is removed when it is closed.

    Raises KeyError for a case that does not exist.
    """
    session = _temporary(f"case-{key}", f"Training case {key}", case_rows(CASE[key]), clock)
    session.case = key
    return session
