"""Results as JSON."""

from __future__ import annotations

from typing import Any

from ..analysis.compare import CompareResult
from ..domain.metrics import metric_named
from ..stats.closeness import Limits
from ..stats.estimate import Estimate, Interval
from ..wording.sentences import sentence


def _pair(i: Interval | None) -> list[float] | None:
    return None if i is None else [i.low, i.high]


def _estimate(e: Estimate | None, key: str) -> dict[str, Any] | None:
    return None if e is None else {key: e.value, "ci": _pair(e.interval)}


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
    """The object of ``compare --json`` (schema anchor-tally/compare/1)."""
    p, lim, t, a, line = r.pairs, r.limits, r.trend, r.agreement, r.deming
    metric = metric_named(p.metric)
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
            "dropped": [{"client": d.client, "taken_at": d.taken_at, "why": d.why} for d in p.dropped],
        },
        "bias": None if r.bias is None else {"estimate": r.bias.value, "ci": _pair(r.bias.interval), "sd": r.sd},
        "limits": _limits(lim),
        "limits_approximate_2sd": _limits(r.approximate),
        "components": {
            "client_sd": r.components.client_sd,
            "occasion_sd": r.components.occasion_sd,
            "replicate_sd": r.components.replicate_sd,
        },
        "proportional": None if t.slope is None else {"slope": t.slope.value, "ci": _pair(t.slope.interval), "p": t.p},
        "correlation": _estimate(a.pearson, "pearson"),
        "concordance": _estimate(a.concordance, "ccc"),
        "error": None if a.rmse is None else {"rmse": a.rmse, "mae": a.mae},
        "deming": None
        if line is None
        else {
            "slope": line.slope.value,
            "slope_ci": _pair(line.slope.interval),
            "intercept": line.intercept.value,
            "intercept_ci": _pair(line.intercept.interval),
            "ratio": line.ratio,
        },
        "passing_bablok": None,
        "equivalence": None
        if r.equivalence is None
        else {"margin": r.equivalence.margin, "p": r.equivalence.p, "equivalent": r.equivalence.equivalent},
        "notes": [sentence(n) for n in r.notes],
    }
