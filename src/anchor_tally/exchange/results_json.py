"""Results as JSON."""

from __future__ import annotations

from typing import Any

from ..analysis.compare import CompareResult
from ..domain.metrics import metric_named
from ..stats.closeness import Limits
from ..stats.estimate import Interval
from ..wording.sentences import sentence
from ..wording.statistics import STATISTICS


def _pair(i: Interval | None) -> list[float] | None:
    return None if i is None else [i.low, i.high]


def _limits(lim: Limits | None) -> dict[str, Any] | None:
    if lim is None:
        return None
    return {
        "lower": lim.lower,
        "upper": lim.upper,
        "lower_ci": _pair(lim.lower_interval),
        "upper_ci": _pair(lim.upper_interval),
        "coverage": lim.coverage,
        "design": lim.design,
        "method": lim.method,
    }


def compare_json(r: CompareResult) -> dict[str, Any]:
    """The object of ``compare --json`` (schema anchor-tally/compare/1); its figures stand in ``wording.statistics``."""
    p = r.pairs
    metric = metric_named(p.metric)
    groups: dict[str, dict[str, Any] | None] = {}
    for s in STATISTICS:
        value, interval = s.pick(r)
        group, key, ci = s.path
        kept = groups.setdefault(group, {})
        if kept is not None:
            kept |= {key: value} | ({ci: _pair(interval)} if ci else {})
    for group, kept in groups.items():  # a figure that cannot be given is null as a whole, its note says why
        if kept is not None and group != "components" and next(iter(kept.values())) is None:
            groups[group] = None
    if r.limits is not None and groups["limits"] is not None:
        groups["limits"] |= {"coverage": r.limits.coverage, "design": r.limits.design, "method": r.limits.method}
    if r.equivalence is not None and groups["equivalence"] is not None:
        groups["equivalence"] |= {"equivalent": r.equivalence.equivalent}
    return {
        "schema": "anchor-tally/compare/1",
        "instrument": p.instrument.name,
        "reference": p.reference.name,
        "metric": p.metric,
        "unit": metric.unit if metric else "",
        "setting": r.lens.setting,
        "pairs": {
            "n": p.n,
            "clients": p.clients,
            "occasions": p.occasions,
            "dropped": [{"client": d.client, "taken_at": d.taken_at, "why": d.why} for d in p.left_out.listed()],
        },
        "limits_approximate_2sd": _limits(r.approximate),
        **groups,
        "passing_bablok": None,
        "notes": [sentence(n) for n in r.notes],
    }
