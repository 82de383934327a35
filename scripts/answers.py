"""Write anew what the tests keep of the program's answers: python scripts/answers.py.

Look at the difference first: each change must be meant.
"""

import gzip
import json
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from answers import KEPT, STUDIES, said

if __name__ == "__main__":
    answers = {name: said(make()) for name, make in STUDIES.items()}
    KEPT.write_bytes(gzip.compress(json.dumps(answers).encode(), mtime=0))
