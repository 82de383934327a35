"""Write the table of keys and the glossary of docs/user-guide.md.

From the tables of actions and terms: ``python scripts/keys_doc.py``.
"""

from pathlib import Path

from anchor_tally.app.actions import ACTIONS
from anchor_tally.wording.glossary import GLOSSARY

TARGET = Path(__file__).parent.parent / "docs" / "user-guide.md"
BEGIN, END = "<!-- keys: made by scripts/keys_doc.py -->\n", "<!-- end of keys -->\n"
TERMS, END_OF_TERMS = ("<!-- terms: made by scripts/keys_doc.py -->\n", "<!-- end of terms -->\n")


def table() -> str:
    """The table as text: one row for each action that has a key, in the order of the menu."""
    rows = [f"| {a.keys} | {a.menu} | {a.words.removesuffix('…')} |" for a in ACTIONS if a.keys]
    return "\n".join(["| key | menu | what it does |", "| --- | --- | --- |", *rows]) + "\n"


def terms() -> str:
    """The glossary as text."""
    rows = [f"| {t.name} | {t.meaning} |" for t in GLOSSARY]
    return "\n".join(["| term | meaning |", "| --- | --- |", *rows]) + "\n"


def page(text: str) -> str:
    """The user guide with the tables of today."""
    for begin, end, made in ((BEGIN, END, table()), (TERMS, END_OF_TERMS, terms())):
        before, _, rest = text.partition(begin)
        text = before + begin + "\n" + made + "\n" + end + rest.partition(end)[2]
    return text


if __name__ == "__main__":
    TARGET.write_text(page(TARGET.read_text(encoding="utf-8")), encoding="utf-8")
