"""Results as sentences: the only place with prose about results."""

from __future__ import annotations

from ..analysis.adopt import needs_reason
from ..analysis.calibrate import CalibrateResult
from ..analysis.calibration_record import Corrected
from ..analysis.compare import CompareResult
from ..analysis.movement import shows_too_little
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
    "no_trend": "The classical slope on the mean of both cannot be estimated from these pairs.",
    "no_reference_trend": "Whether the error grows with the value cannot be told from these pairs.",
    "reference_error_unknown": "The scan's own error is taken as nothing, for lack of replicate scans or a stated precision: that pulls the slopes on the scan down.",
    "within_not_separable": "Within clients the scans differ little more than by their own error: whether the device follows change cannot be told.",
    "far_off": "{client} {at}: {value} {unit} lies far from its sisters ({sisters}) and moves this result; look at it, and exclude it with a reason if it was mistyped.",
    "far_off_more": "{others} more repeats lie far from their sisters.",
    "no_deming": "A line with error in both needs at least four clients whose values differ.",
    "few_clients": "Only {clients} clients: read the intervals, not the estimates.",
    "from_memory": "Equation of {source}; its coefficients are from memory, not yet checked against the publication.",
    "cards_pooled": "Several settings are pooled, and a change of setting counts as error: {names}. Choose one in the lens to judge it fairly.",
    "settings_pooled": "Readings of several settings are pooled: {settings}. Choose one in the lens to keep them apart.",
    "paired_by_day": "Of {readings} readings, or of their scans, only the date is known: they are paired by the calendar day, whatever the window.",
    "constant_values": "All values of one side are the same: correlation and concordance do not exist.",
    "correlation_needs_three": "Correlation needs at least three pairs (there are {n}).",
    "correlation_interval_needs_clients": "Intervals of correlation and concordance need at least five clients (there are {clients}).",
    "client_offset_needs_repeats": "One pair for each client: a client's own offset cannot be told from the day's noise; the pooled offset serves all.",
    "client_offset_needs_anchors": "Every client has one scan: a client's own offset cannot be told from that day; the pooled offset serves all.",
    "third_repeat": "the first two differ by {difference} {unit}, more than {tolerance}: take a third, the median counts",
    "excluded_readings": "Readings excluded by hand: {n}; Review shows what that moves.",
    "challenge_day_unknown": "The spread from day to day is not known: the interval holds the noise of repeats only, and is too narrow.",
    "review_gone": "Decided; it is not found any more.",
    "review_slip": "{value} {unit} where about {expected} is usual: {slip}?",
    "review_at_odds": "{value} {unit} where about {expected} is usual for this client and device.",
    "review_repeats": "{value} {unit} beside {sisters}: far from its sister repeats.",
    "review_missing_repeats": "{short} of {visits} tallies have fewer than the {planned} planned repeats.",
    "review_failures": "{share} % of {n} readings failed.",
    "review_water": "Water lies {gap} points {way} the client's recent mean (usual: within {usual}).",
    "review_balance": "Fat with fat-free mass lies {missing} % {way} the body mass of this visit.",
    "review_conditions": "The protocol was not kept: {words}.",
    "review_unlike": "This tally stands beside a scan that was taken under other conditions: {words}.",
    "review_setting": "The setting went from {first} to {then} near a scan.",
    "review_folds_bmi": "Body mass index of {bmi}: skinfold equations are not for it.",
    "review_region": "Scans of {metric} with the head at one time, without it at another: they do not compare.",
    "review_different": "These are different things and never compare: {words}.",
    "review_assessor": "{who} takes sites and has not been checked.",
    "few_common_visits": "Some devices have fewer than {least} visits in common: nothing is said of those.",
    "lacks_metric": "does not show {metric}",
    "lacks_segments": "shows no segments",
    "lacks_export": "its data cannot be exported",
    "export_not_known": "whether its data can be exported is not on its card",
    "too_dear": "price {price} (at most {most})",
    "fails_too_often": "{share} % of its readings failed (at most {most} %)",
    "not_for_client": "must not be used with {client}",
    "order_not_known": "{clients} client(s) cannot show how sure the order is.",
    "no_passing_bablok": "Passing–Bablok needs four pairs that vary and rise together.",
    "not_a_line": "The relation is not shown to be a line (cusum test p {p}): read no slope from it.",
    "pairs_as_if_apart": "Passing–Bablok, Theil–Sen, least squares, sloping limits and the shares near take the pairs of one client as if they were apart: their intervals are too short.",
    "reference_error_not_separable": "The scan's stated error is as large as the whole spread: what the device adds cannot be separated.",
    "no_better_than_nothing": "It is no closer ({own}) than what needs no device at all ({without}): the mean of the other clients, or an equation from body mass index.",
    "no_percentiles": "Percentile limits need 20 pairs of five clients.",
    "no_repeats": "No tally has a second reading: take two or three minutes apart to see how they differ.",
    "few_repeats": "{df} degrees of freedom within tallies cannot say how sure the spread is.",
    "resolution_limits": "The repeats differ no more than the display's step of {step} makes them: the step is the limit.",
    "no_icc": "Intraclass correlations need three tallies with equal numbers of repeats that differ.",
    "icc_balanced": "Intraclass correlations from the tallies of {k} repeats; {left} tallies with other numbers are left out of them.",
    "few_days": "Too few neighbouring days to tell the spread from day to day (six differences are needed).",
    "no_changes": "No client has two anchors with readings of this instrument: a change needs a second scan.",
    "changes_of_one_client": "{n} changes of one client: no limits for others.",
    "errors_taken_alike": "The slope of change on change takes the errors of both as alike, as their ratio is not known: beside one that is steadier the noisier looks too steep.",
    "no_change_slope": "Too few clients with changes for a slope (four are needed).",
    "no_exclusion_zone": "The scan's own precision is not known (no repeated scans, none stated): no change is set aside as noise.",
    "few_water_visits": "{n} visits with fat and water: too few to see them move together within a client.",
    "circular": "Fat and water of this device are one number told twice (r {r}): correcting one by the other would also erase true change.",
    "landmarks_mixed": "Sites taken at several landmarks are mixed in this equation: {sites}. They do not compare.",
    "not_a_reference": "Compared with {comparator}, not a reference: the difference holds the errors of both, and which of them is right cannot be said.",
    "no_impedance_implant": "Implanted electronics: no impedance device unless the person's clinician agrees.",
    "implant_cleared": "Implanted electronics, the clinician's agreement is noted: keep to what was agreed.",
    "no_impedance_pregnant": "Pregnancy: impedance values do not apply, and no impedance device is used.",
    "eating_disorder": "History of disordered eating: show this person no fat number and set no target; sums and girths only, with the treating team.",
    "low_energy": "Signs of low energy availability (missed periods, stress injuries, always tired or cold): no weight goal; refer to licensed staff.",
    "cutting_weight": "Cutting weight or taking diuretics: water moves every impedance value; no hydration test, and licensed staff decide what is safe.",
    "ill": "Ill: measure again when well; today's values say little.",
    "under_18": "Under 18: equations for adults do not apply, scans and weight goals need guardians and licensed staff.",
    "no_scan_pregnant": "Pregnancy: no scan.",
    "scan_local_rules": "Scans use X-rays: licensed staff order and run them under local rules; {scans} known so far{last}.",
    "scan_too_soon": "The last scan was {weeks} ago; scans are spaced 12 weeks, never under 8.",
    "assessor_few": "{persons} people measured twice so far; the check needs at least {least}.",
    "assessor_unsure": "The interval reaches past {bound} %: more people would make the verdict firmer.",
    "assessor_unreliable": "Reliability {reliability} is under {limit}: much of the spread between these people is error, or they are much alike.",
    "essential_fat_near": "the interval reaches essential fat ({bound} %): question the reading before anything is done about it",
    "essential_fat": "at or under essential fat ({bound} %): question the reading; if it is true, stop and refer",
    "outside_range": "outside the calibrated range ({low} to {high}): extrapolated",
    "expired": "the offset expired on {until}: scan again",
    "other_setting": "read under setting {used}, while the calibration is for {calibrated}: one for {used} is missing",
    "not_for_others": "this calibration serves only {clients}: too few clients were scanned to say how others differ",
    "provisional": "provisional: from one scan",
    "provisional_by_method": "provisional: set against {method}, no scan",
    "provisional_method": "Set against {method}, a field method: provisional. Its own error (SD {sd}) is in the intervals; a scan replaces it.",
    "method_error_unknown": "Set against {method}, whose own error is not published: nothing can be adopted from it.",
    "grown": "the device drifts: the interval has grown with the weeks since its scans",
    "against_advice": "adopted against the advice",
    "new_client": "no scan of this client in the calibration: pooled offset, wider interval",
    "value_impossible": "{value} is not possible here",
    "value_is_mass": "{value} looks like the body mass ({mass} kg), typed into the fat lane",
    "value_unlikely": "{value} is not what people have",
    "value_far_from_sisters": "{value} is far from its sister repeats (about {expected} {unit})",
    "value_far_from_last": "{value} is far from the last visit ({expected} {unit})",
    "no_spread": "{clients} client(s) cannot show how clients differ: the offset serves no one else, unless you state that spread.",
    "spread_stated": "For others the spread between clients is the one you stated (SD {sd}); {clients} client(s) cannot show it.",
    "one_scan_needs_mornings": "One scan: a provisional offset of this client needs at least four mornings (there are {mornings}).",
    "one_scan_needs_precision": "One scan: state the scan's precision (Plan, Stated values) for a provisional offset of this client.",
    "one_scan_provisional": "One scan and {mornings} mornings: a provisional offset, from the day-to-day spread and the scan's precision.",
    "drift_shortens": "The difference moves by {slope} {unit} a week ({low} to {high}): the offset holds only until {until}.",
    "drift_forbids": "The difference moves by {slope} {unit} a week ({low} to {high}): the offset of all scans together no longer holds at the last one. Scan again, or choose the period since the change.",
    "fast_fall": "body mass falls by {rate} % a week ({low} to {high}), faster than {most} %: stop and refer",
    "stuck_device": "{name} shows only {slope} ({low} to {high}) of a client's change, whatever its level: it has no say here",
    "drift_not_known": "whether {name} itself moved meanwhile is not known: too few scans",
    "no_water_correction": "no correction by water: this device shows none, or its fat and water are one number told twice",
    "settings_apart": "The settings differ by {size} {unit} ({low} to {high}): nothing is adopted from both together.",
    "drift_within_periods": "Several settings: the slope is that within their periods; what moves between them is a step.",
    "drift_two_moments": "With two moments a slope and a step look the same: a third round of scans tells them apart.",
    "no_control_chart": "A control chart needs four anchors whose differences vary.",
    "consensus_is_weaker": "The other devices may drift as well: what is said against them counts for nothing in the verdict.",
    "movers_left_out": "Not asked, since their own difference from the scans moves: {names}.",
    "stale": "a reading behind this offset has changed since it was adopted: adopt it again",
}

ADVICE = {
    "none": "Better not to correct: on left-out scans no correction comes closer by more than chance.",
    "level_only": "Correcting brings the level right, but the device repeats what the last scan said; it cannot show change.",
    "level_only_unknown": "Correcting brings the level right; whether the device shows change cannot be told from these scans.",
    "level_and_change": "Correcting brings the level right, and the device follows change.",
    "not_enough": "Too few scanned clients to check whether correcting helps.",
    "no_pairs": "No pairs with a scan yet: take a tally right before or after a scan.",
}
LEAST_FOR_ONE_PERSON = 5  # clients below which nothing is said of how far single readings stray


def sentence(n: Note) -> str:
    """A note as a sentence."""
    return NOTES[n.code].format(**{k: f"−{v[1:]}" if v[:1] == "-" and v[1:2].isdigit() else v for k, v in n.facts})


def _metric(result: CompareResult) -> Metric:
    found = metric_named(result.pairs.metric)
    if found is None:
        raise KeyError(result.pairs.metric)
    return found


def side(value: float, decimals: int) -> str:
    """A difference as people say it: "2.9 low", "8.6 high", "0.0"."""
    text = number(abs(value), decimals)
    return text if float(text) == 0 else f"{text} {'high' if value > 0 else 'low'}"


def headline(result: CompareResult) -> str:
    """One sentence a tired coach understands, made from the intervals."""
    name, m = result.pairs.instrument.name, _metric(result)
    if result.bias is None:
        return f"{name}: no pairs with {result.pairs.compared_with} yet."
    bias, unit, k = result.bias, m.difference_unit, m.decimals
    if result.pairs.reference.kind != "reference":
        name = f"Compared with {result.pairs.compared_with}: {name}"
    if bias.interval is None:
        head = f"{name} read {side(bias.value, k)} ({unit}) here; one scan cannot say more"
    elif bias.interval.low > 0 or bias.interval.high < 0:
        head = f"{name} reads {number(abs(bias.value), k)} {unit} {'high' if bias.value > 0 else 'low'} on average"
    else:
        head = f"{name}: no bias shown; on average anywhere from {side(bias.interval.low, k)} to {side(bias.interval.high, k)} ({unit})"
    lim, clients = result.limits, result.pairs.clients
    if lim is None or lim.lower_interval is None or lim.upper_interval is None or clients < LEAST_FOR_ONE_PERSON:
        return f"{head}; how far it strays for one person cannot be said from {count(clients, 'client')}."
    inner = f"from {side(lim.lower, k)} to {side(lim.upper, k)}"
    outer = f"{side(lim.lower_interval.low, k)} to {side(lim.upper_interval.high, k)}"
    return f"{head}; for one person {inner} (after {count(clients, 'client')} it may be {outer})."


def pairs_sentence(result: CompareResult) -> str:
    """How many pairs, and what was left out."""
    p = result.pairs
    n = p.left_out.n
    left = "" if n == 0 else "; 1 reading or scan made no pair" if n == 1 else f"; {n} readings or scans made no pair"
    return f"{count(p.n, 'pair')}, {count(p.clients, 'client')}, {count(p.occasions, 'anchor')}{left}."


def calibration_sentence(result: CalibrateResult) -> str:
    """Advice on correcting."""
    if result.comparison.bias is None:
        return ADVICE["no_pairs"]
    code, cv = result.advice_code, result.cross_validation
    if code == "level_only" and result.within_slope is None:
        code = "level_only_unknown"
    text = ADVICE[code]
    if result.movement is not None and result.movement.found and not result.valid_until and code != "none":
        return "Not now: its error moves through time, so that one offset from all scans no longer holds."
    if result.settings_apart is not None and code != "none":
        return "Not so: its settings differ, and one offset for all of them fits none. Choose one setting in the lens bar."
    s = result.within_slope
    if code == "level_and_change" and s is not None and s.interval is not None and s.interval.high < 1:
        share = f"{number(s.value, 2)} ({span(s.interval, 2)}) of each {_metric(result.comparison).difference_unit}"
        text = (
            f"Correcting brings the level right; of a change the device shows only {share}: too little to follow clients by it."
            if shows_too_little(s)
            else f"Correcting brings the level right, and the device follows change only in part: it shows {share}."
        )
    if result.movement is not None and result.movement.found and code in ("level_only", "level_and_change"):
        why = "Its error moves as clients change" if result.comparison.pairs.instrument.equation else "It drifts"
        text += f" {why}: this holds only until {result.valid_until}, and the interval grows till then."
    if code == "level_and_change" and cv is not None and cv.beats_scans is False:
        text += " So far the scans themselves, carried over, are as close: the changes were small."
    if cv is not None and cv.beats_people is False:
        text += " It is no closer than what is known without it: the mean of the other clients, or their body mass index."
    return text


def error_sentence(result: CalibrateResult) -> str:
    """Errors on left-out scans, beside what needs no device, and how the device moves within clients."""
    cv, m = result.cross_validation, _metric(result.comparison)
    if cv is None:
        return ""
    k, unit = m.decimals + 1, m.difference_unit
    text = f"Error on left-out scans (RMSE, {unit}): {number(cv.before, k)} uncorrected, {number(cv.after, k)} as advised"
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
        text += f" When the scan moves by 1 within a client, the device moves by {number(s.value, 2)} ({span(s.interval, 2)})."
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
        "line": "a line for everybody like these clients: what is subtracted depends on the reading",
        "line_client": "a line, with each scanned client's own offset beside it",
    }[result.offer]
    why = " Adopting it against the advice asks for a reason." if needs_reason(result) else ""
    return f"What can be adopted: {own}.{why}"


def corrected_sentence(c: Corrected, metric: str) -> str:
    """A corrected value with its interval and cautions."""
    m = metric_named(metric)
    k = m.decimals if m else 1
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
    return {"stale": "; a reading behind it has changed: adopt it again", "expired": "; expired: scan again"}.get(state, "")


def record_sentence(r: CalibrationRecord) -> str:
    """An adopted calibration in a line."""
    what = MODEL_WORDS[r.model]
    if r.line is not None:
        what += f" (reference = {number(r.line.centre)} + (reading − {number(r.line.centre + r.line.level)})/{number(r.line.slope, 2)})"
    pooled = "" if r.pooled is None else f" ({signed(r.pooled[0])})"
    where = f", setting {r.setting}" if r.setting else ""
    whom = "" if r.pooled is not None else f", only for {', '.join(sorted(r.clients))}"
    why = f", against the advice ({r.made_of.reason})" if r.made_of.reason else ""
    return f"v{r.version}: {what}{pooled}{where}{whom}, from {count(r.pairs, 'pair')} of {count(r.client_count, 'client')}, until {r.valid_until}{why}"


def offset_headline(result: CalibrateResult) -> str:
    """What to subtract, in one sentence."""
    name, m = result.comparison.pairs.instrument.name, _metric(result.comparison)
    if result.pooled is None:
        return f"{name}: no offset yet."
    b = result.pooled.offset
    if result.at_ends:
        k, unit = m.decimals, "%" if m.unit == "percent" else m.unit
        said = [f"{signed(o, k)} ({span(i, k, sign=True)}) at {number(at, k)}" for at, o, i in result.at_ends]
        return f"{name}: what to subtract grows with the reading: {said[0]}, {said[1]} {unit}."
    if b.interval is not None and b.interval.low <= 0 <= b.interval.high:
        return f"{name}: no common offset shown; it could be anything from {span(b.interval, m.decimals, sign=True)} {m.difference_unit}."
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
    unit = "%" if result.comparison.pairs.metric.endswith("percent") else _metric(result.comparison).unit
    return (
        f"Holds for readings from {number(result.range[0])} to {number(result.range[1])} {unit}, the same setting,"
        f" and until {result.valid_until}."
    )
