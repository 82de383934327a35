"""Lines of a device: whatever comes, nothing is taken but whole measurements that settled."""

import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from anchor_tally.domain.errors import UserError
from anchor_tally.feeds.folder import WatchedFolder
from anchor_tally.feeds.measurement_filter import LeftOut, MeasurementFilter, NoValue, Taken
from anchor_tally.feeds.protocol import (
    LIGHTEST,
    LONGEST,
    Assembler,
    Done,
    Empty,
    Failed,
    Hello,
    Live,
    Nonsense,
    Value,
    format_line,
    parse_line,
)
from anchor_tally.feeds.scale import PROFILES, Person, measure
from places import DATA

GOOD = (
    Live(70.0, False),
    Live(71.5, True),
    Value(3, "body_mass", "71.5", "kg"),
    Value(3, "body_fat_percent", "18.4", "percent"),
)
LINES = st.one_of(
    st.builds(Live, st.floats(0, 200).map(lambda x: round(x, 2)), st.booleans()),
    st.builds(
        Value,
        st.integers(1, 5),
        st.sampled_from(["body_mass"]),
        st.sampled_from(["70.0", "71.5"]),
        st.just("kg"),
    ),
    st.builds(Done, st.integers(1, 5), st.integers(0, 3)),
    st.builds(Failed, st.integers(1, 5), st.just("moved")),
    st.just(Empty()),
    st.just(Hello("m", "1")),
)


def events(lines):
    """What a taker says to lines."""
    taker = MeasurementFilter()
    return [e for e in (taker.line(x) for x in lines) if e is not None]


@given(LINES)
def test_lines_come_back(line):
    """What a device sends is read as what it meant.

    An all but empty platform never counts as settled.
    """
    settled = isinstance(line, Live) and line.settled and line.kg >= LIGHTEST
    assert parse_line(format_line(line)) == (
        Live(line.kg, settled) if isinstance(line, Live) else line
    )


@given(
    st.one_of(
        st.text(max_size=200),
        st.builds(
            lambda x, k, c: format_line(x)[:k] + c + format_line(x)[k + 1 :],
            LINES,
            st.integers(0, 30),
            st.characters(),
        ),
    )
)
def test_any_text_is_a_line_or_nonsense(text):
    """No text raises.

    A line with one character changed is never another measurement by accident of the check
    number alone.
    """
    assert parse_line(text) is not None


@settings(max_examples=60)
@given(st.lists(st.binary(max_size=80), max_size=30))
def test_any_bytes_are_survived(chunks):
    """Noise in any cut gives lines of bounded length, and a good line after a line end is still read."""
    assembler = Assembler()
    for chunk in chunks:
        assert all(len(line) <= LONGEST + 1 for line in assembler.feed(chunk))
    assembler.feed(b"\n" * 2)
    assert [
        parse_line(x) for x in assembler.feed((format_line(Live(70.0, True)) + "\n").encode())
    ] == [Live(70.0, True)]


@settings(max_examples=200)
@given(st.lists(LINES, max_size=40))
def test_nothing_unsettled_is_taken(lines):
    """Before anything is taken the mass had settled and did not move since.

    No number is taken twice.
    """
    taker, settled, seen = MeasurementFilter(), None, []
    for line in lines:
        told = taker.line(line)
        if isinstance(line, Live):
            still = settled is not None and abs(line.kg - settled) <= 0.3
            settled = (
                line.kg
                if line.settled and line.kg >= 2
                else settled
                if still or line.settled
                else None
            )
        elif isinstance(line, Empty):
            settled = None
        elif isinstance(line, Hello):
            seen = []
        if isinstance(told, Taken):
            assert settled is not None
            assert told.values
            seen.append(told.tally)
    assert len(seen) == len(set(seen))


def test_example_of_the_documents():
    """The line that docs/devices.md shows is a line of the protocol."""
    text = (DATA.parent.parent / "docs" / "devices.md").read_text(encoding="utf-8")
    shown = re.search(r"Example: `([^`]+)`", text)[1]
    assert parse_line(shown) == Value(3, "body_fat_percent", "18.4", "percent")


def test_measurements():
    """Taken whole; not imported when values are missing, the person moved, or the line broke.

    Repeated numbers count once.
    """
    taken = events([*GOOD, Done(3, 2)])[-1]
    assert taken == Taken(3, (("body_mass", "71.5", "kg"), ("body_fat_percent", "18.4", "percent")))
    assert isinstance(events([*GOOD, Done(3, 3)])[-1], LeftOut)
    assert isinstance(events([*GOOD, Live(60.0, False), Live(71.5, True), Done(3, 2)])[-1], LeftOut)
    assert isinstance(events([GOOD[0], *GOOD[2:], Done(3, 2)])[-1], LeftOut)
    assert events([*GOOD, Done(3, 2), GOOD[2], GOOD[3], Done(3, 2)])[-1] == LeftOut(
        "measurement 3 was taken before"
    )
    assert events([GOOD[1], Failed(4, "poor contact"), Failed(4, "poor contact")])[1:] == [
        NoValue(4, "poor contact")
    ]
    taker = MeasurementFilter()
    for line in GOOD:
        taker.line(line)
    assert "connection broke" in taker.lost().why
    assert taker.lost() is None
    body = "V 1 body_fat_percent 99 percent"
    assert isinstance(parse_line(f"{body} #{sum(body.encode()) % 100:02}"), Nonsense)


@pytest.mark.parametrize("name", sorted(PROFILES))
def test_simulated_scales_have_their_truth(name):
    """Bias, noise, water, drift, athlete setting and failures of a profile come out of many measurements."""
    profile, rng = PROFILES[name], np.random.default_rng(5)

    def fats(person, athlete=False, n=600):
        got = [
            events(x for _, x in measure(profile, person, k, rng, athlete=athlete))[-1]
            for k in range(1, n + 1)
        ]
        failed = np.mean([isinstance(e, NoValue) for e in got])
        values = [{m: float(t) for m, t, _ in e.values} for e in got if isinstance(e, Taken)]
        return failed, values

    failed, values = fats(Person(72, 20))
    assert failed == pytest.approx(profile.device.failures, abs=0.05)
    assert np.mean([v["body_mass"] for v in values]) == pytest.approx(72, abs=0.05)
    if not profile.composition:
        assert set(values[0]) == {"body_mass"}
        return
    mean = np.mean([v["body_fat_percent"] for v in values])
    assert mean == pytest.approx(20 + profile.device.bias, abs=0.1)
    assert np.std([v["body_fat_percent"] for v in values]) == pytest.approx(
        profile.device.noise, rel=0.25
    )
    for person, athlete, shift in (
        (Person(72, 20, wet=2), False, -2 * profile.device.hydration),
        (Person(72, 20, week=50), False, 50 * profile.device.drift),
        (Person(72, 20), True, profile.device.athlete),
    ):
        moved = np.mean([v["body_fat_percent"] for v in fats(person, athlete)[1]])
        assert moved - mean == pytest.approx(shift, abs=0.12)
    assert ("fat_mass_trunk" in values[0]) == profile.segments


def test_watched_folder(tmp_path):
    """A file is offered once, when it is whole; a growing or unnamed one waits.

    A lost folder is said.
    """
    (tmp_path / "old.csv").write_text("x")
    folder = WatchedFolder(tmp_path)
    (tmp_path / "new.csv").write_text("half")
    (tmp_path / "later.csv.part").write_text("half")
    assert folder.look() == []
    (tmp_path / "new.csv").write_text("half and whole")
    assert folder.look() == []
    assert folder.look() == [tmp_path / "new.csv"]
    assert folder.look() == []
    with pytest.raises(UserError, match="cannot be read"):
        WatchedFolder(tmp_path / "none")
