"""The command line: compare, calibrate, import, export, methods. Imports no Qt."""

from __future__ import annotations

import argparse
import codecs
import dataclasses
import io
import json
import math
import os
import sys
from collections.abc import Callable, Generator
from pathlib import Path
from typing import NoReturn, TypeVar

from ..analysis.agreement.agreement import CompareRequest
from ..analysis.entry.field_method import catalogue, evaluate
from ..analysis.offsets.calibrate import CalibrateRequest
from ..analysis.offsets.versions import versions
from ..app.demo import demo_session
from ..app.exporting import export, from_package, not_in_table
from ..app.session import Session, refuse_if_bad
from ..domain.clock import SYSTEM, Clock
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.metrics import METRICS
from ..domain.snapshot import Snapshot
from ..domain.steps import finish
from ..exchange.certificate_json import certificate_json
from ..exchange.guessing import open_tidy
from ..exchange.results_json import calibrate_json, compare_json
from ..wording.importing import caution_warnings, lost_words
from ..wording.notes import sentence
from ..wording.numbers import count, number, signed, span
from ..wording.offsets import adopted_for, calibration_sentence, error_sentence, offset_headline, range_sentence
from ..wording.sentences import headline, pairs_sentence
from ..wording.statistics import rows
from .views import VIEWS, Question, tell

Result = TypeVar("Result")


class _Parser(argparse.ArgumentParser):
    """A parser that tells an error in one line."""

    def error(self, message: str) -> NoReturn:
        """Say what is wrong with the call; exit code 2."""
        self.exit(2, f"anchor-tally: {message} (see anchor-tally --help)\n")


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(
        prog="anchor-tally",
        description="Compare body-composition devices with a reference. Without a command: opens the window.",
        epilog="anchor-tally [STUDY.tally] opens the window; anchor-tally --demo opens it on a fresh demo study.",
    )
    sub = parser.add_subparsers(dest="command", required=True)
    c = sub.add_parser("compare", help="bias, limits of agreement and more for one instrument")
    k = sub.add_parser(
        "calibrate", help="what to subtract for one instrument, whether it helps, and whether the device shows change"
    )
    asked = [sub.add_parser(name, help=face.help) for name, face in VIEWS.items()]
    for question in (c, k, *asked):
        _lens_arguments(question)
    k.add_argument(
        "--client-sd", type=_positive, help="spread of the offset between clients, where too few were scanned to show it"
    )
    i = sub.add_parser(
        "import", help="take a tidy CSV into a study (made when it does not exist), or make a study from a data package"
    )
    i.add_argument("file", type=Path)
    i.add_argument("--into", type=Path, required=True, metavar="STUDY.tally")
    i.add_argument("--skip-refused", action="store_true", help="import the good rows although others are refused")
    m = sub.add_parser("method", help="one published equation: key=value inputs, with units")
    m.add_argument("equation")
    m.add_argument("inputs", nargs="*", metavar="key=value")
    m.add_argument("--json", action="store_true")
    listing = sub.add_parser("methods", help="all equations with their sources")
    listing.add_argument("--json", action="store_true")
    t = sub.add_parser(
        "certificate", help="the data of an adopted offset as JSON: table, uncertainty, conditions, validity, digest"
    )
    t.add_argument("file", nargs="?", type=Path)
    t.add_argument("--demo", action="store_true", help="use a fresh demo study")
    t.add_argument("--instrument", required=True)
    t.add_argument("--metric", default="body_fat_percent")
    t.add_argument("--full", action="store_true", help="with the reason for adopting against the advice, in words")
    e = sub.add_parser("export", help="write a study as tidy CSV, XLSX or data package (.zip)")
    e.add_argument("file", nargs="?", type=Path)
    e.add_argument("--demo", action="store_true", help="use a fresh demo study")
    e.add_argument("-o", "--output", type=Path, required=True)
    e.add_argument("--full", action="store_true", help="a whole copy (.zip) with names, birth dates, cautions and remarks")
    return parser


def _lens_arguments(question: argparse.ArgumentParser) -> None:
    """What a question is asked of: file, instrument, and the lens."""
    question.add_argument("file", nargs="?", type=Path, help="a study (.tally) or a tidy CSV")
    question.add_argument("--demo", action="store_true", help="use a fresh demo study")
    question.add_argument("--instrument", required=True)
    question.add_argument("--reference")
    question.add_argument("--metric", default="body_fat_percent")
    question.add_argument("--setting")
    question.add_argument("--window-hours", type=_hours, default=24.0)
    question.add_argument("--around", action="store_true", help="all tallies within the window count, not only the nearest")
    question.add_argument(
        "--reference-sd", type=_positive, help="SD of one scan, in the metric's unit, where no scans were repeated"
    )
    question.add_argument("--json", action="store_true")


def _hours(text: str) -> float:
    """A span of hours: a number above 0."""
    try:
        hours = float(text)
    except ValueError:
        hours = math.nan
    if not 0 < hours <= 24 * 366:
        raise argparse.ArgumentTypeError(f'"{text[:20]}" is not a number of hours above 0')
    return hours


def _positive(text: str) -> float:
    """A number above 0."""
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not 0 < value < 1e6:
        raise argparse.ArgumentTypeError(f'"{text[:20]}" is not a number above 0')
    return value


def _session(args: argparse.Namespace) -> Session:
    if args.demo:
        return demo_session(clock=args.clock)
    if args.file is None:
        raise UserError("name a study or a tidy CSV, or give --demo")
    return Session.open(args.file, read_only=True, clock=args.clock)


def _asked(
    args: argparse.Namespace,
    request: Callable[[Snapshot, Lens, Session], Generator[float, None, Result]],
    metrics: tuple[str, ...] = (),
) -> Result:
    """Ask one question of a study through the lens of the call; ``metrics`` are those it needs in place of the lens'."""
    lens = Lens(args.metric, args.reference, None, args.setting, args.window_hours, args.around)
    session = _session(args)
    try:
        snapshot = finish(session.wide_snapshot_steps(metrics)) if metrics else session.snapshot(args.metric)
        return finish(request(snapshot, lens, session))
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    finally:
        session.close()


def _calibrate(args: argparse.Namespace) -> None:
    given = {"reference_sd": args.reference_sd, "client_sd": args.client_sd}
    result = _asked(args, lambda snapshot, lens, _: CalibrateRequest(snapshot, lens, args.instrument, **given).run())[0]
    if args.json:
        print(json.dumps(calibrate_json(result), indent=1, ensure_ascii=False, allow_nan=False))
        return
    print(offset_headline(result))
    for line in (calibration_sentence(result), error_sentence(result), adopted_for(result), range_sentence(result)):
        if line:
            print(line)
    for c in result.clients:
        print(f"{c.client:20} {signed(c.offset):>7}  {span(c.interval, sign=True):18} {count(c.n, 'scan')}")
    for n in (*result.notes, *result.comparison.notes):
        print(f"· {sentence(n)}")


def _view(args: argparse.Namespace) -> None:
    face = VIEWS[args.command]
    found = _asked(
        args, lambda s, lens, session: face.ask(Question(s, lens, args.instrument, args.reference_sd, session)), face.metrics
    )
    tell(face, found[0], as_json=args.json)


def _compare(args: argparse.Namespace) -> None:
    result = _asked(
        args, lambda snapshot, lens, _: CompareRequest(snapshot, lens, args.instrument, reference_sd=args.reference_sd).run()
    )
    if args.json:
        print(json.dumps(compare_json(result), indent=1, ensure_ascii=False, allow_nan=False))
        return
    print(headline(result))
    print(pairs_sentence(result))
    for _, name, value, interval in rows(result):
        print(f"{name:34} {value:>8}  {interval}")
    for n in result.notes:
        print(f"· {sentence(n)}")


def _import(args: argparse.Namespace) -> None:
    new = not args.into.exists()
    if new and args.into.suffix != ".tally":
        raise UserError(f"{args.into}: a study file ends in .tally; nothing was written")
    if args.file.suffix.lower() == ".zip":
        _import_package(args, new)
        return
    source = open_tidy(args.file)
    session = Session.new(args.into, args.into.stem, clock=args.clock) if new else Session.open(args.into, clock=args.clock)
    if session.read_only:
        where = "in use by another window or command" if session.elsewhere else "it cannot be written in this place"
        session.close()
        source.close()
        raise UserError(f"{args.into}: {where}; nothing was imported")
    try:
        staged = finish(session.stage(source.rows))
        if args.skip_refused:
            for r in staged.refused:
                print(f'{args.file}, line {r.line}, {r.column} "{r.text}": {r.reason}', file=sys.stderr)
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
    for column in source.columns_left_out:
        print(f'column "{column}" is not part of the format and was left out')
    print(
        f"{count(staged.new, 'reading')} added to {args.into}, {staged.already_there} were there already, {len(staged.refused)} refused"
    )
    session.close()


def _import_package(args: argparse.Namespace, new: bool) -> None:
    if not new:
        raise UserError(f"{args.into}: a data package makes a study of its own, and this one exists; nothing was written")
    session = from_package(args.file, args.into, clock=args.clock)
    print(f"{count(len(session.readings()), 'reading')} in {args.into}, made from {args.file}")
    session.close()


def _certificate(args: argparse.Namespace) -> None:
    session = _session(args)
    try:
        item = session.catalogue().instrument_named(args.instrument)
        found = session.calibration_versions(item.name, args.metric) if item is not None else []
        stale = frozenset(r.id for r, gone in found if not gone and session.stale(r))
        live = [v for v in versions(found, session.today(), stale) if v.state not in ("superseded", "withdrawn")]
        if item is None or not live:
            raise UserError(f"{args.file or 'demo'}: no offset of {args.instrument} is adopted for {args.metric}")
        print(
            json.dumps(
                [certificate_json(v, item, session.free_text(), full=args.full) for v in live],
                indent=1,
                ensure_ascii=False,
                allow_nan=False,
            )
        )
    finally:
        session.close()


def _export(args: argparse.Namespace) -> None:
    session = _session(args)
    try:
        print(f"{count(export(session, args.output, full=args.full), 'reading')} written to {args.output}")
        said = lost_words(not_in_table(session)) if args.output.suffix.lower() != ".zip" else ""
        if said:
            print(said)
    finally:
        session.close()


def _method(args: argparse.Namespace) -> None:
    bad = [text for text in args.inputs if "=" not in text]
    if bad:
        raise UserError(f'"{bad[0]}" is not of the form key=value')
    result = evaluate(args.equation, dict(text.split("=", 1) for text in args.inputs))
    if args.json:
        print(json.dumps(dataclasses.asdict(result), indent=1, ensure_ascii=False, allow_nan=False))
        return
    for key, value in result.outputs.items():
        m = METRICS[key]
        print(f"{m.label}: {number(value, m.decimals)}{'' if m.unit == '1' else f' {m.unit}'}")
    if not result.applies:
        print("Does not apply:")
    for line in (*result.notes, f"Source: {result.source}"):
        print(f"· {line}")


def _methods(args: argparse.Namespace) -> None:
    if args.json:
        print(json.dumps(catalogue(), indent=1, ensure_ascii=False))
        return
    for e in catalogue():
        print(f"{e['id']}: {', '.join(e['inputs'])} → {', '.join(e['outputs'])}")
        print(f"    {e['population']}; standard error {e['standard_error']}; {e['certainty']}")
        print(f"    {e['source']}")


_RUN = {
    "compare": _compare,
    "calibrate": _calibrate,
    **dict.fromkeys(VIEWS, _view),
    "certificate": _certificate,
    "import": _import,
    "export": _export,
    "method": _method,
    "methods": _methods,
}


_PLAIN = {"−": "-", "–": "-", "→": "->", "·": "*", "±": "+/-", "…": "...", "≥": ">=", "√": "sqrt"}


def _plain_characters(error: UnicodeError) -> tuple[str, int]:
    """Replacements for what a terminal cannot show: a minus must never be lost."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(_PLAIN.get(c, "?") for c in error.object[error.start : error.end]), error.end


codecs.register_error("plain", _plain_characters)


def main(argv: list[str], clock: Clock = SYSTEM) -> int:
    """Run a command; return the exit code (2 for an error, told in one line on standard error)."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="plain")
    try:
        args = _parser().parse_args(argv)
        args.clock = clock
        _RUN[args.command](args)
        sys.stdout.flush()
    except UserError as error:
        print(f"anchor-tally: {error}".replace("\n", " "), file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("anchor-tally: stopped", file=sys.stderr)
        return 130
    except BrokenPipeError:
        _no_more_output()
        return 0  # the reader of a pipe has seen enough
    except OSError as error:
        _no_more_output()
        print(f"anchor-tally: the output cannot be written ({error.strerror or error})", file=sys.stderr)
        return 2
    return 0


def _no_more_output() -> None:
    """What is still waiting for a closed pipe or a full disk is given up, so that Python does not try again at its end."""
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, sys.stdout.fileno())
    os.close(nowhere)
