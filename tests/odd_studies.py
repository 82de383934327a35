"""Odd little studies, drawn at random."""

from datetime import date, timedelta

from places import reading, study_of


def odd_study(rng):
    """Few clients and scans, ties, constants, gaps, settings, days without a time, failed readings.

    Whatever people bring.
    """
    lines, start = [], date(2026, rng.randint(1, 6), rng.randint(1, 28))
    decimals, noise = rng.choice((0, 1, 2)), rng.choice((0.0, 0.0, 0.3, 1.5))
    days = sorted(rng.sample(range(400), rng.randint(1, 9)))
    scanned = set(rng.sample(days, rng.randint(0, min(4, len(days)))))
    clocks = rng.random() < 0.8
    for c in range(rng.randint(1, 6)):
        level, slope = (
            rng.choice((20.0, rng.uniform(4, 55))),
            rng.choice((0.0, rng.uniform(-0.05, 0.05))),
        )
        for day in days:
            if rng.random() < 0.2:
                continue
            at, true = start + timedelta(days=day), min(max(level + slope * day, 3), 70)
            if day in scanned:
                stamp = f"{at}T08:00" if clocks else f"{at}"
                lines.append(
                    reading(
                        f"C{c}",
                        stamp,
                        round(max(true + rng.gauss(0, noise), 2), 1),
                        name="Scan",
                        kind="reference",
                    )
                )
            for k, name in enumerate(("Fir", "Elm")[: rng.randint(1, 2)]):
                setting = "b" if rng.random() < 0.1 or (k and day > 150) else ""
                for r in range(rng.choice((1, 1, 2, 3))):
                    shown = round(min(max(true + c * k + rng.gauss(0, noise), 2), 75), decimals)
                    line = reading(
                        f"C{c}",
                        f"{at}T07:1{k}" if clocks else f"{at}",
                        shown,
                        name=name,
                        repeat=r + 1,
                        setting=setting,
                    )
                    lines.append(
                        line.replace(f",{shown},", ",,").replace(",ok,", ",failed,")
                        if rng.random() < 0.03
                        else line
                    )
            if rng.random() < 0.5:
                lines.append(
                    reading(f"C{c}", f"{at}T07:10", 70 - day / 50, metric="body_mass", unit="kg")
                )
    return study_of(lines)
