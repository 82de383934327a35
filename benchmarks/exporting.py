"""Workbook export of 37,620 readings beside openpyxl's write-only mode in one run.

``python benchmarks/exporting.py``.
"""

import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import openpyxl
from studies import large_study

from anchor_tally.app.exporting import export
from anchor_tally.app.session import Session


def main():
    """Print CPU seconds of both, the ratio, and those of the other formats."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        large_study(place / "s.tally").close()
        session = Session.open(place / "s.tally", read_only=True)
        taken = {}
        for suffix in ("xlsx", "csv", "zip"):
            start = time.process_time()
            export(session, place / f"x.{suffix}")
            taken[suffix] = time.process_time() - start
        session.close()
        book = openpyxl.load_workbook(place / "x.xlsx", read_only=True)
        sheets = [[list(row) for row in sheet.values] for sheet in book]
        start = time.process_time()
        plain = openpyxl.Workbook(write_only=True)
        for rows in sheets:
            sheet = plain.create_sheet()
            for row in rows:
                sheet.append(row)
        plain.save(place / "y.xlsx")
        reference = time.process_time() - start
    print(
        f"XLSX with all results {taken['xlsx']:.1f} s, the same cells by openpyxl {reference:.1f}"
        f" s, ratio {taken['xlsx'] / reference:.2f} (aim 1.0); CSV {taken['csv']:.1f} s, package"
        f" {taken['zip']:.1f} s"
    )


if __name__ == "__main__":
    main()
