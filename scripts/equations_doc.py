"""Write docs/equations.md from the registry: python scripts/equations_doc.py."""

from pathlib import Path

from anchor_tally.methods.registry import catalogue

TARGET = Path(__file__).parent.parent / "docs" / "equations.md"


def page() -> str:
    """The page as text."""
    lines = [
        "# Equations",
        "",
        (
            "Made from the registry by `python scripts/equations_doc.py`; the formulas stand in"
            " `src/anchor_tally/methods/`. Beside the inputs"
        ),
        (
            "named, sex, age, height and body mass decide whether an equation applies. *From"
            " memory*: the coefficients were not yet checked"
        ),
        "against the publication; the program says so with each result.",
        "",
        "| id | inputs | outputs | population | standard error | source | certainty |",
        "| --- | --- | --- | --- | --- | --- | --- |",
    ]
    for e in catalogue():
        cells = [
            f"`{e['id']}`",
            ", ".join(e["inputs"]),
            ", ".join(e["outputs"]),
            e["population"],
            e["standard_error"],
            e["source"],
            e["certainty"],
        ]
        lines.append("| " + " | ".join(cells) + " |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    TARGET.write_text(page(), encoding="utf-8")
