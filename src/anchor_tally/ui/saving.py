"""Copying and saving of any figure or table: its menu, its keys, and the questions about files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Protocol, runtime_checkable

from PyQt6.QtCore import QMimeData, QPoint
from PyQt6.QtWidgets import QApplication, QFileDialog, QMenu, QWidget

from ..domain.errors import UserError
from ..exchange import result_table
from ..exchange.result_table import ResultTable
from ..exchange.writing import replacing
from ..figures.paper import DOUBLE_MM, SINGLE_MM, Form, PaperFigure
from .file_names import file_name, target_of

NUMBERS = "Numbers behind it (*.csv)"
_WORDS: dict[Form, str] = {"svg": "SVG", "pdf": "PDF", "png": "PNG, 300 dpi"}
_FORMS: dict[str, tuple[Form, float]] = {
    f"{words}, {width:g} mm wide (*.{form})": (form, width)
    for form, words in _WORDS.items()
    for width in (DOUBLE_MM, SINGLE_MM)
}
_TABLES = {
    "CSV (*.csv)": ".csv",
    "Workbook (*.xlsx)": ".xlsx",
    "TSV (*.tsv)": ".tsv",
    "HTML for a word processor (*.html)": ".html",
}


@runtime_checkable
class Says(Protocol):
    """A window that shows messages in place."""

    def say(self, text: str, trouble: bool = False) -> None:
        """Show a message."""


def offer(widget: QWidget, at: QPoint, what: tuple[tuple[str, Callable[[], None]], ...]) -> None:
    """Show a menu of what can be done with a figure or a table."""
    menu = QMenu(widget)
    for words, do in what:
        action = menu.addAction(words)
        if action is not None:
            action.triggered.connect(lambda _=False, do=do: do())
    menu.exec(at)
    menu.deleteLater()


def _tell(widget: QWidget, text: str, *, trouble: bool = False) -> None:
    window = widget.window()
    if isinstance(window, Says):
        window.say(text, trouble)


def _file_name(name: str) -> str:
    return file_name(name.lower())


def _ask(widget: QWidget, title: str, name: str, kinds: dict[str, str]) -> tuple[Path, str] | None:
    path, kind = QFileDialog.getSaveFileName(widget, title, _file_name(name), ";;".join(kinds))
    if not path:
        return None
    target, refused = target_of(path, kinds[kind], kinds.values())
    if refused:
        _tell(widget, refused, trouble=True)
        return None
    return target, kind


def _save(widget: QWidget, target: Path, write: Callable[[], object], words: str) -> None:
    try:
        write()
    except UserError as error:
        _tell(widget, f"{error}.", trouble=True)
    else:
        _tell(widget, f"{words} written to {target}.")


def save_figure(widget: QWidget, name: str, figure_at: Callable[[float], PaperFigure]) -> None:
    """Ask for a file and a form, and write the figure or the numbers behind it.

    Parameters
    ----------
    widget : QWidget
        Where the question is asked.
    name : str
        Suggested name.
    figure_at : callable
        Makes the figure for a width in mm.
    """
    kinds = {words: f".{form}" for words, (form, _) in _FORMS.items()} | {NUMBERS: ".csv"}
    asked = _ask(widget, "Save figure", name, kinds)
    if asked is None:
        return
    target, kind = asked
    if kind == NUMBERS:
        from ..figures.numbers import HEADS, numbers_behind  # NumPy: not before the first paint

        table = ResultTable(name, HEADS, numbers_behind(figure_at(DOUBLE_MM).shown))
        _save(widget, target, lambda: result_table.write(table, target), "Numbers of the figure")
        return
    form, width = _FORMS[kind]

    def write() -> None:
        content = figure_at(width).content(form)
        with replacing(target) as part:
            part.write_bytes(content)

    _save(widget, target, write, f"Figure, {width:g} mm wide,")


def save_table(widget: QWidget, table: ResultTable) -> None:
    """Ask for a file and a form, and write the table."""
    asked = _ask(widget, "Save table", table.caption, _TABLES)
    if asked is not None:
        target, _ = asked
        _save(widget, target, lambda: result_table.write(table, target), "Table")


def copy_table(table: ResultTable) -> None:
    """Put the table on the clipboard, as text with tabs and as HTML."""
    clipboard = QApplication.clipboard()
    if clipboard is not None:
        data = QMimeData()
        data.setText(result_table.as_tsv(table))
        data.setHtml(result_table.as_html(table))
        clipboard.setMimeData(data)
