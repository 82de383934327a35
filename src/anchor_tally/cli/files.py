"""Commands on files: import, export, certificate."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterator

from ..analysis.people.withheld import withheld
from ..app.certificates import adopted, certificate_data, certificate_document, verify
from ..app.exporting import export, from_package, not_in_table
from ..app.importing import (
    TidyFile,
    of_sole_device,
    open_guessed,
    open_mapped,
    open_tidy,
    out_of_range_as_failed,
)
from ..app.plan import write_text
from ..app.reporting import write_report
from ..app.session import Session, refuse_if_bad
from ..domain.errors import UserError
from ..domain.steps import finish
from ..exchange.mapping import Row
from ..wording.importing import (
    caution_warnings,
    comments_words,
    lost_words,
    sum_words,
    withheld_words,
)
from ..wording.numbers import count, day_words
from ..wording.versions import verified_words
from .studies import session_of

MOST_NAMED = 20  # changed readings that are named


def take(args: argparse.Namespace) -> None:
    """Take a tidy CSV into a study, or make a study from a data package."""
    new = not args.into.exists()
    if new and args.into.suffix != ".tally":
        raise UserError(f"{args.into}: a study file ends in .tally; nothing was written")
    if args.file.suffix.lower() == ".zip" and args.dry_run:
        raise UserError(f"{args.file}: --dry-run looks at tables, not at packages")
    if args.file.suffix.lower() == ".zip":
        _import_package(args, new)
        return
    if args.guess:
        source, columns = open_guessed(args.file)
        for line in columns:
            print(line)
    elif args.mapping is not None:
        source = open_mapped(args.file, args.mapping)
    else:
        source = open_tidy(args.file)
    if args.dry_run:
        _try(args, source, new)
        return
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
        rows = _rows(args, source, session)
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
    if args.guess or staged.merged:
        print(sum_words(staged))
    session.close()


def _try(args: argparse.Namespace, source: TidyFile, new: bool) -> None:
    """Say what an import would do; nothing is written."""
    session = (
        Session.in_memory(args.into.stem, clock=args.clock)
        if new
        else Session.open(args.into, read_only=True, clock=args.clock)
    )
    try:
        staged = finish(session.stage(_rows(args, source, session)))
        for r in staged.refused:
            print(f'{args.file}, line {r.line}, {r.column} "{r.text}": {r.reason}')
        for warning in caution_warnings(session.catalogue(), staged):
            print(warning)
        print(f"{sum_words(staged)} Nothing was written.")
    finally:
        source.close()
        session.close()


def _rows(args: argparse.Namespace, source: TidyFile, session: Session) -> Iterator[Row]:
    """Rows as they are taken: of a table of any form those without a device are of the only one."""
    rows: Iterator[Row] = iter(source.rows)
    if args.guess or args.mapping is not None:
        rows = of_sole_device(rows, session.catalogue())
    return out_of_range_as_failed(rows) if args.out_of_range_as_failed else rows


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
        try:
            live = adopted(session, args.instrument, args.metric)
        except UserError as error:
            raise UserError(f"{args.file or 'demo'}: {error}") from error
        choices = {"clients": args.clients, "full": args.full}
        if args.output is not None and args.output.suffix.lower() in (".pdf", ".html"):
            page = certificate_document(session, live, session.today(), paper=args.paper, **choices)
            print(f"written: {write_report(page, args.output)}")
            return
        text = json.dumps(
            [certificate_data(session, v, **choices) for v in live],
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
    session = session_of(args)
    try:
        found = verify(session, args.certificate)
        for v in found:
            print(verified_words(v))
            metric = str(v.certificate["metric"])
            column = session.snapshot(metric).columns.get(metric)
            rows = v.readings.changed[:MOST_NAMED] if column is not None else ()
            ids = [int(column.reading[k]) for k in rows] if column is not None else []
            for r in session.readings([i for i in ids if i > 0]):
                hidden = withheld(session.catalogue().client_coded(r.client), r.metric)
                value = "value not shown" if hidden else f"{r.value}, {r.status}"
                print(f"· {r.client}, {day_words(r.taken_at)}, {r.instrument}: {value}")
    finally:
        session.close()
    return 0 if all(v.holds for v in found) else 1


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
