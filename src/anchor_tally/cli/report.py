"""The commands that write the study report and the client summary."""

from __future__ import annotations

import argparse
import sys

from ..app.client_page import summary_steps
from ..app.reporting import report_steps, write_report
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.steps import finish
from ..wording.notes import sentence
from .studies import session_of


def report(args: argparse.Namespace) -> None:
    """Write the report of a study; codes only."""
    session = session_of(args)
    try:
        clients = frozenset(args.client) if args.client else None
        lens = Lens(
            args.metric, args.reference, clients, args.setting, args.window_hours, args.around
        )
        document = finish(report_steps(session, lens, args.paper))
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    finally:
        session.close()
    print(f"written: {write_report(document, args.output)}")


def summary(args: argparse.Namespace) -> None:
    """Write the page of one client; cautions go to the coach, not on the page."""
    session = session_of(args)
    try:
        document, cautions = finish(
            summary_steps(
                session, args.client, paper=args.paper, fat=not args.without_fat, name=args.name
            )
        )
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    finally:
        session.close()
    for n in cautions:
        print(f"caution: {sentence(n)}", file=sys.stderr)
    print(f"written: {write_report(document, args.output)}")
