"""Mappings of foreign tables, kept by their header and offered again."""

from __future__ import annotations

import hashlib
import json
import logging
from collections.abc import Sequence
from pathlib import Path

import platformdirs

from ..domain.errors import UserError
from ..exchange.input_limits import look_at
from ..exchange.mapping import Mapping, mapping_from
from ..exchange.tables import Table
from ..exchange.writing import replacing

log = logging.getLogger("anchor_tally")


def _file() -> Path:
    return Path(platformdirs.user_config_dir("anchor-tally")) / "mappings.json"


def _key(header: tuple[str, ...], sheet: str) -> str:
    text = "\x1f".join(h.strip().lower() for h in header) + (
        f"\x1e{sheet.strip().lower()}" if sheet else ""
    )
    return hashlib.sha256(text.encode()).hexdigest()[:24]


def _kept() -> dict[str, dict[str, object]]:
    try:
        kept = json.loads(_file().read_text(encoding="utf-8"))
    except FileNotFoundError:
        return {}
    except (OSError, ValueError) as error:
        log.info("kept mappings cannot be read: %s", error)
        return {}
    return kept if isinstance(kept, dict) else {}


MOST_MAPPING = 16 << 20  # bytes
SCHEMA = "anchor-tally/mapping/1"


def write_mappings(path: Path, tables: Sequence[tuple[Table, Mapping]]) -> Path:
    """Write how tables are read, for ``import --mapping``.

    Returns the path that was written. Raises UserError.
    """
    target = path if path.suffix else path.with_suffix(".json")
    kept = [{"sheet": t.sheet, "header": list(t.header), "mapping": m.as_dict()} for t, m in tables]
    with replacing(target) as part:
        text = json.dumps({"schema": SCHEMA, "tables": kept}, indent=1, ensure_ascii=False)
        part.write_text(text, encoding="utf-8")
    return target


def read_mappings(path: Path) -> dict[str, Mapping]:
    """Mappings by the key of their header and sheet, and of the header alone. Raises UserError."""
    look_at(path, MOST_MAPPING)
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
        if found.get("schema") != SCHEMA:
            raise UserError(f"{path}: not a mapping that the window has written")
        out: dict[str, Mapping] = {}
        for entry in found["tables"]:
            header, sheet = tuple(map(str, entry["header"])), str(entry["sheet"])
            mapping = mapping_from(entry["mapping"])
            if len(mapping.columns) != len(header):
                raise ValueError("columns and header differ")
            out.setdefault(_key(header, ""), mapping)
            out[_key(header, sheet)] = mapping
    except OSError as error:
        raise UserError(f"{path}: cannot be read ({error.strerror or error})") from error
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError) as error:
        raise UserError(f"{path}: not a mapping that the window has written") from error
    return out


def mapping_for(known: dict[str, Mapping], header: tuple[str, ...], sheet: str) -> Mapping | None:
    """The mapping of a table: that of its sheet, else of its header."""
    return known.get(_key(header, sheet)) or known.get(_key(header, ""))


def remembered(header: tuple[str, ...], sheet: str = "") -> Mapping | None:
    """The mapping that was used for a table with this header, on a sheet of this name, if any."""
    found = _kept().get(_key(header, sheet))
    if found is None:
        return None
    try:
        mapping = mapping_from(found)
    except (TypeError, KeyError, ValueError) as error:
        log.info("a kept mapping cannot be used: %s", error)
        return None
    return mapping if len(mapping.columns) == len(header) else None


def remember(header: tuple[str, ...], mapping: Mapping, sheet: str = "") -> None:
    """Keep a mapping for tables with this header, on sheets of this name."""
    kept = _kept() | {_key(header, sheet): mapping.as_dict()}
    target = _file()
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        part = target.with_suffix(".part")
        part.write_text(json.dumps(kept, indent=1, ensure_ascii=False), encoding="utf-8")
        part.replace(target)
    except OSError as error:
        log.info("the mapping is not kept: %s", error)
