"""Stages and actions, declared once: words, keys and where they apply.

Buttons, shortcuts, menu and key sheet come from here.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage: id, words, what happens there, and whether this version has its screen.

    ``lens``: it asks through the lens.
    """

    id: str
    label: str
    purpose: str
    built: bool
    lens: bool = False


STAGES = (
    Stage("plan", "Plan", "Clients, devices, protocol and assessors", True),
    Stage("record", "Record", "Type readings at the bench", True),
    Stage("review", "Review", "Findings to resolve or check", True),
    Stage("compare", "Compare", "Agreement, repeatability and change of each device", True, True),
    Stage("drift", "Drift", "Drift and step changes of devices", True, True),
    Stage("calibrate", "Calibrate", "Offsets for each device and client", True, True),
    Stage("track", "Track", "One client through time", True, True),
    Stage("report", "Report", "Reports, certificates and pages to print", True, True),
)

Needs = Literal["nothing", "study", "writable", "elsewhere", "undo", "redo"]


@dataclass(frozen=True, slots=True)
class Action:
    """One action: id, words, keys, place in the menu, and when it is enabled."""

    id: str
    words: str
    keys: str
    menu: str
    needs: Needs
    stage: str = ""


ACTIONS = (
    Action("new", "New study…", "Ctrl+N", "Study", "nothing"),
    Action("open", "Open…", "Ctrl+O", "Study", "nothing"),
    Action("demo", "Open the demo study", "", "Study", "nothing"),
    Action("import", "Import…", "Ctrl+I", "Study", "writable"),
    Action("paste", "Paste table", "Ctrl+Shift+V", "Study", "writable"),
    Action("export", "Export…", "Ctrl+E", "Study", "study"),
    Action("copy", "Save a copy…", "", "Study", "study"),
    Action("take_over", "Write here (after closing the other window)", "", "Study", "elsewhere"),
    Action("undo", "Undo", "Ctrl+Z", "Edit", "undo"),
    Action("redo", "Redo", "Ctrl+Shift+Z", "Edit", "redo"),
    *(
        Action(f"go_{s.id}", s.label, f"Ctrl+{k}", "Go", "study", s.id)
        for k, s in enumerate(STAGES, start=1)
        if s.built
    ),
    Action("next", "Measure what is due next", "F9", "Go", "writable"),
    Action("find", "Find…", "Ctrl+K", "Go", "nothing"),
    Action("close_drawer", "Close the evidence drawer", "F6", "View", "study"),
    Action("dark", "Light / dark", "", "View", "nothing"),
    Action("menu", "Menu…", "F10", "View", "nothing"),
    Action("keys", "Keys and terms", "F1", "Help", "nothing"),
    Action("about", "About Anchor Tally", "", "Help", "nothing"),
)
ACTION = {a.id: a for a in ACTIONS}
