"""Long work as a generator: each step yields progress, the last returns the result."""

from __future__ import annotations

from collections.abc import Generator
from typing import Any, TypeVar

T = TypeVar("T")


def finish(steps: Generator[Any, None, T]) -> T:
    """Run a job in line to its end."""
    while True:
        try:
            next(steps)
        except StopIteration as stop:
            return stop.value  # type: ignore[no-any-return]


def scaled(
    steps: Generator[float, None, T], share: float, start: float = 0.0
) -> Generator[float, None, T]:
    """Run a job as a part of another one: its progress goes from ``start`` to start + share."""
    while True:
        try:
            done = next(steps)
        except StopIteration as end:
            return end.value  # type: ignore[no-any-return]
        yield start + share * done
