"""Water: fat against water within clients."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QWidget

from ....analysis.agreement.hydration import FAT, WATER, HydrationResult, unfit_for_hydration_test
from ....analysis.agreement.hydration_test import MASS, HydrationTestRequest
from ....app.jobs import Job
from ....domain.records import Instrument
from ....domain.text import as_sentence
from ....figures import views as figures
from ....figures.style import Palette
from ....wording import views as words
from ...pages import EvidenceFor, Surroundings
from ...widgets import Flow, label, letters_wide, paired
from .view import ViewPage


class HydrationPage(ViewPage[HydrationResult]):
    """Does fat only follow water?"""

    key, owner, figure_name = "water", "water", "Fat against water within clients"
    words = "Computing hydration"
    evaluated = pyqtSignal()
    missing = (
        "Not enough data: needs a device that shows body fat and body water in percent, on several"
        " days of a client."
    )

    def __init__(self, around: Surroundings) -> None:
        super().__init__(around)
        self.client, self.dry, self.loaded = QComboBox(), QComboBox(), QComboBox()
        self.sensitivity = label("", wrap=True)
        self.sensitivity.setAccessibleName("Result of the two mornings")
        self.challenge = QWidget()
        row = Flow()
        for words_, box in (
            ("Two mornings of", self.client),
            ("dry", self.dry),
            ("loaded", self.loaded),
        ):
            letters_wide(box, 14)
            row.addWidget(paired(words_, box, f"Hydration test: {words_}"))
        self.challenge.setLayout(row)
        self.client.activated.connect(lambda _k: self._offer_visits())
        for box in (self.dry, self.loaded):
            box.activated.connect(lambda _k: self._try())
        self.column.addWidget(self.challenge)
        self.column.addWidget(self.sensitivity)
        for w in (self.challenge, self.sensitivity):
            w.hide()

    # two mornings
    def _offer(self, excluded: Sequence[str]) -> None:
        """Offer those who may be asked; nobody is chosen."""
        codes = [
            c.code for c in self.session.catalogue().clients.values() if c.code not in excluded
        ]
        if [self.client.itemText(k) for k in range(1, self.client.count())] != codes:
            self.client.clear()
            self.client.addItems(["nobody", *codes])
            self._offer_visits()
        self.challenge.setVisible(bool(codes))

    def _offer_visits(self) -> None:
        code = self.client.currentText() if self.client.currentIndex() > 0 else ""
        visits = self.session.visits_of(code) if code else []
        for box in (self.dry, self.loaded):
            box.clear()
            for v in visits:
                box.addItem(v.words, v.id)
            box.setCurrentIndex(-1)
            box.setEnabled(bool(visits))
        self.sensitivity.hide()

    def _try(self) -> None:
        """Evaluate as soon as both mornings are named."""
        if self.dry.currentIndex() < 0 or self.loaded.currentIndex() < 0 or not self.results:
            return
        name, lens = self.results[self.chosen].instrument.name, self.session.lens
        client = self.session.catalogue().client_coded(self.client.currentText())
        if client is None:
            return
        dry, loaded = self.dry.currentData(), self.loaded.currentData()
        job = Job(
            "Computing the hydration test",
            lambda: self.session.wide_snapshot_steps((FAT, MASS)),
            lambda s: HydrationTestRequest(s, lens, name, client, dry, loaded).run(),
        )
        self.jobs.start(
            "challenge",
            job,
            lambda found: self._tell(words.hydration_test_result_words(found)),
            self._tell,
        )

    def _tell(self, text: str) -> None:
        self.sensitivity.setText(as_sentence(text))
        self.sensitivity.show()
        self.evaluated.emit()

    def choose(self, k: int) -> None:
        super().choose(k)
        self._try()

    def instrument_of(self, result: HydrationResult) -> Instrument:
        return result.instrument

    def paint(self) -> None:
        super().paint()
        if self.results:
            clients = self.session.catalogue().clients.values()
            excluded = unfit_for_hydration_test(clients, self.session.today())
            self.under.setText(words.hydration_test_words(excluded))
            self._offer(excluded)

    def draw(self, axes: Any, family: str, palette: Palette) -> None:
        figures.draw_water(axes, self.content(), self.mark(palette), palette, family, self.point)

    def content(self) -> figures.WaterInfo:
        return figures.water(self.results[self.chosen])

    def clicked(self, event: Any) -> None:
        info = self.content()
        found = self.nearest(event, info.water, info.fat)
        if found is not None:
            self.choose_point(found)

    def open_point(self) -> EvidenceFor | None:
        r = self.results[self.chosen]
        if self.point is None:
            return None
        visit = int(figures.water(r).visit[self.point])
        own = [
            x.id
            for x in self.session.readings(visit=visit)
            if x.instrument == r.instrument.name and x.metric in (FAT, WATER)
        ]
        return EvidenceFor(f"{r.instrument.name}: fat and water of one visit", readings=tuple(own))
