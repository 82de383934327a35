"""The command on the calendar and the precision of a study."""

from __future__ import annotations

import argparse
import json
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path

from ..analysis.pairs.comparator import CannotCompare
from ..analysis.plan.precision import (
    USUAL,
    Precision,
    PrecisionRequest,
    Source,
    SpreadsRequest,
    StudySpreads,
    group_power,
    mornings_counted,
)
from ..app.session import Session
from ..domain.costs import Costs
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.metrics import metric_of
from ..domain.steps import finish
from ..exchange.calendar_file import as_csv, as_icalendar
from ..exchange.plan_json import plan_json
from ..exchange.writing import replacing
from ..stats.planning import Design
from ..wording.plan import (
    due_words,
    group_words,
    left_out_words,
    option_sentences,
    plan_headline,
    precision_headline,
)
from .studies import session_of


def plan(args: argparse.Namespace) -> None:
    """Print what is due and the precision to expect; write the calendar where asked."""
    session = session_of(args)
    try:
        today = date.fromisoformat(session.today())
        first, last = today - timedelta(days=365), today + timedelta(days=args.days_ahead)
        request = finish(session.schedule_steps(first.isoformat(), last.isoformat()))
        schedule, items = finish(request.run()), session.catalogue()
        if args.ics is not None:
            now = session.clock.now()
            _write(args.ics, as_icalendar(schedule, items, session.uid(), now))
        if args.csv is not None:
            _write(args.csv, as_csv(schedule, items).encode())
        name, precision = _precision(session, args)
        group = None
        if args.change:
            own = precision.design
            group = group_power(precision.spreads, args.change, own.clients, own.repeats)
    finally:
        session.close()
    if args.json:
        found = plan_json(schedule, items, precision, name, args.metric, group)
        print(json.dumps(found, indent=1, ensure_ascii=False, allow_nan=False))
        return
    print(plan_headline(schedule, items))
    for d in schedule.waiting:
        print(f"· {due_words(d, items, schedule.today)}")
    for line in left_out_words(schedule.left_out, items):
        print(f"· {line}")
    print(f"{name}. {precision_headline(precision, args.metric)}")
    for line in option_sentences(precision, args.metric):
        print(f"· {line}")
    if group is not None:
        print(f"· {group_words(group, args.metric)}")


def _write(path: Path, content: bytes) -> None:
    with replacing(path) as part:
        part.write_bytes(content)
    print(f"written: {path}")


def _spreads(session: Session, args: argparse.Namespace) -> tuple[str, StudySpreads]:
    """Of the instrument that was named, or the first device that has pairs with the reference."""
    lens = Lens(args.metric)
    names = (
        [args.instrument]
        if args.instrument
        else [name for name, kind in session.readers(args.metric) if kind == "device"]
    )
    for name in names:
        try:
            snapshot = session.snapshot(args.metric)
            return name, finish(SpreadsRequest(snapshot, lens, name).run())
        except CannotCompare:
            if args.instrument:
                raise
    scale = 1.0 if metric_of(args.metric).unit == "percent" else 0.5
    usual = replace(
        USUAL, **{k: getattr(USUAL, k) * scale for k in ("client", "scan", "day", "repeat")}
    )
    sources = dict.fromkeys(("client", "scan", "day", "repeat"), Source("usual"))
    return "a usual device", StudySpreads(None, usual, sources, None, ())


def _precision(session: Session, args: argparse.Namespace) -> tuple[str, Precision]:
    try:
        name, found = _spreads(session, args)
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    there = found.design or Design(max(len(session.catalogue().clients), 8), 2, 1, 3)
    design = Design(
        args.clients or there.clients,
        args.scans or there.scans,
        args.mornings or there.mornings,
        args.repeats or there.repeats,
        1.0 if args.scans else there.kept,
    )
    margin = session.catalogue().margin(metric_of(args.metric))
    costs = Costs(money=args.scan_cost)
    request = PrecisionRequest(
        found.spreads,
        found.sources,
        design,
        args.interval,
        args.half_width,
        margin,
        costs=costs,
        counted=mornings_counted(
            Lens(args.metric, window_hours=args.window_hours, around=args.around)
        ),
    )
    return name, finish(request.run())
