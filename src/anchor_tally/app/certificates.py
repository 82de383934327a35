"""Certificates of adopted offsets: their data, their page, and whether a study bears them out."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any

import numpy as np

from ..analysis.offsets.adopt import record_of
from ..analysis.offsets.calibrate import CalibrateRequest
from ..analysis.offsets.record import source_names
from ..analysis.offsets.verify import Verified, verify_readings
from ..analysis.offsets.versions import Version, versions
from ..analysis.review.held_back import held_back
from ..domain.calibrations import REASON_KEPT, CalibrationRecord
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.metrics import metric_named
from ..domain.records import Instrument
from ..domain.steps import finish
from ..reports.certificate import SCHEMA, certificate_json, differences, digest_of
from ..reports.certificate_page import SEAL, certificate_page
from ..reports.document import Document
from ..reports.render import as_html, as_pdf
from .session import Session

MOST = 20_000_000  # bytes of a file that is looked at
_SEAL = re.compile(
    rf"{SEAL} (\d{{4}}-\d\d-\d\d) (A4|Letter) clients=([01]) full=([01]) ([0-9a-f,]+)".encode()
)
_DIGEST = re.compile(r"[0-9a-f]{16,64}")
NOT_ONE = "not a certificate that verify can read"


def all_versions(session: Session, name: str, metric: str) -> tuple[Version, ...]:
    """Every version of an instrument's offset, the newest first."""
    item = session.catalogue().instrument_named(name)
    if item is None:
        return ()
    found = session.calibration_versions(item.name, metric)  # equations have a name beside the id
    stale = frozenset(r.id for r, gone in found if not gone and session.stale(r))
    return versions(found, session.today(), stale)


def versions_in_use(session: Session, name: str, metric: str) -> list[Version]:
    """The versions of a device that are neither superseded nor withdrawn."""
    found = all_versions(session, name, metric)
    return [v for v in found if v.state not in ("superseded", "withdrawn")]


def adopted(session: Session, name: str, metric: str) -> list[Version]:
    """The versions in use; raises UserError where there is none."""
    live = versions_in_use(session, name, metric)
    if not live:
        found = metric_named(metric)
        what = found.name if found is not None else metric
        raise UserError(f"no offset of {name} is adopted for {what}")
    return live


def waiting_of(session: Session, record: CalibrationRecord) -> int:
    """How many readings behind a record Review says not to use, while nobody has decided."""
    snapshot = finish(session.wide_snapshot_steps((record.metric,)))
    c = snapshot.columns.get(record.metric)
    if c is None:
        return 0
    found = held_back(snapshot, record.metric).findings
    rows = np.array(sorted({k for _, of in found for k in of}), dtype=np.int64)
    return len(set(source_names(snapshot, c, rows).tolist()) & set(record.sources))


def certificate_data(
    session: Session, v: Version, *, clients: bool = False, full: bool = False
) -> dict[str, Any]:
    """What ``certificate`` writes of a version."""
    item = session.catalogue().instrument_named(v.record.instrument)
    return certificate_json(
        v,
        item or Instrument(0, v.record.instrument, ""),
        session.free_text(),
        session.marks(v.record),
        clients=clients,
        full=full,
        waiting=waiting_of(session, v.record),
    )


def certificate_document(
    session: Session,
    found: list[Version],
    made_on: str,
    *,
    paper: str = "A4",
    clients: bool = False,
    full: bool = False,
) -> Document:
    """The page of some versions of one instrument."""
    data = [certificate_data(session, v, clients=clients, full=full) for v in found]
    return certificate_page(
        found, session.free_text(), data, made_on, paper=paper, clients=clients, full=full
    )


def verify(session: Session, what: str) -> list[Verified]:
    """Compare a certificate with a study.

    Parameters
    ----------
    session : Session
        The study.
    what : str
        A file that ``certificate`` has written (JSON, HTML or PDF), or a digest.

    Returns
    -------
    list of Verified
        One for each version.

    Raises
    ------
    UserError
        Nothing that can be read, or a digest that no certificate of the study has.
    """
    path = Path(what)
    digest = what.replace(" ", "").lower()
    if _DIGEST.fullmatch(digest) and not path.exists():
        return [_by_digest(session, digest)]
    content = _read(path)
    seal = _SEAL.search(content)
    if seal is not None:
        return _page(session, path, content, seal)
    return [_statement(session, c) for c in _certificates(path, content)]


def _read(path: Path) -> bytes:
    try:
        if not path.is_file():
            raise UserError(f"{path}: not a file, and not a digest")
        if path.stat().st_size > MOST:
            raise UserError(f"{path}: {NOT_ONE}")
        return path.read_bytes()
    except (OSError, ValueError) as error:
        why = getattr(error, "strerror", None) or str(error)
        raise UserError(f"{path}: cannot be read ({why})") from error


def _certificates(path: Path, content: bytes) -> list[dict[str, Any]]:
    """The certificates of a file of data. Raises UserError for anything else."""
    try:
        found = json.loads(content.decode())
        out = found if isinstance(found, list) else [found]
        for c in out:
            if c["schema"] != SCHEMA or not isinstance(c["made_from"]["marks"], dict):
                raise ValueError("not a certificate")
            for key in ("digest", "instrument", "metric", "state"):
                if not isinstance(c[key], str):
                    raise TypeError(key)
            if metric_named(c["metric"]) is None:
                raise ValueError("metric")
            if not isinstance(c["version"], int):
                raise TypeError("version")
            for mark in (*c["made_from"]["marks"], *c["made_from"]["marks"].values()):
                if not isinstance(mark, str):
                    raise TypeError("marks")
            _choices(c)
            digest_of(c)
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError) as error:
        raise UserError(f"{path}: {NOT_ONE}") from error
    if not out:
        raise UserError(f"{path}: {NOT_ONE}")
    return out


def _choices(c: Mapping[str, Any]) -> dict[str, bool]:
    """The choices that a certificate was written with."""
    reason = c["adopted_against_advice_because"]
    clients = isinstance(c["made_from"]["clients"], list)
    return {"clients": clients, "full": reason not in (None, REASON_KEPT)}


def _statement(session: Session, c: Mapping[str, Any]) -> Verified:
    """Compare a certificate, statement by statement, with the version that is most like it."""
    name, metric, choices = str(c["instrument"]), str(c["metric"]), _choices(c)
    of_study: list[tuple[str, dict[str, Any]]] = [
        (v.state, certificate_data(session, v, **choices))
        for v in all_versions(session, name, metric)
    ]
    adopted_ = bool(of_study)
    if not of_study:
        of_study = list(_recomputed(session, c, choices))
    snapshot = session.snapshot(metric)
    readings = verify_readings(c["made_from"]["marks"], snapshot, metric, session.free_text())
    compared = [
        (differences(c, mine, recomputed=not adopted_), state, mine) for state, mine in of_study
    ]
    unlike, state, mine = min(compared, key=lambda x: len(x[0]), default=((), "", c))
    written = str(c["state"])
    return Verified(
        name,
        int(c["version"]),
        str(c["digest"]) != digest_of(c),
        unlike,
        adopted_,
        bool(of_study),
        (written, state if adopted_ else written),
        readings,
        mine,
    )


def _recomputed(
    session: Session, c: Mapping[str, Any], choices: Mapping[str, bool]
) -> Iterator[tuple[str, dict[str, Any]]]:
    """What the readings of a study give under a certificate's conditions; nothing if refused."""
    try:
        on = c["conditions"]
        lens = Lens(
            str(c["metric"]),
            on["reference"],
            None if not on["clients_shown"] else frozenset(on["clients_shown"]),
            on["setting"],
            float(on["window_hours"]),
            str(on["tallies"]).startswith("mean"),
        )
        asked = CalibrateRequest(session.snapshot(lens.metric), lens, str(c["instrument"]))
        (found,) = finish(asked.run())
        record = record_of(found, session.catalogue(), session.now(), REASON_KEPT)
    except (UserError, KeyError, TypeError, ValueError):
        return  # the study cannot answer the question: there is nothing to compare with
    yield str(c["state"]), certificate_data(session, Version(record, "in force"), **choices)


def _every(session: Session) -> Iterator[Version]:
    """Every version of every instrument and metric."""
    for name, metric in dict.fromkeys((r.instrument, r.metric) for r in session.every_version()):
        yield from all_versions(session, name, metric)


def _by_digest(session: Session, digest: str) -> Verified:
    """The certificate of the study that has a digest."""
    for v in _every(session):
        for clients in (False, True):
            for full in (False, True):
                c = certificate_data(session, v, clients=clients, full=full)
                if str(c["digest"]).startswith(digest):
                    return _statement(session, c)
    raise UserError(
        f"no certificate that this study gives today has the digest {digest[:16]}…: it belongs to"
        " another study, or readings, state or version have changed since"
    )


def _page(session: Session, path: Path, content: bytes, seal: re.Match[bytes]) -> list[Verified]:
    """Compare a page with the one that the study gives for the same digests."""
    made_on, paper, clients, full = (seal[k].decode() for k in (1, 2, 3, 4))
    choices = {"clients": clients == "1", "full": full == "1"}
    try:
        date.fromisoformat(made_on)
    except ValueError as error:
        raise UserError(f"{path}: {NOT_ONE}") from error
    wanted = seal[5].decode().split(",")
    known = {
        str(c["digest"]): (v, c)
        for v in _every(session)
        for c in (certificate_data(session, v, **choices),)
    }
    there = [known[d] for d in wanted if d in known]
    if len(there) < len(wanted):
        raise UserError(
            f"{path}: no certificate that this study gives today has its digest: it belongs to"
            " another study, readings, state or version have changed since, or another version of"
            " the program wrote it"
        )
    document = certificate_document(session, [v for v, _ in there], made_on, paper=paper, **choices)
    again = as_pdf(document) if content.startswith(b"%PDF") else as_html(document).encode()
    unlike = () if again == content else ("the text of the page",)
    out = []
    for _, c in there:
        found = _statement(session, c)
        out.append(replace(found, unlike=(*unlike, *found.unlike), certificate=c))
    return out
