"""Walks through what comes from files and goes into them: tables, documents, figures and studies."""

import re

import openpyxl
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QContextMenuEvent
from PyQt6.QtWidgets import QApplication, QMessageBox

from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.ui.canvas import FigureView
from anchor_tally.ui.widgets import Table
from dialogs import ANSWERS
from places import reading
from screens import explored, followed, opened, pressed, seen, settle, typed

GROUPS = """,A01,,A02,
Date,Weight (kg),Fat (%),Weight (kg),Fat (%)
2026-03-02,61.5,24.1,80.2,17.0
2026-03-09,61.0,n/a,80.6,95
"""
LONG = """Name;Sex;When;What;Amount;Machine
Auk;m;03/04/2026 07:10;fat;24,1;Birch
Auk;m;03/04/2026 07:12;weight;n/a;Birch
Ling;f;05/06/2026 07:10;fat;31,0;Birch
"""
TIDY = "\n".join(
    [
        ",".join(HEADER),
        *(reading("A01", "2026-03-02T07:00", v, repeat=k) for k, v in enumerate((24.1, 79.5), 1)),
        reading("A02", "2026-03-02", 24.1, metric="body_fat"),
        "",
    ]
)


def tables(window):
    """Tables of other programs: what their columns are, and what becomes of them."""
    folder = window.session.path.parent
    for name, text in (("groups", GROUPS), ("long", LONG), ("tidy", TIDY)):
        (folder / f"{name}.csv").write_text(text)
    _workbook(folder / "people.xlsx")
    page = window.page("import")
    editor = page.editor
    for name in ("groups.csv", "long.csv", "people.xlsx", "tidy.csv"):
        window.import_file(folder / name)
        yield from followed(window, [(name, lambda: None)])
        yield name, seen(page)
        most = 5 if name == "groups.csv" else 2
        for k in range(min(editor.columns.count, most) if editor.isVisible() else 0):
            editor.columns.choose(k)
            for n in range(editor.role.count()):
                if n != editor.role.currentIndex():
                    acts = [(f"{name} {k} {n}", lambda n=n: _choose(editor.role, n))]
                    yield from followed(window, acts)
            window.import_file(folder / name)
            settle(window)
        if editor.isVisible():
            yield from explored(window, editor, at="import")
            yield from followed(window, typed(editor, "Birch", "2026-03-02", ""))
            yield from followed(window, pressed(editor))
            acts = (page.to_open.click, lambda: _choose(page.sheet, page.sheet.count() - 1))
            acts += (page.take_sheet.click, page.take_sheet.click)
            yield from followed(window, [(f"sheet {k}", a) for k, a in enumerate(acts)])
        window.import_file(folder / name)
        yield from followed(window, [("remedy", page.remedy.click), ("remedy", page.remedy.click)])
        for answers in ({"cancelled": True}, {"ending": ".csv"}, {}):
            ANSWERS.__dict__.update({"cancelled": False, "ending": ""} | answers)
            yield from followed(window, [("mapping", page.keep.click)])
        yield from followed(window, [("take", page.take.click), ("undo", window.undo)])
        window.import_file(folder / name)
        settle(window)
        yield from followed(window, [("stop", page.cancel.click)])
    window.import_file(folder / "groups.csv")
    yield from followed(window, [("stop at once", page.cancel.click)])


def _workbook(path):
    """Two sheets that are clients, one with another metric, and an empty one."""
    book = openpyxl.Workbook()
    book.remove(book.active)
    for code, head, share in (("Auk", "Muscle", "46.4 %"), ("Brill", "Muscle", "41.0 %")):
        sheet = book.create_sheet(code)
        sheet.append(["Date", head, "Height"])
        sheet.append(["Mon 06 Oct 2025", share, 181])
        sheet.append(["Mon 13 Oct 2025", "x", 181])
    book.create_sheet("Nothing")
    book.save(path)


def _choose(box, k):
    box.setCurrentIndex(k)
    box.activated.emit(k)


def documents(window):
    """Each document: its sections off and on, its figures and tables, pages larger, and its file."""
    page = opened(window, "report")
    tree = page.sections
    for k in range(page.kind.count()):
        name = page.kind.itemText(k)
        if name == "Study report":  # as long as all others together
            continue
        _choose(page.kind, k)
        settle(window)
        ANSWERS.__dict__.update(kind=k, ending="", cancelled=False)
        for r in range(min(tree.topLevelItemCount(), 3)):
            top = tree.topLevelItem(r)
            yield from followed(window, [(f"{name} {r}", lambda t=top: tree.setCurrentItem(t))])
            for state in (Qt.CheckState.Unchecked, Qt.CheckState.Checked):
                acts = [(f"{name} {r} {state.name}", lambda t=top, s=state: t.setCheckState(0, s))]
                yield from followed(window, acts if r else ())
            for child in range(min(tree.topLevelItem(r).childCount(), 3)):
                yield from followed(window, _block(page, r, child))
        yield from followed(window, [(f"{name} export", page.export.click)])
        written = [p.stat().st_size > 1000 for p in ANSWERS.written if p.exists()]
        yield "written", [str(written)]
        for button in (page.zooms[2], page.zooms[2], page.zooms[1], page.zooms[0], page.zooms[1]):
            button.click()
            yield "zoom", [f"{page.view.zoomMode().name} {page.view.zoomFactor():.3f}"]
        page.zooms[0].click()
    for code in ("Auk", "Dory", "nobody"):
        yield from followed(window, [(code, lambda c=code: page.take_client(c))])
    ANSWERS.ending = ".txt"
    yield from followed(window, [("export", page.export.click)])
    ANSWERS.cancelled = True
    yield from followed(window, [("export", page.export.click), ("print", lambda: None)])
    window.act("undo")
    yield from followed(window, [("after undo", lambda: window.go("report"))])


def _block(page, row, child):
    tree = page.sections
    item = tree.topLevelItem(row).child(child)
    yield f"{row} {child}", lambda: tree.setCurrentItem(item)
    clipboard = QApplication.clipboard()
    clipboard.setText("nothing")
    yield "copy", page.copy_.click
    yield clipboard.text()[:2000], lambda: None
    yield "save", page.save_.click


def saved(window):
    """Menus of figures and tables with each form of file, and whole studies written and opened."""
    for key in ("compare", "drift", "calibrate", "track", "review"):
        page = opened(window, key)
        for view in (*page.findChildren(FigureView)[:1], *page.findChildren(Table)[:1]):
            kinds = range(7) if key == "compare" else (-1,)
            for item, kind, given in (
                (0, 0, {}),
                *((1, k, {}) for k in kinds),
                (1, 0, {"ending": ".odt"}),
                (1, 0, {"cancelled": True}),
            ):
                state = {"choose": item, "kind": kind, "ending": "", "cancelled": False} | given
                ANSWERS.__dict__.update(state)
                QApplication.clipboard().setText("nothing")
                name = f"{key} {view.accessibleName()} {item} {kind} {given}"
                yield from followed(window, [(name, lambda v=view: _menu(v))])
                yield "clipboard", [QApplication.clipboard().text()[:3000]]
                yield "file", _text(ANSWERS.written[-1]) if ANSWERS.written and item else []
    yield from _studies(window)


def _menu(view):
    spot = QPoint(8, 8)
    reason = QContextMenuEvent.Reason.Mouse
    target = view.viewport() if hasattr(view, "viewport") else view
    QApplication.sendEvent(target, QContextMenuEvent(reason, spot, target.mapToGlobal(spot)))


def _text(path):
    """The text of a table; of another file whether it is there."""
    if not path.exists():
        return ["not there"]
    if path.suffix == ".csv":
        lines = path.read_text(encoding="utf-8-sig").splitlines()[:20]
        return [_LONG.sub(lambda n: f"{float(n[0]):.6g}", x) for x in lines]
    return [f"{path.suffix} {path.stat().st_size > 500}"]


def _studies(window):
    save, asked = QMessageBox.StandardButton.Save, []
    before, QMessageBox.warning = QMessageBox.warning, lambda *a: asked.append(a[2]) or save
    try:
        for kind in (0, 1, 2, 3, 6):  # no report, which is a document
            ANSWERS.__dict__.update(kind=kind, ending="", cancelled=False)
            yield from followed(window, [(f"export {kind}", lambda: window.act("export"))])
            yield "asked", [*asked, *_text(ANSWERS.written[-1])]
    finally:
        QMessageBox.warning = before
    whole = next(p for p in reversed(ANSWERS.written) if p.suffix == ".zip")
    ANSWERS.__dict__.update(kind=0, open=whole.name)
    yield from followed(window, [("open", lambda: window.act("open"))])
    yield from followed(window, [("open", lambda: window.act("open"))])
    ANSWERS.open = ANSWERS.written[-1].name
    yield from followed(window, [("open", lambda: window.act("open"))])
    yield from followed(window, [("new", lambda: window.act("new"))])
    yield "studies", seen(window)


_LONG = re.compile(r"-?\d+\.\d{7,}(?:e-?\d+)?")  # the last digits differ by processor

FILE_WALKS = {"tables": tables, "documents": documents, "saved": saved}
