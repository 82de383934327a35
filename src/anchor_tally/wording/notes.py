"""Notes in words: what could not be computed and why, from a code and its facts."""

from __future__ import annotations

from string import Formatter

from ..stats.estimate import Fact, Note

NOTES = {
    "no_pairs": (
        "No reading lies within the window of a scan, so nothing can be compared ({dropped}"
        " readings were left out)."
    ),
    "one_pair": (
        "One pair only: no spread, no limits, no interval. One scan cannot show how far single"
        " readings stray."
    ),
    "one_client": (
        "One client ({occasions} scans): the bias holds for this client only; limits for other"
        " people cannot be given."
    ),
    "one_anchor": (
        "All repeats belong to one scan, so how the difference changes from day to day is unknown;"
        " no interval is given."
    ),
    "components_need_repeats": (
        "One pair for each client: spread between clients, days and repeats cannot be told apart."
    ),
    "occasion_in_client": (
        "One scan for each client: day-to-day spread cannot be separated and is part of the client"
        " spread."
    ),
    "replicate_in_occasion": (
        "One reading at each scan: the spread of repeats cannot be separated and is part of the"
        " occasion spread."
    ),
    "no_trend": "The classical slope on the mean of both cannot be estimated from these pairs.",
    "no_reference_trend": "Whether the error grows with the value cannot be told from these pairs.",
    "reference_error_unknown": (
        "The scan's own error is taken as nothing, for lack of replicate scans or a stated"
        " precision: that pulls the slopes on the scan down."
    ),
    "within_not_separable": (
        "Within clients the scans differ little more than by their own error: whether the device"
        " follows change cannot be told."
    ),
    "far_off": (
        "{client} {at}: {value:.1f} {unit} lies far from its sisters ({sisters:.1f| and }) and"
        " moves this result; look at it, and exclude it with a reason if it was mistyped."
    ),
    "far_off_more": "{others} more repeats lie far from their sisters.",
    "no_deming": "A line with error in both needs at least four clients whose values differ.",
    "few_clients": "Only {clients} clients: read the intervals, not the estimates.",
    "from_memory": (
        "Equation of {source}; its coefficients are from memory, not yet checked against the"
        " publication."
    ),
    "cards_pooled": (
        "Several settings are pooled, and a change of setting counts as error: {names}. Choose one"
        " in the lens to judge it fairly."
    ),
    "settings_pooled": (
        "Readings of several settings are pooled: {settings}. Choose one in the lens to keep them"
        " apart."
    ),
    "paired_by_day": (
        "Of {readings} readings, or of their scans, only the date is known: they are paired by the"
        " calendar day, whatever the window."
    ),
    "constant_values": (
        "All values of one side are the same: correlation and concordance do not exist."
    ),
    "correlation_needs_three": "Correlation needs at least three pairs (there are {n}).",
    "correlation_interval_needs_clients": (
        "Intervals of correlation and concordance need at least five clients (there are {clients})."
    ),
    "client_offset_needs_repeats": (
        "One pair for each client: a client's own offset cannot be told from the day's noise; the"
        " pooled offset serves all."
    ),
    "client_offset_needs_anchors": (
        "Every client has one scan: a client's own offset cannot be told from that day; the pooled"
        " offset serves all."
    ),
    "third_repeat": (
        "the first two differ by {difference:.2g} {unit}, more than {tolerance:.2g}: take a third,"
        " the median counts"
    ),
    "excluded_readings": "Readings excluded by hand: {n}; Review shows what that moves.",
    "challenge_day_unknown": (
        "The spread from day to day is not known: the interval holds the noise of repeats only, and"
        " is too narrow."
    ),
    "review_gone": "Decided; it is not found any more.",
    "review_slip": (
        "{value:.{decimals}f} {unit} where about {expected:.{decimals}f} is usual: {slip}?"
    ),
    "review_at_odds": (
        "{value:.{decimals}f} {unit} where about {expected:.{decimals}f} is usual for this client"
        " and device."
    ),
    "review_repeats": (
        "{value:.{decimals}f} {unit} beside {sisters:.{decimals}f| and }: far from its sister"
        " repeats."
    ),
    "review_missing_repeats": (
        "{short} of {visits} tallies have fewer than the {planned} planned repeats."
    ),
    "review_failures": "{share:.0f} % of {n} readings failed.",
    "review_water": (
        "Water lies {gap:abs.1f} points {gap:above|below} the client's recent mean (usual: within"
        " {usual:.1f})."
    ),
    "review_balance": (
        "Fat with fat-free mass lies {gap:abs.1f} % {gap:above|below} the body mass of this visit."
    ),
    "review_conditions": "The protocol was not kept: {words}.",
    "review_unlike": (
        "This tally stands beside a scan that was taken under other conditions: {words}."
    ),
    "review_setting": "The setting went from {first} to {then} near a scan.",
    "review_folds_bmi": "Body mass index of {bmi:.1f}: skinfold equations are not for it.",
    "review_region": (
        "Scans of {metric} with the head at one time, without it at another: they do not compare."
    ),
    "review_different": "These are different things and never compare: {words}.",
    "review_assessor": "{who} takes sites and has not been checked.",
    "few_common_visits": (
        "Some devices have fewer than {least} visits in common: nothing is said of those."
    ),
    "lacks_metric": "does not show {metric}",
    "lacks_segments": "shows no segments",
    "lacks_export": "its data cannot be exported",
    "export_not_known": "whether its data can be exported is not on its card",
    "too_dear": "price {price} (at most {most:g})",
    "fails_too_often": "{share:.0f} % of its readings failed (at most {most:g} %)",
    "not_for_client": "must not be used with {client}",
    "order_not_known": "{clients} client(s) cannot show how sure the order is.",
    "no_passing_bablok": "Passing–Bablok needs four pairs that vary and rise together.",
    "not_a_line": (
        "The relation is not shown to be a line (cusum test p {p:.3f}): read no slope from it."
    ),
    "pairs_as_if_apart": (
        "Passing–Bablok, Theil–Sen, least squares, sloping limits and the shares near take the"
        " pairs of one client as if they were apart: their intervals are too short."
    ),
    "reference_error_not_separable": (
        "The scan's stated error is as large as the whole spread: what the device adds cannot be"
        " separated."
    ),
    "no_better_than_nothing": (
        "It is no closer ({own:.1f}) than what needs no device at all ({without:.1f}): the mean of"
        " the other clients, or an equation from body mass index."
    ),
    "no_percentiles": "Percentile limits need 20 pairs of five clients.",
    "no_repeats": (
        "No tally has a second reading: take two or three minutes apart to see how they differ."
    ),
    "few_repeats": "{df:g} degrees of freedom within tallies cannot say how sure the spread is.",
    "resolution_limits": (
        "The repeats differ no more than the display's step of {step:g} makes them: the step is the"
        " limit."
    ),
    "no_icc": (
        "Intraclass correlations need three tallies with equal numbers of repeats that differ."
    ),
    "icc_balanced": (
        "Intraclass correlations from the tallies of {k} repeats; {left} tallies with other numbers"
        " are left out of them."
    ),
    "few_days": (
        "Too few neighbouring days to tell the spread from day to day (six differences are needed)."
    ),
    "no_changes": (
        "No client has two anchors with readings of this instrument: a change needs a second scan."
    ),
    "changes_of_one_client": "{n} changes of one client: no limits for others.",
    "errors_taken_alike": (
        "The slope of change on change takes the errors of both as alike, as their ratio is not"
        " known: beside one that is steadier the noisier looks too steep."
    ),
    "no_change_slope": "Too few clients with changes for a slope (four are needed).",
    "no_exclusion_zone": (
        "The scan's own precision is not known (no repeated scans, none stated): no change is set"
        " aside as noise."
    ),
    "few_water_visits": (
        "{n} visits with fat and water: too few to see them move together within a client."
    ),
    "circular": (
        "Fat and water of this device are one number told twice (r {r:.2f}): correcting one by the"
        " other would also erase true change."
    ),
    "circular_ratio": (
        "Fat and water of this device keep one fixed relation: they come from one measurement, so"
        " correcting one by the other would also erase true change."
    ),
    "landmarks_mixed": (
        "Sites taken at several landmarks are mixed in this equation: {sites:|; }. They do not"
        " compare."
    ),
    "not_a_reference": (
        "Compared with {comparator}, not a reference: the difference holds the errors of both, and"
        " which of them is right cannot be said."
    ),
    "no_impedance_implant": (
        "Implanted electronics: no impedance device unless the person's clinician agrees."
    ),
    "implant_cleared": (
        "Implanted electronics, the clinician's agreement is noted: keep to what was agreed."
    ),
    "no_impedance_pregnant": (
        "Pregnancy: impedance values do not apply, and no impedance device is used."
    ),
    "eating_disorder": (
        "History of disordered eating: show this person no fat number and set no target; sums and"
        " girths only, with the treating team."
    ),
    "low_energy": (
        "Signs of low energy availability (missed periods, stress injuries, always tired or cold):"
        " no weight goal; refer to licensed staff."
    ),
    "cutting_weight": (
        "Cutting weight or taking diuretics: water moves every impedance value; no hydration test,"
        " and licensed staff decide what is safe."
    ),
    "ill": "Ill: measure again when well; today's values say little.",
    "under_18": (
        "Under 18: equations for adults do not apply, scans and weight goals need guardians and"
        " licensed staff."
    ),
    "no_scan_pregnant": "Pregnancy: no scan.",
    "scan_local_rules": (
        "Scans use X-rays: licensed staff order and run them under local rules; {scans} known so"
        " far."
    ),
    "scan_local_rules_dated": (
        "Scans use X-rays: licensed staff order and run them under local rules; {scans} known so"
        " far, the last one on {last}."
    ),
    "scan_too_soon": (
        "The last scan was {weeks:.0f|week|weeks} ago; scans are spaced 12 weeks, never under 8."
    ),
    "assessor_few": "{persons} people measured twice so far; the check needs at least {least}.",
    "assessor_unsure": (
        "The interval reaches past {bound:g} %: more people would make the verdict firmer."
    ),
    "assessor_unreliable": (
        "Reliability {reliability:.2f} is under {limit}: much of the spread between these people is"
        " error, or they are much alike."
    ),
    "essential_fat_near": (
        "the interval reaches essential fat ({bound:g} %): question the reading before anything is"
        " done about it"
    ),
    "essential_fat": (
        "at or under essential fat ({bound:g} %): question the reading; if it is true, stop and"
        " refer"
    ),
    "outside_range": "outside the calibrated range ({low:.1f} to {high:.1f}): extrapolated",
    "expired": "the offset expired on {until}: scan again",
    "other_setting": (
        "read under setting {used}, while the calibration is for {calibrated}: one for {used} is"
        " missing"
    ),
    "not_for_others": (
        "this calibration serves only {clients}: too few clients were scanned to say how others"
        " differ"
    ),
    "provisional": "provisional: from one scan",
    "provisional_by_method": "provisional: set against {method}, no scan",
    "provisional_method": (
        "Set against {method}, a field method: provisional. Its own error (SD {sd:g}) is in the"
        " intervals; a scan replaces it."
    ),
    "method_error_unknown": (
        "Set against {method}, whose own error is not published: nothing can be adopted from it."
    ),
    "grown": "the device drifts: the interval has grown with the weeks since its scans",
    "against_advice": "adopted against the advice",
    "new_client": "no scan of this client in the calibration: pooled offset, wider interval",
    "value_impossible": "{value} is not possible here",
    "value_is_mass": "{value} looks like the body mass ({mass:.1f} kg), typed into the fat row",
    "value_unlikely": "{value} is not what people have",
    "value_far_from_sisters": (
        "{value} is far from its sister repeats (about {expected:.{decimals}f} {unit})"
    ),
    "value_far_from_last": "{value} is far from the last visit ({expected:.{decimals}f} {unit})",
    "no_spread": (
        "{clients} client(s) cannot show how clients differ: the offset serves no one else, unless"
        " you state that spread."
    ),
    "spread_stated": (
        "For others the spread between clients is the one you stated (SD {sd:g}); {clients}"
        " client(s) cannot show it."
    ),
    "one_scan_needs_mornings": (
        "One scan: a provisional offset of this client needs at least four mornings (there are"
        " {mornings})."
    ),
    "one_scan_needs_precision": (
        "One scan: state the scan's precision (Plan, Stated values) for a provisional offset of"
        " this client."
    ),
    "one_scan_provisional": (
        "One scan and {mornings} mornings: a provisional offset, from the day-to-day spread and the"
        " scan's precision."
    ),
    "drift_shortens": (
        "The difference moves by {slope:+.2f} {unit} a week ({low:+.2f} to {high:+.2f}): the offset"
        " holds only until {until}."
    ),
    "drift_forbids": (
        "The difference moves by {slope:+.2f} {unit} a week ({low:+.2f} to {high:+.2f}): the offset"
        " of all scans together no longer holds at the last one. Scan again, or choose the period"
        " since the change."
    ),
    "fast_fall": (
        "body mass falls by {rate:.1f} % a week ({low:.1f} to {high:.1f}), faster than {most:g} %:"
        " stop and refer"
    ),
    "stuck_device": (
        "{name} shows only {slope:.2f} ({low:.2f} to {high:.2f}) of a client's change, whatever its"
        " level: it has no say here"
    ),
    "drift_not_known": "whether {name} itself moved meanwhile is not known: too few scans",
    "no_water_correction": (
        "no correction by water: this device shows none, or its fat and water are one number told"
        " twice"
    ),
    "settings_apart": (
        "The settings differ by {size:.1f} {unit} ({low:.1f} to {high:.1f}): nothing is adopted"
        " from both together."
    ),
    "drift_within_periods": (
        "Several settings: the slope is that within their periods; what moves between them is a"
        " step."
    ),
    "drift_two_moments": (
        "With two moments a slope and a step look the same: a third round of scans tells them"
        " apart."
    ),
    "no_control_chart": "A control chart needs four anchors whose differences vary.",
    "consensus_is_weaker": (
        "The other devices may drift as well: what is said against them counts for nothing in the"
        " verdict."
    ),
    "movers_left_out": "Not asked, since their own difference from the scans moves: {names}.",
    "stale": "a reading behind this offset has changed since it was adopted: adopt it again",
}


class _Facts(Formatter):
    """Formats the facts of a note.

    Besides Python's own format specifications: ``:abs.1f`` is the size of a number,
    ``:above|below`` chooses by its sign, ``:.0f|week|weeks`` adds the noun in its number,
    and ``:.1f| and `` joins a tuple. A minus is the real minus sign.
    """

    def format_field(self, value: Fact, format_spec: str) -> str:
        spec, *words = format_spec.split("|")
        if isinstance(value, tuple):
            return (words[0] if words else ", ").join(self.format_field(v, spec) for v in value)
        if isinstance(value, str):
            return value
        if len(words) == 1:
            return spec if value > 0 else words[0]
        if spec.startswith("abs"):
            value, spec = abs(value), spec.removeprefix("abs")
        text = format(value, spec).replace("-", "−")
        return f"{text} {words[0] if text == '1' else words[1]}" if words else text


_FACTS = _Facts()


def sentence(n: Note) -> str:
    """Return a note as a sentence."""
    return _FACTS.vformat(NOTES[n.code], (), dict(n.facts))
