"""Write docs/metrics.md from the registry of metrics: ``python scripts/metrics_doc.py``."""

from pathlib import Path

from anchor_tally.domain.metrics import HEIGHT, METRICS

TARGET = Path(__file__).parent.parent / "docs" / "metrics.md"
UNITS = {"percent": "%", "1": "none"}  # as files have them
HEAD = """# Metrics

Made from the registry by `python scripts/metrics_doc.py`. A value outside *possible* is refused where it is typed, and on import
unless you ask for it as a failed reading. The bounds are wide (common practice): they stop typing errors and wrong units, no more.

| id | name | unit | possible | shown decimals | what it is |
| --- | --- | --- | --- | --- | --- |
"""


def page() -> str:
    """The page as text: one row a metric, in the order of the registry."""
    rows = [
        f"| `{m.id}` | {m.label} | {UNITS.get(m.unit, m.unit)} | {m.low:g} to {m.high:g} |"
        f" {m.decimals} |"
        f" {m.definition} |"
        for m in (*METRICS.values(), HEIGHT)
    ]
    return HEAD + "\n".join(rows) + "\n"


if __name__ == "__main__":
    TARGET.write_text(page(), encoding="utf-8")
