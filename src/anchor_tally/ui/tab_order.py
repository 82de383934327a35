"""The order in which Tab moves through the fields: that of the layouts, from top to bottom.

Qt moves in the order in which widgets were made. Cells and tables are made anew while a page is
open, so that order would jump up and down the screen.
"""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractScrollArea, QGridLayout, QLayout, QScrollArea, QWidget

_TAB = Qt.FocusPolicy.TabFocus.value


def fields_in_order(root: QWidget) -> Iterator[QWidget]:
    """Visible fields below a widget that take the focus by Tab, in the order of the layouts."""
    area = isinstance(root, QScrollArea)  # it takes the keys that scroll, and is no stop
    if (
        not area
        and root.focusProxy() is None
        and root.focusPolicy().value & _TAB
        and root.isEnabled()
    ):
        yield root
        return  # the parts of a field, such as the line of a box, are not visited one by one
    parts: list[QWidget]
    if isinstance(root, QScrollArea):
        inner = root.widget()
        parts = [inner] if inner is not None else []
    elif isinstance(root, QAbstractScrollArea):
        parts = []
    else:
        layout = root.layout()
        parts = list(_in_layout(layout)) if layout is not None else _children(root)
    for part in parts:
        if part.isVisible():
            yield from fields_in_order(part)


def _children(widget: QWidget) -> list[QWidget]:
    return [c for c in widget.children() if isinstance(c, QWidget) and not c.isWindow()]


def _in_layout(layout: QLayout) -> Iterator[QWidget]:
    places = list(range(layout.count()))
    if isinstance(layout, QGridLayout):
        places.sort(key=lambda k: layout.getItemPosition(k)[:2])
    for k in places:
        item = layout.itemAt(k)
        widget = item.widget() if item is not None else None
        inner = item.layout() if item is not None else None
        if widget is not None:
            yield widget
        elif inner is not None:
            yield from _in_layout(inner)


def step(root: QWidget, current: QWidget | None, *, forward: bool) -> bool:
    """Give the focus to the field after the current one, or before it, in a circle.

    Returns whether there is one.
    """
    fields = list(fields_in_order(root))
    if not fields:
        return False
    place = {id(w): k for k, w in enumerate(fields)}
    while current is not None and id(current) not in place:
        current = current.parentWidget()
    at = (-1 if forward else 0) if current is None else place[id(current)]
    field = fields[(at + (1 if forward else -1)) % len(fields)]
    reason = Qt.FocusReason.TabFocusReason if forward else Qt.FocusReason.BacktabFocusReason
    field.setFocus(reason)
    _show(field)
    return True


def _show(field: QWidget) -> None:
    """Scroll a field into view, in every area around it."""
    around = field.parentWidget()
    while around is not None:
        if isinstance(around, QScrollArea):
            around.ensureWidgetVisible(field)
        around = around.parentWidget()
