"""The program on other days than today: the demo study, adopting and expiry follow the clock."""

import json
import re
import time
import zipfile
from datetime import date, timedelta
from zoneinfo import ZoneInfo

import pytest

from anchor_tally.analysis.offsets.versions import versions
from anchor_tally.app.demo import demo_session
from anchor_tally.app.exporting import export
from anchor_tally.app.marks import stage_marks
from anchor_tally.app.session import Session
from anchor_tally.cli.main import main
from anchor_tally.domain.clock import Clock, fixed
from anchor_tally.domain.metrics import HEIGHT
from anchor_tally.domain.units import parse_quantity
from anchor_tally.scenario.squad import first_day
from anchor_tally.study.edits.clients import AddHeight
from places import CLOCK, adoption


@pytest.fixture
def berlin(monkeypatch):
    """A machine in Berlin, where the clocks go forward on 28 March 2027 at 02:00."""
    monkeypatch.setenv("TZ", "Europe/Berlin")
    time.tzset()
    yield
    monkeypatch.undo()
    time.tzset()


DAYS = ["2027-03-01T09:00+00:00", "2028-02-29T08:00+00:00", "2026-12-07T00:01+00:00"]


@pytest.mark.parametrize("day", [*DAYS, "2027-03-28T02:30+01:00"])
def test_demo_serves_on_any_day(day, tmp_path, berlin, capsys):
    """The demo study ends in the week before today.

    An offset adopted today is in force, and it expires later.
    """
    clock = fixed(day)
    session = demo_session(tmp_path, clock=clock)
    today = clock.today()
    last = max(date.fromisoformat(r.taken_at[:10]) for r in session.readings())
    assert 1 <= (today - last).days <= 7
    assert last.weekday() == 0
    session.do(adoption(session, "Alder", day=session.now().isoformat()))
    (version,) = versions(
        session.calibration_versions("Alder", "body_fat_percent"), session.today(), frozenset()
    )
    assert version.state == "in force"
    assert date.fromisoformat(version.record.valid_until) > today
    assert "calibrate" not in stage_marks(session)
    session.close()


def test_a_moved_demo_is_the_same_study(berlin, capsys):
    """On another day the demo gives the same answers, dates apart."""
    assert main(["compare", "--demo", "--instrument", "Alder"], fixed(DAYS[1])) == 0
    dates = r"20\d\d-\d\d-\d\d|\d+ [A-Z][a-z]{2} 20\d\d"
    said = re.sub(dates, "", capsys.readouterr().out)
    assert main(["compare", "--demo", "--instrument", "Alder"], CLOCK) == 0
    assert re.sub(dates, "", capsys.readouterr().out) == said  # the same study, moved


def test_offset_expires_with_the_clock(tmp_path):
    """An offset adopted today has expired a year later, and the rail says so."""
    session = demo_session(tmp_path, clock=CLOCK)
    session.do(adoption(session, "Alder"))
    later = CLOCK.now() + timedelta(days=365)
    session.clock = Clock(lambda: later)
    (version,) = versions(
        session.calibration_versions("Alder", "body_fat_percent"), session.today(), frozenset()
    )
    assert version.state == "expired"
    assert "Alder" in stage_marks(session)["calibrate"][1]
    session.close()


def test_first_day_on_every_day_of_four_years():
    """The last Monday lies one to seven days before today, over a leap day and every weekday."""
    for k in range(4 * 366):
        today = date(2027, 1, 1) + timedelta(days=k)
        last = first_day(today) + timedelta(weeks=25)
        assert last.weekday() == 0
        assert 1 <= (today - last).days <= 7


def test_now_is_in_the_zone_of_the_study(tmp_path, berlin):
    """A moment that the program writes without a zone is read in the study's zone, also on a machine that has moved."""
    session = demo_session(tmp_path, clock=fixed("2027-03-28T02:30+01:00"))
    zone = ZoneInfo(session.catalogue().zone)
    assert session.now().replace(tzinfo=zone).timestamp() == session.clock.now().timestamp()
    client = next(iter(session.catalogue().clients))
    session.do(AddHeight(client, session.today(), parse_quantity("180", HEIGHT)))
    assert session.catalogue().heights[client][-1].day == "2027-03-28"
    session.close()


@pytest.mark.parametrize("day", DAYS)
def test_a_study_is_made_when_its_clock_says_so(day, tmp_path):
    """The moment stands in the package that leaves the file."""
    clock = fixed(day)
    session = Session.new(tmp_path / "s.tally", "t", clock=clock)
    export(session, tmp_path / "s.zip", full=True)
    session.close()
    with zipfile.ZipFile(tmp_path / "s.zip") as z:
        assert json.loads(z.read("datapackage.json"))["created"] == clock.stamp()
