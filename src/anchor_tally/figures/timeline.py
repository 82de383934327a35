"""Readings through time, with those that a finding is about in rings."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np

from ..analysis.people.withheld import withheld
from ..analysis.review import Finding, Material
from ..domain.instants import zone_named
from ..domain.metrics import metric_of
from ..domain.snapshot import EXCLUDED, FAILED, Floats
from .style import Mark, Palette, dates, prepare

MOST = 3000


@dataclass(frozen=True, eq=False)
class Run:
    """Readings of one instrument: days, values, and which are excluded, failed or ringed.

    A failed reading is drawn at the lowest value shown.
    """

    name: str
    instrument: int
    when: tuple[datetime, ...]
    value: Floats
    excluded: np.ndarray
    failed: np.ndarray
    ringed: np.ndarray


@dataclass(frozen=True, eq=False)
class TimelineInfo:
    """What the picture of a finding shows; no run when there is nothing to draw."""

    runs: tuple[Run, ...]
    label: str
    title: str


def info(f: Finding, m: Material, lens_metric: str) -> TimelineInfo:
    """The readings that a finding is about, among those of the same client and device.

    Of a visit, those of all devices. None of a client of whom they may not be shown.
    """
    metric = f.metric or (
        lens_metric if lens_metric in m.snapshot.columns else next(iter(m.snapshot.columns), "")
    )
    c = m.snapshot.columns.get(metric)
    found = metric_of(metric)
    label = f"{found.label} ({found.symbol})"
    if c is None:
        return TimelineInfo((), label, "")
    own = np.ones(c.n, dtype=bool)
    if f.client:
        own &= c.client == f.client
    if f.instrument:
        own &= c.instrument == f.instrument
    own &= c.reading > 0
    hidden = [i for i, who in m.snapshot.clients.items() if withheld(who, metric)]
    own &= ~np.isin(c.client, hidden)  # its axis would tell what the sentence leaves out
    items = np.unique(c.instrument[own]).tolist()
    zone = zone_named(m.snapshot.catalogue.zone)
    runs = []
    for item in items:
        rows = np.flatnonzero(own & (c.instrument == item))
        rows = rows[np.argsort(c.instant[rows], kind="stable")][-MOST:]
        value = c.value[rows]
        floor = float(np.nanmin(value)) if (~np.isnan(value)).any() else 0.0
        ringed = (
            np.isin(c.reading[rows], f.readings)
            if f.readings
            else (c.visit[rows] == f.visit) & bool(f.visit)
        )
        runs.append(
            Run(
                m.snapshot.instruments[item].name if item in m.snapshot.instruments else "",
                item,
                tuple(datetime.fromtimestamp(int(i), zone) for i in c.instant[rows].tolist()),
                np.where(np.isnan(value), floor, value),
                c.status[rows] == EXCLUDED,
                c.status[rows] == FAILED,
                ringed,
            )
        )
    who = m.snapshot.clients[f.client].code if f.client in m.snapshot.clients else "all clients"
    return TimelineInfo(tuple(runs), label, who)


def draw(
    axes: Any, what: TimelineInfo, marks: tuple[Mark, ...], palette: Palette, family: str
) -> None:
    """Points by instrument.

    Excluded ones open, failed ones as crosses at the foot, those that the finding is about in
    rings.
    """
    prepare(axes, palette, family)
    if not what.runs:
        axes.text(
            0.5,
            0.5,
            "nothing to draw",
            transform=axes.transAxes,
            ha="center",
            color=palette.faint,
            fontfamily=family,
        )
        return
    for run, mark in zip(what.runs, marks, strict=True):
        when = np.array(run.when, dtype=object)
        ok = ~run.excluded & ~run.failed
        if ok.any():
            axes.plot(
                when[ok],
                run.value[ok],
                ls="none",
                marker=mark.shape,
                ms=5,
                color=mark.colour,
                mec=palette.surface,
                mew=0.5,
                label=run.name,
            )
        if run.excluded.any():
            axes.plot(
                when[run.excluded],
                run.value[run.excluded],
                ls="none",
                marker=mark.shape,
                ms=5,
                mfc="none",
                mec=mark.colour,
            )
        if run.failed.any():
            axes.plot(
                when[run.failed],
                run.value[run.failed],
                ls="none",
                marker="x",
                ms=5,
                color=palette.warn,
            )
        if run.ringed.any():
            axes.plot(
                when[run.ringed],
                run.value[run.ringed],
                ls="none",
                marker="o",
                ms=15,
                mfc="none",
                mec=palette.warn,
                mew=2,
                clip_on=False,  # a ring at the edge of the axes stays whole
            )
    if len(what.runs) > 1:
        legend = axes.legend(
            loc="lower left",
            bbox_to_anchor=(0.0, 0.99),
            ncols=6,
            frameon=False,
            borderpad=0.1,
            handletextpad=0.2,
            columnspacing=1.2,
            prop={"family": family, "size": 9},
        )
        for text in legend.get_texts():
            text.set_color(palette.ink)
    axes.set_ylabel(what.label, fontfamily=family, fontsize=9)
    axes.set_xlabel(what.title, fontfamily=family, fontsize=9)
    dates(axes)
