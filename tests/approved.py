"""Sentences that the program was approved to say: small text files that a review can read.

``APPROVE=1 make test`` writes them anew; commit them where each difference is meant.
"""

import difflib
import os
from pathlib import Path

FOLDER = Path(__file__).parent / "approved"


def sentences(answer):
    """Texts of four words or more in an answer, each once, in their order."""
    if isinstance(answer, dict):
        return list(dict.fromkeys(x for v in answer.values() for x in sentences(v)))
    if isinstance(answer, list):
        return list(dict.fromkeys(x for v in answer for x in sentences(v)))
    return [answer] if isinstance(answer, str) and answer.count(" ") >= 3 else []


def approve(name, lines):
    """Compare lines with those that were approved."""
    path, now = FOLDER / f"{name}.txt", [f"{x}\n" for x in "\n".join(lines).split("\n")]
    if os.environ.get("APPROVE"):
        FOLDER.mkdir(exist_ok=True)
        path.write_text("".join(now))
    then = path.read_text().splitlines(keepends=True)
    found = "".join(difflib.unified_diff(then, now, "approved", "now", n=0))
    assert not found, f"{name}:\n{found}"
