"""Write the table of keys of docs/user-guide.md.

From the table of actions: ``python scripts/keys_doc.py``.
"""

from pathlib import Path

from anchor_tally.app.actions import ACTIONS

TARGET = Path(__file__).parent.parent / "docs" / "user-guide.md"
BEGIN, END = "<!-- keys: made by scripts/keys_doc.py -->\n", "<!-- end of keys -->\n"


def table() -> str:
    """The table as text: one row for each action that has a key, in the order of the menu."""
    rows = [f"| {a.keys} | {a.menu} | {a.words.removesuffix('…')} |" for a in ACTIONS if a.keys]
    return "\n".join(["| key | menu | what it does |", "| --- | --- | --- |", *rows]) + "\n"


def page(text: str) -> str:
    """The user guide with the table of today."""
    before, _, rest = text.partition(BEGIN)
    return before + BEGIN + "\n" + table() + "\n" + END + rest.partition(END)[2]


if __name__ == "__main__":
    TARGET.write_text(page(TARGET.read_text(encoding="utf-8")), encoding="utf-8")
