"""Notes in words: what could not be computed and why, from a code and its facts."""

from __future__ import annotations

from string import Formatter

from ..stats.estimate import Fact, Note
from .numbers import day_words, number, p_value, signed

NOTES = {
    # pairs and agreement
    "no_pairs": "No reading lies within the pairing window of a scan ({dropped:|reading was|readings were} left out). Take readings on the day of a scan.",
    "wider_window": "With a window of {window} {readings:|reading|readings} would have a scan (Window in the filters).",
    "one_pair": "Not enough data for limits or intervals: needs at least 2 pairs (now 1).",
    "one_client": "One client ({occasions:|scan|scans}): the bias applies to this client only. Limits for other people need more clients.",
    "one_anchor": "All repeats belong to one scan, so day-to-day variation is unknown and no interval is given. A second scan gives one.",
    "components_need_repeats": "One pair per client: variation between clients, days and repeats cannot be separated.",
    "occasion_in_client": "One scan per client: day-to-day variation cannot be separated from variation between clients.",
    "replicate_in_occasion": "One reading per scan: variation between repeats cannot be separated from day-to-day variation.",
    "no_trend": "The classical slope on the mean cannot be estimated from these pairs.",
    "no_reference_trend": "Not enough data to see whether the error grows with the value.",
    "reference_error_unknown": "The scan's own error is not known. Slopes on the scan allow for an SD of {low:.1f} to {high:.1f} {unit}. State its precision under Plan › Protocol to narrow them.",
    "scan_error_decides": "Whether it responds to change depends on the scan's own error, which is not known (SD of {low:.1f} to {high:.1f} {unit} assumed). State it under Plan › Protocol, or repeat scans.",
    "slope_beside_movement": "The error changes with time. The slope within clients is adjusted for that.",
    "within_not_separable": "The scans of a client differ by little more than their own error. Whether the device responds to change cannot be told yet.",
    "far_off": "One outlier affects this result: {client}, {at:day}, {value:.1f} {unit} (other repeats {others:.1f| and }). Check it in Review.",
    "far_off_withheld": "One outlier affects this result: {client}, value not shown. Check it in Review.",
    "far_off_more": "{more:|more repeat differs|more repeats differ} from the other repeats. Check them in Review.",
    "no_deming": "A Deming line needs at least 4 clients whose values differ.",
    "scan_hour": "Usual visits are at about {visit}, scans at about {scan}: the daily rhythm adds to the difference.",
    "scan_condition": "{label}: not kept at {broken} of {n} usual visits. A scan under other conditions does not compare.",
    "usual_spreads": "The study cannot tell all spreads yet: usual values stand for them.",
    "few_clients": "Only {clients:|client|clients}: rely on the intervals, not on the estimates.",
    "from_memory": "Equation of {source}. Its coefficients are from memory and were not checked against the publication.",
    "cards_pooled": "Readings of several settings are combined, so a change of setting counts as error: {names}. Choose one setting in the filters.",
    "settings_pooled": "Readings of several settings are combined: {settings}. Choose one in the filters to separate them.",
    "paired_by_day": "For {readings:|reading or its scan|readings or their scans} only the date is known. They are paired by calendar day.",
    "constant_values": "All values of one side are equal, so correlation and concordance cannot be computed.",
    "correlation_needs_three": "Not enough data for a correlation: needs at least 3 pairs (now {n}).",
    "correlation_interval_needs_clients": "Confidence intervals of correlation and concordance need at least 5 clients (now {clients}).",
    "excluded_readings": "{n:|reading is|readings are} excluded. Review shows the effect.",
    "landmarks_mixed": "This equation combines sites taken at different landmarks ({sites:|; }). They are not comparable.",
    "not_a_reference": "Compared with {comparator}, which is not a reference: the difference includes the errors of both.",
    # other forms of agreement
    "no_passing_bablok": "Passing–Bablok needs at least 4 pairs that vary and increase together.",
    "not_a_line": "The relation may not be linear (cusum test, p {p:p}). Do not interpret its slope.",
    "lines_of_client_means": "Passing–Bablok, Theil–Sen and least squares use one point per client ({clients:|client|clients}): the mean of the client's pairs.",
    "no_percentiles_of_repeats": "Percentile limits are not given for repeated pairs of a client: no interval holds its level.",
    "reference_error_not_separable": "The scan's stated error is as large as the whole variation, so the device's own part cannot be separated.",
    "no_better_than_nothing": "Its error ({own:.1f}) is no smaller than that of methods without a device ({without:.1f}): the mean of other clients, or an equation from body mass index.",
    "no_percentiles": "Percentile limits need at least 20 pairs of 5 clients.",
    "heavy_tails": "Differences have more extreme values than a normal distribution (kurtosis test, p {p:p}). Intervals of the SD and of the limits may be too narrow.",
    # repeatability
    "heavy_tails_of_repeats": "Repeats have more extreme values than a normal distribution (kurtosis test, p {p:p}). The interval of their SD may be too narrow.",
    "no_repeats": "No repeats yet. Take two or three readings minutes apart.",
    "few_repeats": "Not enough repeats for a confidence interval ({df:g} degrees of freedom, needs 3).",
    "resolution_limits": "The repeats differ by no more than the step of the display ({step:g}), so the step sets the limit.",
    "no_icc": "Intraclass correlations need at least 3 sets with equal numbers of repeats that differ.",
    "icc_interval_needs_clients": "Confidence intervals of intraclass correlations need at least 5 clients where clients have several sets.",
    "icc_balanced": "Intraclass correlations use the sets of {k} repeats; {left:|set|sets} with other numbers are left out.",
    "few_days": "Not enough data for day-to-day variation: needs at least 6 pairs of neighbouring days.",
    # change
    "no_changes": "No client has two scans with readings of this device. A second scan is needed.",
    "changes_of_one_client": "{n:|change|changes} of one client: limits for other people cannot be given.",
    "errors_taken_alike": "The slope of change on change assumes equal errors of device and scan, because their ratio is unknown. If the device is noisier, this slope is too steep.",
    "no_change_slope": "A slope of change on change needs changes of at least 4 clients.",
    "no_scan_of_client": "No scan of {name}: the level rests on what the devices show of others.",
    "change_slope_undetermined": "The slope of change on change cannot be told: the changes of device and scan are not shown to vary together.",
    "no_exclusion_zone": "The scan's precision is not known, so no change is set aside as noise. Repeat scans, or state the precision in Plan.",
    # hydration
    "few_water_visits": "Not enough data to compare fat with water: {n:|visit|visits} with both.",
    "circular": "This device computes fat and water from the same measurement: one follows from the other within rounding. Correcting one by the other would also remove real change.",
    "water_noise_unknown": "Water was read once a visit, so its own noise is not known. The true slope on water can be steeper.",
    "water_noise_hides": "Water varies within clients by little more than its repeats differ, so a slope on it cannot be estimated.",
    "water_few_clients": "With fewer than 5 clients the interval of the slope treats days as independent, and can be too narrow.",
    "challenge_day_unknown": "Day-to-day variation is not known. The interval includes the noise of repeats only and is too narrow.",
    # similar devices, which device
    "few_common_visits": "Some devices share fewer than {least} visits and are not compared.",
    "lacks_metric": "does not show {metric}",
    "lacks_segments": "shows no segments",
    "lacks_export": "its data cannot be exported",
    "export_not_known": "its card does not say whether data can be exported",
    "too_dear": "price {price} (at most {most:g})",
    "fails_too_often": "{share:.0f} % of its readings failed (at most {most:g} %)",
    "not_for_client": "must not be used with {client}",
    # review
    "review_gone": "Decided. The rule no longer finds it.",
    "review_slip": "{value:.{decimals}f} {unit}, usually about {expected:.{decimals}f}: {slip}?",
    "review_at_odds": "{value:.{decimals}f} {unit}, usually about {expected:.{decimals}f} for this client and device.",
    "review_scan": "Scan {value:.1f} {unit}: {devices:|device shows|devices show} it {gap:abs.1f} {difference} too {gap:high|low}, compared with the client's other scans.",
    "review_client_offset": "Mean difference from the scan {mean:+.1f} {unit}; {others:+.1f} {unit} in the other clients.",
    "review_repeats": "{value:.{decimals}f} {unit} differs from the other repeats ({others:.{decimals}f| and }).",
    "review_pair": "The two repeats {value:.{decimals}f} and {others:.{decimals}f} {unit} differ far more than this device's repeats usually do.",
    "review_exchanged": "The values of {first} and {second} fit each other's history, not their own: they may be exchanged.",
    "review_other_client": "These values fit {name}, not this client ({sets:set|sets} of values).",
    "review_step": "From this day on the device shows {gap:abs.{decimals}f} {unit} {gap:more|less} than before, overnight.",
    "review_missing_repeats": "{short} of {visits} sets have fewer than the {planned} planned repeats.",
    "review_failures": "{share:.0f} % of {n} readings failed.",
    "review_order": "{small} {value:.1f} {unit} is larger than {large} {expected:.1f} {unit}.",
    "review_water": "Water is {gap:abs.1f} points {gap:above|below} the client's recent mean (usually within {usual:.1f}).",
    "review_balance": "Fat plus fat-free mass is {gap:abs.1f} % {gap:above|below} the body mass of this visit.",
    "review_conditions": "Conditions not met: {words}.",
    "review_unlike": "The scan of that day was taken under other conditions: {words}.",
    "review_setting": "The setting changed from {first} to {then} near a scan.",
    "review_alternating": "The setting changed {turns} times in {days:.0f|day|days}: {settings:| and }.",
    "review_ahead": "The visit is dated {days:.0f|day|days} in the future.",
    "review_folds_bmi": "Body mass index {bmi:.1f}: skinfold equations apply only to folds within their sample.",
    "review_region": "Some scans of {metric} include the head and others do not. They are not comparable.",
    "review_different": "These are different quantities and are not comparable: {words}.",
    "review_assessor": "{who} measures sites but has not been checked (Plan › Assessor check).",
    "review_withheld": "A value differs from what is expected; it is not shown ({client}).",
    # cautions
    "safety_open": "Ask about implanted electronics and pregnancy first.",
    "no_impedance_implant": "Implanted electronics: no impedance device unless the person's clinician agrees.",
    "implant_cleared": "Implanted electronics; the clinician's agreement is noted. Keep to what was agreed.",
    "no_impedance_pregnant": "Pregnancy: impedance values do not apply. Do not use an impedance device.",
    "eating_disorder": "History of disordered eating: show no fat number and set no target. Use sums and girths only, with the treating team.",
    "low_energy": "Signs of low energy availability (missed periods, stress injuries, always tired or cold): no weight goal. Refer to licensed staff.",
    "cutting_weight": "Cutting weight or taking diuretics: water changes every impedance value. No hydration test; licensed staff decide what is safe.",
    "ill": "Ill: measure again when well. Today's values are not reliable.",
    "under_18": "Under 18: equations for adults do not apply. Scans and weight goals need guardians and licensed staff.",
    "no_scan_pregnant": "Pregnancy: no scan.",
    "scan_local_rules": "Scans use X-rays: licensed staff order and run them under local rules. Scans known so far: {scans}.",
    "scan_local_rules_dated": "Scans use X-rays: licensed staff order and run them under local rules. Scans known so far: {scans}, the last on {last:day}.",
    "scan_too_soon": "The last scan was {weeks:.0f|week|weeks} ago. Scans are spaced 12 weeks apart, never under 8.",
    "essential_fat_near": "The interval reaches essential fat ({bound:g} %). Check the reading before anyone acts on it.",
    "essential_fat": "At or below essential fat ({bound:g} %). Check the reading; if it is true, stop and refer.",
    "fall_not_sure": "Body mass may fall faster than {most:g} % a week: {rate:.1f} % (95 % CI {low:.1f} to {high:.1f}). Weigh on three more mornings before deciding.",
    "fast_fall": "Body mass falls by {rate:.1f} % a week (95 % CI {low:.1f} to {high:.1f}), faster than {most:g} %. Stop and refer.",
    # assessors
    "assessor_few": "Not enough data: needs at least {least} people measured twice (now {persons}).",
    "assessor_unsure": "The confidence interval reaches past {bound:g} %. More people would make the result clearer.",
    "assessor_unreliable": "Reliability {reliability:.2f} is below {limit}: much of the variation between these people is error, or they are very similar.",
    # the bench
    "third_repeat": "the first two differ by {difference:.2g} {unit}, more than {tolerance:.2g}: take a third; the median counts",
    "value_impossible": "{value} is not possible here",
    "value_is_mass": "{value} looks like the body mass ({mass:.1f} kg), typed into the fat row",
    "value_unlikely": "{value} is outside the range of people",
    "value_far_from_repeats": "{value} differs from the other repeats (about {expected:.{decimals}f} {unit})",
    "value_far_from_last": "{value} differs from the last visit ({expected:.{decimals}f} {unit})",
    # corrected values
    "outside_range": "outside the calibrated range ({low:.1f} to {high:.1f}): extrapolated",
    "expired": "the offset expired on {until:day}: scan again",
    "expired_growing": "the offset expired on {until:day}, so its interval grows by the drift that the scans do not rule out: scan again",
    "other_setting": "read with setting {used}, calibrated for {calibrated}: adopt an offset for {used}",
    "not_for_others": "this calibration applies only to {clients}: too few clients were scanned to serve others",
    "provisional": "provisional: from one scan",
    "provisional_by_method": "provisional: calibrated against {method}, not a scan",
    "grown": "the error was changing: the interval has grown since the last scan",
    "against_advice": "adopted against the advice",
    "new_client": "no scan of this client in the calibration: pooled offset, wider interval",
    "stale": "a reading behind this offset changed after it was adopted: adopt it again",
    # calibrate
    "client_offset_needs_repeats": "One pair per client: an offset of each client's own needs more pairs. The pooled offset serves all.",
    "client_offset_needs_anchors": "One scan per client: an offset of each client's own needs a second scan. The pooled offset serves all.",
    "provisional_method": "Calibrated against {method}, a field method: provisional. Its published error (SD {sd:g}) is in the intervals. A scan replaces it.",
    "method_error_unknown": "Calibrated against {method}, whose error is not published: nothing can be adopted.",
    "no_spread": "Too few clients ({clients}) to know how offsets differ between people. The offset serves no one else, unless you state that spread in Plan.",
    "spread_stated": "Too few clients ({clients}) to estimate the spread between people. The stated spread is used (SD {sd:g}).",
    "one_scan_needs_mornings": "One scan: a provisional offset for this client needs at least 4 mornings (now {mornings}).",
    "one_scan_needs_precision": "One scan: state the scan's precision in Plan to get a provisional offset for this client.",
    "one_scan_provisional": "One scan and {mornings} mornings: a provisional offset, from day-to-day variation and the scan's precision.",
    "drift_or_response": "The clients changed together, so drift of the device cannot be told apart from a part of their change that it does not show.",
    "drift_shortens": "The difference changes by {slope:+.2f} {unit} a week (95 % CI {low:+.2f} to {high:+.2f}), so the offset is valid only until {until:day}.",
    "drift_forbids": "The difference changes by {slope:+.2f} {unit} a week (95 % CI {low:+.2f} to {high:+.2f}). One offset for all scans is no longer valid. Scan again, or choose the period since the change.",
    "settings_apart": "The settings differ by {size:.1f} {unit} (95 % CI {low:.1f} to {high:.1f}). One offset for both cannot be adopted.",
    # track
    "stuck_device": "{name} shows only {slope:.2f} of each unit of a client's change (95 % CI {low:.2f} to {high:.2f}), so it is not used for changes.",
    "drift_not_known": "Too few scans to know whether {name} drifted meanwhile.",
    "no_water_correction": "No correction for water: this device shows no water, or its fat and water come from the same measurement.",
    # drift
    "drift_within_periods": "Several settings: the slope is within setting periods. Differences between periods count as steps.",
    "drift_two_moments": "With two scan dates, a slope and a step look the same. A third round of scans separates them.",
    "no_control_chart": "A control chart needs at least 4 scans whose differences vary.",
    "consensus_is_weaker": "The other devices may drift as well, so this comparison does not enter the verdict.",
    "movers_left_out": "Left out of that comparison, because scans show that they drift: {names}.",
}


class _Facts(Formatter):
    """Formats the facts of a note.

    Besides Python's own format specifications: ``:abs.1f`` is the size of a number,
    ``:above|below`` chooses by its sign, ``:.0f|week|weeks`` adds the noun in its number,
    ``:.1f| and `` joins a tuple, ``:day`` writes an ISO moment as people do, ``:p`` a p-value. A
    minus is the real minus sign.
    """

    def format_field(self, value: Fact, format_spec: str) -> str:
        spec, *words = format_spec.split("|")
        if isinstance(value, tuple):
            return (words[0] if words else ", ").join(self.format_field(v, spec) for v in value)
        if isinstance(value, str):
            return day_words(value) if spec == "day" else value
        if len(words) == 1:
            return spec if value > 0 else words[0]
        if spec.startswith("abs"):
            value, spec = abs(value), spec.removeprefix("abs")
        if spec == "p":
            return p_value(value)
        if spec.endswith("f"):  # ".1f" or, for a difference, "+.1f"
            show = signed if spec.startswith("+") else number
            text = show(float(value), int(spec.lstrip("+").strip(".f")))
        else:
            text = format(value, spec).replace("-", "−")
        return f"{text} {words[0] if text == '1' else words[1]}" if words else text


_FACTS = _Facts()


def sentence(n: Note) -> str:
    """Return a note as a sentence."""
    return _FACTS.vformat(NOTES[n.code], (), dict(n.facts))
