"""Which instrument to choose: requirements, weighted criteria, and how certain the order is."""

from __future__ import annotations

import re
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from ...domain.catalogue import Catalogue
from ...domain.lens import Lens
from ...domain.metrics import REGIONS, region_of
from ...domain.records import Instrument
from ...domain.snapshot import FAILED, Floats, Snapshot, read_only
from ...domain.steps import finish
from ...stats.estimate import Estimate, Note, note
from ...stats.resample import client_weights
from ..ask.question import Asked
from ..pairs.comparator import find_comparator, lens_for, others_of
from ..pairs.pairing import PairSet, pair
from ..pairs.reference_slopes import following, shows_too_little
from ..pairs.series import rows_of_instrument
from ..people.cautions import locks
from .repeatability import RepeatabilityRequest

DRAWS = 1000
LEAST_CLIENTS = 3
SURELY = 0.95  # share of resamples
CRITERIA = ("closeness", "change", "consistency")


@dataclass(frozen=True, slots=True)
class MustHaves:
    """What an instrument must have to be kept at all; empty and None ask nothing."""

    metric: str = ""
    segments: bool = False
    exports: bool = False
    most_price: float | None = None
    most_failed_percent: float | None = None
    for_client: str = ""


@dataclass(frozen=True, slots=True)
class Card:
    """One instrument: criteria, price, share of failed readings, exclusion reasons, score, place.

    Criteria are in the metric's unit; None where they are not known.

    ``closeness`` is the RMSE on anchors, ``change`` the RMSE of changes, ``consistency`` the SD
    within tallies. ``score`` is the weighted mean of best/own, 1 for the best in everything;
    ``first`` the share of resamples in which it comes first, ``beats_last_scan`` that in which
    its changes are closer than saying that nothing has changed. ``follows`` is its slope on the
    scan within clients.
    """

    instrument: Instrument
    closeness: float | None
    change: float | None
    consistency: float | None
    price: float | None
    failed: float
    ruled_out: tuple[Note, ...]
    score: float | None = None
    first: float | None = None
    beats_last_scan: float | None = None
    follows: Estimate | None = None


@dataclass(frozen=True, eq=False)
class WhichDeviceResult:
    """Cards, the best first, those ruled out last.

    ``keep`` names the best for level, for change, and for value.
    """

    asked: Asked
    metric: str
    cards: tuple[Card, ...]
    keep: Mapping[str, str]
    clients: int
    notes: tuple[Note, ...]


@dataclass(frozen=True, slots=True)
class WhichDeviceRequest:
    """All instruments against the comparator, ranked by weighted criteria.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    must : MustHaves
        Requirements that rule instruments out.
    weights : mapping of str to float
        Weight of each criterion.
    offers : mapping of int to frozenset of str
        Metrics that each instrument shows.
    seed : int
        Seed of the resampled order.

    Raises
    ------
    CannotCompare
        From ``run``: no comparator, or no readings of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    must: MustHaves = MustHaves()
    weights: Mapping[str, float] = field(default_factory=lambda: dict.fromkeys(CRITERIA, 1.0))
    offers: Mapping[int, frozenset[str]] = field(default_factory=dict)
    seed: int = 1

    def run(self) -> Generator[float, None, WhichDeviceResult]:
        """Yield progress; return the cards."""
        comparator = find_comparator(self.snapshot, self.lens)
        items = others_of(self.snapshot, self.lens, comparator)
        cards, parts, slopes, pooled = [], [], [], []
        known = self.snapshot.catalogue.stated.get((self.lens.metric, "reference_sd"))
        for k, item in enumerate(items):
            lens = lens_for(self.snapshot, self.lens, item)
            pairs = pair(self.snapshot, lens, item, comparator)
            pooled += [item.name for n in pairs.notes if n.code == "settings_pooled"]
            sums = _sums(pairs, self.snapshot)
            parts.append(sums)
            slopes.append(following(pairs, known)[0] if comparator.kind == "reference" else None)
            total = _criteria(sums.sum(axis=0))
            cards.append(
                Card(
                    item,
                    *total,
                    _consistency(self.snapshot, lens, item),
                    price_of(item.price),
                    _failed(self.snapshot, self.lens, item),
                    ruled_out(
                        self.snapshot.catalogue,
                        item,
                        self.must,
                        self._offered(item),
                        self.snapshot,
                        self.lens,
                    ),
                )
            )
            yield 0.7 * (k + 1) / len(items)
        notes: list[Note] = [note("cards_pooled", names=tuple(pooled))] if pooled else []
        shares = _first_shares(cards, parts, self.weights, self.seed, notes)
        beats = [_beats_last_scan(p, self.seed) for p in parts]
        scores = _scores(cards, self.weights)
        cards = [
            replace(c, score=score, first=share, beats_last_scan=beat, follows=slope)
            for c, score, share, beat, slope in zip(
                cards, scores, shares, beats, slopes, strict=True
            )
        ]
        order = sorted(cards, key=lambda c: (bool(c.ruled_out), c.score is None, -(c.score or 0)))
        clients = max((int((p[:, 1] > 0).sum()) for p in parts), default=0)
        yield 1.0
        return WhichDeviceResult(
            Asked(self.snapshot.revision, self.lens),
            self.lens.metric,
            tuple(order),
            _keep(order),
            clients,
            tuple(notes),
        )

    def _offered(self, item: Instrument) -> frozenset[str]:
        return self.offers.get(item.id, frozenset())


def price_of(text: str) -> float | None:
    """The number in a price such as "149 EUR", "1,299.00" or "89,90"; None without one."""
    found = re.search(r"\d[\d.,]*", text)
    if found is None:
        return None
    digits = found[0].rstrip(".,")
    last = max(digits.rfind("."), digits.rfind(","))
    cents = last >= 0 and len(digits) - last - 1 != 3  # three digits after the mark are thousands
    whole, rest = (digits[:last], digits[last + 1 :]) if cents else (digits, "")
    return float(f"{re.sub(r'[.,]', '', whole) or '0'}.{rest or '0'}")


def ruled_out(
    items: Catalogue,
    item: Instrument,
    must: MustHaves,
    offers: frozenset[str],
    snapshot: Snapshot,
    lens: Lens,
) -> tuple[Note, ...]:
    """Reasons why an instrument is ruled out.

    One note for each requirement that it does not meet, in the order of the requirements.
    """
    out = []
    has = offers | {m for m, c in snapshot.columns.items() if bool((c.instrument == item.id).any())}
    if must.metric and must.metric not in has:
        out.append(note("lacks_metric", metric=must.metric))
    if must.segments and not any(
        region_of(m)[1] in REGIONS and region_of(m)[1] not in ("subtotal", "head") for m in has
    ):
        out.append(note("lacks_segments"))
    if must.exports and item.exports_data is not True:
        out.append(note("lacks_export" if item.exports_data is False else "export_not_known"))
    price = price_of(item.price)
    if must.most_price is not None and (price is None or price > must.most_price):
        out.append(note("too_dear", price=item.price or "–", most=must.most_price))
    failed = _failed(snapshot, lens, item)
    if must.most_failed_percent is not None and 100 * failed > must.most_failed_percent:
        out.append(note("fails_too_often", share=100 * failed, most=must.most_failed_percent))
    client = items.client_coded(must.for_client) if must.for_client else None
    if client is not None and item.name in locks(client, [item]):
        out.append(note("not_for_client", client=client.code))
    return tuple(out)


def _failed(snapshot: Snapshot, lens: Lens, item: Instrument) -> float:
    """Share of failed readings."""
    c = snapshot.columns[lens.metric]
    own = c.instrument == item.id
    return float((c.status[own] == FAILED).mean()) if own.any() else 0.0


def _consistency(snapshot: Snapshot, lens: Lens, item: Instrument) -> float | None:
    if item.equation or rows_of_instrument(snapshot, lens, item, lens.metric).size == 0:
        return None
    sd = finish(RepeatabilityRequest(snapshot, lens, item.name).run())[0].found.sd
    return None if sd is None else sd.value


def _sums(pairs: PairSet, snapshot: Snapshot) -> Floats:
    """By client: Σd², anchors, Σ(change of d)², changes, Σ(change of the reference)².

    The d of an anchor is the mean of its pairs.
    """
    codes = np.array(sorted(snapshot.clients), dtype=np.int64)
    out = np.zeros((codes.size, 5))
    if pairs.n == 0:
        return read_only(out, np.float64)  # type: ignore[no-any-return]
    used, at = np.unique(pairs.occasion, return_inverse=True)
    d = np.bincount(at, pairs.d) / np.bincount(at)
    client = np.searchsorted(codes, pairs.anchors.client[used])
    order = np.lexsort((pairs.anchors.instant[used], client))
    d, client, x = d[order], client[order], pairs.anchors.mean[used][order]
    out[:, 0], out[:, 1] = (
        np.bincount(client, d * d, codes.size),
        np.bincount(client, minlength=codes.size),
    )
    same = client[1:] == client[:-1]
    step = np.diff(d)[same]
    out[:, 2] = np.bincount(client[1:][same], step * step, codes.size)
    out[:, 3] = np.bincount(client[1:][same], minlength=codes.size)
    out[:, 4] = np.bincount(client[1:][same], np.diff(x)[same] ** 2, codes.size)
    return read_only(out, np.float64)  # type: ignore[no-any-return]


def _criteria(sums: Floats) -> tuple[float | None, float | None]:
    close = float(np.sqrt(sums[0] / sums[1])) if sums[1] > 0 else None
    return close, float(np.sqrt(sums[2] / sums[3])) if sums[3] > 0 else None


def _scores(cards: list[Card], weights: Mapping[str, float]) -> list[float | None]:
    """Weighted means of best/own over the criteria that an instrument has.

    None where it has none, or is ruled out.
    """
    best = {}
    for name in CRITERIA:
        values = [v for c in cards if not c.ruled_out and (v := getattr(c, name)) is not None]
        best[name] = min(values, default=None)
    out: list[float | None] = []
    for c in cards:
        parts = [
            (weights.get(name, 0.0), (best[name] or 0.0) / v if v else 1.0)
            for name in CRITERIA
            if (v := getattr(c, name)) is not None and best[name] is not None
        ]
        total = sum(w for w, _ in parts)
        out.append(sum(w * s for w, s in parts) / total if total > 0 and not c.ruled_out else None)
    return out


def _first_shares(
    cards: list[Card],
    parts: list[Floats],
    weights: Mapping[str, float],
    seed: int,
    notes: list[Note],
) -> list[float | None]:
    """In how many resamples of the clients each instrument comes first.

    None for those ruled out or without pairs.
    """
    kept = [k for k, c in enumerate(cards) if not c.ruled_out and c.closeness is not None]
    shares: list[float | None] = [None] * len(cards)
    there = (
        np.flatnonzero(np.any([parts[k][:, 1] > 0 for k in kept], axis=0))
        if kept
        else np.empty(0, dtype=np.int64)
    )
    if there.size < LEAST_CLIENTS or len(kept) < 2:
        notes.append(note("order_not_known", clients=int(there.size)))
        return shares
    stacked = np.stack([parts[k][there] for k in kept], axis=1).reshape(there.size, -1)
    fixed = np.array(
        [cards[k].consistency if cards[k].consistency is not None else np.nan for k in kept]
    )
    wins = np.zeros(len(kept))
    w = [weights.get(name, 0.0) for name in CRITERIA]
    for counts in client_weights(there.size, DRAWS, seed, stacked.shape[1]):
        s = (counts @ stacked).reshape(counts.shape[0], len(kept), 5)
        values = [
            _ratio(s[..., 0], s[..., 1]),
            _ratio(s[..., 2], s[..., 3]),
            np.broadcast_to(fixed, s.shape[:2]),
        ]
        score, total = np.zeros(s.shape[:2]), np.zeros(s.shape[:2])
        for weight, v in zip(w, values, strict=True):
            known = ~np.isnan(v)
            least = np.where(known, v, np.inf).min(axis=1, keepdims=True)
            score += np.where(
                known, weight * np.where(v > 0, least / np.where(v > 0, v, 1.0), 1.0), 0.0
            )
            total += weight * known
        rated = np.where(total > 0, score / np.where(total > 0, total, 1.0), -1.0)
        wins += np.bincount(rated.argmax(axis=1), minlength=len(kept))
    for place, k in enumerate(kept):
        shares[k] = float(wins[place] / DRAWS)
    return shares


def _beats_last_scan(sums: Floats, seed: int) -> float | None:
    """In how many resamples the device's changes are closer than carrying the last scan over.

    None with too few clients.
    """
    own = sums[sums[:, 3] > 0]
    if own.shape[0] < LEAST_CLIENTS:
        return None
    better = sum(
        int(((counts @ own)[:, 2] < (counts @ own)[:, 4]).sum())
        for counts in client_weights(own.shape[0], DRAWS, seed)
    )
    return better / DRAWS


def _ratio(top: Floats, bottom: Floats) -> Floats:
    return np.where(bottom > 0, np.sqrt(top / np.where(bottom > 0, bottom, 1.0)), np.nan)


def _keep(cards: list[Card]) -> dict[str, str]:
    """The best instrument for level, for change and for value, of those not ruled out.

    For change only one that moves with the scan within clients, or is closer than the last scan
    carried over in 95 % of the resamples; and none that surely shows less than half of a change,
    however small its error. There may be none.
    """
    left = [c for c in cards if not c.ruled_out]
    out = {}
    for what, name in (("level", "closeness"), ("change", "change")):
        known = [
            c for c in left if getattr(c, name) is not None and (what == "level" or _for_change(c))
        ]
        if known:
            out[what] = min(known, key=lambda c: getattr(c, name)).instrument.name
    priced = [c for c in left if c.price and c.score is not None]
    if priced:
        out["value"] = max(priced, key=lambda c: (c.score or 0) / (c.price or 1)).instrument.name
    return out


def _for_change(c: Card) -> bool:
    moves = c.follows is not None and c.follows.interval is not None and c.follows.interval.low > 0
    return (moves or (c.beats_last_scan or 0) >= SURELY) and not shows_too_little(c.follows)
