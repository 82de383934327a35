"""Typed values, pairing, equations: what people type and what it becomes."""

import csv
from datetime import date

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.pairs.pairing import pair
from anchor_tally.analysis.people.cautions import essential_fat
from anchor_tally.analysis.people.groups import client_groups
from anchor_tally.analysis.people.withheld import withheld
from anchor_tally.app.session import Session
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.metrics import METRICS
from anchor_tally.domain.records import Client
from anchor_tally.domain.steps import finish
from anchor_tally.domain.units import ValueRefused, parse_quantity
from anchor_tally.methods.registry import EQUATIONS
from places import DATA

HEAD = "client,sex,age_years,height_cm,taken_at,instrument,kind,setting,metric,value,unit,replicate,status,note\n"


def study(tmp_path, rows):
    """A study in memory from short rows: client, taken_at, instrument, kind, value, replicate, status."""
    text = HEAD + "".join(
        f"{c},,,,{t},{i},{k},{s},body_fat_percent,{v},percent,{r},{x},\n"
        for c, t, i, k, s, v, r, x in rows
    )
    path = tmp_path / "t.csv"
    path.write_text(text)
    return Session.open(path)


@pytest.mark.parametrize(
    ("text", "metric", "value", "unit"),
    [
        ("11 st 4", "body_mass", 71.66759, "lb"),
        ("5ft 10", "girth_hip", 177.8, "in"),
        ("34in", "girth_waist", 86.36, "in"),
        ("24,6", "body_fat_percent", 24.6, "percent"),
        ("154 lb", "body_mass", 69.85322, "lb"),
        ("12 %", "body_fat_percent", 12, "percent"),
        ("34 1/2 in", "girth_waist", 87.63, "in"),
        ('13⅜"', "girth_neck", 33.9725, "in"),
        ("0.184 fraction", "body_fat_percent", 18.4, "share"),
    ],
)
def test_typed_values(text, metric, value, unit):
    """Units and decimal commas are read.

    The number as entered is kept (1 lb = 0.45359237 kg, 1 in = 2.54 cm exactly).
    """
    q = parse_quantity(text, METRICS[metric])
    assert (q.value, q.unit) == (pytest.approx(value, abs=1e-5), unit)


@pytest.mark.parametrize("text", ["", "abc", "20 kg", "240", "-3", "nan", "1e400", "24 furlongs"])
def test_refused_values(text):
    """Nonsense, other dimensions and impossible values are refused with a sentence."""
    with pytest.raises(ValueRefused, match=r"not|measured|missing"):
        parse_quantity(text, METRICS["body_fat_percent"])


@given(st.text(max_size=12))
def test_any_text_is_taken_or_refused(text):
    """No text makes the parser fall over."""
    try:
        q = parse_quantity(text, METRICS["body_mass"])
    except ValueRefused:
        return
    assert METRICS["body_mass"].low <= q.value <= METRICS["body_mass"].high


def test_pairing(tmp_path):
    """Nearest anchor and nearest readings, window kept, dates alone by day, what is not imported with the true reason."""
    d = "device"
    s = study(
        tmp_path,
        [
            ("A", "2026-03-02T08:00", "Scan", "reference", "", 20, 1, "ok"),
            ("A", "2026-03-02T08:05", "Scan", "reference", "", 21, 2, "ok"),
            ("A", "2026-03-02T06:30", "Fir", d, "", 22, 1, "ok"),
            ("A", "2026-03-02T09:30", "Fir", d, "", 23, 2, "ok"),
            ("A", "2026-03-03T06:30", "Fir", d, "", 30, 1, "ok"),
            ("A", "2026-03-09T06:30", "Fir", d, "", 31, 1, "ok"),
            ("A", "2026-03-02T06:31", "Fir", d, "", "", 3, "failed"),
            ("B", "2026-03-02T06:30", "Fir", d, "", 12, 1, "ok"),
            ("C", "2026-03-02", "Scan", "reference", "", 15, 1, "ok"),
            ("C", "2026-03-02T23:00", "Fir", d, "", 16, 1, "ok"),
            ("D", "2026-03-05T20:00", "Scan", "reference", "", 18, 1, "ok"),
            ("D", "2026-03-06T07:00", "Fir", d, "", 17, 1, "ok"),
        ],
    )
    snap = s.snapshot()
    p = pair(snap, Lens(), snap.instrument_named("fir"), snap.instrument_named("Scan"))
    assert sorted(p.d.round(6)) == [-1, 1, 1.5, 2.5]
    assert sorted(x.why for x in p.left_out.listed()) == [
        "a visit nearer to the scan was used",
        "client without a scan",
        "failed reading",
        "no scan within the window",
    ]
    assert [n.code for n in p.notes] == ["paired_by_day"]
    around = pair(
        snap, Lens(around=True), snap.instrument_named("fir"), snap.instrument_named("Scan")
    )
    assert sorted(around.d.round(6)) == [-1, 1, 1.5, 2.5, 9.5]
    assert (p.anchors.n.tolist(), p.anchors.ss.tolist()) == ([2, 1, 1], [0.5, 0, 0])
    s.close()


def test_settings_keep_apart(tmp_path):
    """A chosen setting leaves the others out; with none chosen a note names those mixed."""
    rows = [(c, "2026-03-02T08:00", "Scan", "reference", "", 20, 1, "ok") for c in "AB"]
    rows += [
        ("A", "2026-03-02T07:00", "Fir", "device", "standard", 22, 1, "ok"),
        ("B", "2026-03-02T07:00", "Fir", "device", "athlete", 18, 1, "ok"),
    ]
    s = study(tmp_path, rows)
    pooled = finish(CompareRequest(s.snapshot(), Lens(), "Fir").run())
    alone = finish(CompareRequest(s.snapshot(), Lens(setting="athlete"), "Fir").run())
    assert "settings_pooled" in {n.code for n in pooled.notes}
    assert (pooled.pairs.n, alone.pairs.n) == (2, 1)
    assert "another setting" in {d.why for d in alone.pairs.left_out.listed()}
    assert alone.limits is None
    assert alone.bias.interval is None
    s.close()


def test_one_client_has_no_limits(tmp_path):
    """One client with two scans: a bias, no limits, and the reason."""
    rows = [("A", f"2026-0{m}-02T08:00", "Scan", "reference", "", 20, 1, "ok") for m in (3, 6)]
    rows += [
        ("A", f"2026-0{m}-02T07:00", "Fir", "device", "", 21 + m / 10, r, "ok")
        for m in (3, 6)
        for r in (1, 2)
    ]
    s = study(tmp_path, rows)
    r = finish(CompareRequest(s.snapshot(), Lens(), "Fir").run())
    assert r.limits is None
    assert r.components.client_sd is None
    assert "one_client" in {n.code for n in r.notes}
    s.close()


def test_equations():
    """Relative fat mass and the BMI equation at hand-computed points.

    Source: formulas: Woolcott & Bergman 2018; Deurenberg 1991.
    """
    v = {
        "sex": np.array([1.0, 0.0]),
        "age_years": np.array([40.0, 12.0]),
        "height": np.array([180.0, 160.0]),
    }
    rfm = EQUATIONS["rfm_woolcott_bergman_2018"].function(
        v | {"girth_waist": np.array([90.0, 80.0])}
    )["body_fat_percent"]
    assert rfm == pytest.approx([64 - 20 * 2, 64 - 20 * 2 + 12])
    bmi = EQUATIONS["bmi_deurenberg_1991"].function(v | {"body_mass": np.array([81.0, 51.2])})[
        "body_fat_percent"
    ]
    assert bmi == pytest.approx([1.2 * 25 + 0.23 * 40 - 10.8 - 5.4, 1.51 * 20 - 0.70 * 12 + 1.4])


def test_survey_data_end_to_end(tmp_path, survey_csv):
    """Both equations against DXA on 1,160 women equal a plain computation from the wide table."""
    s = Session.open(survey_csv)
    with (DATA / "nhanes_2017_2018_women.csv").open() as f:
        wide = [
            {k: float(v) for k, v in row.items() if k not in ("id", "sex")}
            for row in csv.DictReader(f)
        ]
    h, w, m, a, x = (
        np.array([r[k] for r in wide])
        for k in ("height_cm", "waist_cm", "weight_kg", "age_years", "dxa_body_fat_percent")
    )
    for name, y in (
        ("rfm_woolcott_bergman_2018", 76 - 20 * h / w),
        ("bmi_deurenberg_1991", 1.2 * m / (h / 100) ** 2 + 0.23 * a - 5.4),
    ):
        keep = np.ones(h.size, dtype=bool) if "deur" in name else a >= 20
        r = finish(CompareRequest(s.snapshot(), Lens(), name).run())
        d = (y - x)[keep]
        assert r.pairs.n == keep.sum()
        assert (r.bias.value, r.sd) == pytest.approx((d.mean(), d.std(ddof=1)), rel=1e-9)
    s.close()


def test_essential_fat_caution():
    """A value at or under essential fat brings a caution (bounds: common practice)."""
    assert essential_fat("body_fat_percent", "female", 12.0) is not None
    assert essential_fat("body_fat_percent", "male", 5.1) is None
    assert essential_fat("body_fat_percent", "female", 12.1) is None
    assert essential_fat("body_fat_percent", "", 5.1) is None
    assert essential_fat("body_mass", "male", 4.0) is None
    near = essential_fat("body_fat_percent", "male", 7.5, None, 4.9)
    assert near is not None
    assert near.code == "essential_fat_near"
    # a wide interval of somebody far above it reaches anything
    assert essential_fat("body_fat_percent", "male", 13.1, None, 4.9) is None


@pytest.mark.parametrize(
    ("cautions", "metric", "coach", "page"),
    [
        ({"eating_disorder"}, "body_fat_percent", True, True),
        ({"eating_disorder"}, "fat_mass_arm_left", True, True),
        ({"eating_disorder"}, "total_body_water_percent", True, True),
        ({"eating_disorder"}, "fat_free_mass", True, True),
        ({"eating_disorder"}, "body_mass", False, True),
        ({"eating_disorder"}, "girth_waist", False, True),
        ({"eating_disorder"}, "girth_hip", False, False),
        ({"eating_disorder"}, "sum_skinfolds_8", False, False),
        ({"eating_disorder", "fat_shown"}, "body_fat_percent", False, True),
        ({"fat_shown"}, "body_fat_percent", False, False),
        ({"pregnant"}, "phase_angle", True, True),
        ({"pregnant", "fat_shown"}, "body_fat_percent", True, True),
        ({"pregnant"}, "girth_waist", False, False),
        ({"none"}, "body_fat_percent", False, False),
    ],
)
def test_what_of_whom_is_withheld(cautions, metric, coach, page):
    """From the coach, and from the client's own page (rules of the design; common practice)."""
    client = Client(1, "A", cautions=frozenset(cautions))
    assert bool(withheld(client, metric)) == coach
    assert bool(withheld(client, metric, on_page=True)) == page


def test_groups_of_clients_by_their_cards():
    """Ages count whole years; a column that divides nobody, and clients without an entry, make none."""
    people = [
        Client(1, "A", sex="female", birth="1996-11-29"),
        Client(2, "B", sex="female", birth="1996-11-28", usual_activity="rows"),
        Client(3, "C", birth="1970", usual_activity="rests"),
    ]
    found = client_groups(people, date(2026, 11, 28))
    assert [(g.name, set(g.codes)) for g in found] == [
        ("Under 30 years", {"A"}),
        ("30 to 49 years", {"B"}),
        ("50 years and over", {"C"}),
        ("rows", {"B"}),
        ("rests", {"C"}),
    ]
