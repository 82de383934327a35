"""The command line: what can be called, and how errors are reported.

Imports no Qt; each command loads what it needs when it runs.
"""

from __future__ import annotations

import argparse
import codecs
import io
import math
import os
import sys
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import NoReturn

from ..app.views import DRIFT, VIEWS
from ..domain.clock import SYSTEM, Clock
from ..domain.errors import UserError
from ..stats.near_days import MOST_NEAR_DAYS, NEAR_DAYS

QUESTIONS = {v.command: v for v in (*VIEWS, DRIFT) if v.command}


class _Parser(argparse.ArgumentParser):
    """A parser that reports an error in one line."""

    def error(self, message: str) -> NoReturn:
        """Say what is wrong with the call; exit code 2."""
        self.exit(2, f"anchor-tally: {message} (see anchor-tally --help)\n")


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(
        prog="anchor-tally",
        description=(
            "Compare body-composition devices with a reference. Without a command: opens the"
            " window."
        ),
        epilog=(
            "anchor-tally [STUDY.tally] opens the window; anchor-tally --demo opens it on a fresh"
            " demo study."
        ),
    )
    sub = parser.add_subparsers(dest="command", required=True)
    for view in QUESTIONS.values():
        question = sub.add_parser(view.command, help=view.help)
        _lens_arguments(question)
        if view.key == "consistency":
            question.add_argument(
                "--near-days",
                type=int,
                choices=range(1, MOST_NEAR_DAYS + 1),
                default=NEAR_DAYS,
                help="days up to which neighbouring visits count as variation from day to day",
            )
    k = sub.add_parser(
        "calibrate",
        help=(
            "offsets of one instrument, whether correction helps, and whether it responds to change"
        ),
    )
    _lens_arguments(k)
    k.add_argument(
        "--client-sd",
        type=_positive,
        help="SD of the offset between clients, when too few were scanned to estimate it",
    )
    _plan_arguments(sub.add_parser("plan", help="what is due, and the precision to expect"))
    _simulate_arguments(
        sub.add_parser("simulate", help="draw studies with a chosen truth and analyse them")
    )
    i = sub.add_parser(
        "import",
        help=(
            "import a tidy CSV into a study (created if missing), or create a study from a data"
            " package"
        ),
    )
    i.add_argument("file", type=Path)
    i.add_argument("--into", type=Path, required=True, metavar="STUDY.tally")
    i.add_argument(
        "--mapping",
        type=Path,
        metavar="MAP.json",
        help="how a table with headings of its own is read, as written by the import of the window",
    )
    i.add_argument(
        "--guess",
        action="store_true",
        help="read a table of any form as the window does, and print what each column is taken for",
    )
    i.add_argument(
        "--dry-run", action="store_true", help="say what would be imported; write nothing"
    )
    i.add_argument(
        "--out-of-range-as-failed",
        action="store_true",
        help="import values outside the possible range as failed readings",
    )
    i.add_argument(
        "--skip-refused",
        action="store_true",
        help="import the valid rows although others are refused",
    )
    m = sub.add_parser("method", help="one published equation: key=value inputs, with units")
    m.add_argument("equation")
    m.add_argument("inputs", nargs="*", metavar="key=value")
    m.add_argument("--json", action="store_true")
    listing = sub.add_parser("methods", help="all equations with their sources")
    listing.add_argument("--json", action="store_true")
    t = sub.add_parser(
        "certificate",
        help=(
            "the data of an adopted offset as JSON: table, uncertainty, conditions, validity,"
            " digest"
        ),
    )
    t.add_argument("file", nargs="?", type=Path)
    t.add_argument("--demo", action="store_true", help="use a fresh demo study")
    t.add_argument("--instrument", required=True)
    t.add_argument("--metric", default="body_fat_percent")
    t.add_argument("--clients", action="store_true", help="name each client's code and offset")
    t.add_argument(
        "--full", action="store_true", help="include the reason for adopting against the advice"
    )
    t.add_argument(
        "-o",
        "--output",
        type=Path,
        metavar="OUT.json|OUT.html|OUT.pdf",
        help="write to this file: data as JSON, or a page",
    )
    t.add_argument("--paper", choices=("A4", "Letter"), default="A4")
    y = sub.add_parser("verify", help="compare a certificate with a study; exit code 0 or 1")
    y.add_argument("file", type=Path, help="the study")
    y.add_argument("certificate", help="a file of certificate (JSON, HTML or PDF), or its digest")
    y.set_defaults(demo=False)
    _report_arguments(sub.add_parser("report", help="the study report as HTML or PDF"))
    _summary_arguments(sub.add_parser("summary", help="a page for one client as HTML or PDF"))
    k = sub.add_parser("track", help="the level of one client from every scan and device")
    k.add_argument("file", nargs="?", type=Path, help="a study (.tally) or a tidy CSV")
    k.add_argument("--demo", action="store_true", help="use a fresh demo study")
    k.add_argument("--client", required=True, metavar="CODE")
    k.add_argument("--metric", default="body_fat_percent")
    k.add_argument("--reference")
    k.add_argument("--from", dest="since", type=_day, help="first day of the change")
    k.add_argument("--to", dest="until", type=_day, help="last day of the change")
    k.add_argument("--json", action="store_true")
    _page_arguments(
        sub.add_parser("page", help="a card, comparison, claims page or results for a paper")
    )
    e = sub.add_parser("export", help="write a study as tidy CSV, XLSX or data package (.zip)")
    e.add_argument("file", nargs="?", type=Path)
    e.add_argument("--demo", action="store_true", help="use a fresh demo study")
    e.add_argument("-o", "--output", type=Path, required=True)
    e.add_argument(
        "--full",
        action="store_true",
        help="a full copy (.zip) with names, birth dates, cautions and remarks",
    )
    e.add_argument(
        "--estimates",
        action="store_true",
        help="the level of each client from all sources as rows of kind estimate (.csv)",
    )
    return parser


def _report_arguments(p: argparse.ArgumentParser) -> None:
    """What the report is asked."""
    p.add_argument("file", nargs="?", type=Path, help="a study (.tally) or a tidy CSV")
    p.add_argument("--demo", action="store_true", help="use a fresh demo study")
    p.add_argument("-o", "--output", type=Path, required=True, metavar="OUT.html|OUT.pdf")
    p.add_argument("--reference")
    p.add_argument("--metric", default="body_fat_percent")
    p.add_argument("--setting")
    p.add_argument("--window-hours", type=_hours, default=24.0)
    p.add_argument("--around", action="store_true")
    p.add_argument("--client", action="append", metavar="CODE")
    p.add_argument("--paper", choices=("A4", "Letter"), default="A4")


def _summary_arguments(p: argparse.ArgumentParser) -> None:
    """Whose page, and what stands on it."""
    p.add_argument("file", nargs="?", type=Path, help="a study (.tally) or a tidy CSV")
    p.add_argument("--demo", action="store_true", help="use a fresh demo study")
    p.add_argument("--client", required=True, metavar="CODE")
    p.add_argument("-o", "--output", type=Path, required=True, metavar="OUT.html|OUT.pdf")
    p.add_argument(
        "--without-fat",
        action="store_true",
        help="leave out body fat and body mass; give sums of skinfolds and girths",
    )
    p.add_argument("--name", action="store_true", help="head the page with the client's name")
    p.add_argument(
        "--ranges",
        action="store_true",
        help="show the ranges of a published table across the interval of body fat",
    )
    p.add_argument("--paper", choices=("A4", "Letter"), default="A4")


PAGES = ("card", "devices", "methods", "paper", "claims")


def _page_arguments(p: argparse.ArgumentParser) -> None:
    """Which page, of what, and where to."""
    p.add_argument("page", choices=PAGES)
    _report_arguments(p)
    p.add_argument("--instrument", default="", help="the device of a card")
    p.add_argument("--correlation", type=_finite, help="claimed correlation with a reference")
    p.add_argument(
        "--repeatability", type=_finite, help="claimed difference of repeats, in the metric's unit"
    )


def _lens_arguments(question: argparse.ArgumentParser) -> None:
    """What a question is asked of: file, instrument, and the lens."""
    question.add_argument("file", nargs="?", type=Path, help="a study (.tally) or a tidy CSV")
    question.add_argument("--demo", action="store_true", help="use a fresh demo study")
    question.add_argument("--instrument", required=True)
    question.add_argument("--reference")
    question.add_argument("--metric", default="body_fat_percent")
    question.add_argument("--setting")
    question.add_argument("--window-hours", type=_hours, default=24.0)
    question.add_argument(
        "--around",
        action="store_true",
        help="use the mean of all readings in the window, not only the nearest visit",
    )
    question.add_argument(
        "--reference-sd",
        type=_positive,
        help="SD of one scan, in the metric's unit, where no scans were repeated",
    )
    question.add_argument(
        "--client", action="append", metavar="CODE", help="only this client; may be repeated"
    )
    question.add_argument("--sex", choices=("male", "female"), help="only clients of this sex")
    question.add_argument("--from", dest="since", type=_day, help="readings from this day on")
    question.add_argument("--to", dest="until", type=_day, help="readings up to this day")
    question.add_argument("--json", action="store_true")


def _day(text: str) -> str:
    """An ISO day."""
    try:
        return date.fromisoformat(text).isoformat()
    except ValueError as error:
        raise argparse.ArgumentTypeError(
            f'"{text[:20]}" is not a day such as 2026-03-02'
        ) from error


def _plan_arguments(p: argparse.ArgumentParser) -> None:
    """What the calendar and the planner are asked."""
    p.add_argument("file", nargs="?", type=Path, help="a study (.tally)")
    p.add_argument("--demo", action="store_true", help="use a fresh demo study")
    p.add_argument("--instrument", default="", help="default: the first device with pairs")
    p.add_argument("--metric", default="body_fat_percent")
    p.add_argument(
        "--interval",
        choices=("offset", "reading", "bias", "limits"),
        default="offset",
        help="what is planned for",
    )
    p.add_argument("--half-width", type=_positive, help="wanted half-width, in the metric's unit")
    p.add_argument("--change", type=_finite, help="mean change of the group to be shown")
    p.add_argument("--window-hours", type=_hours, default=24.0, help="pairing window")
    p.add_argument("--around", action="store_true", help="all readings in the window are averaged")
    for name in ("clients", "scans", "mornings", "repeats"):
        p.add_argument(f"--{name}", type=_whole, default=0, help="default: as in the study")
    p.add_argument("--scan-cost", type=_positive, default=0.0, help="money for one scan")
    p.add_argument("--days-ahead", type=_whole, default=182, help="length of the calendar")
    p.add_argument("--ics", type=Path, metavar="OUT.ics", help="write the calendar as iCalendar")
    p.add_argument("--csv", type=Path, metavar="OUT.csv", help="write the calendar as CSV")
    p.add_argument("--json", action="store_true")


_TRUTH = (
    "bias",
    "client_sd",
    "day_sd",
    "repeat_sd",
    "scan_sd",
    "level",
    "level_sd",
    "change_per_week",
    "change_sd",
    "slope",
    "drift_per_week",
    "step",
    "step_week",
    "water_sd",
    "hydration",
    "failures",
    "mistypes",
    "dropouts",
    "weeks",
    "resolution",
)


def _simulate_arguments(p: argparse.ArgumentParser) -> None:
    """What studies are drawn with; the names are those of the truth in the answer."""
    p.add_argument("file", nargs="?", type=Path, help="a study whose spreads are used")
    p.add_argument("--instrument", default="", help="of that study; default: the first device")
    p.add_argument("--clients", type=_whole, help="default: 14")
    p.add_argument("--anchors", "--scans", dest="scans", type=_whole, help="of each; default: 3")
    p.add_argument("--repeats", type=_whole, help="default: 3")
    for name in _TRUTH:
        p.add_argument(f"--{name.replace('_', '-')}", dest=name, type=_finite)
    p.add_argument("--studies", type=_whole, default=100)
    p.add_argument("--seed", type=_whole, default=1)
    p.add_argument("--json", action="store_true")


def _finite(text: str) -> float:
    """A number within 1,000 of 0."""
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not abs(value) < 1000:
        raise argparse.ArgumentTypeError(f'"{text[:20]}" is not a number within 1000 of 0')
    return value


def _whole(text: str) -> int:
    """A whole number from 1 to 10,000."""
    if not text.isdecimal() or not 1 <= int(text) <= 10_000:
        raise argparse.ArgumentTypeError(f'"{text[:20]}" is not a whole number from 1 to 10000')
    return int(text)


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


def _ask(args: argparse.Namespace) -> None:
    from .questions import ask

    ask(args, QUESTIONS[args.command])


def _calibrate(args: argparse.Namespace) -> None:
    from .questions import calibrate

    calibrate(args)


def _plan(args: argparse.Namespace) -> None:
    from .plan import plan

    plan(args)


def _simulate(args: argparse.Namespace) -> None:
    from .simulate import simulate

    simulate(args)


def _certificate(args: argparse.Namespace) -> None:
    from .files import write_certificate

    write_certificate(args)


def _verify(args: argparse.Namespace) -> int:
    from .files import verify_certificate

    return verify_certificate(args)


def _report(args: argparse.Namespace) -> None:
    from .report import report

    report(args)


def _summary(args: argparse.Namespace) -> None:
    from .report import summary

    summary(args)


def _track(args: argparse.Namespace) -> None:
    from .questions import track

    track(args)


def _page(args: argparse.Namespace) -> None:
    from .report import page

    page(args)


def _import(args: argparse.Namespace) -> None:
    from .files import take

    take(args)


def _export(args: argparse.Namespace) -> None:
    from .files import export_study

    export_study(args)


def _method(args: argparse.Namespace) -> None:
    from .equations import method

    method(args)


def _methods(args: argparse.Namespace) -> None:
    from .equations import methods

    methods(args)


_RUN: dict[str, Callable[[argparse.Namespace], int | None]] = {
    **dict.fromkeys(QUESTIONS, _ask),
    "calibrate": _calibrate,
    "plan": _plan,
    "simulate": _simulate,
    "certificate": _certificate,
    "verify": _verify,
    "report": _report,
    "summary": _summary,
    "track": _track,
    "page": _page,
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
    """Run a command; return the exit code (2 for an error, named in one line on standard error)."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="plain")
    try:
        args = _parser().parse_args(argv)
        args.clock = clock
        code = _RUN[args.command](args)
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
        print(
            f"anchor-tally: the output cannot be written ({error.strerror or error})",
            file=sys.stderr,
        )
        return 2
    except Exception as error:
        from ..app.session import trouble_of

        found = trouble_of(error)
        if not found:
            raise  # a fault of ours
        named = getattr(args, "file", None) or "the study"
        print(f"anchor-tally: {named}: {found}", file=sys.stderr)
        return 2
    return code or 0


def _no_more_output() -> None:
    """Drop what still waits for a closed pipe or a full disk.

    Python would try to write it again at its end.
    """
    nowhere = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, sys.stdout.fileno())
    os.close(nowhere)
