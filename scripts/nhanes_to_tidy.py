"""Turn the wide survey table into the tidy CSV.

Its columns are id, sex, age_years, weight_kg, height_cm, waist_cm and dxa_body_fat_percent.

Source of the table: US National Health and Nutrition Examination Survey 2017-2018 (CDC/NCHS, public
domain), women aged 20-59 with a whole-body DXA scan. The files carry no examination date; all rows
get one made-up day.

Usage: python scripts/nhanes_to_tidy.py WIDE.csv TIDY.csv
"""

import csv
import sys

from anchor_tally.exchange.readings_csv import HEADER

MEASURES = (
    ("dxa_body_fat_percent", "DXA", "reference", "body_fat_percent", "percent"),
    ("weight_kg", "Survey scale", "device", "body_mass", "kg"),
    ("waist_cm", "Survey tape", "method", "girth_waist", "cm"),
)


def main(source: str, target: str) -> None:
    """Read ``source``, write ``target``."""
    with (
        open(source, newline="", encoding="utf-8") as f,
        open(target, "w", newline="", encoding="utf-8") as g,
    ):
        out = csv.writer(g, lineterminator="\n")
        out.writerow(HEADER)
        for row in csv.DictReader(f):
            for column, instrument, kind, metric, unit in MEASURES:
                if row[column]:
                    out.writerow(
                        [
                            f"N{row['id']}",
                            row["sex"],
                            row["age_years"],
                            row["height_cm"],
                            "2018-01-15",
                            instrument,
                            kind,
                            "",
                            metric,
                            row[column],
                            unit,
                            1,
                            "ok",
                            "",
                        ]
                    )


if __name__ == "__main__":
    main(*sys.argv[1:3])
