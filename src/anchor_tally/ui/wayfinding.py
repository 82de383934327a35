"""How the window is found through: the find box, the menu, the key sheet."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .file_actions import FileActions
from .memory import Memory

if TYPE_CHECKING:
    from ..app.find import Found
    from .frame import Rail
    from .pages import Page


class Wayfinding(FileActions):
    """The part of the window that leads to places, commands and help."""

    rail: Rail
    memory: Memory
    pages: dict[str, Page]
    can: dict[str, bool]

    def act(self, key: str) -> None:
        """Do an action of the table, where it can be done."""
        raise NotImplementedError

    def choose(self, stage: str) -> None:
        """Go where the user wants to."""
        raise NotImplementedError

    def ask_find(self) -> None:
        """Open the find box."""
        from ..app.find import find
        from .find_box import FindBox

        box = FindBox(self.front, lambda text: find(self.session, text, self.can))
        box.chosen.connect(self.open_found)
        box.show()
        box.text.setFocus()

    def open_found(self, found: Found) -> None:
        """Go to what was found, or do it."""
        if found.kind == "command":
            self.act(found.key)
        elif found.kind == "place":
            self.go(found.key)
        elif found.kind == "instrument":
            self.choose("plan")
            self.pages["plan"].show_found(found)
        else:
            self.choose("record")
            self.pages["record"].show_found(found)

    def show_menu(self) -> None:
        """Pop up the menu beside its button."""
        from .sheets import menu

        recent = [(p.name, lambda p=p: self.open_study(p)) for p in self.memory.recent()]
        button = self.rail.tools["menu"]
        self.popped = menu(self.front, self.can, self.act, recent)
        self.popped.popup(button.mapToGlobal(button.rect().topRight()))

    def show_keys(self) -> None:
        """Show the key sheet."""
        from .sheets import KeySheet

        KeySheet(self.front).show()

    def show_about(self) -> None:
        """Say what this program is."""
        from .sheets import About

        About(self.front).show()
