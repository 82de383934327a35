"""The data package: a zip of CSV tables with a description in the Frictionless Data Package form."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from pathlib import Path
from typing import Any

from ..domain.errors import UserError
from ..study.dump import Cell, PlainTable

_FORMAT = "anchor-tally/package/1"


def write(path: Path, facts: dict[str, Cell], tables: list[PlainTable]) -> None:
    """Write a package. Raises UserError when the place cannot be written."""
    whole = path.with_name(path.name + ".part")
    try:
        with zipfile.ZipFile(whole, "w", zipfile.ZIP_DEFLATED) as z:
            z.writestr("datapackage.json", json.dumps(_description(facts, tables), indent=1, ensure_ascii=False))
            for t in tables:
                text = io.StringIO(newline="")
                out = csv.writer(text, lineterminator="\n")
                out.writerow([name for name, _ in t.columns])
                out.writerows([["" if v is None else repr(v) if isinstance(v, float) else v for v in row] for row in t.rows])
                z.writestr(f"{t.resource}.csv", text.getvalue())
        whole.replace(path)
    except OSError as error:
        whole.unlink(missing_ok=True)
        raise UserError(f"{path}: cannot be written ({error.strerror}); the study is unchanged") from error


def _description(facts: dict[str, Cell], tables: list[PlainTable]) -> dict[str, Any]:
    resources = []
    for t in tables:
        names = {name for name, _ in t.columns}
        schema: dict[str, Any] = {"fields": [{"name": n, "type": kind} for n, kind in t.columns], "missingValues": [""]}
        if "id" in names:
            schema["primaryKey"] = ["id"]
        schema["foreignKeys"] = [{"fields": [c], "reference": {"resource": r, "fields": ["id"]}} for c, r in t.links]
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
        "title": facts["title"],
        "created": facts["created_at"],
        "anchor_tally": {"format": _FORMAT, **facts},
        "resources": resources,
    }


def read(path: Path) -> tuple[dict[str, Cell], dict[str, tuple[list[str], list[list[str]]]]]:
    """Facts and tables (header, rows) of a package. Raises UserError with one sentence when it is none."""
    try:
        with zipfile.ZipFile(path) as z:
            described = json.loads(z.read("datapackage.json"))
            facts = described["anchor_tally"]
            if facts["format"] != _FORMAT:
                raise UserError(f"{path}: a package of another format ({facts['format']}); nothing was imported")
            tables = {}
            for resource in described["resources"]:
                name = str(resource["path"])
                rows = list(csv.reader(io.StringIO(z.read(name).decode("utf-8"), newline="")))
                if not rows:
                    raise UserError(f"{path}: {name} has no header; nothing was imported")
                tables[name.removesuffix(".csv")] = (rows[0], rows[1:])
            return {k: facts[k] for k in ("uid", "title", "created_at", "visit_gap_minutes")}, tables
    except (OSError, zipfile.BadZipFile, KeyError, TypeError, ValueError, csv.Error) as error:
        raise UserError(f"{path}: not a data package of a study ({error}); nothing was imported") from error
