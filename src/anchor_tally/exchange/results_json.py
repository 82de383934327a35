"""Results as JSON."""

from __future__ import annotations

from typing import Any

from ..analysis.agreement.agreement import CompareResult
from ..analysis.offsets.calibrate import CalibrateResult
from ..analysis.pairs.comparator import CONSENSUS
from ..domain.metrics import metric_of
from ..stats.estimate import Interval
from ..stats.limits import Limits
from ..stats.validation import CrossValidation
from ..wording.notes import sentence
from ..wording.offsets import calibration_sentence
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


def _rmse(cv: CrossValidation, model: str) -> float | None:
    found = cv.of(model)
    return None if found is None else found.rmse


def calibrate_json(r: CalibrateResult) -> dict[str, Any]:
    """The object of ``calibrate --json`` (schema anchor-tally/calibrate/1)."""
    p, cv = r.comparison.pairs, r.cross_validation
    metric = metric_of(p.metric)
    pooled = r.pooled
    return {
        "schema": "anchor-tally/calibrate/1",
        "instrument": p.instrument.name,
        "reference": p.reference.name,
        "comparator": "consensus" if p.reference.id == CONSENSUS.id else p.reference.kind,
        "metric": p.metric,
        "unit": metric.unit,
        "setting": r.comparison.lens.setting,
        "pairs": {"n": p.n, "clients": p.clients, "occasions": p.occasions},
        "model": r.model,
        "pooled": (
            None
            if pooled is None
            else {
                "offset": pooled.offset.value,
                "ci": _pair(pooled.offset.interval),
                "prediction": _pair(pooled.new),
            }
        ),
        "clients": [
            {
                "client": c.client,
                "offset": c.offset,
                "ci": _pair(c.interval),
                "sd": c.sd,
                "n": c.n,
                "shrinkage": c.shrinkage,
                "prediction": _pair(c.new),
            }
            for c in r.clients
        ],
        "provisional": r.provisional,
        "line": (
            None
            if r.line is None
            else {
                "centre": r.line.line.centre,
                "level": r.line.line.level,
                "slope": r.line.line.slope,
                "df": r.line.line.df,
            }
        ),
        "method_error": r.method_error,
        "cross_validation": (
            None
            if cv is None
            else {
                "rmse_before": cv.before,
                "rmse_after": cv.after,
                "model": cv.model,
                "models": [
                    {
                        "model": m.model,
                        "rmse": m.rmse,
                        "covered": None if m.covered is None else m.covered.value,
                        "covered_ci": None if m.covered is None else _pair(m.covered.interval),
                    }
                    for m in cv.models
                ],
                "rmse_pooled": _rmse(cv, "pooled"),
                "rmse_client": _rmse(cv, "client"),
                "scheme": cv.scheme,
                "occasions": cv.occasions,
                "baselines": {
                    "last_scan": cv.baselines.last_scan,
                    "other_scans_mean": cv.baselines.other_scans_mean,
                    "sample_mean": cv.baselines.sample_mean,
                    "bmi_equation": cv.baselines.bmi_equation,
                },
            }
        ),
        "within_slope": (
            None
            if r.within_slope is None
            else {"slope": r.within_slope.value, "ci": _pair(r.within_slope.interval)}
        ),
        "drift_per_week": (
            None
            if r.movement is None
            else {
                "slope": r.movement.slope.value,
                "ci": _pair(r.movement.slope.interval),
                "found": r.movement.found,
            }
        ),
        "range": None if r.range is None else list(r.range),
        "valid_until": r.valid_until or None,
        "advice": calibration_sentence(r),
        "advice_code": r.advice_code,
        "notes": [sentence(n) for n in (*r.notes, *r.comparison.notes)],
    }


def _other_forms(r: CompareResult) -> dict[str, dict[str, Any] | None]:
    """Further forms of closeness that are no single figures."""
    f = r.forms
    if f is None:
        return {}
    return {
        "ratio_limits": (
            None
            if f.ratio is None
            else {
                "ratio": f.ratio.ratio.value,
                "ci": _pair(f.ratio.ratio.interval),
                "lower": f.ratio.lower,
                "upper": f.ratio.upper,
                "lower_ci": _pair(f.ratio.lower_interval),
                "upper_ci": _pair(f.ratio.upper_interval),
            }
        ),
        "regression_limits": (
            None
            if f.sloping is None
            else {
                "b0": f.sloping.b0.value,
                "b1": f.sloping.b1.value,
                "b1_ci": _pair(f.sloping.b1.interval),
                "c0": f.sloping.r0,
                "c1": f.sloping.r1,
                "centre": f.sloping.centre,
            }
        ),
        "percentile_limits": _limits(f.percentiles),
        "limits_of_means": (
            None if f.of_means is None else {"of": f.of_means[0]} | (_limits(f.of_means[1]) or {})
        ),
        "normality": (
            None
            if f.normality is None
            else {"w": f.normality[0], "p": f.normality[1], "of": "client means"}
        ),
        "within": {
            f"{bound:g}": None if e is None else {"share": e.value, "ci": _pair(e.interval)}
            for bound, e in f.near
        },
    }


def _by_level(r: CompareResult) -> list[dict[str, Any]]:
    """Limits at each level where the error depends on it, with their 95 % CI."""
    return [
        {
            "level": x.level,
            "lower": x.lower,
            "upper": x.upper,
            "lower_ci": [x.lower - x.error, x.lower + x.error],
            "upper_ci": [x.upper - x.error, x.upper + x.error],
        }
        for x in r.by_level
    ]


def compare_json(r: CompareResult) -> dict[str, Any]:
    """The object of ``compare --json`` (schema anchor-tally/compare/1).

    Its figures stand in ``wording.statistics``.
    """
    p = r.pairs
    metric = metric_of(p.metric)
    groups: dict[str, dict[str, Any] | None] = {}
    for s in STATISTICS:
        value, interval = s.pick(r)
        group, key, ci = s.path
        kept = groups.setdefault(group, {})
        if kept is not None:
            kept |= {key: value} | ({ci: _pair(interval)} if ci else {})
    for (
        group,
        kept,
    ) in groups.items():  # a figure that cannot be given is null as a whole, its note states why
        if kept is not None and group != "components" and next(iter(kept.values())) is None:
            groups[group] = None
    if r.limits is not None and groups["limits"] is not None:
        groups["limits"] |= {
            "coverage": r.limits.coverage,
            "design": r.limits.design,
            "method": r.limits.method,
        }
    if r.equivalence is not None and groups["equivalence"] is not None:
        groups["equivalence"] |= {"equivalent": r.equivalence.equivalent}
    groups |= _other_forms(r)
    between, within = (
        groups.pop("trend_on_reference.between"),
        groups.pop("trend_on_reference.within"),
    )
    groups["trend_on_reference"] = {
        "between": between,
        "within": within,
        "reference_sd": (
            r.reference_trend.reference.sd if r.reference_trend.reference.known else None
        ),
    }
    return {
        "schema": "anchor-tally/compare/1",
        "limits_by_level": _by_level(r),
        "instrument": p.instrument.name,
        "reference": p.reference.name,
        "comparator": "consensus" if p.reference.id == CONSENSUS.id else p.reference.kind,
        "metric": p.metric,
        "unit": metric.unit,
        "setting": r.lens.setting,
        "pairs": {
            "n": p.n,
            "clients": p.clients,
            "occasions": p.occasions,
            "dropped": [
                {"client": d.client, "taken_at": d.taken_at, "why": d.why}
                for d in p.left_out.listed()
            ],
        },
        "limits_approximate_2sd": _limits(r.approximate),
        **groups,
        "notes": [sentence(n) for n in r.notes],
    }
