"""Where the kept files of the tests lie."""

from pathlib import Path

DATA = Path(__file__).parent / "data"
