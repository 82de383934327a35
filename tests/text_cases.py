"""What is read of written texts: dates, numbers, names, rows, tables, lines of devices."""

import csv
import io
import itertools
import random

import numpy as np

from anchor_tally.app.importing import Foreign, look_at, wanting
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.instants import canonical, moment, shifted, zone_named
from anchor_tally.domain.metrics import metric_named
from anchor_tally.domain.text import as_sentence, guarded, plain_name, plain_text, unguarded
from anchor_tally.domain.units import bare_number, parse_difference, parse_quantity
from anchor_tally.exchange.dates import ORDERS, ambiguous, iso_moment, order_of
from anchor_tally.exchange.mapping import read_rows
from anchor_tally.exchange.people import card_of
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.exchange.remedies import grouped
from anchor_tally.feeds.measurement_filter import MeasurementFilter
from anchor_tally.feeds.protocol import Assembler, check_number, format_line, parse_line
from anchor_tally.feeds.scale import PROFILES, Person, measure
from answers import plain

DATES = """2026-03-02|2.3.2026|02/03/26|3/13/2026|13/3/2026|2026/3/2|Mon 2 Mar 2026|2 March 2026|
March 2 2026|Mar 2, 2026|31.11.2026|29.2.2028|29.2.2026|2026-3-2|20260302|1/1/99|12/12/12|0.1.2026|
2.3.2026 07:10|2.3.2026, 7.10 pm|2026-03-02 07:10|2026-03-02T07:10:30|2026-03-02T07:10+02:00|
2026-03-02T24:00|2.3.2026 12:00 am|2.3.2026 1:05 pm|2.3.2026 13:00 am|2.3.2026 7h10|2.3.2026 07:60|
2.3.2026 23:59|2.3.2026 24:00|2.3.2026 07:10:59.5|2.3.2026 7|Okt 5 2026|5 Foo 2026|Di 2.3.2026"""
CLOCKS = ("", "07:10", "7:10 pm", "19.30", "0:05 am", "12:30 a.m.", "25:00", "noon", "7:59:59")
ZONES = ("UTC", "Europe/Berlin", "America/New_York", "Nowhere/Nothing")
MOMENTS = """2026-03-29T02:30|2026-10-25T02:30|2026-03-29T03:00|2026-03-02|2026-03-02T07:10Z|
2026-03-02T07:10-05:00|2026-13-02|2026-02-30T07:00|0999-01-01|2026-03-02T07|yesterday||
2026-03-02 07:10|2026-03-02T07:10:11|2026-03-02T23:59+14:00|9999-12-31|2101-01-01"""
NUMBERS = """24.6|24,6|1,234.5|-3|+3|3.|.5|5e1|0|1 1/2|34 1/2 in|34½ in|34 1/0 in|5ft 10|5 ft 10.5 in|
5'10"|11 st 4|11st|154 lb|70kg|70 stones|24.6 %|24.6 percent|x|24.6.1|٣|1e400|nan|inf|−4|12 mm|
1.2 cm|0.5 m|9999|1_0|24,6 pp|  7  |7 7|180 cm|71 in|2.04 m"""
NAMES = (
    "Auk",
    " Auk ",
    "A\tuk",
    "A\nuk",
    "=1+1",
    "'=1+1",
    "@x",
    "-x",
    "+x",
    "A\u200bB",
    "e\u0301",
    "\u202eA",
    "",
)
CELLS = {  # a row of the tidy format with one other cell
    "client": ("", " ", "A01", "=A01", "x" * 70, "A\u0000"),
    "sex": ("", "male", "female", "Male", "m", "other"),
    "age_years": ("", "0", "130", "130.1", "-1", "30,5", "x", "1" * 29, "1" * 30, "1" * 31),
    "height_cm": ("", "40", "39.9", "260", "260.1", "181,5", "6 ft"),
    "taken_at": ("", "2026-03-02", "2026-03-02T07:00", "2.3.2026", "2026-03-02T07:00+01:00", "x"),
    "instrument": ("", "Fir", "=Fir", "x" * 300),
    "kind": ("", "device", "reference", "method", "estimate", "Device"),
    "setting": ("", "athlete", "=a"),
    "metric": ("", "body_mass", "body_fat_percent", "girth_waist", "fat", "reactance_50khz"),
    "value": (
        "",
        "20",
        "20,5",
        "2",
        "1.9",
        "70",
        "75",
        "75.1",
        "x",
        "20 %",
        "20 kg",
        "1e1",
        "0020",
    ),
    "unit": ("", "percent", "%", "kg", "pp", "stone"),
    "replicate": ("", "0", "1", "9", "10", "99", "100", "999", "1000", "9999", "10000", "1.5", "²"),
    "status": ("", "ok", "failed", "excluded", "OK", "gone"),
    "note": ("", "after rowing", "=1+1", "'=1+1", "a\nb", "x" * 3000),
}
BASE = dict.fromkeys(HEADER, "") | {
    "client": "A01", "taken_at": "2026-03-02T07:00", "instrument": "Fir", "kind": "device",
    "metric": "body_fat_percent", "value": "20.5", "unit": "percent", "replicate": "1",
}  # fmt: skip
HEADS = """Name|Athlete|Client|ID|Date|Day|Time|When|Sex|Age|Height (cm)|Height|DOB|Cautions|Notes|
Weight (kg)|Weight (lb)|Body fat (%)|BF %|Fat mass (kg)|Lean mass|Muscle (%)|Muscle mass (kg)|TBW %|
Birch fat (%) 1|Birch fat (%) 2|Birch: fat|DXA fat|Scan fat %|Waist (cm)|Hip|Triceps (mm)|
Subscapular 1|Subscapular 2|Bicep fold|R50|Xc 50 kHz|Impedance|BMR|Visceral|Left arm fat (%)|
Trunk lean (kg)|fasted|voided|Metric|Value|Unit|Device|Method|Instrument|Repeat|Status||Wt|BIA 1|%"""
HELD = """24.6|24,6|81|181|x|n/a||2026-03-02|2.3.2026|3/13/2026|07:10|m|female|yes|no|Auk|kg|%|fat|
percent|12.5 mm|154 lb|Birch|1|34|Mon 2 Mar 2026|-"""
LINES = """H Alder 12|H Alder|H  |L 72.50 =|L 72.50 ~|L 1.99 =|L 2.00 =|L 700.0 =|L 700.1 ~|L -700 ~|
L 72.5 ?|L x =|V 1 body_fat_percent 18.4 percent|V 1 body_fat_percent 18.4 kg|V 1 fat 18.4 percent|
V 1 body_fat_percent 99 percent|V 1234567 body_mass 72 kg|V 12345678 body_mass 72 kg|V x body_mass 7 kg|
V 1 body_mass 72|V 1 body_mass 123456 kg|V 1 body_mass 72.12345 kg|D 1 2|D 1|D x 2|D 1 2 3|F 1 moved|
F 1 moved too early|F 1|F x moved|Z|Z 1|Q 1|"""


TABLES = 300


def _of(text):
    return text.replace("\n", "").split("|")


def _said(ask):
    try:
        return plain(ask())
    except (UserError, ValueError) as error:
        return f"{type(error).__name__}: {error}"


def dates():
    """Dates and times in each order, and moments in zones."""
    read, out = _of(DATES), {}
    for order in ORDERS:
        out[order] = {d: _said(lambda d=d, o=order: iso_moment(d, "", o)) for d in read}
    out["clocks"] = {c: _said(lambda c=c: iso_moment("2.3.2026", c, "dmy")) for c in CLOCKS}
    out["order"] = [[order_of(pair), ambiguous(pair)] for pair in itertools.pairwise(read)]
    for zone in ZONES:
        z = zone_named(zone)
        out[zone] = {
            m: [_said(lambda m=m, z=z, k=k: moment(m, z, lenient=k)) for k in (False, True)]
            for m in _of(MOMENTS)
        }
    out["canonical"] = {m: _said(lambda m=m: canonical(m)) for m in _of(MOMENTS)}
    out["shifted"] = {m: _said(lambda m=m: shifted(m, -3700, 1)) for m in _of(MOMENTS)}
    return out


def numbers():
    """Numbers with and without units, of three metrics; names and notes."""
    out = {}
    for name in ("body_fat_percent", "body_mass", "girth_waist", "skinfold_triceps"):
        m = metric_named(name)
        out[name] = {
            n: [
                _said(lambda n=n, m=m: parse_quantity(n, m)),
                _said(lambda n=n, m=m: parse_difference(n, m)),
            ]
            for n in _of(NUMBERS)
        }
    out["bare"] = [bare_number(n) for n in _of(NUMBERS)]
    out["names"] = [
        [plain_name(n), plain_text(n), guarded(n), unguarded(n), as_sentence(n)] for n in NAMES
    ]
    return out


def rows(folder):
    """Rows of the tidy format with one other cell, then with two."""
    cells = [(c, t) for c, texts in CELLS.items() for t in texts]
    rng, out = random.Random(3), {}
    pairs = [dict(rng.sample(cells, 2)) for _ in range(80)]
    for k, given in enumerate((*({c: t} for c, t in cells), *pairs)):
        out[f"{k} {given!r:.60}"] = BASE | given
    path = folder / "rows.csv"
    with path.open("w", newline="", encoding="utf-8") as f:
        table = csv.writer(f)
        table.writerow(HEADER)
        table.writerows([r[h] for h in HEADER] for r in out.values())
    found = look_at(path)
    return [plain(r) for r in found.rows]


def people():
    """Cards of people as tables write them."""
    out = {}
    for k, (sex, birth, words, age) in enumerate(
        itertools.product(
            ("m", "Woman", "x", "none"),
            ("1994", "1994-05", "2.3.1994", "31.2.1994", "3/13/94", "-"),
            ("", "none", "pacemaker, ill", "Pregnant?", "cutting weight; knee"),
            ("", "31"),
        )
    ):
        said = {
            "sex": sex,
            "birth": birth,
            "cautions": words,
            "age_years": age,
            "note": "n",
            "name": "Auk" if k % 2 else "Ann",
        }
        for order in ("iso", "mdy"):
            key = f"{sex} {birth} {words} {age} {order}"
            out[key] = _said(
                lambda s=said, o=order, k=k: card_of(k, " Auk ", s, "181" if k % 3 else "", o)
            )
    return out


def tables(folder):
    """What foreign tables drawn at random are taken for."""
    return {f"{seed}": _drawn_table(folder, seed) for seed in range(TABLES)}


def _drawn_table(folder, seed):
    """A foreign table drawn at random: what its columns are taken for, and what its rows become."""
    rng = random.Random(seed)
    width, length = rng.randint(2, 7), rng.randint(1, 5)
    heads, held = rng.sample(_of(HEADS), width), _of(HELD)
    columns = [rng.sample(held, min(rng.choice((1, 2, 5)), length)) for _ in heads]
    if rng.random() < 0.8:
        heads[0], columns[0] = rng.choice((("Name", ["Auk", "Ling", ""]), ("ID", ["7", "8"])))
        heads[1], columns[1] = (
            "Date",
            rng.choice((["2026-03-02"], ["2.3.2026", "14.3.2026"], ["3/4/26", ""])),
        )
    lines = [heads, *([c[r % len(c)] for c in columns] for r in range(length))]
    if rng.random() < 0.2:
        lines.insert(0, ["Winter evenings", *[""] * (width - 1)])
    if rng.random() < 0.1:
        lines.append(lines[1][: width - 1])
    text = io.StringIO(newline="")
    csv.writer(text, delimiter=rng.choice(",;\t")).writerows(lines)
    path = folder / "table.csv"
    path.write_bytes(text.getvalue().encode(rng.choice(("utf-8", "cp1252", "utf-16"))))
    return _said(lambda: _table(path))


def _table(path):
    found = look_at(path)
    if not isinstance(found, Foreign):
        return [plain(r) for r in found.rows]
    out = []
    for f in found.tables:
        want = wanting(f.table, f.mapping)
        taken = [] if want else list(read_rows(f.table, f.mapping))
        refused = [r for r in taken if type(r).__name__ == "Refused"]
        groups = [
            [g.count, g.column, g.reason, g.remedy] for g in grouped(refused, f.table, f.mapping)
        ]
        out.append(
            [plain(f.table.header), plain(f.mapping), want, [plain(r) for r in taken], groups]
        )
    return [*out, list(found.empty)]


def lines():
    """Lines of devices, whole, cut and endless, and what becomes of them."""
    sent = [f"{b} #{check_number(b)}" for b in _of(LINES)]
    read = [parse_line(s) for s in sent]
    out = {s: [plain(r), type(r).__name__, format_line(r)] for s, r in zip(sent, read, strict=True)}
    for wrong in ("Z #99", "Z", "Z #5", " Z #90", "ü #12"):
        out[wrong] = plain(parse_line(wrong))
    whole = Assembler()
    data = "\r\n".join(sent).encode() + b"\n"
    parts = [data[k : k + 7] for k in range(0, len(data), 7)]
    out["assembled"] = [len(whole.feed(p)) for p in parts]
    for size in (150, 160, 161, 4095, 4096, 4097):
        long = Assembler()
        out[f"long {size}"] = [
            long.feed(b"x" * size),
            long.endless,
            long.feed(b"\nZ #90\n"),
            long.endless,
        ]
    kept = MeasurementFilter()
    out["kept"] = [plain(kept.line(r)) for r in (*read, *read[::-1])] + [plain(kept.lost())]
    for name, profile in PROFILES.items():
        person = Person(72.0, 18.0)
        rng = np.random.default_rng(4)
        for tally in range(1, 9):
            shown = measure(profile, person, tally, rng, athlete=tally % 2 == 0)
            out[f"{name} {tally}"] = [[wait, format_line(line)] for wait, line in shown]
    return out


TEXTS = {
    "dates": lambda _folder: dates(),
    "numbers": lambda _folder: numbers(),
    "people": lambda _folder: people(),
    "lines": lambda _folder: lines(),
    "rows": rows,
    "tables": tables,
}
