"""What stands on every page of the window, as text: the walk that opens them, and what is seen."""

import re
from collections import Counter

from PyQt6.QtCore import QEventLoop, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QTreeWidget,
    QWidget,
)

from anchor_tally.app.session import Session
from anchor_tally.ui.canvas import FigureView
from places import CLOCK

WIDE = """Winter evenings
Code;Day;Clock;Birch fat (%) 1;Birch fat (%) 2;Mass (kg);Hip (cm);voided;Note
Auk;2.11.2026;19:30;18,9;19,3;81,0;98;no;after rowing
Ling;2.11.2026;19:45;24,1;;66,4;101;yes;
Knot;31.11.2026;20:00;21,0;20,8;73,9;99;yes;
"""
# comes after a pause in typing; the machine's own
NOT_HERE = {"Level from all sources", "Port of the device"}
MOST_ROWS = 12  # of a table
TURNS = 4  # of the event loop at rest, after which widgets laid out anew are shown
MOST_CHOICES = 2  # of a list of choices, and of the rows of a table


def _busy(window):
    """Whether something is asked, waits for a pause in typing, or is not drawn yet."""
    pauses = [t for t in window.findChildren(QTimer) if t.isSingleShot() and t.interval() < 1000]
    return window.jobs.busy() or any(t.isActive() for t in pauses) or not FigureView.all_drawn()


def settle(window):
    """Let the window work until it rests."""
    app, at_rest = QApplication.instance(), 0
    while at_rest < TURNS:
        app.processEvents()
        at_rest += 1
        while _busy(window):
            app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            at_rest = 0


def cells(view):
    """The first rows of a table or list, with the tips of their cells."""
    model, rows = view.model(), []
    if model is None:
        return rows
    for r in range(min(model.rowCount(), MOST_ROWS)):
        row = [model.index(r, c) for c in range(model.columnCount())]
        told = [str(i.data() or "") for i in row]
        told += [str(i.data(Qt.ItemDataRole.ToolTipRole) or "") for i in row]
        rows.append(" | ".join(told) + f" {int(model.flags(row[0]).value)}" if row else "")
    rows.append(f"{model.rowCount()} rows, current {view.currentIndex().row()}")
    return rows


def drawn(axes):
    """What axes hold: kinds of lines, counts of the rest, and every text."""
    legend = axes.get_legend()
    texts = [*axes.texts, *(legend.get_texts() if legend else ())]
    lines = sorted(f"{x.get_linestyle()}{x.get_marker()}{x.get_linewidth():g}" for x in axes.lines)
    found = [f"{k}× {x}" for x, k in Counter(lines).items()]
    found += [f"{len(axes.patches)} patches", f"{len(axes.collections)} collections"]
    found += [axes.get_xlabel(), axes.get_ylabel(), *(t.get_text() for t in texts)]
    return " | ".join(x for x in found if x)


def seen(widget):
    """One line a visible widget, in their order: kind, text, state, name and tip."""
    lines = []
    for w in widget.findChildren(QWidget):
        if (
            isinstance(w, QHeaderView)
            or not w.isVisible()
            or NOT_HERE & {w.accessibleName(), w.parentWidget().accessibleName()}
        ):
            continue
        told = []
        if isinstance(w, QAbstractButton):
            told = [w.text(), f"checked {w.isChecked()}" if w.isCheckable() else ""]
        elif isinstance(w, QLabel):
            told = [w.text()]
        elif isinstance(w, QLineEdit):
            told = [w.text(), w.placeholderText(), "read only" if w.isReadOnly() else ""]
        elif isinstance(w, QComboBox):
            told = [w.currentText(), str(w.count())]
        elif isinstance(w, QPlainTextEdit):
            told = [w.toPlainText()]
        elif isinstance(w, QAbstractItemView):
            told = cells(w)
        elif isinstance(w, FigureView):
            told = [w.accessibleDescription(), *(drawn(a) for a in w.figure.axes)]
        told += [w.accessibleName(), w.toolTip(), "" if w.isEnabled() else "not enabled"]
        told = [x for x in told if x]
        if told:
            lines.append(f"{type(w).__name__}: {' · '.join(told)}")
    return lines


def deeds(page):
    """What can be chosen on a page: items of lists of choices, checkable buttons, rows of tables."""
    for box in page.findChildren(QComboBox):
        if box.isVisible() and box.isEnabled() and not box.isEditable():
            for k in range(min(box.count(), MOST_CHOICES)):
                if k != box.currentIndex():
                    yield (
                        f"{box.accessibleName()} {k}",
                        lambda b=box, k=k: (b.setCurrentIndex(k), b.activated.emit(k)),
                    )
    for button in page.findChildren(QAbstractButton):
        if button.isVisible() and button.isEnabled() and button.isCheckable():
            yield f"{button.text()} {button.accessibleName()}", button.click
    for view in page.findChildren(QAbstractItemView):
        other = isinstance(view, (QTreeWidget, QHeaderView))
        if view.isVisible() and view.model() is not None and not other:
            for r in range(min(view.model().rowCount(), MOST_CHOICES)):
                yield (
                    f"{view.accessibleName()} row {r}",
                    lambda v=view, r=r: v.setCurrentIndex(v.model().index(r, 0)),
                )


def explored(window, widget, *, at=""):
    """What stands in the window at first, and what is new after each deed on the widget.

    A deed that leads to another page is followed back to the page ``at``.
    """
    settle(window)
    before = seen(window)
    yield "opened", before
    for name, deed in list(deeds(widget)):
        try:
            deed()
        except RuntimeError:  # the deed before has taken the widget away
            yield name, ["gone"]
            continue
        settle(window)
        now = seen(window)
        yield name, [x for x in now if x not in before]
        if at and window.shown != at:
            window.go(at)
            settle(window)
            now = seen(window)
        before = now


def _opened(window, key):
    """A page as it is opened."""
    window.go(key)
    settle(window)
    return window.page(key)


def _views(window, *keys):
    for key in keys:
        page = _opened(window, key)
        yield from explored(window, page, at=key)
        page.open_chosen()
        settle(window)
        yield "evidence", seen(window.drawer)
        window.close_drawer()


def _lens(window):
    for key in ("compare", "track"):
        _opened(window, key)
        yield from explored(window, window.lens, at=key)


def _time(window):
    yield from explored(window, _opened(window, "drift"), at="drift")
    page = _opened(window, "calibrate")
    yield from explored(window, page, at="calibrate")
    page.adopt.click()
    settle(window)
    yield "adopted", seen(window)


def _clients(window):
    page = _opened(window, "track")
    page.goal.setText("14")
    page._set_goal()
    yield from explored(window, page, at="track")
    for code in ("Dory", "Auk"):
        page.follow(code)
        settle(window)
        yield code, seen(page)


def _plan(window):
    page = _opened(window, "plan")
    for key in page.buttons:
        page.go(key)
        settle(window)
        yield from explored(window, page.tab(key), at="plan")


def _record(window):
    page = _opened(window, "record")
    for code, stations in (("Auk", tuple(page.tabs.buttons)), ("Zed", ("devices",))):
        page.client.setEditText(code)
        page.bar.choose_client()
        if page.bar.new == code:
            page.bar.choose_client()
        settle(window)
        yield code, seen(page)
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
    yield from explored(window, _opened(window, "review"), at="review")
    page = _opened(window, "report")
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
    yield from explored(window, window.page("start"))
    for key in ("record", "plan", "compare", "track", "report"):
        _opened(window, key)
        yield key, seen(window)
    session.close()


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
}


def walked(name, window):
    """What stands on the pages of a walk, without what differs from run to run."""
    place = str(window.session.path.parent)
    return [
        [deed, [re.sub(r"[0-9a-f]{16,}", "-", x.replace(place, "-")) for x in lines]]
        for deed, lines in WALKS[name](window)
    ]
