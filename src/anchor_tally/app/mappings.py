"""Mappings of foreign tables, kept by their header and offered again."""

from __future__ import annotations

import hashlib
import json
import logging
from pathlib import Path

import platformdirs

from ..exchange.mapping import Mapping, mapping_from

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
