"""Sentences about offsets: advice, errors before and after, records, corrected readings."""

from __future__ import annotations

from ..analysis.offsets.adopt import needs_reason
from ..analysis.offsets.calibrate import CalibrateResult
from ..analysis.offsets.record import Corrected
from ..analysis.pairs.reference_slopes import SIZE_UNCERTAIN, TOO_LITTLE, UNKNOWN, answer_on_change
from ..domain.calibrations import CalibrationRecord
from ..domain.metrics import Metric, metric_of
from ..stats.estimate import Interval
from ..stats.validation import CrossValidation
from .names import short_name
from .notes import sentence
from .numbers import ci, count, day_words, number, signed, span

ADVICE = {
    "none": "Do not correct: in cross-validation no correction reduced the error reliably.",
    "not_enough": "Not enough scanned clients to check whether correction helps.",
    "no_pairs": "No pairs with a scan yet. Take readings right before or after a scan.",
}


_CHANGES = "its error changes as clients change"


def _error_falls(result: CalibrateResult) -> str:
    cv, m = result.cross_validation, metric_of(result.comparison.pairs.metric)
    if cv is None:
        return ""
    k = m.decimals
    return (
        f"the error falls from {number(cv.before, k)} to {number(cv.after, k)} {m.difference_unit}"
    )


def calibration_sentence(result: CalibrateResult) -> str:
    """Advice on correction."""
    pairs = result.comparison.pairs
    name, m = short_name(pairs.instrument.name), metric_of(pairs.metric)
    code, cv, s = result.advice_code, result.cross_validation, result.within_slope
    if result.comparison.bias is None:
        return ADVICE["no_pairs"]
    moves = result.movement is not None and result.movement.found
    if moves and not result.valid_until and code != "none":
        why = f"{name} drifts" if result.movement and result.movement.drifts else _CHANGES
        return f"Do not correct now: {why}, so one offset for all scans is no longer valid."
    if result.settings_apart is not None and code != "none":
        return (
            "Choose one setting in the filters: the settings differ, and one offset does not fit"
            " all."
        )
    if code not in ("level_only", "level_change_unknown", "level_and_change"):
        text = ADVICE[code]
    else:
        text = f"Correction works: {_error_falls(result)}"
        shown = ""
        if s is not None:
            unit = m.difference_unit
            shown = f"{signed(s.value, 2)} {unit} per 1 {unit} on the scan{ci(s.interval, 2)}"
        answer = answer_on_change(s)
        if answer == TOO_LITTLE:
            text += (
                f". But {name} responds too little to change, or not at all: {shown}. Do not track"
                " clients with it."
            )
        elif answer == UNKNOWN:
            text += f". Whether {name} responds to change cannot be told yet"
            text += f": {shown}." if shown else "."
        elif s is not None and s.interval is not None and s.interval.high < 1:
            text += f". {name} shows only part of a change: {shown}."
        elif answer == SIZE_UNCERTAIN:
            text += f". {name} responds to change, by how much is uncertain: {shown}."
        else:
            text += f", and {name} responds to change."
        if moves:
            drifts = result.movement is not None and result.movement.drifts
            why = f"{name} drifts" if drifts else _CHANGES[:1].upper() + _CHANGES[1:]
            text += (
                f" {why}: the offset is valid until {day_words(result.valid_until)}, with a growing"
                " interval."
            )
    if cv is not None and code == "level_and_change" and cv.beats_scans is False:
        text += _scan_alone(cv, m)
    if cv is not None and cv.beats_people is False:
        text += (
            " Its error is no smaller than that of the other clients' mean or an equation from body"
            " mass index."
        )
    return text


def _scan_alone(cv: CrossValidation, m: Metric) -> str:
    """How close the previous scan alone would have been."""
    k, before = m.decimals, cv.baselines.last_scan
    if before is None:
        return " The previous scan alone would have been as close, because clients changed little."
    shown, own = number(before, k), number(cv.after, k)
    unit = m.difference_unit
    if shown == own:
        how = f"as close ({shown} {unit})"
    else:
        how = (
            f"{'closer' if before < cv.after else 'nearly as close'} ({shown} against {own} {unit})"
        )
    return f" The previous scan alone would have been {how}, because clients changed little."


def error_sentence(result: CalibrateResult) -> str:
    """Errors on left-out scans, beside baselines, and the response within clients."""
    cv, m = result.cross_validation, metric_of(result.comparison.pairs.metric)
    if cv is None:
        return ""
    k, unit = m.decimals + 1, m.difference_unit
    text = (
        f"Error on left-out scans (RMSE of scan visits, {unit}): {number(cv.before, k)}"
        f" uncorrected, {number(cv.after, k)} as advised"
    )
    if result.offer and result.model == "none":
        best = cv.of(result.offer)
        text += f", {number(best.rmse, k)} with the offset" if best is not None else ""
    b = cv.baselines
    without = (
        ("previous scan", b.last_scan),
        ("mean of the other scans", b.other_scans_mean),
        ("mean of the other clients", b.sample_mean),
        ("equation from body mass index", b.bmi_equation),
    )
    said = ", ".join(f"{words} {number(v, k)}" for words, v in without if v is not None)
    return f"{text}. Without the device: {said}." if said else f"{text}."


def adopted_for(result: CalibrateResult, today: str = "") -> str:
    """Whom the offset that is offered would serve; first that it has expired already."""
    if not result.offer or not result.valid_until:
        return ""
    if today > result.valid_until:
        return (
            f"These offsets expired on {day_words(result.valid_until)}, 16 weeks after the last"
            f" scan or earlier. Scan again before adopting them. {adopted_for(result)}"
        )
    names = ", ".join(c.client for c in result.clients)
    if result.pooled is None or result.pooled.new is None:
        return f"It would apply only to {names}."
    own = {
        "client": "each scanned client's own offset, and the pooled offset for others",
        "pooled": "one offset for all people like these clients",
        "line": "a line for all people like these clients: the offset depends on the reading",
        "line_client": "a line, with each scanned client's own offset added",
    }[result.offer]
    why = " Adopting it against the advice requires a reason." if needs_reason(result) else ""
    return f"Offered for adoption: {own}.{why}"


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
    "line_client": "a line, with each client's own offset",
}


def state_words(state: str) -> str:
    """A warning about a version that is not plainly in force."""
    return {
        "stale": "; a reading behind it changed: adopt it again",
        "expired": "; expired: scan again",
    }.get(state, "")


def record_sentence(r: CalibrationRecord) -> str:
    """An adopted calibration in a line."""
    what, m = MODEL_WORDS[r.model], metric_of(r.metric)
    if r.line is not None:
        what += (
            f" (reference = {number(r.line.centre)} + (reading −"
            f" {number(r.line.centre + r.line.level)})/{number(r.line.slope, 2)})"
        )
    pooled = ""
    if r.pooled is not None:
        offset, low, high = r.pooled
        pooled = (
            f" ({signed(offset, m.decimals)} {m.difference_unit}, 95 % prediction interval of a new"
            f" client {signed(low, m.decimals)} to {signed(high, m.decimals)})"
        )
    where = f", setting {r.setting}" if r.setting else ""
    whom = "" if r.pooled is not None else f", only for {', '.join(sorted(r.clients))}"
    why = f", against the advice ({r.made_of.reason})" if r.made_of.reason else ""
    return (
        f"v{r.version}: {what}{pooled}{where}{whom}, from {count(r.pairs, 'pair')} of"
        f" {count(r.client_count, 'client')}, valid until {day_words(r.valid_until)}{why}"
    )


def offset_headline(result: CalibrateResult) -> str:
    """What to subtract or add, in one sentence."""
    name, m = result.comparison.pairs.instrument.name, metric_of(result.comparison.pairs.metric)
    k, unit = m.decimals, m.difference_unit
    if result.pooled is None:
        return f"{name}: no offset yet."
    b = result.pooled.offset
    if result.at_ends:
        scale = m.symbol
        said = [
            f"{_correction(o, i, k, unit)} at {number(at, k)} {scale}"
            for at, o, i in result.at_ends
        ]
        return f"{name}: the correction depends on the reading: {said[0]}, {said[1]}."
    if b.interval is None:
        verb = "subtract" if b.value >= 0 else "add"
        return (
            f"{name}: {verb} {number(abs(b.value), k)} {unit}. Not enough data for a confidence"
            " interval."
        )
    if b.interval.low <= 0 <= b.interval.high:
        ends = Interval(-b.interval.high, -b.interval.low)
        shown = f"(95 % CI {span(ends, k, sign=True)} {unit})"
        if result.model in ("client", "line_client"):
            return f"{name}: each client's own offset applies; none common to all is shown {shown}."
        return f"{name}: no common correction shown {shown}."
    if _forbidden(result):
        reads = "too high" if b.value >= 0 else "too low"
        ends = b.interval if b.value >= 0 else _turned(b.interval)
        size = f"{number(abs(b.value), k)} {unit}{ci(ends, k)}"
        return f"{name} reads {size} {reads} at scans on average; no correction is advised."
    return f"{name}: {_correction(b.value, b.interval, k, unit)}."


def _forbidden(result: CalibrateResult) -> bool:
    """Whether the advice is not to correct."""
    moves = result.movement is not None and result.movement.found
    return result.advice_code == "none" or (moves and not result.valid_until)


def _turned(i: Interval) -> Interval:
    return Interval(-i.high, -i.low)


def _correction(offset: float, interval: Interval, k: int, unit: str) -> str:
    """What to do to a reading: "add 2.9 pp (95 % CI 2.2 to 3.6)"."""
    down = offset >= 0
    ends = interval if down else Interval(-interval.high, -interval.low)
    return f"{'subtract' if down else 'add'} {number(abs(offset), k)} {unit}{ci(ends, k)}"


def range_sentence(result: CalibrateResult) -> str:
    """Where the offset applies."""
    if result.range is None or not result.valid_until:
        return ""
    m = metric_of(result.comparison.pairs.metric)
    unit = m.symbol
    return (
        f"Valid for readings from {number(result.range[0])} to {number(result.range[1])} {unit},"
        f" with the same setting, until {day_words(result.valid_until)}."
    )
