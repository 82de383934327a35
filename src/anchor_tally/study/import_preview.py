"""The study with staged rows in it, without writing anything.

It serves to review a table before it is imported.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from ..domain.catalogue import Catalogue
from ..domain.records import Client, Instrument, Setting
from ..domain.snapshot import (
    EXCLUDED,
    FAILED,
    OK,
    Columns,
    Snapshot,
    VisitColumns,
    joined,
    read_only,
)
from .staging import Staged

FRESH = 10**8  # numbers of what the table would add, beyond all that the study can hold
LINE = 10**12  # a staged reading is known by this and its line
_STATUS = {"ok": OK, "failed": FAILED, "excluded": EXCLUDED}
Conditions = dict[int, dict[str, str]]


def import_preview(
    conn: sqlite3.Connection,
    staged: Staged,
    snapshot: Snapshot,
    conditions: Mapping[int, Mapping[str, str]],
) -> tuple[Snapshot, Conditions]:
    """The snapshot with the staged rows joined to it, and the conditions of the visits.

    New people, instruments, settings and visits have numbers from FRESH on, readings from LINE.
    A new visit begins where readings of a client lie further apart than the study's gap.
    """
    k, names = staged.number, _Names(snapshot, dict(staged.sexes))
    moments = conn.execute(
        f"SELECT id, client, instant, visit FROM moment_{k} ORDER BY client, instant, id"
    ).fetchall()
    visit: dict[int, int] = {}
    fresh: list[tuple[int, int, int]] = []  # number, client, instant
    last = ("", 0)
    for number, code, instant, there in moments:
        if there is None and (last[0] != code or instant - last[1] > snapshot.catalogue.gap):
            fresh.append((FRESH + len(fresh), names.client(code), instant))
        visit[number] = there if there is not None else fresh[-1][0]
        if there is None:
            last = (code, instant)
    of = {number: (names.client(code), instant) for number, code, instant, _ in moments}
    series_known = {
        series: (names.instrument(name, kind), names.setting(name, label), metric)
        for series, name, kind, label, metric in conn.execute(
            f"SELECT id, instrument, kind, label, metric FROM series_{k} ORDER BY id"
        )
    }
    blocks: dict[str, list[tuple[Any, ...]]] = {}
    for moment, series, replicate, line, value, status in conn.execute(
        f"SELECT moment, series, replicate, line, value, status FROM staged_{k} ORDER BY line"
    ):
        item, setting, metric = series_known[series]
        client, instant = of[moment]
        row = (
            LINE + line,
            visit[moment],
            client,
            item,
            setting,
            instant,
            instant // 86400,
            True,
            replicate,
            _STATUS[status],
            value,
        )
        blocks.setdefault(metric, []).append(row)
    columns = dict(snapshot.columns)
    for metric, rows in blocks.items():
        more = _columns(metric, rows)
        columns[metric] = joined(columns[metric], more) if metric in columns else more
    answers = {v: dict(said) for v, said in conditions.items()}
    heights: dict[int, float] = {}
    for moment, _age, height, said, _line in staged.statements:
        answers.setdefault(visit[moment], {}).update(dict(said))
        if height is not None:
            heights[visit[moment]] = height
    return (
        replace(
            snapshot,
            catalogue=names.catalogue(),
            visits=_visits(snapshot.visits, fresh, heights),
            columns=columns,
        ),
        answers,
    )


class _Names:
    """Numbers of people, instruments and settings: the study's, or new ones."""

    def __init__(self, snapshot: Snapshot, sexes: Mapping[str, str]) -> None:
        self._base, self._sexes = snapshot.catalogue, sexes
        self._clients = {c.code: c for c in snapshot.clients.values()}
        self._items = {i.name: i for i in snapshot.instruments.values()}
        self._settings = {(s.instrument, s.label): s for s in snapshot.settings.values()}

    def client(self, code: str) -> int:
        new = Client(FRESH + len(self._clients), code, self._sexes.get(code, ""))
        return self._clients.setdefault(code, new).id

    def instrument(self, name: str, kind: str) -> int:
        return self._items.setdefault(name, Instrument(FRESH + len(self._items), name, kind)).id

    def setting(self, name: str, label: str) -> int:
        item = self._items[name].id
        if not label:
            return 0
        return self._settings.setdefault(
            (item, label), Setting(FRESH + len(self._settings), item, label, "")
        ).id

    def catalogue(self) -> Catalogue:
        return replace(
            self._base,
            clients={c.id: c for c in self._clients.values()},
            instruments={i.id: i for i in self._items.values()},
            settings={**self._base.settings, **{s.id: s for s in self._settings.values()}},
        )


def _columns(metric: str, rows: list[tuple[Any, ...]]) -> Columns:
    """Staged rows of one metric as columns."""
    *whole, value = zip(*rows, strict=True)
    reading, visit, client, item, setting, instant, day, timed, replicate, status = (
        np.array(x, dtype=np.int64) for x in whole
    )
    found = np.array([np.nan if v is None else v for v in value], dtype=float)
    return Columns(
        metric,
        reading,
        visit,
        client,
        item,
        setting,
        instant,
        day,
        np.asarray(timed, dtype=np.bool_),
        replicate,
        status,
        found,
    )


def _visits(
    known: VisitColumns, fresh: list[tuple[int, int, int]], heights: Mapping[int, float]
) -> VisitColumns:
    """The visits and the new ones; a height that the table states counts for its visit."""
    number = np.concatenate([known.visit, np.array([f[0] for f in fresh], dtype=np.int64)])
    height = np.concatenate([known.height_cm, np.full(len(fresh), np.nan)])
    told = np.array([heights.get(int(v), np.nan) for v in number.tolist()], dtype=float)
    return VisitColumns(
        read_only(number, np.int64),
        read_only(
            np.concatenate([known.client, np.array([f[1] for f in fresh], dtype=np.int64)]),
            np.int64,
        ),
        read_only(
            np.concatenate([known.instant, np.array([f[2] for f in fresh], dtype=np.int64)]),
            np.int64,
        ),
        read_only(np.concatenate([known.age_years, np.full(len(fresh), np.nan)]), np.float64),
        read_only(np.where(np.isnan(told), height, told), np.float64),
    )
