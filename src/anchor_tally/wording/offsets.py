"""Sentences about offsets: advice, errors before and after, records, corrected readings."""

from __future__ import annotations

from ..analysis.offsets.adopt import needs_reason
from ..analysis.offsets.calibrate import CalibrateResult
from ..analysis.offsets.record import Corrected
from ..analysis.pairs.reference_slopes import shows_too_little
from ..domain.calibrations import CalibrationRecord
from ..domain.metrics import metric_of
from .notes import sentence
from .numbers import count, number, signed, span

ADVICE = {
    "none": (
        "Better not to correct: on left-out scans no correction comes closer by more than chance."
    ),
    "level_only": (
        "Correcting brings the level right, but the device repeats what the last scan said; it"
        " cannot show change."
    ),
    "level_only_unknown": (
        "Correcting brings the level right; whether the device shows change cannot be told from"
        " these scans."
    ),
    "level_and_change": "Correcting brings the level right, and the device follows change.",
    "not_enough": "Too few scanned clients to check whether correcting helps.",
    "no_pairs": "No pairs with a scan yet: take a tally right before or after a scan.",
}


def calibration_sentence(result: CalibrateResult) -> str:
    """Advice on correcting."""
    if result.comparison.bias is None:
        return ADVICE["no_pairs"]
    code, cv = result.advice_code, result.cross_validation
    if code == "level_only" and result.within_slope is None:
        code = "level_only_unknown"
    text = ADVICE[code]
    if (
        result.movement is not None
        and result.movement.found
        and not result.valid_until
        and code != "none"
    ):
        return (
            "Not now: its error moves through time, so that one offset from all scans no longer"
            " holds."
        )
    if result.settings_apart is not None and code != "none":
        return (
            "Not so: its settings differ, and one offset for all of them fits none. Choose one"
            " setting in the lens bar."
        )
    s = result.within_slope
    if (
        code == "level_and_change"
        and s is not None
        and s.interval is not None
        and s.interval.high < 1
    ):
        share = (
            f"{number(s.value, 2)} ({span(s.interval, 2)}) of each"
            f" {metric_of(result.comparison.pairs.metric).difference_unit}"
        )
        text = (
            f"Correcting brings the level right; of a change the device shows only {share}: too"
            " little to follow clients by it."
            if shows_too_little(s)
            else (
                "Correcting brings the level right, and the device follows change only in part: it"
                f" shows {share}."
            )
        )
    if (
        result.movement is not None
        and result.movement.found
        and code in ("level_only", "level_and_change")
    ):
        why = (
            "Its error moves as clients change"
            if result.comparison.pairs.instrument.equation
            else "It drifts"
        )
        text += (
            f" {why}: this holds only until {result.valid_until}, and the interval grows till then."
        )
    if code == "level_and_change" and cv is not None and cv.beats_scans is False:
        text += " So far the scans themselves, carried over, are as close: the changes were small."
    if cv is not None and cv.beats_people is False:
        text += (
            " It is no closer than what is known without it: the mean of the other clients, or"
            " their body mass index."
        )
    return text


def error_sentence(result: CalibrateResult) -> str:
    """Errors on left-out scans, beside baselines, and the response within clients."""
    cv, m = result.cross_validation, metric_of(result.comparison.pairs.metric)
    if cv is None:
        return ""
    k, unit = m.decimals + 1, m.difference_unit
    text = (
        f"Error on left-out scans (RMSE, {unit}): {number(cv.before, k)} uncorrected,"
        f" {number(cv.after, k)} as advised"
    )
    if result.offer and result.model == "none":
        best = cv.of(result.offer)
        text += f", {number(best.rmse, k)} with the offset" if best is not None else ""
    b = cv.baselines
    without = (
        ("last scan carried over", b.last_scan),
        ("mean of the other scans", b.other_scans_mean),
        ("mean of the other clients", b.sample_mean),
        ("equation from body mass index", b.bmi_equation),
    )
    said = ", ".join(f"{words} {number(v, k)}" for words, v in without if v is not None)
    text += f"; without the device: {said}." if said else "."
    s = result.within_slope
    if s is not None:
        text += (
            f" When the scan moves by 1 within a client, the device moves by {number(s.value, 2)}"
            f" ({span(s.interval, 2)})."
        )
    return text


def adopted_for(result: CalibrateResult) -> str:
    """Whom the offset that is offered would serve."""
    if not result.offer or not result.valid_until:
        return ""
    names = ", ".join(c.client for c in result.clients)
    if result.pooled is None or result.pooled.new is None:
        return f"It would serve only {names}."
    own = {
        "client": "each scanned client's own offset, and the pooled one for others",
        "pooled": "one offset for everybody like these clients",
        "line": (
            "a line for everybody like these clients: what is subtracted depends on the reading"
        ),
        "line_client": "a line, with each scanned client's own offset beside it",
    }[result.offer]
    why = " Adopting it against the advice asks for a reason." if needs_reason(result) else ""
    return f"What can be adopted: {own}.{why}"


def corrected_sentence(c: Corrected, metric: str) -> str:
    """A corrected value with its interval and cautions."""
    m = metric_of(metric)
    k = m.decimals
    if c.value is None:
        return "not corrected: " + " · ".join(sentence(n) for n in c.notes)
    text = f"{number(c.value, k)} ({span(c.interval, k)})"
    return text + ("" if not c.notes else " · " + " · ".join(sentence(n) for n in c.notes))


MODEL_WORDS = {
    "none": "no correction",
    "pooled": "one offset for all",
    "client": "each client's own offset",
    "line": "a line for all",
    "line_client": "a line, and each client's own offset beside it",
}


def state_words(state: str) -> str:
    """What is to be said of a version that is not plainly in force."""
    return {
        "stale": "; a reading behind it has changed: adopt it again",
        "expired": "; expired: scan again",
    }.get(state, "")


def record_sentence(r: CalibrationRecord) -> str:
    """An adopted calibration in a line."""
    what = MODEL_WORDS[r.model]
    if r.line is not None:
        what += (
            f" (reference = {number(r.line.centre)} + (reading −"
            f" {number(r.line.centre + r.line.level)})/{number(r.line.slope, 2)})"
        )
    pooled = "" if r.pooled is None else f" ({signed(r.pooled[0])})"
    where = f", setting {r.setting}" if r.setting else ""
    whom = "" if r.pooled is not None else f", only for {', '.join(sorted(r.clients))}"
    why = f", against the advice ({r.made_of.reason})" if r.made_of.reason else ""
    return (
        f"v{r.version}: {what}{pooled}{where}{whom}, from {count(r.pairs, 'pair')} of"
        f" {count(r.client_count, 'client')}, until {r.valid_until}{why}"
    )


def offset_headline(result: CalibrateResult) -> str:
    """What to subtract, in one sentence."""
    name, m = result.comparison.pairs.instrument.name, metric_of(result.comparison.pairs.metric)
    if result.pooled is None:
        return f"{name}: no offset yet."
    b = result.pooled.offset
    if result.at_ends:
        k, unit = m.decimals, "%" if m.unit == "percent" else m.unit
        said = [
            f"{signed(o, k)} ({span(i, k, sign=True)}) at {number(at, k)}"
            for at, o, i in result.at_ends
        ]
        return f"{name}: what to subtract grows with the reading: {said[0]}, {said[1]} {unit}."
    if b.interval is not None and b.interval.low <= 0 <= b.interval.high:
        return (
            f"{name}: no common offset shown; it could be anything from"
            f" {span(b.interval, m.decimals, sign=True)} {m.difference_unit}."
        )
    verb = "subtract" if b.value >= 0 else "add"
    head = f"{name}: {verb} {number(abs(b.value), m.decimals)} {m.difference_unit}"
    if b.interval is None:
        return head + "; how sure that is cannot be said from these scans."
    return (
        head
        + f" on average (offset {span(b.interval, m.decimals, sign=True)})"
        + ("; the offsets of single clients stand below." if result.clients else ".")
    )


def range_sentence(result: CalibrateResult) -> str:
    """Where the offset applies."""
    if result.range is None or not result.valid_until:
        return ""
    unit = (
        "%"
        if result.comparison.pairs.metric.endswith("percent")
        else metric_of(result.comparison.pairs.metric).unit
    )
    return (
        f"Holds for readings from {number(result.range[0])} to {number(result.range[1])} {unit},"
        f" the same setting, and until {result.valid_until}."
    )
