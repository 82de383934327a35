"""Studies for benchmarks."""

import numpy as np

from anchor_tally.app.session import Session
from anchor_tally.domain.import_rows import ImportRow
from anchor_tally.study.edits.imports import ImportReadings

CLIENTS, INSTRUMENTS, WEEKS, REPEATS = 60, 8, 26, 3


def rows(clients=CLIENTS):
    """The study."""
    rng, out = np.random.default_rng(1), []
    start = np.datetime64("2026-03-02")

    def row(client, at, name, kind, value, repeat):
        entered = f"{value:.1f}"
        out.append(
            ImportRow(
                len(out) + 2,
                client,
                "female",
                30.0,
                170.0,
                at,
                name,
                kind,
                "",
                "body_fat_percent",
                float(entered),
                entered,
                "percent",
                repeat,
                "ok",
                "",
            )
        )

    for c in range(clients):
        fat, own = rng.uniform(14, 34), rng.normal(0, 1.5, INSTRUMENTS)
        for week in range(WEEKS):
            day = str(start + week * 7)
            if week in (0, 12, 24):
                row(f"C{c:02}", f"{day}T08:00", "Scan", "reference", fat + rng.normal(0, 0.4), 1)
            for i in range(INSTRUMENTS):
                d = own[i] + rng.normal(0, 1.0) + 0.3 * i
                for k in range(REPEATS):
                    row(
                        f"C{c:02}",
                        f"{day}T07:{10 + i:02}",
                        f"Device {i + 1}",
                        "device",
                        fat + d + rng.normal(0, 0.3),
                        k + 1,
                    )
    return tuple(out)


def large_study(path, clients=CLIENTS):
    """A session with 627 readings a client: 8 instruments, 26 weeks, 3 repeats, 3 scans."""
    session = Session.new(path, "large")
    session.do(ImportReadings(rows(clients), "made"))
    return session
