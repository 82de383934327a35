"""Write anew what the tests keep of the program's answers: python scripts/answers.py.

Look at the difference first: each change must be meant.
"""

import gzip
import json
import os
import sys
import tempfile
from pathlib import Path

# as in the tests
os.environ |= {"TZ": "UTC", "OPENBLAS_NUM_THREADS": "1", "QT_QPA_PLATFORM": "offscreen"}
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests" / "ui"))

from PyQt6.QtCore import QSettings

from anchor_tally.app.demo import demo_session
from anchor_tally.ui.application import make_application
from anchor_tally.ui.main_window import MainWindow
from anchor_tally.ui.page_preparation import PagePreparation
from answers import KEPT, STUDIES, commands, pages, said
from places import CLOCK
from screens import WALKS, walked


def screens():
    """What stands on the pages of each walk through the window."""
    application, out = make_application([]), {}
    PagePreparation.begin, first_page = lambda *_: None, MainWindow._first_page
    for name in WALKS:
        with tempfile.TemporaryDirectory() as folder:
            session = demo_session(Path(folder), clock=CLOCK)
            settings = QSettings(f"{folder}/s.ini", QSettings.Format.IniFormat)
            MainWindow._first_page = lambda *_: "record"
            window = MainWindow(session, settings=settings)
            MainWindow._first_page = first_page
            window.show()
            out[name] = walked(name, window)
            window.close()
            session.close()
    application.quit()
    return out


if __name__ == "__main__":
    answers = {name: said(make()) for name, make in STUDIES.items()}
    with tempfile.TemporaryDirectory() as folder:
        answers["pages"] = pages(demo_session(Path(folder), clock=CLOCK))
    with tempfile.TemporaryDirectory() as folder:
        answers["commands"] = commands(Path(folder))
    answers["screens"] = screens()
    KEPT.write_bytes(gzip.compress(json.dumps(answers).encode(), mtime=0))
