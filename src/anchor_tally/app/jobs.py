"""Long work as data: slices of work on the study, and computations on the worker."""

from __future__ import annotations

from collections.abc import Callable, Generator
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Job:
    """One piece of long work. ``words`` say what runs.

    ``here`` makes a generator that needs the study's connection: it runs between the events of
    the window. ``away`` (if any) takes what that returned and computes on the worker, from
    frozen things only. Each yield is progress and a place to stop; closing a generator takes
    back what it has done. A share is a float, anything else is for the one who asked. What is
    ``background`` goes on when nobody waits for something else.
    """

    words: str
    here: Callable[[], Generator[Any, None, Any]]
    away: Callable[[Any], Generator[Any, None, Any]] | None = None
    background: bool = False
