"""The commands repeatability, change, hydration and drift: one request, its JSON or its lines."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..analysis.agreement.change import ChangeRequest
from ..analysis.agreement.hydration import FAT, WATER, HydrationRequest
from ..analysis.agreement.repeatability import RepeatabilityRequest
from ..analysis.time.drift import DriftRequest
from ..app.session import Session
from ..domain.lens import Lens
from ..domain.snapshot import Snapshot
from ..exchange.drift_json import drift_json
from ..exchange.views_json import change_json, hydration_json, repeatability_json
from ..wording import drift, views
from ..wording.statistics import Line


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked of: the study, its lens, the instrument, the SD of a scan as stated in the call, and what stands around the readings."""

    snapshot: Snapshot
    lens: Lens
    instrument: str
    reference_sd: float | None
    session: Session


@dataclass(frozen=True, slots=True)
class View:
    """One command: its help, what it asks, the metrics it needs beside the lens', and how it is told."""

    help: str
    ask: Callable[[Question], Any]
    as_json: Callable[[Any], dict[str, Any]]
    headline: Callable[[Any], str]
    lines: Callable[[Any], list[Line]]
    metrics: tuple[str, ...] = ()


VIEWS = {
    "repeatability": View(
        "how repeats of one instrument differ, minutes apart and days apart",
        lambda q: RepeatabilityRequest(q.snapshot, q.lens, q.instrument).run(),
        repeatability_json,
        views.repeatability_headline,
        views.repeatability_lines,
    ),
    "change": View(
        "whether an instrument follows change between two scans",
        lambda q: ChangeRequest(q.snapshot, q.lens, q.instrument, q.reference_sd).run(),
        change_json,
        views.change_headline,
        views.change_lines,
    ),
    "hydration": View(
        "whether fat moves with water within clients, and whether both are one number",
        lambda q: HydrationRequest(q.snapshot, q.lens, q.instrument).run(),
        hydration_json,
        views.hydration_headline,
        views.hydration_lines,
        (FAT, WATER),
    ),
    "drift": View(
        "whether the error of an instrument has moved: slope, steps, and what more would tell",
        lambda q: DriftRequest(q.snapshot, q.lens, q.instrument, q.session.events(), tuple(q.session.check_weights())).run(),
        drift_json,
        drift.drift_headline,
        drift.drift_lines,
    ),
}


def tell(face: View, result: Any, *, as_json: bool) -> None:
    """Print a result."""
    if as_json:
        print(json.dumps(face.as_json(result), indent=1, ensure_ascii=False, allow_nan=False))
        return
    print(face.headline(result))
    for line in face.lines(result):
        print(f"{line.name:48} {line.value:>8}  {line.interval}")
    for text in views.notes_words(result.notes).splitlines():
        print(f"· {text}")
