"""The command that draws studies and runs the analysis on them."""

from __future__ import annotations

import argparse
import json
import sys
from dataclasses import fields, replace

from ..analysis.plan.precision import SpreadsRequest
from ..analysis.plan.simulation import SimulationRequest
from ..app.session import Session
from ..domain.errors import UserError
from ..domain.lens import Lens
from ..domain.steps import finish
from ..exchange.simulation_json import simulation_json
from ..scenario.drawn import METRIC, Truth
from ..wording.simulation import coverage_rows, error_words, simulation_headline, verdict_rows


def truth_of(args: argparse.Namespace) -> Truth:
    """What the studies are drawn with: of a study where one is named, else as typed."""
    truth = Truth()
    if args.file is not None:
        session = Session.open(args.file, read_only=True, clock=args.clock)
        try:
            names = [n for n, kind in session.readers(METRIC) if kind == "device"]
            name = args.instrument or (names[0] if names else "")
            if not name:
                raise UserError("the study has no device that shows body fat")
            found = finish(SpreadsRequest(session.snapshot(METRIC), Lens(METRIC), name).run())
        except UserError as error:
            raise UserError(f"{args.file}: {error}") from error
        finally:
            session.close()
        s, d = found.spreads, found.design
        truth = replace(
            truth, client_sd=s.client, scan_sd=s.scan, day_sd=s.day, repeat_sd=max(s.repeat, 0.01)
        )
        if d is not None:
            truth = replace(truth, clients=d.clients, scans=d.scans, repeats=d.repeats)
    typed = {f.name: getattr(args, f.name) for f in fields(Truth)}
    return replace(truth, **{k: v for k, v in typed.items() if v is not None})


def simulate(args: argparse.Namespace) -> None:
    """Draw the studies and print what the program would say of them."""
    truth = truth_of(args)
    for name in ("failures", "mistypes", "dropouts"):
        if not 0 <= getattr(truth, name) < 1:
            raise UserError(f"{name} is a share from 0 to below 1")
    for name in (
        "client_sd",
        "day_sd",
        "repeat_sd",
        "scan_sd",
        "level_sd",
        "change_sd",
        "water_sd",
    ):
        if not 0 <= getattr(truth, name) < 100:
            raise UserError(f"{name} lies between 0 and 100 pp")
    if truth.resolution <= 0 or truth.weeks <= 0:
        raise UserError("weeks and resolution are above 0")
    found = finish(SimulationRequest(truth, args.studies, args.seed).run())
    if args.json:
        answer = simulation_json(found)
        json.dump(answer, sys.stdout, indent=1, ensure_ascii=False, allow_nan=False)
        print()
        return
    print(simulation_headline(found))
    for row in coverage_rows(found):
        print(f"{row[0]:22} {row[1]:>14}  half-width {row[2]}, planned {row[3]}")
    for question, answer_, share in verdict_rows(found):
        print(f"{question:24} {answer_:34} {share:>5}")
    print(f"{error_words(found)} Seed {found.seed}.")
