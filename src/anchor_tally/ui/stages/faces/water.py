"""Water: fat against water within clients."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from datetime import date
from typing import Any

from ....analysis.water import FAT, WATER, WaterRequest, WaterResult, no_challenge
from ....domain.lens import Lens
from ....domain.snapshot import Snapshot
from ....figures import faces as figures
from ....wording import faces as words
from ....wording.statistics import Line
from ...pages import EvidenceFor
from .face import FacePage


class WaterPage(FacePage):
    """Does fat only follow water?"""

    key, owner, figure_name = "water", "water", "Fat against water within clients"
    words = "Looking at water"
    missing = "It needs a device that shows body fat and body water in percent, on several days of a client."

    def metrics(self) -> tuple[str, ...]:
        return (FAT, WATER)

    def request(self, snapshot: Snapshot, lens: Lens) -> Generator[Any, None, Any]:
        return WaterRequest(snapshot, lens).run()

    def say(self, result: WaterResult) -> str:
        return words.water_headline(result)

    def lines(self, result: WaterResult) -> Sequence[Line]:
        return words.water_lines(result)

    def notes_of(self, result: WaterResult) -> str:
        return words.notes_words(result.notes)

    def paint(self) -> None:
        super().paint()
        if self.results:
            clients = self.session.catalogue().clients.values()
            self.under.setText(words.challenge_words(no_challenge(clients, date.today().isoformat())))

    def draw(self, axes: Any, family: str) -> None:
        figures.draw_water(axes, figures.water(self.results[self.chosen]), self.mark(), self.colours, family, self.point)

    def clicked(self, event: Any) -> None:
        info = figures.water(self.results[self.chosen])
        found = self.nearest(event, info.water, info.fat)
        if found is not None:
            self.choose_point(found)

    def open_point(self) -> EvidenceFor | None:
        r = self.results[self.chosen]
        if self.point is None:
            return None
        visit = int(figures.water(r).visit[self.point])
        own = [x.id for x in self.session.readings(visit=visit) if x.instrument == r.instrument.name and x.metric in (FAT, WATER)]
        return EvidenceFor(f"{r.instrument.name}: fat and water of one visit", readings=tuple(own))
