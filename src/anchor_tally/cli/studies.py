"""The study that a command reads, and the lens it is read through."""

from __future__ import annotations

import argparse
from collections.abc import Collection

from ..app.demo import demo_session
from ..app.session import Session
from ..domain.errors import UserError
from ..domain.lens import Lens


def session_of(args: argparse.Namespace) -> Session:
    """Open the study that a call names, for reading."""
    if args.demo:
        return demo_session(clock=args.clock)
    if args.file is None:
        raise UserError("name a study or a tidy CSV, or give --demo")
    return Session.open(args.file, read_only=True, clock=args.clock)


def lens_of(
    args: argparse.Namespace, session: Session, codes: Collection[str], sex: str = ""
) -> Lens:
    """The lens of a call, with the clients of these codes and this sex; all where none are named.

    Raises UserError for a code that no client has, and where no client is left.
    """
    items = session.catalogue()
    unknown = [code for code in codes if items.client_coded(code) is None]
    if unknown:
        raise UserError(f'no client has the code "{unknown[0][:40]}"')
    kept = frozenset(
        c.code
        for c in items.clients.values()
        if (not codes or c.code in codes) and (not sex or c.sex == sex)
    )
    if (codes or sex) and not kept:
        raise UserError("no client is left by the filters")
    clients = kept if codes or sex else None
    return Lens(args.metric, args.reference, clients, args.setting, args.window_hours, args.around)
