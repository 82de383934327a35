"""The commands repeatability, change, hydration and drift: one request, its JSON or its lines."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..analysis.change import ChangeRequest
from ..analysis.drift import DriftRequest
from ..analysis.repeat import RepeatRequest
from ..analysis.water import FAT, WATER, WaterRequest
from ..app.session import Session
from ..domain.lens import Lens
from ..domain.snapshot import Snapshot
from ..exchange.drift_json import drift_json
from ..exchange.faces_json import change_json, hydration_json, repeatability_json
from ..wording import drift, faces
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
class Face:
    """One command: its help, what it asks, the metrics it needs beside the lens', and how it is told."""

    help: str
    ask: Callable[[Question], Any]
    as_json: Callable[[Any], dict[str, Any]]
    headline: Callable[[Any], str]
    lines: Callable[[Any], list[Line]]
    metrics: tuple[str, ...] = ()


FACES = {
    "repeatability": Face(
        "how repeats of one instrument differ, minutes apart and days apart",
        lambda q: RepeatRequest(q.snapshot, q.lens, q.instrument).run(),
        repeatability_json,
        faces.repeat_headline,
        faces.repeat_lines,
    ),
    "change": Face(
        "whether an instrument follows change between two scans",
        lambda q: ChangeRequest(q.snapshot, q.lens, q.instrument, q.reference_sd).run(),
        change_json,
        faces.change_headline,
        faces.change_lines,
    ),
    "hydration": Face(
        "whether fat moves with water within clients, and whether both are one number",
        lambda q: WaterRequest(q.snapshot, q.lens, q.instrument).run(),
        hydration_json,
        faces.water_headline,
        faces.water_lines,
        (FAT, WATER),
    ),
    "drift": Face(
        "whether the error of an instrument has moved: slope, steps, and what more would tell",
        lambda q: DriftRequest(q.snapshot, q.lens, q.instrument, q.session.events(), tuple(q.session.check_weights())).run(),
        drift_json,
        drift.drift_headline,
        drift.drift_lines,
    ),
}


def tell(face: Face, result: Any, *, as_json: bool) -> None:
    """Print a result."""
    if as_json:
        print(json.dumps(face.as_json(result), indent=1, ensure_ascii=False, allow_nan=False))
        return
    print(face.headline(result))
    for line in face.lines(result):
        print(f"{line.name:48} {line.value:>8}  {line.interval}")
    for text in faces.notes_words(result.notes).splitlines():
        print(f"· {text}")
