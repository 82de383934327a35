"""Commands on files: import, export, certificate."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from ..analysis.offsets.verify import verify
from ..app.documents import versions_in_use
from ..app.exporting import export, from_package, not_in_table
from ..app.importing import open_mapped, open_tidy, out_of_range_as_failed
from ..app.plan import write_text
from ..app.reporting import write_report
from ..app.session import Session, refuse_if_bad
from ..domain.errors import UserError
from ..domain.steps import finish
from ..reports.certificate import certificate_json
from ..reports.certificate_page import certificate_page
from ..wording.importing import caution_warnings, comments_words, lost_words, withheld_words
from ..wording.numbers import count, day_words
from ..wording.versions import verified_words
from .studies import session_of

MOST_NAMED = 20  # changed readings that are named


def take(args: argparse.Namespace) -> None:
    """Take a tidy CSV into a study, or make a study from a data package."""
    new = not args.into.exists()
    if new and args.into.suffix != ".tally":
        raise UserError(f"{args.into}: a study file ends in .tally; nothing was written")
    if args.file.suffix.lower() == ".zip":
        _import_package(args, new)
        return
    source = (
        open_mapped(args.file, args.mapping) if args.mapping is not None else open_tidy(args.file)
    )
    session = (
        Session.new(args.into, args.into.stem, clock=args.clock)
        if new
        else Session.open(args.into, clock=args.clock)
    )
    if session.read_only:
        where = (
            "in use by another window or command"
            if session.elsewhere
            else "it cannot be written in this place"
        )
        session.close()
        source.close()
        raise UserError(f"{args.into}: {where}; nothing was imported")
    try:
        rows = out_of_range_as_failed(source.rows) if args.out_of_range_as_failed else source.rows
        staged = finish(session.stage(rows))
        if args.skip_refused:
            for r in staged.refused:
                print(
                    f'{args.file}, line {r.line}, {r.column} "{r.text}": {r.reason}',
                    file=sys.stderr,
                )
        else:
            refuse_if_bad(str(args.file), staged)
        warnings = caution_warnings(session.catalogue(), staged)
        if staged.new:
            finish(session.take(staged, args.file.name))
    except UserError:
        session.close()
        if new:
            args.into.unlink()
        raise
    for warning in warnings:
        print(f"{args.file}: {warning}", file=sys.stderr)
    for column in source.left_out:
        if args.mapping is not None:
            print(f"{column}: the mapping does not know it; nothing was taken of it")
            continue
        print(f'column "{column}" is not part of the format and was left out')
    if source.comments:
        print(comments_words(source.comments))
    print(
        f"{count(staged.new, 'reading')} added to {args.into}, {staged.already_there} were already"
        f" there, {len(staged.refused)} refused"
    )
    session.close()


def _import_package(args: argparse.Namespace, new: bool) -> None:
    if not new:
        raise UserError(
            f"{args.into}: a data package creates a new study, and this file exists; nothing was"
            " written"
        )
    session = from_package(args.file, args.into, clock=args.clock)
    print(f"{count(len(session.readings()), 'reading')} in {args.into}, made from {args.file}")
    session.close()


def write_certificate(args: argparse.Namespace) -> None:
    """Print the data of adopted offsets, or write them as JSON, HTML or PDF."""
    session = session_of(args)
    try:
        item = session.catalogue().instrument_named(args.instrument)
        live = versions_in_use(session, args.instrument, args.metric)
        if item is None or not live:
            raise UserError(
                f"{args.file or 'demo'}: no offset of {args.instrument} is adopted for"
                f" {args.metric}"
            )
        if args.output is not None and args.output.suffix.lower() in (".pdf", ".html"):
            page = certificate_page(
                live, session.free_text(), session.today(), paper=args.paper, full=args.full
            )
            print(f"written: {write_report(page, args.output)}")
            return
        text = json.dumps(
            [
                certificate_json(
                    v, item, session.free_text(), session.marks(v.record), full=args.full
                )
                for v in live
            ],
            indent=1,
            ensure_ascii=False,
            allow_nan=False,
        )
        if args.output is None:
            print(text)
        else:
            print(f"written: {write_text(text, args.output, '.json')}")
    finally:
        session.close()


def verify_certificate(args: argparse.Namespace) -> int:
    """Compare a certificate with a study; 0 where nothing differs, 1 where something does."""
    certificates = _certificates(args.certificate)
    session = session_of(args)
    try:
        differs = 0
        for c in certificates:
            name, metric = str(c["instrument"]), str(c["metric"])
            found = verify(
                c["made_from"]["marks"],
                c["made_from"]["digest"],
                [(o["client"] or "", float(o["offset"])) for o in c["offsets"]],
                [r for r, _ in session.calibration_versions(name, metric)],
                session.snapshot(metric),
                metric,
            )
            print(verified_words(found, name, int(c["version"])))
            stored = [int(k) for k in found.changed if k.isdecimal()]
            for r in session.readings(stored[:MOST_NAMED]):
                print(
                    f"· {r.client}, {day_words(r.taken_at)}, {r.instrument}: {r.value}, {r.status}"
                )
            differs += not found.holds
    finally:
        session.close()
    return 1 if differs else 0


def _certificates(path: Path) -> list[dict[str, Any]]:
    """The certificates of a file. Raises UserError for anything else."""
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
        out = found if isinstance(found, list) else [found]
        for c in out:
            if c["schema"] != "anchor-tally/certificate/1" or not isinstance(
                c["made_from"]["marks"], dict
            ):
                raise ValueError("not a certificate")
            for o in c["offsets"]:
                float(o["offset"]), o["client"]
            int(c["version"]), c["instrument"], c["metric"], c["made_from"]["digest"]
    except OSError as error:
        raise UserError(f"{path}: cannot be read ({error.strerror or error})") from error
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise UserError(f"{path}: not a certificate that verify can read") from error
    if not out:
        raise UserError(f"{path}: not a certificate that verify can read")
    return out


def export_study(args: argparse.Namespace) -> None:
    """Write a study."""
    session = session_of(args)
    try:
        done = export(session, args.output, full=args.full, estimates=args.estimates)
        print(f"{count(done.readings, 'reading')} written to {args.output}")
        if done.withheld:
            print(withheld_words(done.withheld))
        said = lost_words(not_in_table(session)) if args.output.suffix.lower() != ".zip" else ""
        if said:
            print(said)
    finally:
        session.close()
