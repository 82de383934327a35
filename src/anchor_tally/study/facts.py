"""What an edit of the study makes stale: the fact that each table or column belongs to.

A piece that is kept between edits names the facts it depends on (``app.study_cache.PIECES``) and
is dropped when one of them is touched. Readings are distinguished by metric, and are no fact here.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Fact = Literal[
    "people",  # code, sex, birth, heights and cautions: equations and what may be shown depend
    "cards",  # the rest of a card: names, notes
    "instruments",  # name, kind, equation, electrodes, order, repeats and price
    "settings",
    "visits",  # whose, when, and what was stated of age and height
    "conditions",
    "offers",
    "calibrations",
    "protocol",
    "checks",
    "study",
    "attachments",
    "decisions",
    "events",
    "scheme",
]


@dataclass(frozen=True, slots=True)
class TableFacts:
    """Facts that an edit of a table touches.

    ``fact`` always; ``more`` when one of ``columns`` changed.
    """

    fact: Fact
    more: Fact | None = None
    columns: frozenset[str] = frozenset()


TABLES: dict[str, TableFacts] = {
    "client": TableFacts("cards", "people", frozenset({"code", "sex", "birth", "cautions"})),
    "client_height": TableFacts("people"),
    "instrument": TableFacts(
        "cards",
        "instruments",
        frozenset(
            {"name", "kind", "equation", "electrodes", "position", "repeats", "counts", "price"}
        ),
    ),
    "instrument_metric": TableFacts("offers"),
    "setting": TableFacts("settings"),
    "visit": TableFacts(
        "cards",
        "visits",
        frozenset({"client", "start", "instant", "timed", "age_years", "height_cm"}),
    ),
    "condition": TableFacts("conditions"),
    "check_weight": TableFacts("checks"),
    "assessor_value": TableFacts("checks"),
    "protocol_item": TableFacts("protocol"),
    "instrument_condition": TableFacts("protocol"),
    "station": TableFacts("protocol"),
    "landmark": TableFacts("protocol"),
    "attachment": TableFacts("attachments"),
    "decision": TableFacts("decisions"),
    "event": TableFacts("events"),
    "goal": TableFacts("events"),
    "scheme": TableFacts("scheme"),
    "planned_day": TableFacts("scheme"),
    "calibration": TableFacts("calibrations"),
    "calibration_mark": TableFacts("calibrations"),
    "study": TableFacts("study"),
    "stated": TableFacts("study"),
}
# readings are distinguished by metric; history only grows and is read when it is asked for; metrics
# come from the registry
NO_FACT = frozenset({"reading", "reading_change", "visit_change", "metric"})


def touched_by(table: str, columns: frozenset[str] | None = None) -> frozenset[Fact]:
    """Return the facts that an edit of a table touches.

    Parameters
    ----------
    table : str
        Name of the table.
    columns : frozenset of str, optional
        The columns that were changed; None for a row that was added or taken away.

    Returns
    -------
    frozenset of Fact
        Empty for readings and history.
    """
    if table in NO_FACT:
        return frozenset()
    of = TABLES[table]
    more = of.more is not None and (columns is None or bool(of.columns & columns))
    return frozenset({of.fact, of.more}) if more and of.more is not None else frozenset({of.fact})
