"""The runner of long work: what somebody waits for, and pictures, go before what goes on in the background; nothing is lost by stepping aside."""

import itertools
import re
import threading
import time
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QFileDialog

from anchor_tally.app.jobs import Job
from anchor_tally.ui.jobs import Jobs
from places import squad_lines, study_of


def at_once():
    """Nothing to do beside the study."""
    return
    yield


def test_what_is_patient_lets_others_and_pictures_go_first(qtbot):
    """A patient job in the middle: one that is waited for answers first.

    While a picture is drawn no step is made; then it ends.
    """
    jobs, ended, steps = Jobs(), [], []
    first_step, go_on, drawing = threading.Event(), threading.Event(), [False]
    jobs.drawing = lambda: drawing[0]

    def slow(_):
        for k in range(300):
            steps.append(k)
            first_step.set()
            go_on.wait(10)
            time.sleep(0.001)
            yield k / 300
        return "patient"

    def quick(_):
        yield 0.5
        return "waited for"

    try:
        jobs.start(
            "review", Job("Reviewing", at_once, slow, background=True), ended.append, ended.append
        )
        qtbot.waitUntil(first_step.is_set)
        jobs.start("page", Job("Asking", at_once, quick), ended.append, ended.append)
        qtbot.waitUntil(lambda: jobs.pressing)
        drawing[0] = True
        go_on.set()
        qtbot.waitUntil(lambda: ended == ["waited for"])
        qtbot.wait(60)  # for the step under way
        made = len(steps)
        qtbot.wait(120)  # several looks at whether a picture is drawn
        assert made == len(steps) < 300
        drawing[0] = False
        qtbot.waitUntil(lambda: ended == ["waited for", "patient"])
        assert steps == list(range(300))
    finally:  # the worker looks at these before it can be stopped
        drawing[0] = False
        go_on.set()
        jobs.stop()


def test_window_goes_on_while_a_file_is_written(qtbot, window_on, demo, tmp_path):
    """The export runs on the worker: the window takes keys meanwhile, says when the file is whole, and can be stopped."""
    window = window_on(demo)
    beats = []
    timer = QTimer(window)
    timer.timeout.connect(lambda: beats.append(time.monotonic()))
    timer.start(5)
    with qtbot.waitSignal(window.exported, timeout=30_000):
        window.export(tmp_path / "x.xlsx", full=False)
        assert window.jobs.busy("export")
    timer.stop()
    assert (tmp_path / "x.xlsx").exists()
    assert "readings written" in window.said
    assert len(beats) > 10
    longest = max(b - a for a, b in itertools.pairwise(beats))
    assert longest < 0.5 * (beats[-1] - beats[0])  # the writing was one pause before
    window.export(tmp_path / "y.xlsx", full=False)
    qtbot.waitUntil(
        lambda: any(p.name.startswith(".y.xlsx") for p in tmp_path.iterdir()), timeout=30_000
    )
    qtbot.mouseClick(window.footer.cancel, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not any("y.xlsx" in p.name for p in tmp_path.iterdir()), timeout=30_000)
    assert window.said == "Stopped."
    told = []
    window.pages[window.shown].shown.connect(lambda: told.append(window.shown))
    window.session.writing = True  # half an import is in the file: no page may be looked at
    window.footer.cancel.click()
    assert told == []
    window.session.writing = False
    window.footer.cancel.click()
    assert told == [window.shown]


def test_the_window_writes_the_report_under_its_filters(qtbot, window_on, tmp_path, monkeypatch):
    """Chosen in Export, computed on the worker: the file holds the filtered clients only."""
    session = study_of(squad_lines(np.random.default_rng(5)))
    window = window_on(session)
    session.look(replace(session.lens, clients=frozenset({"C0", "C1", "C2", "C4"})))

    def choose(_parent, _title, _name, kinds):
        kind = next(k for k in kinds.split(";;") if k.endswith("report, codes only (*.html)"))
        return str(tmp_path / "out"), kind

    monkeypatch.setattr(QFileDialog, "getSaveFileName", choose)
    with qtbot.waitSignal(window.exported, timeout=60_000):
        window.act("export")
        assert window.jobs.busy("export")
    written = tmp_path / "out.html"
    assert f"Study report written to {written}" in window.said
    text = written.read_text()
    assert "4 chosen" in text
    shown = re.sub(r"base64,[^)]*|<[^>]*>", " ", text).split()
    assert "C4" in shown
    assert "C3" not in shown
