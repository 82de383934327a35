"""Imports against plain models: visits as a person would form them, tables the same in whatever form they come."""

import csv
import io
from datetime import datetime, timedelta

from hypothesis import example, given, settings
from hypothesis import strategies as st

from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.import_rows import ImportRow, Refused
from anchor_tally.domain.steps import finish
from anchor_tally.domain.text import unguarded
from anchor_tally.exchange.guessing import guess
from anchor_tally.exchange.mapping import missing, read_rows
from anchor_tally.exchange.readings_csv import HEADER, RowReader, write
from anchor_tally.exchange.tables import open_table
from anchor_tally.study import open_file
from anchor_tally.study.edits.imports import ImportReadings
from places import parse_text

START = datetime(2026, 3, 2, 6, 0)
MOMENTS = st.integers(0, 40).map(
    lambda k: (START + timedelta(minutes=25 * k)).isoformat(timespec="minutes")
)
ROWS = st.lists(
    st.tuples(
        st.sampled_from("AB"),
        st.one_of(MOMENTS, st.sampled_from(["2026-03-02", "2026-03-03"])),
        st.integers(1, 2),
        st.sampled_from([70.0, 71.0]),
    ),
    max_size=14,
)


def reading(line, client, taken, rep, value, **more):
    """One row of body mass."""
    row = ImportRow(
        line,
        client,
        "",
        None,
        None,
        taken,
        "Fir",
        "device",
        "",
        "body_mass",
        value,
        f"{value:g}",
        "kg",
        rep,
        "ok",
        "",
    )
    return row._replace(**more)


def visits_by_hand(existing, rows):
    """The rule as words say it: nearest visit closer than two hours, else a run of readings closer than that, else a new one.

    ``existing`` maps (client, moment) to a visit; returns it with the new ones. A date alone is
    a visit of that day.
    """
    out = dict(existing)
    fresh = sorted({(c, len(t) > 10, t) for c, t, _, _ in rows if (c, t) not in out})
    before = dict(out)
    last = {}
    for client, timed, taken in fresh:
        moment = datetime.fromisoformat(taken)
        near = [
            (abs((datetime.fromisoformat(t) - moment).total_seconds()), v)
            for (c, t), v in before.items()
            if c == client and (len(t) > 10) == timed
        ]
        near = [x for x in near if x[0] < 7200]
        gone = last.get((client, timed))
        if near:
            visit = min(near)[1]
        elif gone is not None and (moment - gone[0]).total_seconds() < 7200:
            visit = gone[1]
        else:
            visit = max(out.values(), default=0) + 1
        out[client, taken] = visit
        last[client, timed] = (moment, visit)
    return out


def grouping(pairs):
    """Which moments share a visit, whatever the visits are called."""
    together = {}
    for moment, visit in pairs.items():
        together.setdefault(visit, set()).add(moment)
    return {frozenset(x) for x in together.values()}


@settings(max_examples=50, deadline=None)
@given(ROWS, ROWS)
def test_visits_form_as_by_hand(first, second):
    """Two imports after each other form the visits that the rule in words gives.

    Repeats and contradictions are distinguished.
    """
    session = Session(open_file.create_in_memory("x"), None)
    model, values = {}, {}
    for batch in (first, second):
        new, same, refused = {}, 0, 0
        seen = {}
        for client, taken, rep, value in batch:
            key = (client, taken, rep)
            known = seen.get(key, values.get(key))  # the file's own first row, else the study
            seen.setdefault(key, value)
            if known is None:
                new[key] = value
            elif known == value:
                same += 1
            else:
                refused += 1
        rows = [reading(n, *r) for n, r in enumerate(batch, start=2)]
        staged = finish(session.stage(rows))
        assert (staged.new, staged.already_there, len(staged.refused)) == (len(new), same, refused)
        finish(session.take(staged, "x"))
        values |= new
        model = visits_by_hand(model, [(*key[:2], key[2], v) for key, v in new.items()])
    stored = session.readings()
    assert {(r.client, r.taken_at, r.replicate): r.value for r in stored} == values
    assert grouping({(r.client, r.taken_at): r.visit for r in stored}) == grouping(model)
    session.close()


CELLS = st.text(st.characters(blacklist_categories=("Cs", "Cc"), max_codepoint=0x17F), max_size=6)


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(MOMENTS, st.floats(2, 60).map(lambda x: round(x, 1)), CELLS),
        min_size=2,
        max_size=6,
        unique_by=lambda x: x[0],
    ),
    st.sampled_from([";", "\t", "|", ","]),
    st.sampled_from(["utf-8", "utf-8-sig", "utf-16"]),
    st.sampled_from(["%Y-%m-%d %H:%M", "%d.%m.%Y %H:%M", "%d/%m/%Y %H:%M"]),
    st.booleans(),
)
@example(
    [("2026-03-02T06:00", 2.0, "'=1"), ("2026-03-02T06:25", 2.0, "'x")],
    ";",
    "utf-8",
    "%Y-%m-%d %H:%M",
    False,
)
def test_any_form_gives_the_same_readings(
    tmp_path_factory, rows, separator, encoding, dates, comma
):
    """Separator, encoding, order of dates, decimal sign and odd notes change nothing.

    The guard before a formula comes off.
    """
    text = io.StringIO(newline="")
    out = csv.writer(text, delimiter=separator)
    out.writerow(["Client", "Date", "skinfold_thigh", "Notes"])
    for taken, value, said in rows:
        number = f"{value}".replace(".", ",") if comma else f"{value}"
        out.writerow(["Auk", datetime.fromisoformat(taken).strftime(dates), number, said])
    path = tmp_path_factory.mktemp("t") / "t.csv"
    path.write_bytes(text.getvalue().encode(encoding))
    table = open_table(path)
    mapping = guess(table)
    assert missing(mapping) == ""
    read = list(read_rows(table, mapping))
    assert not [r for r in read if isinstance(r, Refused)]
    assert [(r.taken_at, r.value, r.note) for r in read] == [
        (t, v, unguarded(said.strip())) for t, v, said in rows
    ]


ODD = st.sampled_from(
    [
        "",
        " ",
        "21.5",
        "21,5",
        "1_0",
        "nan",
        "inf",
        "1e1",
        "+5",
        "-3",
        "٣",
        "21.5 kg",
        "154 lb",
        "0x10",
        "9000",
        "failed",
    ]
)


@settings(max_examples=200, deadline=None)
@given(
    st.lists(
        st.tuples(
            ODD,
            st.sampled_from(["kg", "lb", "", "cm", "%"]),
            st.sampled_from(["ok", "", "failed", "excluded", "no"]),
        ),
        min_size=2,
        max_size=8,
    )
)
def test_remembered_heads_change_nothing(cells):
    """The quick way through a long table takes and refuses exactly what the careful way does."""
    together = RowReader(HEADER)
    for line, (value, unit, status) in enumerate(cells, start=2):
        made = [
            "A",
            "female",
            "30",
            "170",
            "2026-03-02",
            "Fir",
            "device",
            "std",
            "body_mass",
            value,
            unit,
            "1",
            status,
            " x ",
        ]
        assert together.read(list(made), line) == RowReader(HEADER).read(list(made), line)


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.tuples(MOMENTS, st.floats(2, 300).map(lambda x: round(x, 2)), CELLS),
        max_size=6,
        unique_by=lambda x: x[0],
    )
)
def test_export_comes_back(rows):
    """Whatever notes and numbers stand in a study, its tidy CSV reads back to the same rows."""
    session = Session(open_file.create_in_memory("x"), None)
    session.do(
        ImportReadings(
            tuple(
                reading(n, "A", t, 1, v, note=said.strip()) for n, (t, v, said) in enumerate(rows)
            ),
            "x",
        )
    )
    again, refused = parse_text("".join(write(session.readings(), {})))
    assert refused == []
    assert [(r.taken_at, r.value, r.entered, r.note) for r in again] == [
        (r.taken_at, r.value, r.entered, r.note) for r in session.readings()
    ]
    other = Session(open_file.create_in_memory("y"), None)
    said = ""
    try:
        other.do(ImportReadings(tuple(again), "x"))
    except UserError as error:
        said = str(error)
    assert said == ""
    assert len(other.readings()) == len(rows)
    for s in (session, other):
        s.close()
