"""The command that writes the study report."""

from __future__ import annotations

import argparse

from ..app.reporting import report_steps, write_report
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.steps import finish
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
