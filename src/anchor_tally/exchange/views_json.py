"""JSON of repeatability, change and hydration."""

from __future__ import annotations

from typing import Any

from ..analysis.agreement.change import ChangeResult
from ..analysis.agreement.hydration import HydrationResult
from ..analysis.agreement.repeatability import RepeatabilityResult
from ..domain.metrics import metric_of
from ..stats.estimate import Estimate, Interval, Note
from ..wording.notes import sentence


def _pair(i: Interval | None) -> list[float] | None:
    return None if i is None else [i.low, i.high]


def said(notes: tuple[Note, ...]) -> list[str]:
    """Notes as sentences, each once."""
    return list(dict.fromkeys(sentence(n) for n in notes))


def head(name: str, instrument: str, metric: str) -> dict[str, Any]:
    """What every object begins with."""
    m = metric_of(metric)
    return {
        "schema": f"anchor-tally/{name}/1",
        "instrument": instrument,
        "metric": metric,
        "unit": m.unit,
    }


def repeatability_json(r: RepeatabilityResult) -> dict[str, Any]:
    """The object of ``repeatability --json``."""
    f = r.found
    icc: dict[str, Any] | None = None
    if f.icc is not None:
        six = {"1,1": f.icc.one, "2,1": f.icc.random, "3,1": f.icc.mixed}
        six |= {"1,k": f.icc.one_mean, "2,k": f.icc.random_mean, "3,k": f.icc.mixed_mean}
        icc = {key: None if e is None else e.value for key, e in six.items()}
        icc |= {
            "ci": {key: None if e is None else _pair(e.interval) for key, e in six.items()},
            "k": f.icc.k,
            "tallies": f.icc.tallies,
        }
    return head("repeatability", r.instrument.name, r.metric) | {
        "within_sd": None if f.sd is None else f.sd.value,
        "ci": None if f.sd is None else _pair(f.sd.interval),
        "repeatability_coefficient": None if f.coefficient is None else f.coefficient.value,
        "cv_percent": f.cv_percent,
        "tem": f.tem,
        "tem_percent": f.tem_percent,
        "icc": icc,
        "tallies": f.tallies,
        "replicates": f.replicates,
        "largest_range": f.largest,
        "day_to_day": _estimate(f.day, "sd"),
        "single_day_sd": f.single_day,
        "minimal_detectable_change": None if f.detectable is None else f.detectable.value,
        "minimal_detectable_change_ci": (
            None if f.detectable is None else _pair(f.detectable.interval)
        ),
        "resolution": f.resolution,
        "limited_by_resolution": f.limited,
        "notes": said(r.notes),
    }


def _estimate(e: Estimate | None, name: str) -> dict[str, Any] | None:
    return (
        None
        if e is None
        else {name: e.value, "ci": _pair(e.interval), "n": e.n, "method": e.method}
    )


def change_json(r: ChangeResult) -> dict[str, Any]:
    """The object of ``change --json``."""
    f = r.found
    share = f.signs.share
    return head("change", r.instrument.name, r.metric) | {
        "reference": r.reference.name,
        "n": f.n,
        "clients": f.clients,
        "bias": None if f.bias is None else f.bias.value,
        "bias_ci": None if f.bias is None else _pair(f.bias.interval),
        "sd": None if f.sd is None else f.sd.value,
        "sd_ci": None if f.sd is None else _pair(f.sd.interval),
        "limits": (
            None
            if f.limits is None
            else {
                "lower": f.limits.lower,
                "upper": f.limits.upper,
                "lower_ci": _pair(f.limits.lower_interval),
                "upper_ci": _pair(f.limits.upper_interval),
                "method": f.limits.method,
            }
        ),
        "sign_concordance": None if share is None else share.value,
        "sign_concordance_ci": None if share is None else _pair(share.interval),
        "judged": f.signs.judged,
        "excluded_as_noise": f.signs.excluded,
        "exclusion_zone": f.zone,
        "slope": None if f.slope is None else f.slope.slope.value,
        "slope_ci": None if f.slope is None else _pair(f.slope.slope.interval),
        "slope_error_ratio": None if f.slope is None else f.slope.ratio,
        "within_slope": (
            None
            if r.follows is None
            else {"slope": r.follows.value, "ci": _pair(r.follows.interval)}
        ),
        "correlation": None if f.correlation is None else f.correlation.value,
        "correlation_ci": None if f.correlation is None else _pair(f.correlation.interval),
        "smallest_change": {str(days): least.value for days, least in r.smallest} or None,
        "smallest_change_ci": (
            {str(days): _pair(least.interval) for days, least in r.smallest} or None
        ),
        "notes": said(r.notes),
    }


def hydration_json(r: HydrationResult) -> dict[str, Any]:
    """The object of ``hydration --json``."""
    s = r.slope.slope if r.slope is not None else None
    return head("hydration", r.instrument.name, "body_fat_percent") | {
        "r": None if r.r is None else r.r.value,
        "r_ci": None if r.r is None else _pair(r.r.interval),
        "slope": None if s is None else s.value,
        "slope_ci": None if s is None else _pair(s.interval),
        "circular": r.circular,
        "n": r.n,
        "sd_within_clients": {"uncorrected": r.uncorrected, "rule": r.by_rule, "slope": r.by_slope},
        "notes": said(r.notes),
    }
