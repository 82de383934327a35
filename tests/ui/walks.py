"""Walks through the window, each with what stands there afterwards as text."""

import re

from PyQt6.QtCore import QEvent, QPoint, Qt, QTimer
from PyQt6.QtGui import QHelpEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QToolTip, QWidget

from anchor_tally.app.session import Session
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.study.edits.protocol import AskCondition
from anchor_tally.ui.canvas import FigureView
from anchor_tally.ui.frame import OLD_MS
from dialogs import answered
from places import CLOCK, parse_text, reading
from screens import (
    enter,
    explored,
    followed,
    key_presses,
    opened,
    pressed,
    seen,
    settle,
    touched,
    typed,
)
from walks_of_files import FILE_WALKS

WIDE = """Winter evenings
Code;Day;Clock;Birch fat (%) 1;Birch fat (%) 2;Mass (kg);Hip (cm);voided;Note
Auk;2.11.2026;19:30;18,9;19,3;81,0;98;no;after rowing
Ling;2.11.2026;19:45;24,1;;66,4;101;yes;
Knot;31.11.2026;20:00;21,0;20,8;73,9;99;yes;
"""


def _views(window, *keys):
    for key in keys:
        page = opened(window, key)
        yield from explored(window, page, at=key)
        page.open_chosen()
        settle(window)
        yield "evidence", seen(window.drawer)
        window.close_drawer()


def _lens(window):
    for key in ("compare", "track"):
        opened(window, key)
        yield from explored(window, window.lens, at=key)


def _time(window):
    yield from explored(window, opened(window, "drift"), at="drift")
    page = opened(window, "calibrate")
    yield from explored(window, page, at="calibrate")
    cells = [
        (f"cell {r} {c}", lambda r=r, c=c: page.table.opened.emit(r, c))
        for r in (0, 2)
        for c in (0, 1)
    ]
    yield from followed(window, cells)
    window.close_drawer()
    page.adopt.click()
    settle(window)
    yield "adopted", seen(window)


def _clients(window):
    page = opened(window, "track")
    page.goal.setText("14")
    page._set_goal()
    yield from explored(window, page, at="track")
    for code in ("Dory", "Auk"):
        page.follow(code)
        settle(window)
        yield code, seen(page)


def _plan(window):
    page = opened(window, "plan")
    for key in page.buttons:
        page.go(key)
        settle(window)
        yield from explored(window, page.tab(key), at="plan")


def _record(window):
    page = opened(window, "record")
    for code, stations in (("Auk", tuple(page.tabs.buttons)), ("Zed", ("devices",))):
        page.client.setEditText(code)
        page.bar.choose_client()
        if page.bar.new == code:
            page.bar.choose_client()
        settle(window)
        yield code, seen(page)
        if page.safety.isVisible():
            page.safety.buttons["none"].click()
        for station in stations:
            page.go_station(station)
            yield from explored(window, page.stack, at="record")
            for row in page.entry_rows[:1]:
                for text in ("12", "14", "99999"):
                    cell = row.cells[0]
                    cell.setFocus()
                    cell.setText(text)
                    QTest.keyClick(cell, Qt.Key.Key_Return)
                    settle(window)
                    yield text, seen(page)
    page.visits.setCurrentIndex(1)
    page.bar.choose_visit()
    settle(window)
    yield "visit", seen(page)


def _report(window):
    yield from explored(window, opened(window, "review"), at="review")
    page = opened(window, "report")
    for k in range(page.kind.count()):
        page.kind.setCurrentIndex(k)
        page.kind.activated.emit(k)
        settle(window)
        yield page.kind.currentText(), seen(page)


def _start(window):
    path = window.session.path.parent / "table.csv"
    path.write_text(WIDE, encoding="cp1252")
    window.import_file(path)
    yield from explored(window, window.page("import"), at="import")
    session = Session.new(path.with_name("empty.tally"), "Empty", clock=CLOCK)
    window.attach(session)
    settle(window)
    page = window.page("start")
    yield from explored(window, page)
    page.begin()
    settle(window)
    for k in range(len(page.steps)):
        yield from followed(window, [(f"step {k}", lambda k=k: page.go_step(k))])
        yield from followed(window, typed(page, "x", "2026-03-02", "181"))
    for key in ("record", "plan", "compare", "track", "report"):
        opened(window, key)
        yield key, seen(window)


def _planner(window):
    page = opened(window, "plan")
    fields = page.tab("simulator")
    for field, text in ((fields.studies, "1"), (fields.fields["clients"], "6")):
        field.setText(text)
    yield from _tabs(window, page, ("precision", "simulator"))


def _tabs(window, page, wanted):
    for key in page.buttons:
        if key in wanted:
            page.go(key)
            settle(window)
            yield from followed(
                window, typed(page.tab(key), *(("x",) if key == "simulator" else ("x", "7.5")))
            )
            yield from followed(window, pressed(page.tab(key), "Open one to practise"))


def _fields(window):
    page = opened(window, "plan")
    not_here = ("calendar", "practice", "training", "precision", "simulator")
    yield from _tabs(window, page, [k for k in page.buttons if k not in not_here])
    for key in ("drift", "calibrate", "track", "score"):
        page = opened(window, key)
        if key == "track":
            page.follow("Cod")
        yield from followed(window, typed(page, "x", "2026-05-04", "40"))


def _actions(window):
    clipboard = QApplication.clipboard()
    for text in ("", "no table", WIDE.replace(";", "\t")):
        clipboard.setText(text)
        yield from followed(window, [("paste", lambda: window.act("paste"))])
    opened(window, "compare")
    acts = ("import", "export", "export", "copy", "copy", "next", "find", "close_drawer", "dark")
    acts += ("dark", "keys", "about", "undo", "redo", "take_over", "open", "new", "open", "undo")
    yield from followed(window, [(key, lambda k=key: window.act(k)) for key in acts])


def _figures(window):
    """Figures by keys, and by mouse where a row is meant, with what they open."""
    keys = ("Right", "Right", "Left", "Down", "Up", "Return", "Escape")
    for key, k, clicked in (
        ("compare", 0, True),
        ("compare", 1, False),
        ("consistency", 0, True),
        ("change", 0, False),
        ("water", 0, False),
        ("drift", 0, False),
        ("calibrate", 0, True),
        ("track", 0, False),
    ):
        figure = opened(window, key).findChildren(FigureView)[k]
        figure.setFocus()
        back = ["Left"] * 5 if key == "track" else []  # no further than the first date
        touches = list(touched(figure))
        acts = [*key_presses(figure, *keys, *back), *(touches if clicked else touches[-2:-1])]
        for name, lines in followed(window, acts):
            yield f"{key} {k} {name}", lines
        window.close_drawer()


def _cells(window):
    """Cells of the bench by their keys: failed, corrected, kept, remarked, moved between."""
    page = opened(window, "record")
    page.client.setEditText("Auk")
    page.bar.choose_client()
    for station in ("devices", "girths", "scan"):
        page.go_station(station)
        settle(window)
        row = page.entry_rows[0]

        def press(*keys):
            return followed(window, key_presses(window.focusWidget(), *keys))

        for text in ("1", "85", "18.4", "18,4", "9x", "44"):
            cell = next((c for c in row.cells if not c.text()), row.cells[-1])
            cell.setFocus()
            yield from followed(window, [(f"{station} {text}", lambda c=cell, t=text: enter(c, t))])
            yield from press("C", "K", "Up", "Down", "Escape")
        row.cells[0].setFocus()
        yield from press("F", "F4", "Escape", "Return", "F", "Delete", "F7")
    yield from followed(window, [("undo", window.undo), ("redo", window.redo)])


def _bench(window):
    """Fields and buttons of the bench beside the cells: visit, person, station, device, folder."""
    page = opened(window, "record")
    page.client.setEditText("Brill")
    page.bar.choose_client()
    settle(window)
    for part in (page.bar, *(x for x in page.findChildren(QWidget) if type(x).__name__ in _PARTS)):
        for name, lines in followed(window, typed(part, "x", "2026-08-20 06:40", "12")):
            yield f"{type(part).__name__} {name}", lines
    for station in ("devices", "skinfolds", "scan", "check"):
        page.go_station(station)
        settle(window)
        for name, lines in followed(window, pressed(page, "Connect")):
            yield f"{station} {name}", lines
        if window.shown != "record":
            opened(window, "record")
    page.go_station("devices")
    opened(window, "plan")
    window.session.do(AskCondition("voided", asked=False))
    yield from followed(window, [("fewer conditions", lambda: window.go("record"))])


_PARTS = ("VisitNotes", "StationCard", "PersonBar", "LiveDevice")


def _calendar(window):
    page = opened(window, "plan")
    page.go("calendar")
    settle(window)
    tab = page.tab("calendar")
    view, editor = tab.view, tab.editor
    view.setFocus()
    step = ("Left", "Right", "Right", "Down", "Down", "Left", "^Right", "^Left", "Up", "Delete")
    yield from followed(
        window, key_presses(view, *step, "Home", "End", *(["Down"] * 15), *(["Up"] * 17))
    )
    yield from followed(
        window, key_presses(view, *(["Right"] * 30), "^Right", *(["Left"] * 60), "^Left")
    )
    for starts, ends, note in (
        ("2026-09-01", "2026-09-20", "camp"),
        ("2026-09-20", "2026-09-01", ""),
        ("soon", "", ""),
        ("", "", ""),
    ):
        for kind in (0, 1):
            tab.kind.setCurrentIndex(kind)
            tab.who.setCurrentIndex(kind)
            for field, text in ((tab.starts, starts), (tab.ends, ends), (tab.note, note)):
                field.setText(text)
            yield from followed(window, [("event", tab.add_event.click)])
    buttons = (tab.today, tab.later, tab.earlier, tab.drop, tab.away, tab.sheets, tab.export)
    yield from followed(window, [(b.text(), b.click) for b in (*buttons, tab.measure)])
    opened(window, "plan")
    tab.rules.click()
    for row in range(editor.table.count):
        editor.table.setCurrentIndex(editor.table.model().index(row, 0))
        yield from followed(window, [(f"rule {row}", lambda: None)])
        yield f"rule {row}", seen(editor)
    for form in range(editor.form.count()):
        for days in ("Mon, Thu", "7", "60", "2026-10-01, 2026-10-08", "x", ""):
            editor.new.click()
            editor.form.setCurrentIndex(form)
            editor.days.setText(days)
            editor.most.setText("x" if days == "x" else "3" if form % 2 else "")
            yield from followed(
                window, [(f"{editor.form.currentText()} {days}", editor.save.click)]
            )
    for k in range(editor.preset.count()):
        editor.preset.setCurrentIndex(k)
        editor.first.setText("2026-09-07" if k else "x")
        yield from followed(window, [(editor.preset.currentText(), editor.use.click)])
    yield from followed(window, [(b.text(), b.click) for b in (editor.more, editor.remove)])
    editor.close_button.click()
    settle(window)
    yield "calendar", seen(window)


def _mouse(window):
    """The calendar by mouse: days chosen, dragged, asked for and opened; cells and rows at the bench."""
    page = opened(window, "plan")
    page.go("calendar")
    settle(window)
    tab = page.tab("calendar")
    for zoom in range(tab.zoom.count()):
        tab.zoom.setCurrentIndex(zoom)
        tab.zoom.activated.emit(zoom)
        yield from followed(window, [(f"zoom {zoom}", tab.today.click)])
        for client in tab.view.clients[:2]:
            shown = [d for d in tab.view.planned.get(client, ()) if _inside(tab.view, d)]
            for d in (*shown[:1], *shown[-1:]):
                yield from followed(window, _dragged(tab.view, d))
                opened(window, "plan")
    for row in range(min(tab.list.count, 3)):
        choose = [
            (f"due {row}", lambda r=row: tab.list.setCurrentIndex(tab.list.model().index(r, 0)))
        ]
        yield from followed(window, [*choose, ("open", lambda r=row: tab.list.opened.emit(r, 0))])
        opened(window, "plan")
    page = opened(window, "record")
    page.client.setEditText("Brill")
    page.bar.choose_client()
    for station in page.tabs.buttons:
        page.go_station(station)
        settle(window)
        for row in page.entry_rows[:2]:
            acts = [(station, lambda c=c: QTest.mouseClick(c, LEFT)) for c in row.cells[:2]]
            yield from followed(window, acts)
            chosen = [f"{c.selectedText()} of {c.text()}" for c in row.cells[:2]]
            yield "chosen", [*chosen, row.strip.toolTip()]


def _inside(view, d):
    return view.viewport().rect().contains(view.mark_of(d))


def _dragged(view, d):
    """A planned day asked for, clicked, dragged by three days and back, and opened."""
    left, spot = LEFT, view.mark_of(d).center()
    aim, port = spot + QPoint(3 * view.day_width, 0), view.viewport()
    asked = QHelpEvent(QEvent.Type.ToolTip, spot, port.mapToGlobal(spot))
    yield "ask", lambda: QApplication.sendEvent(port, asked)
    yield QToolTip.text(), lambda: QTest.mouseClick(port, left, pos=spot)
    yield "above", lambda: QTest.mouseClick(port, left, pos=QPoint(spot.x(), 4))
    yield "right", lambda: QTest.mouseClick(port, Qt.MouseButton.RightButton, pos=spot)
    for start, end in ((spot, aim), (aim, spot)):
        yield "press", lambda a=start: QTest.mousePress(port, left, pos=a)
        yield "move", lambda a=end: QTest.mouseMove(port, a)
        yield "release", lambda a=end: QTest.mouseRelease(port, left, pos=a)
    yield "open", lambda: QTest.mouseDClick(port, left, pos=spot)


def _little(window):
    """Studies with little in them, through all pages and in the dark theme."""
    folder = window.session.path.parent
    for name, lines in LITTLE.items():
        rows, refused = parse_text(",".join(HEADER) + "\n" + "\n".join(lines) + "\n")
        assert not refused
        session = Session.new(folder / f"{name}.tally", name, clock=CLOCK)
        session.do(ImportReadings(tuple(rows), "x"))
        window.attach(session)
        for key in PAGES:
            page = opened(window, key)
            yield f"{name} {key}", seen(window)
            if name == "two":
                yield from followed(window, [("dark", lambda: window.act("dark"))])
            if name == "two" and key in ("plan", "report"):
                yield from _parts(window, page, key)


def _parts(window, page, key):
    """The tabs of Plan that hold what the study states, or the documents of Report."""
    if key == "report":
        for k in range(page.kind.count()):
            page.kind.setCurrentIndex(k)
            page.kind.activated.emit(k)
            settle(window)
            yield page.kind.currentText(), seen(page)
    else:
        for tab in page.buttons:
            if tab not in ("simulator", "precision"):
                page.go(tab)
                settle(window)
                yield tab, seen(page)


def _some(clients, scans, *, metrics=("body_fat_percent",), scan=True):
    """Lines of a tidy CSV: a device, and a scan on the same day."""
    for c in range(clients):
        for k in range(scans):
            day = f"2026-0{k + 3}-0{c + 2}"
            for m, metric in enumerate(metrics):
                value, unit = 20 + 3 * c - 0.4 * k + 30 * m, "percent" if m < 1 else "kg"
                given = {"metric": metric, "unit": unit}
                for r in (1, 2):
                    yield reading(
                        f"C{c}",
                        f"{day}T07:0{r}",
                        round(value + r / 10 + k % 2, 1),
                        repeat=r,
                        **given,
                    )
                if scan and not m:
                    yield reading(
                        f"C{c}", f"{day}T08:00", round(value - 1, 1), name="Scan", kind="reference"
                    )


LEFT = Qt.MouseButton.LeftButton
PAGES = ("record", "plan", "compare", "consistency", "change", "water", "alike", "score")
PAGES += ("drift", "calibrate", "track", "review", "report")
LITTLE = {
    "two": list(_some(2, 2)),
    "mass alone": [
        reading("C0", f"2026-03-0{k}T07:00", 80 + k / 10, metric="body_mass", unit="kg")
        for k in range(2, 8)
    ],
}

WALKS = {
    "views": lambda w: _views(w, "compare", "consistency", "change"),
    "more views": lambda w: _views(w, "water", "alike", "score"),
    "lens": _lens,
    "time": _time,
    "clients": _clients,
    "plan": _plan,
    "record": _record,
    "report": _report,
    "start": _start,
    "planner": _planner,
    "fields": _fields,
    "actions": _actions,
    "figures": _figures,
    "cells": _cells,
    "bench": _bench,
    "calendar": _calendar,
    "mouse": _mouse,
    "little": _little,
    **FILE_WALKS,
}


SIZES = ((1024, 700), (1280, 800))  # the smallest that is meant to serve, and a usual one


def walked(name, window):
    """What stands on the pages of a walk, without what differs from run to run."""
    folder = window.session.path.parent
    place = str(folder)
    window.resize(*SIZES[list(WALKS).index(name) % len(SIZES)])
    window.setUpdatesEnabled(False)  # what stands there is asked, not looked at
    for timer in window.findChildren(QTimer):
        if timer.interval() == OLD_MS:  # messages stay until the next, however slow the machine
            timer.setInterval(10**8)
    with answered(folder):
        found = [
            [deed, [re.sub(r"[0-9a-f]{16,}", "-", x.replace(place, "-")) for x in lines]]
            for deed, lines in WALKS[name](window)
        ]
    window.setUpdatesEnabled(True)
    settle(window)  # painted as it was left
    return found
