"""Review rules: one registry, each rule a test over the whole study."""

from __future__ import annotations

from collections.abc import Generator, Iterable
from dataclasses import dataclass, replace

from ...stats.estimate import note
from ..people.withheld import withheld
from . import mixed_up, scans, values, visits
from .finding import SEVERITIES, Finding, Material, Rule, named

_PRACTICE = "common practice"
# fmt: off
RULES: tuple[Rule, ...] = (
    Rule("slip", "Possible typing error", "stop", _PRACTICE, "Check the display or the sheet, and correct the entry.", values.at_odds),
    Rule("at_odds", "Differs from the client's history", "look", _PRACTICE, "Measure again; leave it if it is confirmed.", values.at_odds),
    Rule("scan_at_odds", "Scan at odds with all devices", "stop", _PRACTICE, "Compare with the laboratory's report, and correct the entry.", scans.scans_at_odds),
    Rule("client_offset", "Client unlike the others", "look", "Grubbs 1950 (leave one out)", "Check the client's code and settings; then give this client an offset of their own.", scans.client_offsets_apart),
    Rule("repeats", "Outlier among repeats", "stop", "Rousseeuw & Croux 1993 (robust scale)", "Exclude the outlier and give the reason.", mixed_up.repeats_off),
    Rule("exchanged", "Two devices exchanged", "look", _PRACTICE, "Check which device each value was read from, and correct the entries.", mixed_up.exchanged_devices),
    Rule("other_client", "Another client's values", "look", _PRACTICE, "Check whose visit this is; correct it under Record › Move.", mixed_up.other_client),
    Rule("step", "Step of one device", "look", _PRACTICE, "Check the device's settings; note the cause under Drift (battery, firmware, moved, set by hand).", mixed_up.level_steps),
    Rule("region_mix", "With and without the head", "stop", _PRACTICE, "Use one region for all scans of a client.", visits.region_mix),
    Rule("conditions", "Conditions not met", "look", _PRACTICE, "Measure again under the protocol, or leave it as it is.", visits.broken_conditions),
    Rule("water", "Unusual body water", "look", _PRACTICE, "Measure again on another morning before anything else.", values.water_out_of_line),
    Rule("mass_balance", "Parts do not add up", "look", "definition", "Check for a misread value, or for a part that the device leaves out.", values.mass_parts),
    Rule("setting_changed", "Setting changed near a scan", "look", _PRACTICE, "Compare each setting separately.", visits.setting_changed),
    Rule("alternating", "Setting goes back and forth", "look", _PRACTICE, "Use one setting; compare each setting separately.", visits.settings_alternate),
    Rule("ahead", "Visit in the future", "stop", _PRACTICE, "Correct the date under Record › Move.", visits.dated_ahead),
    Rule("unlike_scan", "Visit unlike the scan", "look", _PRACTICE, "Take the readings right before the scan, under the same conditions.", visits.unlike_the_scan),
    Rule("folds_bmi", "Skinfolds above BMI 30", "look", _PRACTICE, "Use girths, unless the folds are within the sample of the equation.", visits.folds_on_high_bmi),
    Rule("failures", "Many failed readings", "look", _PRACTICE, "Check contacts, battery and how people stand.", values.failures),
    Rule("client_failures", "Fails with one client", "look", _PRACTICE, "Check contacts, skin and how the person stands.", values.failures_of_clients),
    Rule("sites_order", "Sites in the wrong order", "stop", _PRACTICE, "Check which value belongs to which site.", values.sites_in_order),
    Rule("missing_repeats", "Repeats are missing", "know", _PRACTICE, "Take the planned repeats, or plan fewer.", values.missing_repeats),
    Rule("different_things", "Different quantities", "know", "definition", "Compare only the same quantity.", visits.different_things),
    Rule("assessor", "Assessor not checked", "know", "Perini et al. 2005", "Plan › Assessor check: measure ten people twice.", visits.unchecked_assessors),
)
# fmt: on
RULE = {r.id: r for r in RULES}


@dataclass(frozen=True, eq=False)
class ReviewResult:
    """What was found in a study, worst first, and the study as it was looked at."""

    material: Material
    found: tuple[Finding, ...]

    def about(self, readings_from: int, visits_from: int) -> tuple[Finding, ...]:
        """Findings about readings or visits numbered from these on.

        They belong to a table that is not imported yet.
        """
        return tuple(
            f
            for f in self.found
            if f.visit >= visits_from or max(f.readings, default=0) >= readings_from
        )

    def decided(self, decisions: Iterable[str]) -> tuple[Finding, ...]:
        """The findings that were decided, with those that are not found any more since."""
        here = {f.key: f for f in self.found}
        kept = [(key, here.get(key)) for key in decisions]
        gone = (
            f or (named(key, RULE[rule].severity) if (rule := key.split("|")[0]) in RULE else None)
            for key, f in kept
        )
        return tuple(f for f in gone if f is not None)


@dataclass(frozen=True, slots=True)
class ReviewRequest:
    """All review rules on a whole study.

    Parameters
    ----------
    material : Material
        Columns of all metrics, conditions of visits, checks of assessors and decisions.
    """

    material: Material

    def run(self) -> Generator[float, None, ReviewResult]:
        """Yield progress; return what was found, worst first."""
        found: list[Finding] = []
        tests = list(dict.fromkeys(r.test for r in RULES))  # one test can serve two rules
        for k, test in enumerate(tests, start=1):
            found += test(self.material)
            yield k / len(tests)
        kept = [self._shown(f) for f in values.without_one_repeat(found)]
        return ReviewResult(
            self.material,
            tuple(sorted(kept, key=lambda f: (SEVERITIES.index(f.severity), -f.weight))),
        )

    def _shown(self, f: Finding) -> Finding:
        """A finding without the numbers that may not be shown of its client."""
        client = self.material.snapshot.clients.get(f.client)
        if client is None or not withheld(client, f.metric):
            return f
        return replace(f, note=note("review_withheld", client=client.code))


__all__ = ["RULE", "RULES", "Finding", "Material", "ReviewRequest", "ReviewResult", "Rule"]
