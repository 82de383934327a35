"""Workbooks drawn at random with known values: what import reads of them, beside the truth."""

import random
from datetime import date, datetime, timedelta

import openpyxl
import pytest
from openpyxl.comments import Comment

from anchor_tally.app.importing import look_at, rows_of, wanting
from anchor_tally.domain.import_rows import ImportRow
from anchor_tally.exchange.guessing import named_by_sheet, with_sheet_as_client

MEASURES = (
    ("Weight", "body_mass", "kg", 60, 95),
    ("Fat", "body_fat_percent", "%", 12, 38),
    ("Water", "total_body_water_percent", "%", 45, 65),
    ("Waist", "girth_waist", "cm", 65, 110),
)
DEVICES = ("Alder", "Birch")


def heads(rng, sheet, lead, measures, devices, units):
    """The head of a sheet: a title, devices over merged cells, units in their own row or in brackets."""
    if rng.random() < 0.3:
        sheet.append([f"Squad of {rng.randint(2020, 2026)}"])
        sheet.merge_cells(start_row=1, end_row=1, start_column=1, end_column=4)
    if devices:
        groups = [x for d in devices for x in (d, *[""] * (len(measures) - 1))]
        sheet.append([""] * len(lead) + groups)
        row = sheet.max_row
        for k in range(len(devices)):
            left = len(lead) + 1 + k * len(measures)
            sheet.merge_cells(None, row, left, row, left + len(measures) - 1)
    names = {"row": "{0}", "cell": "{0}", "brackets": "{0} ({1})", "head": "{0} {1}"}[units]
    times = len(devices) or 1
    sheet.append(lead + [names.format(m[0], m[2]) for m in measures] * times)
    if units == "row":
        sheet.append([""] * len(lead) + [m[2] for m in measures] * times)


def workbook(rng, path):
    """Save a workbook; returns value by client, day, device and metric.

    Sheets by client, by month or one; units in head, row or cell; three styles of dates; comments,
    empty cells and means under the columns.
    """
    book, truth = openpyxl.Workbook(), {}
    book.remove(book.active)
    clients = [f"P{k:02}" for k in range(rng.randint(2, 4))]
    by, style = rng.choice(("client", "month", "one")), rng.choice(("iso", "date", "dmy"))
    units = rng.choice(("head", "cell", "row", "brackets"))
    devices = rng.choice(((), DEVICES))
    measures = rng.sample(MEASURES[:3] if devices else MEASURES, rng.randint(2, 3))
    days = [date(2026, 1, 13) + timedelta(days=7 * k) for k in range(rng.randint(8, 14))]
    months = dict.fromkeys(d.strftime("%B") for d in days)
    sheets = {
        "client": [(c, [c], days) for c in clients],
        "month": [(m, clients, [d for d in days if d.strftime("%B") == m]) for m in months],
        "one": [("Data", clients, days)],
    }[by]
    for name, who, when in sheets:
        sheet, lead = book.create_sheet(name), [*(["Client"] if by != "client" else []), "Date"]
        heads(rng, sheet, lead, measures, devices, units)
        for c in who:
            for d in when:
                shown = {
                    "iso": d.isoformat(),
                    "date": datetime(d.year, d.month, d.day),
                    "dmy": d.strftime("%d/%m/%Y"),
                }[style]
                row = [*([c] if by != "client" else []), shown]
                for device in devices or ("",):
                    for _, metric, unit, low, high in measures:
                        if rng.random() < 0.06:
                            row.append(None)
                            continue
                        value = round(rng.uniform(low, high), 1)
                        truth[c, d.isoformat(), device, metric] = value
                        row.append(f"{value} {unit}" if units == "cell" else value)
                sheet.append(row)
                if rng.random() < 0.05:
                    sheet.cell(sheet.max_row, len(row)).comment = Comment("checked", "x")
        if rng.random() < 0.3 and by != "client":
            sheet.append(["Mean", None, *[50.0] * (len(measures) * (len(devices) or 1))])
    book.save(path)
    return truth


def read(path):
    """Values by client, day, device and metric, choices that were needed, and sheets."""
    got, tables, choices, found = {}, [], 0, look_at(path)
    for f in found.tables:
        mapping = f.mapping
        if wanting(f.table, mapping) and named_by_sheet(f.table, mapping):
            mapping, choices = with_sheet_as_client(f.table, mapping), choices + 1
        assert not wanting(f.table, mapping), (f.table.sheet, f.table.header)
        tables.append((f.table, mapping))
    for r in rows_of(tables) or ():
        if isinstance(r, ImportRow):
            device = r.instrument if r.instrument in DEVICES else ""
            got[r.client, r.taken_at[:10], device, r.metric] = r.value
    return got, choices, len(found.tables)


@pytest.mark.parametrize("seeds", [range(12), pytest.param(range(12, 120), marks=pytest.mark.slow)])
def test_random_workbooks_are_read_as_they_were_drawn(seeds, tmp_path):
    """Every value, none wrong, none lost, none invented; at most one choice a sheet."""
    values = 0
    for seed in seeds:
        path = tmp_path / f"{seed}.xlsx"
        truth = workbook(random.Random(seed), path)
        got, chosen, n = read(path)
        assert got == pytest.approx(truth), seed
        assert chosen <= n
        values += len(truth)
    assert values > 80 * len(seeds)
