"""Count what one typed cell, and one note on a client's card, cost.

``python benchmarks/walk.py``.

Prints, for each, the files and calls of ours that were passed, how often a call went to another
room (a package), the statements put to the study file, the equations computed and the time. The demo study is open at the bench; nothing is shown
on a screen.
"""

import os
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtTest import QTest

import anchor_tally
from anchor_tally.app.demo import demo_session
from anchor_tally.ui.application import make_application
from anchor_tally.ui.main_window import MainWindow

OURS = str(Path(anchor_tally.__file__).parent)


def walk(session, action):
    """Run ``action`` and count what it passes through."""
    files, calls, equations, statements = set(), [0], [0], []
    room, rooms = [""], [0]

    def seen(frame, event, _arg):
        name = frame.f_code.co_filename
        if event == "call" and name.startswith(OURS):
            files.add(name)
            calls[0] += 1
            here = Path(name).relative_to(OURS).parts[:-1][:2]
            here = here if here[:1] == ("analysis",) else here[:1]
            rooms[0] += here != room[0]
            room[0] = here
            if (
                "/methods/" in name
                and frame.f_back
                and not frame.f_back.f_code.co_filename.startswith(f"{OURS}/methods")
            ):
                equations[0] += 1

    start = time.perf_counter()
    action()
    plain = time.perf_counter() - start
    session._conn.set_trace_callback(statements.append)
    sys.setprofile(seen)
    try:
        action()
    finally:
        sys.setprofile(None)
        session._conn.set_trace_callback(None)
    reads = sum(s.lstrip().upper().startswith(("SELECT", "WITH")) for s in statements)
    return (
        len(files),
        calls[0],
        rooms[0],
        reads,
        len(statements) - reads,
        equations[0],
        1000 * plain,
    )


def main():
    """Print both walks."""
    app = make_application([])
    with tempfile.TemporaryDirectory() as folder:
        session = demo_session(Path(folder))
        window = MainWindow(
            session, settings=QSettings(f"{folder}/s.ini", QSettings.Format.IniFormat)
        )
        window.show()
        while not window.page("compare").results:
            app.processEvents()
        window.go("record")
        record = window.page("record")
        client = next(c for c in session.catalogue().clients.values() if c.code == "Cod")
        record.client.setEditText("Cod")
        record.bar.choose_client()
        app.processEvents()
        cells = iter(
            [
                entry_row.cells[k]
                for k in (0, 1)
                for entry_row in record.entry_rows
                if entry_row.instrument == "Alder"
            ]
        )

        def typed():
            cell = next(cells)
            cell.setFocus()
            QTest.keyClicks(cell, "24.6" if cell.entry_row.metric != "body_mass" else "70")
            QTest.keyClick(cell, Qt.Key.Key_Return)
            if cell.doubt is not None:  # an invented value may be far from the last visit
                QTest.keyClick(cell, Qt.Key.Key_K)
            app.processEvents()

        window.go("record")
        print("walk              files   calls   rooms   reads  writes  equations      ms")
        print("typed cell     {:8d}{:8d}{:8d}{:8d}{:8d}{:11d}{:8.1f}".format(*walk(session, typed)))
        window.go("plan")
        app.processEvents()
        words = iter(["a", "b"])

        def noted():
            tab = window.page("plan").tab("clients")
            tab.row = client.id
            tab.refresh()
            field = tab.fields["notes"]
            field.setText(next(words))
            field.editingFinished.emit()
            app.processEvents()

        print("client's note  {:8d}{:8d}{:8d}{:8d}{:8d}{:11d}{:8.1f}".format(*walk(session, noted)))
        window.close()
        session.close()


if __name__ == "__main__":
    main()
