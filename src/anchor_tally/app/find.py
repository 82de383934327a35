"""One place to find a client, an instrument, a visit or a command."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ..domain.catalogue import Catalogue
from .actions import ACTIONS
from .session import Session

Kind = Literal["client", "visit", "instrument", "command", "place"]
MOST = 14
_VISITS = 6


# what a person looks for by a verb or a noun, where it is, and the page that shows it
PLACES = (
    ("adopt an offset", "Calibrate", "calibrate"),
    ("withdraw an offset, certificate", "Calibrate › Versions", "calibrate"),
    ("add an instrument or a device", "Plan › Instruments", "plan:instruments"),
    ("add a client, height, safety notes", "Plan › Clients", "plan:clients"),
    ("conditions, protocol, blind study", "Plan › Protocol", "plan:protocol"),
    ("margin, precision of a scan", "Plan › Stated values", "plan:stated"),
    ("check an assessor, technical error", "Plan › Assessor check", "plan:assessors"),
    ("exclude a reading, outliers", "Review", "review"),
    ("note a change of setting or battery", "Drift", "drift"),
    ("goal, event, water correction", "Track", "track"),
    ("skinfolds", "Record", "record:skinfolds"),
    ("girths, tape", "Record", "record:girths"),
    ("scan results", "Record", "record:scan"),
    ("check weight", "Record", "record:check"),
    ("equations, field methods", "Record › Methods", "record:methods"),
    ("limits of agreement, bias", "Compare", "compare"),
    ("repeatability, technical error of a device", "Compare", "consistency"),
    ("response to change", "Compare", "change"),
    ("hydration, water", "Compare", "water"),
    ("which device to choose", "Compare", "score"),
)


@dataclass(frozen=True, slots=True)
class Found:
    """One search hit: what it is, its key (for a visit its number), its words, and its client."""

    kind: Kind
    key: str
    words: str
    client: str = ""


def find(session: Session | None, text: str, can: dict[str, bool]) -> tuple[Found, ...]:
    """What fits all words of ``text``.

    Commands only where they can be done (``can``, by the action's id).

    What begins with the text goes first; without a text the clients seen last, and the commands.
    """
    words = text.strip().lower().split()
    out: list[Found] = []
    if session is not None:
        items = session.catalogue()
        codes = session.codes_by_last_visit()
        out += [Found("client", code, _client_words(items, code)) for code in codes]
        out += [
            Found("instrument", i.name, f"{i.name} · {i.kind}")
            for i in items.instruments.values()
            if i.id > 0
        ]
        named = next((c for c in codes if words and c.lower() == words[0]), None)
        if named is not None:
            visits = session.visits_of(named)
            out += [Found("visit", str(v.id), f"{named} · visit {v.words}", named) for v in visits]
    out += [
        Found("command", a.id, f"{a.words.rstrip('…')}{f' · {a.keys}' if a.keys else ''}")
        for a in ACTIONS
        if can.get(a.id, False)
    ]
    if session is not None:
        out += [Found("place", page, f"{words_} · {where}") for words_, where, page in PLACES]
    fitting = [f for f in out if all(w in f.words.lower() for w in words)]
    fitting.sort(key=lambda f: not (words and f.words.lower().startswith(words[0])))  # stable
    shown: list[Found] = []
    for f in fitting:
        if f.kind != "visit" or sum(s.kind == "visit" for s in shown) < _VISITS:
            shown.append(f)
    return tuple(shown[:MOST])


def _client_words(items: Catalogue, code: str) -> str:
    client = items.client_coded(code)
    return f"{code} · {client.name}" if client is not None and client.name else f"{code} · client"
