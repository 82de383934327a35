"""What stands in the window, as text, and what is done to it: choices, texts, keys and clicks."""

from collections import Counter

from matplotlib.colors import to_hex
from PyQt6.QtCore import QAbstractListModel, QEventLoop, QPoint, Qt, QTimer
from PyQt6.QtGui import QBrush
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QProgressBar,
    QPushButton,
    QTreeWidget,
    QWidget,
)

from anchor_tally.ui.canvas import FigureView

# comes after a pause in typing; the machine's own
NOT_HERE = {"Level from all sources", "Port of the device"}
MOST_ROWS = 12  # of a table
TURNS = 4  # of the event loop at rest, after which widgets laid out anew are shown
MOST_CHOICES = 2  # of a list of choices, and of the rows of a table


def _pauses(window):
    """Timers of a pause in typing on the page that is shown, which end by themselves."""
    parts = [x for x in (window.jobs, window.pages.get(window.shown)) if x is not None]
    timers = [t for part in parts for t in part.findChildren(QTimer)]
    return [t for t in timers if t.isSingleShot() and t.interval() < 1000]


def _busy(window, pauses):
    """Whether something is asked, waits for a pause in typing, or is not drawn yet."""
    return window.jobs.busy() or any(t.isActive() for t in pauses) or not FigureView.all_drawn()


def settle(window):
    """Let the window work until it rests."""
    app, pauses, resting = QApplication.instance(), [], False
    while not resting:
        at_rest = 0
        while at_rest < TURNS:
            app.processEvents()
            at_rest += 1
            while _busy(window, pauses):
                app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
                at_rest = 0
        pauses = _pauses(window)  # among them those of widgets made meanwhile
        resting = not _busy(window, pauses)


def _visible(widget):
    """What is visible in a widget, at any depth."""
    for child in widget.children():
        if isinstance(child, QWidget) and child.isVisible():
            yield child
            yield from _visible(child)


def cells(view):
    """The first rows of a table, list or tree, with the tips, marks and colours of their cells."""
    model, rows = view.model(), []
    if model is None:
        return rows
    columns = 1 if isinstance(model, QAbstractListModel) else model.columnCount()
    for r in range(min(model.rowCount(), MOST_ROWS)):
        row = [model.index(r, c) for c in range(columns)]
        told = [str(i.data() or "") for i in row]
        told += [str(i.data(Qt.ItemDataRole.ToolTipRole) or "") for i in row]
        marks = [f"{_mark(i)}" for i in row if _mark(i)]
        rows.append(" | ".join(told + marks) + f" {int(model.flags(row[0]).value)}" if row else "")
        if isinstance(view, QTreeWidget) and view.isExpanded(row[0]):
            inside = range(model.rowCount(row[0]))
            rows += [f"  {model.index(k, 0, row[0]).data()}" for k in inside]
    rows.append(f"{model.rowCount()} rows, current {view.currentIndex().row()}")
    return rows


def _mark(index):
    """Whether a cell is ticked, and its colour where it has one of its own."""
    ticked = index.data(Qt.ItemDataRole.CheckStateRole)
    colour = index.data(Qt.ItemDataRole.ForegroundRole)
    named = "" if colour is None else QBrush(colour).color().name()
    return " ".join(x for x in ("" if ticked is None else f"ticked {ticked}", named) if x)


def _line(x):
    """How a line is drawn, and whether its marks are filled."""
    filled = str(x.get_markerfacecolor()) != "none"
    mark = f"{x.get_marker()}{'' if filled else ' hollow'}"
    return f"{x.get_linestyle()}{mark} {x.get_linewidth():g} {to_hex(x.get_color())}"


def drawn(axes):
    """What axes hold: kinds of lines, counts of the rest, ranges, and every text."""
    legend = axes.get_legend()
    texts = [*axes.texts, *(legend.get_texts() if legend else ())]
    found = [f"{k}× {x}" for x, k in sorted(Counter(map(_line, axes.lines)).items())]
    patches = Counter(to_hex(x.get_facecolor()) for x in axes.patches)
    points = Counter(f"{len(x.get_offsets())} of {type(x).__name__}" for x in axes.collections)
    found += [f"{k}× {x}" for x, k in sorted({**patches, **points}.items())]
    found += [" ".join(f"{v:.3g}" for v in (*axes.get_xlim(), *axes.get_ylim()))]
    found += [axes.get_xlabel(), axes.get_ylabel(), *(t.get_text() for t in texts)]
    return " | ".join(x for x in found if x)


def _cut_off(widget):
    """Whether a label or button is smaller than its text."""
    if isinstance(widget, QLabel) and widget.wordWrap():
        return widget.heightForWidth(widget.width()) > widget.height()
    text = isinstance(widget, (QLabel, QAbstractButton)) and widget.text()
    return bool(text) and widget.sizeHint().width() > widget.width()


def _gives_way(widget):
    """Whether it is a part of the footer that a long message hides, such as one with a place on the disk."""
    if widget.parentWidget().objectName() != "footer":
        return False
    steps = isinstance(widget, QAbstractButton) and widget.text() in ("Undo", "Redo")
    return widget.accessibleName() != "Message" and not steps


def seen(widget):
    """One line a visible widget, in their order: kind, text, state, name and tip."""
    lines = []
    for w in _visible(widget):
        if (
            isinstance(w, QHeaderView)
            or NOT_HERE & {w.accessibleName(), w.parentWidget().accessibleName()}
            or _gives_way(w)
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
        elif isinstance(w, QProgressBar):
            told = [f"{w.value()} of {w.maximum()}"]
        elif isinstance(w, FigureView):
            told = [drawn(a) for a in w.figure.axes]
        told += [w.accessibleName(), w.accessibleDescription(), w.toolTip()]
        told += [str(w.property("state") or ""), "" if w.isEnabled() else "not enabled"]
        told += ["cut off" if _cut_off(w) else ""]
        told += ["has the keys" if w is widget.window().focusWidget() else ""]
        told = [x for x in told if x]
        if told:
            lines.append(f"{type(w).__name__}: {' · '.join(told)}")
    return lines


def changed(before, now):
    """What is new, and how many lines are gone."""
    gone = (Counter(before) - Counter(now)).total()
    return [*(x for x in now if x not in before), *([f"{gone} gone"] if gone else [])]


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
        yield name, changed(before, now)
        if at and window.shown != at:
            window.go(at)
            settle(window)
            now = seen(window)
        before = now


def opened(window, key):
    """A page as it is opened."""
    window.go(key)
    settle(window)
    return window.page(key)


def followed(window, acts):
    """What is new in the window after each of some acts, the last message among it."""
    settle(window)
    before = seen(window)
    for name, act in acts:
        try:
            act()
        except RuntimeError:  # the act before has taken the widget away
            yield name, ["gone"]
            continue
        settle(window)
        now = seen(window)
        yield name, [*changed(before, now), window.said]
        before = now


def typed(page, *texts):
    """Each field of a page with each of the texts, and Enter; what stood there is typed at last."""
    for field in page.findChildren(QLineEdit):
        inside = isinstance(field.parentWidget(), (QComboBox, QAbstractSpinBox))
        if not field.isVisible() or not field.isEnabled() or field.isReadOnly() or inside:
            continue
        for text in (*texts, field.text()):
            yield f"{field.accessibleName()} {text}", lambda f=field, t=text: enter(f, t)


def enter(field, text):
    """Replace the text of a field and press Enter."""
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def pressed(page, *but):
    """Each button of a page that is not checkable."""
    for button in page.findChildren(QPushButton):
        usable = button.isVisible() and button.isEnabled() and not button.isCheckable()
        if usable and button.text() not in but:
            yield f"press {button.text()}", button.click


def key_presses(widget, *keys):
    """Each of the keys, by its name; with ``^`` together with Shift."""
    for key in keys:
        shift = (
            Qt.KeyboardModifier.ShiftModifier if key[:1] == "^" else Qt.KeyboardModifier.NoModifier
        )
        code = getattr(Qt.Key, f"Key_{key.lstrip('^')}")
        yield key, lambda c=code, s=shift: QTest.keyClick(widget, c, s)


def touched(widget):
    """Clicks on a grid of places of a figure, and a double click in the middle."""
    left = Qt.MouseButton.LeftButton
    for part in (0.2, 0.35, 0.5, 0.65, 0.8):
        spot = QPoint(int(widget.width() * part), int(widget.height() * (1.1 - part)))
        yield f"click {part}", lambda s=spot: QTest.mouseClick(widget, left, pos=s)
    yield "click outside", lambda: QTest.mouseClick(widget, left, pos=QPoint(2, 2))
    middle = QPoint(widget.width() // 2, widget.height() // 2)
    yield "double click", lambda: QTest.mouseDClick(widget, left, pos=middle)
