"""The commands that write the study report and the client summary."""

from __future__ import annotations

import argparse
import sys

from ..analysis.agreement.claims import Claim
from ..app.client_page import summary_steps
from ..app.documents import Choice, document_steps
from ..app.reporting import report_steps, write_report
from ..domain.errors import UserError
from ..domain.steps import finish
from ..wording.notes import sentence
from .studies import lens_of, session_of


def report(args: argparse.Namespace) -> None:
    """Write the report of a study; codes only."""
    session = session_of(args)
    try:
        lens = lens_of(args, session, args.client or ())
        document = finish(report_steps(session, lens, args.paper))
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    finally:
        session.close()
    print(f"written: {write_report(document, args.output)}")


_NEEDED = {"card": "a device: --instrument", "methods": "a client: --client"}


def page(args: argparse.Namespace) -> None:
    """Write one of the shorter documents; codes only."""
    session = session_of(args)
    subject = args.instrument
    if args.page == "methods":
        subject = (args.client or [""])[0]
    try:
        if not subject and args.page in _NEEDED:
            raise UserError(f"the page {args.page} needs {_NEEDED[args.page]}")
        lens = lens_of(args, session, () if args.page == "methods" else args.client or ())
        claim = Claim(args.correlation, args.repeatability)
        choice = Choice(lens, subject, args.paper, claim=claim)
        document = finish(document_steps(session, args.page, choice))
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}; nothing was written") from error
    finally:
        session.close()
    print(f"written: {write_report(document, args.output)}")


def summary(args: argparse.Namespace) -> None:
    """Write the page of one client; cautions go to the coach, not on the page."""
    session = session_of(args)
    try:
        document, cautions = finish(
            summary_steps(
                session,
                args.client,
                paper=args.paper,
                fat=not args.without_fat,
                name=args.name,
                ranges=args.ranges,
            )
        )
    except UserError as error:
        raise UserError(f"{args.file or 'demo'}: {error}") from error
    finally:
        session.close()
    for n in cautions:
        print(f"caution: {sentence(n)}", file=sys.stderr)
    print(f"written: {write_report(document, args.output)}")
