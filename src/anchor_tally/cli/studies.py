"""The study that a command reads."""

from __future__ import annotations

import argparse

from ..app.demo import demo_session
from ..app.session import Session
from ..domain.errors import UserError


def session_of(args: argparse.Namespace) -> Session:
    """Open the study that a call names, for reading."""
    if args.demo:
        return demo_session(clock=args.clock)
    if args.file is None:
        raise UserError("name a study or a tidy CSV, or give --demo")
    return Session.open(args.file, read_only=True, clock=args.clock)
