"""Where the kept files of the tests lie, and a text read as the file that holds it would be."""

import tempfile
from pathlib import Path

from anchor_tally.domain.records import Refused
from anchor_tally.exchange.readings_csv import open_readings

DATA = Path(__file__).parent / "data"


def parse_text(text):
    """Rows and refusals of a tidy CSV."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "t.csv"
        path.write_bytes(text.encode())
        found = list(open_readings(path).rows)
    return [r for r in found if not isinstance(r, Refused)], [r for r in found if isinstance(r, Refused)]
