"""Make a messy workbook.

Several sheets, headers of two and three rows, merged cells, gaps, grams.

Everybody in it is made up. Usage: messy_workbook.py TARGET.xlsx
"""

import sys
from datetime import date, datetime, time
from pathlib import Path

from openpyxl import Workbook

PEOPLE = (
    ("R01", "f", date(1996, 4, 2), 1.68, "none", "rowing"),
    ("R02", "m", date(1991, 11, 20), 1.84, "pacemaker", "rowing"),
    ("R03", "female", "1999", 1.73, "", "swimming"),
)
DAYS = (date(2026, 3, 2), date(2026, 3, 9))


def people(book: Workbook) -> None:
    """A list of participants under a title."""
    sheet = book.create_sheet("Participants")
    sheet.append(["Spring group, list of participants"])
    sheet.append([])
    sheet.append(["Participant ID", "Sex", "DOB", "Height (m)", "Medical", "Sport"])
    for row in PEOPLE:
        sheet.append(row)


def foot_scale(book: Workbook) -> None:
    """Three header rows: groups in merged cells, repeats, units.

    The code stands once for two days.
    """
    sheet = book.create_sheet("Alder")
    sheet.append(["Foot scale, mornings"])
    sheet.append(
        ["Member", "Date", "Time", "Weight", None, None, "Body fat", None, None, "Muscle", "Mood"]
    )
    sheet.append([None, None, None, 1, 2, 3, 1, 2, 3, None, None])
    sheet.append([None, None, None, "kg", "kg", "kg", "%", "%", "%", "%", None])
    sheet.merge_cells("D2:F2")
    sheet.merge_cells("G2:I2")
    for n, (code, *_rest) in enumerate(PEOPLE):
        first = sheet.max_row + 1
        for k, day in enumerate(DAYS):
            mass, fat = 62.4 + 9 * n + 0.3 * k, 21.5 + 2 * n - 0.2 * k
            repeats = [round(mass + 0.1 * r, 1) for r in range(3)] + [
                round(fat + 0.2 * r, 1) for r in range(3)
            ]
            if (n, k) == (1, 1):
                repeats[5] = "n/a"
            mood = "tired" if n == 0 and k == 1 else None
            sheet.append(
                [code if k == 0 else None, day, time(6, 40), *repeats, round(40.2 - n, 1), mood]
            )
        sheet.merge_cells(f"A{first}:A{first + 1}")
    sheet.append(["Mean", None, None, *[round(70 + c / 10, 2) for c in range(6)]])


def segment_scale(book: Workbook) -> None:
    """Several rows of a day are repeats; the units stand in the names."""
    sheet = book.create_sheet("Birch")
    sheet.append(["Athlete", "Day", "Fat %", "Water %", "Bone (kg)", "Fat left arm (kg)"])
    for n, (code, *_rest) in enumerate(PEOPLE):
        for day in DAYS:
            for r in range(2):
                water = "x" if (n, r) == (2, 1) else round(55.1 - n + 0.1 * r, 1)
                sheet.append(
                    [
                        code,
                        day,
                        round(19.8 + 2 * n + 0.1 * r, 1),
                        water,
                        2.9,
                        round(0.9 + 0.1 * n, 1),
                    ]
                )


def scan(book: Workbook) -> None:
    """A laboratory's export: dates as text with the day first, mass in grams without saying so."""
    sheet = book.create_sheet("DXA lab")
    sheet.append(["Subject no", "Scan date", "Fat (%)", "Lean (kg)", "Total mass"])
    for n, (code, *_rest) in enumerate(PEOPLE):
        sheet.append(
            [
                code,
                f"{DAYS[0].day:02}/03/2026",
                round(20.4 + 2.2 * n, 1),
                round(46.0 + 7 * n, 1),
                62300 + 9000 * n,
            ]
        )


def folds(book: Workbook) -> None:
    """Sites as groups of two repeats, in millimetres, and a girth beside them."""
    sheet = book.create_sheet("Skinfolds")
    sheet.append(["Code", "When", "Triceps (mm)", None, "Thigh (mm)", None, "Thigh (cm)"])
    sheet.append([None, None, "1", "2", "1", "2", None])
    for n, (code, *_rest) in enumerate(PEOPLE):
        sheet.append(
            [code, datetime(2026, 3, 2, 7, 15), 11.2 + n, 11.6 + n, 18.0 + n, 18.4 + n, 54.5 + n]
        )


def make(target: Path) -> None:
    """Write the workbook."""
    book = Workbook()
    book.active.title = "Read me"
    book.active.append(["Measured in the boat house."])
    for part in (people, foot_scale, segment_scale, scan, folds):
        part(book)
    book.save(target)


if __name__ == "__main__":
    make(Path(sys.argv[1]))
