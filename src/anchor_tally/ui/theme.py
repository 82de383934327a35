"""Fonts and the style sheet, light and dark."""

from __future__ import annotations

from importlib import resources

from PyQt6.QtGui import QFontDatabase, QIcon

from ..figures.style import DARK, Palette

_ICONS = resources.files("anchor_tally") / "assets" / "icons"
_CHECKS = tuple((_ICONS / name).as_posix() for name in ("check.svg", "check-dark.svg"))  # type: ignore[attr-defined]
_ARROW = (resources.files("anchor_tally") / "assets" / "icons" / "down.svg").as_posix()  # type: ignore[attr-defined]
_UP = (resources.files("anchor_tally") / "assets" / "icons" / "up.svg").as_posix()  # type: ignore[attr-defined]
FAMILY = "IBM Plex Sans"


def load_fonts() -> None:
    """Register the shipped fonts with Qt."""
    folder = resources.files("anchor_tally") / "assets" / "fonts"
    for name in (
        "IBMPlexSans_400Regular.ttf",
        "IBMPlexSans_500Medium.ttf",
        "IBMPlexSans_600SemiBold.ttf",
    ):
        QFontDatabase.addApplicationFont(str(folder / name))


def icon() -> QIcon:
    """The program's icon."""
    return QIcon(str(resources.files("anchor_tally") / "assets" / "icons" / "anchor-tally.svg"))


def style_sheet(p: Palette) -> str:
    """The style of every widget."""
    return f"""
    * {{ font-family: "{FAMILY}"; font-size: 13px; color: {p.ink}; }}
    QWidget#page, QDialog {{ background: {p.paper}; }}
    QWidget#figure {{ background: {p.surface}; }}
    QWidget#rail {{ background: {p.ink if p.paper > "#8" else "#0f1518"}; }}
    QWidget#rail QPushButton {{ color: #efeadf; background: transparent; border: none; border-left: 4px solid transparent;
        text-align: left; padding: 11px 10px 11px 12px; font-size: 14px; }}
    QWidget#rail QPushButton:checked {{ background: rgba(255,255,255,0.10); border-left-color: #f2c14e; font-weight: 600; }}
    QWidget#rail QPushButton:hover:enabled, QWidget#rail QPushButton:focus {{ background: rgba(255,255,255,0.16); }}
    QWidget#rail QPushButton:disabled {{ color: #7f8d92; }}
    QWidget#rail QLabel {{ color: #f6f1e6; }}
    QWidget#lens, QWidget#footer {{ background: {p.surface}; border-bottom: 1px solid {p.line}; }}
    QWidget#footer {{ border-bottom: none; border-top: 1px solid {p.line}; }}
    QWidget#drawer, QWidget#card {{ background: {p.surface}; border: 1px solid {p.line}; border-radius: 6px; }}
    QLabel#headline {{ font-size: 18px; font-weight: 600; }}
    QLabel#faint {{ color: {p.faint}; }}
    QLabel#warn {{ color: {p.warn}; font-weight: 500; }}
    QLabel#strong {{ font-weight: 600; }}
    QLabel#title {{ font-size: 15px; font-weight: 600; }}
    QPushButton {{ background: {p.surface}; border: 1px solid {p.line}; border-radius: 5px; padding: 5px 12px; }}
    QPushButton:hover {{ border-color: {p.accent}; }}
    QPushButton:focus, QLineEdit:focus, QComboBox:focus, QTableView:focus, QSpinBox:focus {{ border: 2px solid {p.accent}; }}
    QPushButton:checked {{ background: {p.band}; border-color: {p.accent}; }}
    QPushButton:disabled {{ color: {p.faint}; }}
    QPushButton#primary {{ background: {p.accent}; color: {p.surface}; border-color: {p.accent}; font-weight: 600; }}
    QPushButton#primary:disabled {{ background: {p.line}; color: {p.faint}; border-color: {p.line}; }}
    QLineEdit, QComboBox, QSpinBox {{ background: {p.surface}; border: 1px solid {p.line}; border-radius: 4px; padding: 4px 7px; }}
    QLineEdit[state="excluded"] {{ color: {p.faint}; text-decoration: line-through; }}
    QLineEdit[state="failed"] {{ color: {p.warn}; }}
    QLineEdit[state="refused"] {{ border: 2px solid {p.warn}; }}
    QLineEdit[state="next"] {{ border: 2px dashed {p.line}; }}
    QLineEdit[state="next"]:focus {{ border: 2px solid {p.accent}; }}
    QPushButton#tab {{ border: none; border-bottom: 3px solid transparent; border-radius: 0; background: transparent; padding: 5px 10px; color: {p.faint}; }}
    QPushButton#tab:checked {{ border-bottom-color: #d9a520; color: {p.ink}; font-weight: 600; }}
    QPushButton#tab:hover, QPushButton#tab:focus {{ color: {p.ink}; background: {p.band}; }}
    QPushButton[condition] {{ padding: 4px 8px; }}
    QPushButton[condition="open"] {{ border-style: dashed; color: {p.faint}; }}
    QPushButton[condition="kept"] {{ border-color: {p.accent}; }}
    QPushButton[condition="broken"] {{ border: 2px solid {p.warn}; color: {p.warn}; font-weight: 600; }}
    QLabel#asked {{ background: {p.surface}; border: 2px solid {p.warn}; border-radius: 5px; color: {p.warn}; padding: 4px 8px; }}
    QLabel#caution {{ background: {p.surface}; border: 2px solid {p.warn}; border-radius: 5px; color: {p.warn}; font-weight: 600; padding: 5px 9px; }}
    QLineEdit:disabled {{ background: {p.paper}; color: {p.faint}; border-style: dashed; }}
    QComboBox::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url("{_ARROW}"); width: 11px; height: 11px; }}
    QWidget#training {{ background: {p.band}; border-top: 1px solid {p.line}; }}
    QSlider::groove:horizontal {{ height: 4px; background: {p.line}; border-radius: 2px; }}
    QSlider::sub-page:horizontal {{ background: {p.accent}; border-radius: 2px; }}
    QSlider::handle:horizontal {{ width: 14px; margin: -6px 0; border-radius: 7px; background: {p.surface}; border: 1px solid {p.accent}; }}
    QSlider::handle:horizontal:focus {{ background: {p.accent}; }}
    QSpinBox {{ padding-right: 20px; }}
    QSpinBox::up-button, QSpinBox::down-button {{ border: none; background: transparent; width: 20px; }}
    QSpinBox::up-arrow {{ image: url("{_UP}"); width: 9px; height: 9px; }}
    QSpinBox::down-arrow {{ image: url("{_ARROW}"); width: 9px; height: 9px; }}
    QComboBox QAbstractItemView, QListWidget, QMenu {{ background: {p.surface}; color: {p.ink}; border: 1px solid {p.line};
        selection-background-color: {p.accent}; selection-color: {p.surface}; }}
    QTableView {{ background: {p.surface}; alternate-background-color: {p.paper}; border: 1px solid {p.line}; gridline-color: {p.line};
        selection-background-color: {p.band}; selection-color: {p.ink}; border-radius: 4px; }}
    QTableView::item {{ padding: 0 4px; }}
    QTreeWidget {{ background: {p.surface}; border: 1px solid {p.line}; border-radius: 4px; outline: none; }}
    QTreeWidget::item {{ padding: 3px 2px; }}
    QTreeWidget::item:selected {{ background: {p.band}; color: {p.ink}; }}
    QTreeWidget:focus {{ border: 2px solid {p.accent}; }}
    QTreeWidget::indicator {{ width: 14px; height: 14px; border: 1px solid {p.faint}; border-radius: 3px; background: {p.surface}; }}
    QTreeWidget::indicator:checked {{ background: {p.accent}; border-color: {p.accent}; image: url("{_CHECKS[p is DARK]}"); }}
    QHeaderView::section {{ background: {p.paper}; color: {p.faint}; border: none; border-bottom: 1px solid {p.line}; padding: 5px 7px; font-weight: 500; }}
    QTableCornerButton::section {{ background: {p.paper}; border: none; }}
    QAbstractScrollArea::corner {{ background: transparent; border: none; }}
    QScrollArea {{ border: none; background: transparent; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; }} QScrollBar::handle:vertical {{ background: {p.line}; border-radius: 5px; min-height: 24px; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; }} QScrollBar::handle:horizontal {{ background: {p.line}; border-radius: 5px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QCheckBox {{ spacing: 7px; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {p.faint}; border-radius: 3px; background: {p.surface}; }}
    QCheckBox::indicator:checked {{ background: {p.accent}; border-color: {p.accent}; image: url("{_CHECKS[p is DARK]}"); }}
    QCheckBox::indicator:focus {{ border: 2px solid {p.accent}; }}
    QCheckBox:disabled {{ color: {p.faint}; }}
    QCheckBox:focus {{ color: {p.accent}; }}
    QToolTip {{ background: {p.surface}; color: {p.ink}; border: 1px solid {p.line}; }}
    """
