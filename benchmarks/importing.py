"""Import of readings beside csv.reader + executemany of the same rows.

Time and extra memory, in one run.

``plain`` writes them into a bare table, ``direct`` into the readings of a study, unchecked and with
its keys; ``study`` is the import: every row checked, staged, visits formed.

python benchmarks/importing.py [ROWS]
"""

import csv
import resource
import sqlite3
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from anchor_tally.app.session import Session
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.readings_csv import HEADER, open_readings
from anchor_tally.study.open_file import create

PLAIN = f"CREATE TABLE plain ({', '.join(HEADER)})"


def write(path: Path, n: int) -> None:
    """Make a readings file: 60 clients, 5 instruments, 3 repeats."""
    with path.open("w", newline="", encoding="utf-8") as f:
        out = csv.writer(f, lineterminator="\n")
        out.writerow(HEADER)
        for k in range(n):
            visit, within = divmod(k, 15)
            device, rep = divmod(within, 3)
            day, client = divmod(visit, 60)
            when = f"{2000 + day // 336}-{day % 336 // 28 + 1:02}-{day % 28 + 1:02}T06:{30 + device * 2}"
            value = f"{10 + k * 7919 % 200 / 10:.1f}"
            cells = (
                f"C{client:02}",
                "male",
                "30",
                "180.0",
                when,
                f"Device {device}",
                "device",
                "",
                "body_fat_percent",
            )
            out.writerow((*cells, value, "percent", rep + 1, "ok", ""))


def run(what: str, source: Path, target: Path) -> tuple[float, float]:
    """Time in s and growth of the process in MB of one way, in this process."""
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    start = time.perf_counter()
    if what == "study":
        session = Session.new(target, "t")
        finish(session.take(finish(session.stage(open_readings(source).rows)), "t"))
        session.close()
    elif what == "direct":
        _direct(source, target)
    else:
        conn = sqlite3.connect(target, isolation_level=None)
        conn.execute("PRAGMA synchronous = FULL")
        conn.execute(PLAIN)
        conn.execute("BEGIN")
        with source.open(newline="", encoding="utf-8") as f:
            rows = csv.reader(f)
            next(rows)
            conn.executemany(f"INSERT INTO plain VALUES ({', '.join('?' * len(HEADER))})", rows)
        conn.execute("COMMIT")
        conn.close()
    return (
        time.perf_counter() - start,
        (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024,
    )


def _direct(source: Path, target: Path) -> None:
    """Insert the same rows without any check: one visit for each client, ids by dictionary."""
    conn = create(target, "t")
    with source.open(newline="", encoding="utf-8") as f:
        rows = csv.reader(f)
        next(rows)
        conn.execute("BEGIN IMMEDIATE")
        visits = {f"C{k:02}": k + 1 for k in range(60)}
        devices = {f"Device {k}": k + 1 for k in range(5)}
        conn.executemany(
            "INSERT INTO client (id, code) VALUES (?, ?)", [(n, code) for code, n in visits.items()]
        )
        conn.executemany(
            "INSERT INTO visit (id, client, start, instant, timed) VALUES (?, ?, '2000-01-01',"
            " 0, 0)",
            [(n, n) for n in visits.values()],
        )
        conn.executemany(
            "INSERT INTO instrument (id, name, kind) VALUES (?, ?, 'device')",
            [(n, name) for name, n in devices.items()],
        )
        conn.executemany(
            "INSERT INTO reading (visit, taken_at, instrument, metric, value, entered, unit,"
            " replicate, status, note, instant, timed) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 1)",
            (
                (
                    visits[r[0]],
                    r[4],
                    devices[r[5]],
                    r[8],
                    float(r[9]),
                    r[9],
                    r[10],
                    int(r[11]),
                    r[12],
                    r[13],
                    n,
                )
                for n, r in enumerate(rows)
            ),
        )
        conn.execute("COMMIT")
    conn.close()


def main() -> None:
    """Each way five times in processes of its own; the best time counts."""
    if len(sys.argv) == 4:
        print(*run(sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3])))
        return
    n = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with tempfile.TemporaryDirectory() as folder:
        source = Path(folder) / "rows.csv"
        write(source, n)
        best = {}
        for turn in range(5):
            for what in ("plain", "direct", "study"):
                target = Path(folder) / f"{what}{turn}.tally"
                done = subprocess.run(
                    [sys.executable, __file__, what, source, target],
                    capture_output=True,
                    text=True,
                    check=True,
                )
                seconds, megabytes = map(float, done.stdout.split())
                best[what] = min(best.get(what, (9e9, 0)), (seconds, megabytes))
    for what, (seconds, megabytes) in best.items():
        ratios = "  ".join(f"{seconds / best[b][0]:.2f} × {b}" for b in ("plain", "direct"))
        print(f"{what:6} {n:9,} rows {seconds:7.2f} s {megabytes:7.1f} MB more  {ratios}")


if __name__ == "__main__":
    main()
