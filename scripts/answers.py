"""Write anew what the tests keep of the program's answers: ``python scripts/answers.py``.

Each difference from what was kept is printed; with ``--show`` nothing is written. Names of parts,
such as ``screens``, make only these anew.
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
from answers import (
    KEPT,
    ODD,
    PAPERS,
    SEEN,
    SMALL,
    STUDIES,
    commands,
    kept_texts,
    odd,
    pages,
    papers,
    refusals,
    said,
    small,
)
from edit_cases import CASES, edits
from modules import assumed
from places import CLOCK
from statistics_cases import SEEDS, statistics
from text_cases import TEXTS
from walks import WALKS, walked


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


def changes(before, now, where=""):
    """Each difference of two answers, with its place."""
    if isinstance(before, dict) and isinstance(now, dict):
        for key in sorted(before.keys() | now.keys()):
            yield from changes(before.get(key), now.get(key), f"{where}/{key}")
    elif isinstance(before, list) and isinstance(now, list) and len(before) == len(now):
        for k, (a, b) in enumerate(zip(before, now, strict=True)):
            yield from changes(a, b, f"{where}/{k}")
    elif before != now:
        yield f"{where}\n  was {str(before)[:300]}\n  is  {str(now)[:300]}"


def in_folder(ask):
    """What is answered with a folder of its own."""
    with tempfile.TemporaryDirectory() as folder:
        return ask(Path(folder))


PARTS = {
    "odd": lambda: {seed: odd(seed) for seed in ODD},
    "pages": lambda: in_folder(lambda f: pages(demo_session(f, clock=CLOCK))),
    "commands": lambda: in_folder(commands),
    "refusals": lambda: in_folder(refusals),
    "edits": lambda: {name: in_folder(lambda f, n=name: edits(n, f)) for name in CASES},
    "texts": lambda: {name: in_folder(read) for name, read in TEXTS.items()},
    "defaults": assumed,
    "statistics": lambda: {seed: statistics(seed) for seed in SEEDS},
    "small": lambda: {clients: small(clients) for clients in SMALL},
    "papers": lambda: {name: papers(name) for name in PAPERS},
    "screens": screens,
    **{name: lambda n=name: said(STUDIES[n](), lens=SEEN.get(n)) for name in STUDIES},
}


STUDIES_OF = ("odd", "edits", "texts", "statistics", "small", "papers", "screens")


def entries(name):
    """The answers of a part, with their places: one for each of its studies, or one."""
    answer = PARTS[name]()
    return {f"{name}/{k}": v for k, v in answer.items()} if name in STUDIES_OF else {name: answer}


if __name__ == "__main__":
    wanted = [a for a in sys.argv[1:] if a != "--show"] or list(PARTS)
    texts = {p: t for p, t in kept_texts().items() if p.split("/")[0] not in wanted}
    for part in wanted:
        texts |= {place: json.dumps(answer) for place, answer in entries(part).items()}
    for place in sorted(kept_texts().keys() | texts.keys()):
        was, now = (json.loads(t.get(place, "null")) for t in (kept_texts(), texts))
        for change in changes(was, now, place):
            print(change)
    if "--show" not in sys.argv:
        lines = "".join(f"{place}\t{text}\n" for place, text in sorted(texts.items()))
        KEPT.write_bytes(gzip.compress(lines.encode(), mtime=0))
