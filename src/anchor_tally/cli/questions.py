"""Commands that ask a study one question."""

from __future__ import annotations

import argparse
import json
from collections.abc import Callable, Generator
from datetime import date
from typing import Any, TypeVar

from ..analysis.offsets.calibrate import CalibrateRequest
from ..analysis.time.track import TrackRequest
from ..app.plan import planned_steps
from ..app.session import Session
from ..app.views import Ask, View
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.snapshot import Snapshot, between
from ..domain.steps import finish
from ..exchange.results_json import calibrate_json
from ..exchange.track_json import track_json
from ..stats.near_days import NEAR_DAYS
from ..wording.best_estimate import left_out_words, next_head, next_lines, sentences, share_lines
from ..wording.notes import sentence
from ..wording.numbers import count, signed, span
from ..wording.offsets import (
    adopted_for,
    calibration_sentence,
    error_sentence,
    offset_headline,
    range_sentence,
)
from ..wording.sentences import pairs_sentence
from ..wording.statistics import rows
from ..wording.views import notes_words
from .studies import lens_of, session_of

Result = TypeVar("Result")


def _asked(
    args: argparse.Namespace,
    request: Callable[[Snapshot, Lens, Session], Generator[float, None, Result]],
    metrics: tuple[str, ...] = (),
) -> Result:
    """Ask one question of a study through the lens of the call.

    ``metrics`` are those it needs in place of the lens'.
    """
    session = session_of(args)
    try:
        lens = lens_of(args, session, args.client or (), args.sex or "")
        snapshot = (
            finish(session.wide_snapshot_steps(metrics))
            if metrics
            else session.snapshot(args.metric)
        )
        if args.since and args.until and args.until < args.since:
            raise UserError("the day of --to lies before that of --from")
        if args.since or args.until:
            snapshot = between(snapshot, args.since or "", args.until or "")
        return finish(request(snapshot, lens, session))
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    finally:
        session.close()


def ask(args: argparse.Namespace, view: View[Any]) -> None:
    """Print the answer of one view for one instrument."""
    answer = view.answer()

    def request(snapshot: Snapshot, lens: Lens, session: Session) -> Generator[float, None, Any]:
        around = (session.events(), tuple(session.check_weights()))
        near = getattr(args, "near_days", NEAR_DAYS)  # an option of one command
        return answer.ask(Ask(snapshot, lens, args.instrument, args.reference_sd, *around, near))

    result = _asked(args, request, answer.metrics)[0]
    if args.json and answer.as_json is not None:
        _print_json(answer.as_json(result))
        return
    print(answer.headline(result))
    if view.key == "compare":
        print(pairs_sentence(result))
        for _, line in rows(result):
            print(f"{line.name:34} {line.value:>8}  {line.interval}")
        for n in result.notes:
            print(f"· {sentence(n)}")
        return
    for line in answer.lines(result):
        print(f"{line.name:48} {line.value:>8}  {line.interval}")
    for text in notes_words(result.notes).splitlines():
        print(f"· {text}")


def _print_json(answer: dict[str, Any]) -> None:
    print(json.dumps(answer, indent=1, ensure_ascii=False, allow_nan=False))


def track(args: argparse.Namespace) -> None:
    """Print the best estimate of one client."""
    session = session_of(args)
    try:
        snapshot = finish(session.wide_snapshot_steps((args.metric,)))
        planned = frozenset[int]()
        if args.since or args.until:
            planned = finish(planned_steps(session, args.client))
        since, until = (
            None if d is None else date.fromisoformat(d).toordinal()
            for d in (args.since, args.until)
        )
        found = finish(
            TrackRequest(
                snapshot,
                Lens(args.metric, args.reference),
                args.client,
                events=session.events(),
                planned=planned,
                since=since,
                until=until,
                whole=False,
                goal=session.goal_of(args.client, args.metric),
                today=session.today(),
            ).run()
        )
        if found.best is None:
            raise UserError(found.apart)
        result = found.best
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    finally:
        session.close()
    if args.json:
        _print_json(track_json(found))
        return
    for text in sentences(result):
        print(text)
    print("Part of each source in the value:")
    for name, share, number_of_days in share_lines(result):
        print(f"{name:44} {share:>6}  {number_of_days} days")
    ahead = next_lines(result)
    if ahead:
        print(next_head(result))
    for what, half, effort in ahead:
        print(f"{what:44} {half:>10}  {effort}")
    for text in (left_out_words(result), *map(sentence, result.notes)):
        if text:
            print(f"· {text}")


def calibrate(args: argparse.Namespace) -> None:
    """Print what to subtract for one instrument."""
    given = {"reference_sd": args.reference_sd, "client_sd": args.client_sd}
    result = _asked(
        args,
        lambda snapshot, lens, _: CalibrateRequest(snapshot, lens, args.instrument, **given).run(),
    )[0]
    if args.json:
        _print_json(calibrate_json(result))
        return
    print(offset_headline(result))
    for line in (
        calibration_sentence(result),
        error_sentence(result),
        adopted_for(result, args.clock.today().isoformat()),
        range_sentence(result),
    ):
        if line:
            print(line)
    for c in result.clients:
        print(
            f"{c.client:20} {signed(c.offset):>7}  {span(c.interval, sign=True):18}"
            f" {count(c.n, 'scan')}"
        )
    for n in (*result.notes, *result.comparison.notes):
        print(f"· {sentence(n)}")
