"""The window for tests: opened on a session, closed afterwards with nothing left running."""

import pytest
from PyQt6.QtCore import QSettings

from anchor_tally.ui.application import make_application
from anchor_tally.ui.main_window import MainWindow
from anchor_tally.ui.page_preparation import PagePreparation


class Window(MainWindow):
    """The window, with its pages by name."""

    record = property(lambda self: self.page("record"))
    compare = property(lambda self: self.page("compare"))
    calibrate = property(lambda self: self.page("calibrate"))
    plan = property(lambda self: self.page("plan"))
    importing = property(lambda self: self.page("import"))


@pytest.fixture(scope="session")
def qapp():
    """The application with its fonts."""
    return make_application([])


@pytest.fixture
def window_on(qtbot, tmp_path, request, monkeypatch):
    """Open a window on a session and wait for its first answer.

    A study opens on Compare, or on ``at`` as one that was left there, which saves the comparison.
    Pages are made when they are opened. With the mark ``prepared`` the window makes the others
    beforehand and looks for findings, as it does for a user.
    """
    opened = []
    if request.node.get_closest_marker("prepared") is None:
        monkeypatch.setattr(PagePreparation, "begin", lambda *_: None)

    def build(session, at=""):
        settings = QSettings(str(tmp_path / "s.ini"), QSettings.Format.IniFormat)
        with pytest.MonkeyPatch.context() as patch:
            if at:
                patch.setattr(MainWindow, "_first_page", lambda *_: at)
            window = Window(session, settings=settings)
        qtbot.addWidget(window)
        opened.append(window)
        window.show()
        qtbot.waitUntil(
            lambda: window.shown != "compare" or not window.jobs.busy("compare"), timeout=30_000
        )
        return window

    yield build
    for window in opened:
        window.close()
        assert window.jobs is None
