"""Results as sentences: the only place with prose about results."""

from __future__ import annotations

from ..analysis.calibrate import CalibrateResult, Corrected
from ..analysis.compare import CompareResult
from ..domain.metrics import Metric, metric_named
from ..domain.records import CalibrationRecord
from ..stats.estimate import Note
from .numbers import count, number, signed, span

NOTES = {
    "no_pairs": "No reading lies within the window of a scan, so nothing can be compared ({dropped} readings were left out).",
    "one_pair": "One pair only: no spread, no limits, no interval. One scan cannot show how far single readings stray.",
    "one_client": "One client ({occasions} scans): the bias holds for this client only; limits for other people cannot be given.",
    "one_anchor": "All repeats belong to one scan, so how the difference changes from day to day is unknown; no interval is given.",
    "components_need_repeats": "One pair for each client: spread between clients, days and repeats cannot be told apart.",
    "occasion_in_client": "One scan for each client: day-to-day spread cannot be separated and is part of the client spread.",
    "replicate_in_occasion": "One reading at each scan: the spread of repeats cannot be separated and is part of the occasion spread.",
    "no_trend": "The trend of the difference with the level cannot be estimated from these pairs.",
    "no_deming": "A line with error in both needs at least four clients whose values differ.",
    "few_clients": "Only {clients} clients: read the intervals, not the estimates.",
    "from_memory": "Equation of {source}; its coefficients are from memory, not yet checked against the publication.",
    "passing_bablok_not_built": "Passing–Bablok regression is not computed in this version.",
    "settings_pooled": "Readings of several settings are pooled: {settings}. Choose one in the lens to keep them apart.",
    "paired_by_day": "Of {readings} readings, or of their scans, only the date is known: they are paired by the calendar day, whatever the window.",
    "constant_values": "All values of one side are the same: correlation and concordance do not exist.",
    "correlation_needs_three": "Correlation needs at least three pairs (there are {n}).",
    "correlation_interval_needs_clients": "Intervals of correlation and concordance need at least five clients (there are {clients}).",
    "client_offset_needs_repeats": "One pair for each client: a client's own offset cannot be told from the day's noise; the pooled offset serves all.",
    "client_offset_needs_anchors": "Every client has one scan: a client's own offset cannot be told from that day; the pooled offset serves all.",
    "third_repeat": "the first two differ by {difference} {unit}, more than {tolerance}: take a third, the median counts",
    "no_impedance_implant": "Implanted electronics: no impedance device unless the person's clinician agrees.",
    "implant_cleared": "Implanted electronics, the clinician's agreement is noted: keep to what was agreed.",
    "no_impedance_pregnant": "Pregnancy: impedance values do not apply, and no impedance device is used.",
    "no_scan_pregnant": "Pregnancy: no scan.",
    "scan_local_rules": "Scans use X-rays: licensed staff order and run them under local rules; {scans} known so far{last}.",
    "scan_too_soon": "The last scan was {weeks} ago; scans are spaced 12 weeks, never under 8.",
    "assessor_few": "{persons} people measured twice so far; the check needs at least {least}.",
    "assessor_unsure": "The interval reaches past {bound} %: more people would make the verdict firmer.",
    "assessor_unreliable": "Reliability {reliability} is under {limit}: much of the spread between these people is error, or they are much alike.",
    "essential_fat": "at or under essential fat ({bound} %): question the reading; if it is true, stop and refer",
    "outside_range": "outside the calibrated range ({low} to {high}): extrapolated",
    "expired": "the offset expired on {until}: scan again",
    "other_setting": "read under setting {used}, calibrated for {calibrated}",
    "new_client": "no scan of this client in the calibration: pooled offset, wider interval",
    "stale": "a reading behind this offset has changed since it was adopted: adopt it again",
}

ADVICE = {
    "helps": "Correcting brings left-out readings closer to the scan.",
    "does_not_help": "Correcting does not bring left-out readings closer to the scan: better not to correct.",
    "unproven": "Too few clients to check whether correcting helps.",
    "not_enough": "Not enough scans for an offset with its uncertainty.",
    "no_pairs": "No pairs with a scan yet: take a tally right before or after a scan.",
}


def sentence(n: Note) -> str:
    """A note as a sentence."""
    return NOTES[n.code].format(**dict(n.facts))


def _metric(result: CompareResult) -> Metric:
    found = metric_named(result.pairs.metric)
    if found is None:
        raise KeyError(result.pairs.metric)
    return found


def headline(result: CompareResult) -> str:
    """One sentence a tired coach understands."""
    name, m = result.pairs.instrument.name, _metric(result)
    if result.bias is None:
        return f"{name}: no pairs with {result.pairs.reference.name} yet."
    bias, unit = result.bias, m.difference_unit
    way = "high" if bias.value > 0 else "low"
    sure = bias.interval is not None and (bias.interval.low > 0 or bias.interval.high < 0)
    size = f"{number(abs(bias.value), m.decimals)} {unit} {way}"
    verb = "reads" if sure else "seems to read" if bias.interval is None else "may read"
    if not sure and bias.interval is not None:
        head = f"{name} {verb} {size} on average, but its bias could be anything from {span(bias.interval, m.decimals, sign=True)} {unit}"
    else:
        head = f"{name} {verb} {size} on average"
    if result.limits is not None:
        return (
            f"{head}; for one person, give or take {number((result.limits.upper - result.limits.lower) / 2, m.decimals)} {unit}."
        )
    return f"{head}; how far single readings stray cannot be said."


def pairs_sentence(result: CompareResult) -> str:
    """How many pairs, and what was left out."""
    p = result.pairs
    n = p.left_out.n
    left = "" if n == 0 else "; 1 reading or scan made no pair" if n == 1 else f"; {n} readings or scans made no pair"
    return f"{count(p.n, 'pair')}, {count(p.clients, 'client')}, {count(p.occasions, 'anchor')}{left}."


def calibration_sentence(result: CalibrateResult) -> str:
    """Advice on correcting, with the cross-validated error."""
    text = ADVICE[result.advice]
    cv, m = result.cross_validation, _metric(result.comparison)
    if cv is not None:
        after = cv.individual if result.model == "client" and cv.individual is not None else cv.pooled
        text += f" Error (RMSE) {number(cv.before, m.decimals + 1)} before, {number(after, m.decimals + 1)} {m.difference_unit} after."
    return text


def corrected_sentence(c: Corrected, metric: str) -> str:
    """A corrected value with its interval and cautions."""
    m = metric_named(metric)
    k = m.decimals if m else 1
    text = f"{number(c.value, k)} ({span(c.interval, k)})"
    return text + ("" if not c.notes else " · " + " · ".join(sentence(n) for n in c.notes))


def record_sentence(r: CalibrationRecord) -> str:
    """An adopted calibration in a line."""
    what = "offset for each client" if r.model == "client" else "one offset for all"
    where = f", setting {r.setting}" if r.setting else ""
    return f"v{r.version}: {what} ({signed(r.pooled[0])}){where}, from {r.pairs} pairs of {r.client_count} clients, until {r.valid_until}"


def offset_headline(result: CalibrateResult) -> str:
    """What to subtract, in one sentence."""
    name, m = result.comparison.pairs.instrument.name, _metric(result.comparison)
    if result.pooled is None:
        return f"{name}: no offset yet."
    b = result.pooled.offset
    verb = "subtract" if b.value >= 0 else "add"
    head = f"{name}: {verb} {number(abs(b.value), m.decimals)} {m.difference_unit}"
    if b.interval is None:
        return head + "; how sure that is cannot be said from one scan."
    return (
        head
        + f" on average (offset {span(b.interval, m.decimals, sign=True)})"
        + ("; each client's own offset stands below." if result.clients else ".")
    )


def range_sentence(result: CalibrateResult) -> str:
    """Where the offset applies."""
    if result.range is None:
        return ""
    unit = "%" if result.comparison.pairs.metric.endswith("percent") else _metric(result.comparison).unit
    return (
        f"Holds for readings from {number(result.range[0])} to {number(result.range[1])} {unit}, the same setting, and 16 weeks."
    )
