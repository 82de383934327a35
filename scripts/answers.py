"""Write anew what the tests keep of the program's answers: python scripts/answers.py.

Look at the difference first: each change must be meant.
"""

import gzip
import json
import os
import sys
import tempfile
from pathlib import Path

os.environ |= {"TZ": "UTC", "OPENBLAS_NUM_THREADS": "1"}  # as in the tests
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from anchor_tally.app.demo import demo_session
from answers import KEPT, STUDIES, pages, said
from places import CLOCK

if __name__ == "__main__":
    answers = {name: said(make()) for name, make in STUDIES.items()}
    with tempfile.TemporaryDirectory() as folder:
        answers["pages"] = pages(demo_session(Path(folder), clock=CLOCK))
    KEPT.write_bytes(gzip.compress(json.dumps(answers).encode(), mtime=0))
