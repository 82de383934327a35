"""What a result answers: the content of the study and the lens that was used."""

from __future__ import annotations

from dataclasses import dataclass

from ...domain.lens import Lens


@dataclass(frozen=True, slots=True)
class Asked:
    """The question of a result.

    Two equal ones have the same answer; an action on a result waits while they differ.
    """

    revision: int
    lens: Lens
