"""The data package: a zip of CSV tables described in the Frictionless Data Package form."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from collections.abc import Generator, Sequence
from pathlib import Path
from typing import Any

from ..domain.errors import UserError
from ..domain.text import guarded, unguarded
from ..study.dump import Cell, PlainTable
from .input_limits import look_into, one_sentence
from .writing import BLOCK, replacing

_FORMAT = "anchor-tally/package/1"
NEEDED = ("clients", "instruments", "visits", "readings")  # without these there is no study


def write_steps(
    path: Path, facts: dict[str, Cell], tables: Sequence[PlainTable]
) -> Generator[float, None, None]:
    """Write a package; yields the share written.

    Raises UserError when the place cannot be written.
    """
    whole, done = max(sum(len(t.rows) for t in tables), 1), 0
    with replacing(path) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr(
            "datapackage.json",
            json.dumps(_description(facts, tables), indent=1, ensure_ascii=False),
        )
        for t in tables:
            with (
                z.open(f"{t.resource}.csv", "w") as raw,
                io.TextIOWrapper(raw, "utf-8", newline="") as text,
            ):
                out = csv.writer(text, lineterminator="\n")
                out.writerow([name for name, _ in t.columns])
                for at in range(0, len(t.rows), BLOCK):
                    out.writerows([[_text(v) for v in row] for row in t.rows[at : at + BLOCK]])
                    done += len(t.rows[at : at + BLOCK])
                    yield done / whole


def _text(value: Cell) -> str:
    return "" if value is None else repr(value) if isinstance(value, float) else guarded(str(value))


def _description(facts: dict[str, Cell], tables: Sequence[PlainTable]) -> dict[str, Any]:
    resources = []
    for t in tables:
        names = {name for name, _ in t.columns}
        schema: dict[str, Any] = {
            "fields": [{"name": n, "type": kind} for n, kind in t.columns],
            "missingValues": [""],
        }
        if "id" in names:
            schema["primaryKey"] = ["id"]
        schema["foreignKeys"] = [
            {"fields": [c], "reference": {"resource": r, "fields": ["id"]}} for c, r in t.links
        ]
        resources.append(
            {
                "name": t.resource.replace("_", "-"),
                "path": f"{t.resource}.csv",
                "profile": "tabular-data-resource",
                "format": "csv",
                "encoding": "utf-8",
                "schema": schema,
            }
        )
    for r in resources:
        for key in r["schema"]["foreignKeys"]:  # type: ignore[index]
            key["reference"]["resource"] = key["reference"]["resource"].replace("_", "-")
    return {
        "profile": "tabular-data-package",
        "name": "study",
        **({"title": facts["title"], "created": facts["created_at"]} if "title" in facts else {}),
        "anchor_tally": {"format": _FORMAT, **facts},
        "resources": resources,
    }


def read(path: Path) -> tuple[dict[str, Cell], dict[str, tuple[list[str], list[list[str]]]]]:
    """Facts and tables (header, rows) of a package.

    Raises UserError with one sentence when it is none.
    """
    look_into(path)
    kept = "nothing was imported"
    with one_sentence(f"{path}: not a data package of a study", kept), zipfile.ZipFile(path) as z:
        described = json.loads(z.read("datapackage.json"))
        facts = described["anchor_tally"]
        if facts["format"] != _FORMAT:
            raise UserError(
                f"{path}: a package of another format ({str(facts['format'])[:40]}); {kept}"
            )
        tables: dict[str, tuple[list[str], list[list[str]]]] = {}
        for resource in described["resources"]:
            name = str(resource["path"])
            if name.removesuffix(".csv") in tables:
                raise UserError(f"{path}: {name[:40]} is listed twice; {kept}")
            rows = list(csv.reader(io.StringIO(z.read(name).decode("utf-8"), newline="")))
            if not rows:
                raise UserError(f"{path}: {name[:40]} has no header; {kept}")
            tables[name.removesuffix(".csv")] = (
                rows[0],
                [[unguarded(cell) for cell in row] for row in rows[1:]],
            )
        gone = [name for name in NEEDED if name not in tables]
        if gone:
            raise UserError(f"{path}: {gone[0]}.csv is missing; {kept}")
        return {k: v for k, v in facts.items() if k != "format"}, tables
    raise AssertionError("the block above either returns or raises")
