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


def small_lines(rng):
    """Lines of a study of a self-tracker or a beginner: 1 to 3 clients, 0 to 3 scans, several metrics.

    Several visits a day, settings that alternate, one device under two names, people who turn.
    """
    lines, start = [], date(2026, rng.randint(1, 9), rng.randint(1, 28))
    span, gap = rng.choice((0, 1, 5, 20, 60, 120)), rng.choice((1, 1, 2, 3, 7, 14))
    hours = rng.choice((("07",), ("07", "19"), ("06", "07", "20"), ("07", "15")))
    metrics = rng.choice(
        (
            (("body_fat_percent", "percent", 24.0, 1.0),),
            (("body_fat_percent", "percent", 24.0, 1.0), ("body_mass", "kg", 75.0, 0.5)),
            (
                ("body_fat_percent", "percent", 24.0, 1.0),
                ("body_mass", "kg", 75.0, 0.5),
                ("total_body_water_percent", "percent", 54.0, 0.8),
                ("fat_mass", "kg", 18.0, 0.8),
            ),
            (("body_mass", "kg", 75.0, 0.5), ("girth_waist", "cm", 84.0, 0.7)),
            (("skinfold_triceps", "mm", 14.0, 0.8), ("body_fat_percent", "percent", 24.0, 1.0)),
            (("bone_mineral_content", "kg", 2.9, 0.05), ("lean_soft_tissue", "kg", 50.0, 0.6)),
        )
    )
    devices = ("Fir", "Elm", "Oak")[: rng.randint(1, 3)]
    settings = rng.choice((("",), ("",), ("standard", "athlete"), ("a", "b", "")))
    both, noise = rng.random() < 0.3, rng.choice((0.0, 1.0, 1.0, 2.0))
    days = range(0, span + 1, gap)
    scans = set(rng.sample(range(span + 1), min(rng.randint(0, 3), span + 1)))
    for c in range(rng.randint(1, 3)):
        off = {(d, m[0]): rng.gauss(0, 2 * m[3]) for d in devices for m in metrics}
        turn, slope = rng.uniform(0, span + 1), rng.choice((0.0, 0.0, -0.05, 0.03))
        for day in sorted({*days, *scans}):
            at = start + timedelta(days=day)
            for metric, unit, level, sd in metrics:
                true = level * (1 + 0.05 * c) + sd * slope * max(day - turn, 0)
                if day in scans:
                    shown = round(true + rng.gauss(0, 0.5 * sd * noise), 2)
                    given = {"name": "Scan", "kind": "reference", "metric": metric, "unit": unit}
                    lines.append(reading(f"C{c}", f"{at}T08:30", shown, **given))
                if day % gap:
                    continue
                for k, device in enumerate(devices):
                    for h, hour in enumerate(hours):
                        if rng.random() < 0.1:
                            continue
                        chosen = settings if both else (settings[(day + k + h) % len(settings)],)
                        for setting in chosen:
                            for r in range(rng.choice((1, 1, 1, 2))):
                                shown = true + off[device, metric] + rng.gauss(0, sd * noise)
                                lines.append(
                                    reading(
                                        f"C{c}",
                                        f"{at}T{hour}:1{k}",
                                        round(max(shown, 0.5), 2 if sd < 0.1 else 1),
                                        name=f"{device} tape" if unit in ("cm", "mm") else device,
                                        kind="method" if unit in ("cm", "mm") else "device",
                                        metric=metric,
                                        unit=unit,
                                        repeat=r + 1,
                                        setting=setting,
                                    )
                                )
    if rng.random() < 0.15:  # one display under two names
        lines += [x.replace(",Fir,", ",Echo,") for x in lines if ",Fir," in x]
    return lines or [reading("C0", f"{start}T07:00", 20.0)]


def small_study(rng):
    """A study of ``small_lines``."""
    return study_of(small_lines(rng))
