"""A simulated scan laboratory that writes a result file to a folder.

Run it by ``python -m anchor_tally.feeds.laboratory FOLDER --client Auk``.
"""

from __future__ import annotations

import argparse
import csv
import io
import sys
import time
from pathlib import Path

import numpy as np

from ..domain.clock import SYSTEM
from ..domain.import_rows import TIDY_COLUMNS, ImportRow
from .scale import Person

_PARTS = {
    "arm_left": 0.055,
    "arm_right": 0.057,
    "leg_left": 0.17,
    "leg_right": 0.172,
    "trunk": 0.47,
}


def scan_rows(
    client: str, when: str, person: Person, *, setting: str, scan: int, seed: int | None = None
) -> list[ImportRow]:
    """Readings of one scan: total, without the head, segments, bone and body mass.

    Precision 0.4 percent fat.
    """
    rng = np.random.default_rng(seed)
    fat = person.fat + float(rng.normal(0, 0.4))
    fat_mass = person.mass * fat / 100
    bone = 0.0385 * person.mass
    lean = person.mass - fat_mass - bone
    values = [
        ("body_fat_percent", fat, 1, "percent"),
        (
            "body_fat_percent_subtotal",
            fat - 0.7,
            1,
            "percent",
        ),  # without the head a lean man reads about 0.7 lower
        ("fat_mass", fat_mass, 2, "kg"),
        ("lean_soft_tissue", lean, 2, "kg"),
        ("bone_mineral_content", bone, 2, "kg"),
        ("body_mass", person.mass, 1, "kg"),
    ]
    for part, share in _PARTS.items():
        values.append((f"fat_mass_{part}", fat_mass * share, 2, "kg"))
        values.append((f"lean_soft_tissue_{part}", lean * share, 2, "kg"))
    out: list[ImportRow] = []
    for metric, value, places, unit in values:
        entered = f"{value:.{places}f}"
        out.append(
            ImportRow(
                len(out) + 2,
                client,
                "",
                None,
                None,
                when,
                "Lab scan",
                "reference",
                setting,
                metric,
                float(entered),
                entered,
                unit,
                scan,
                "ok",
                "",
            )
        )
    return out


def drop_file(folder: Path, rows: list[ImportRow], name: str, *, pause: float = 0.0) -> Path:
    """Write the rows as a tidy CSV like a slow export.

    Under another name, in two parts, then renamed.
    """
    text = io.StringIO(newline="")
    out = csv.writer(text, lineterminator="\n")
    out.writerow(TIDY_COLUMNS)
    for r in rows:
        cells = (
            r.client,
            "",
            "",
            "",
            r.taken_at,
            r.instrument,
            r.kind,
            r.setting,
            r.metric,
            r.entered,
            r.unit,
            r.replicate,
        )
        out.writerow((*cells, r.status, r.note))
    whole = text.getvalue()
    part = folder / f"{name}.part"
    with part.open("w", encoding="utf-8") as f:
        f.write(whole[: len(whole) // 2])
        f.flush()
        time.sleep(pause)
        f.write(whole[len(whole) // 2 :])
    target = folder / f"{name}.csv"
    part.replace(target)
    return target


def main(argv: list[str] | None = None) -> int:
    """Drop one result."""
    p = argparse.ArgumentParser(description=__doc__)
    p.add_argument("folder", type=Path)
    p.add_argument("--client", required=True)
    p.add_argument("--mass", type=float, default=72.0, help="kg")
    p.add_argument("--fat", type=float, default=18.0, help="percent")
    p.add_argument("--setting", default="machine A, software 1.0")
    p.add_argument("--scan", type=int, default=1, help="second scan of the day: 2")
    p.add_argument("--seed", type=int)
    args = p.parse_args(argv)
    when = SYSTEM.now().strftime("%Y-%m-%dT%H:%M")
    rows = scan_rows(
        args.client,
        when,
        Person(args.mass, args.fat),
        setting=args.setting,
        scan=args.scan,
        seed=args.seed,
    )
    print(drop_file(args.folder, rows, f"scan-{args.client}-{when.replace(':', '')}", pause=0.2))  # noqa: T201  (its answer)
    return 0


if __name__ == "__main__":
    sys.exit(main())
