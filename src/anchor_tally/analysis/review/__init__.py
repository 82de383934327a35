"""Review rules: one registry, each rule a test over the whole study."""

from __future__ import annotations

from collections.abc import Generator, Iterable
from dataclasses import dataclass

from . import values, visits
from .finding import SEVERITIES, Finding, Material, Rule, named

_PRACTICE = "common practice"
# fmt: off
RULES: tuple[Rule, ...] = (
    Rule("slip", "Slip of the hand", "stop", _PRACTICE, "Look at the display or the sheet again, and correct the entry.", values.at_odds),
    Rule("at_odds", "At odds with the client's history", "look", _PRACTICE, "Measure again; keep it when it was so.", values.at_odds),
    Rule("repeats", "Repeats too far apart", "stop", "Rousseeuw & Croux 1993 (robust scale)", "Exclude the one that is off, with the reason.", values.repeats_apart),
    Rule("region_mix", "With and without the head", "stop", _PRACTICE, "Use one region for all scans of a client.", visits.region_mix),
    Rule("conditions", "Conditions not kept", "look", _PRACTICE, "Measure again under the protocol; or keep it and know.", visits.broken_conditions),
    Rule("water", "Water out of line", "look", _PRACTICE, "Measure again on another morning before anything else.", values.water_out_of_line),
    Rule("mass_balance", "Parts do not add up", "look", "definition", "Look whether a value was misread, or what the device leaves out.", values.mass_parts),
    Rule("setting_changed", "Setting changed near a scan", "look", _PRACTICE, "Compare each setting on its own.", visits.setting_changed),
    Rule("unlike_scan", "Tally unlike the scan", "look", _PRACTICE, "Take the tally right before the scan, under the same conditions.", visits.unlike_the_scan),
    Rule("folds_bmi", "Skinfolds above BMI 30", "look", _PRACTICE, "Use girths; skinfold equations are not for this build.", visits.folds_on_high_bmi),
    Rule("failures", "Many failed readings", "look", _PRACTICE, "Look at contacts, battery and how people stand.", values.failures),
    Rule("missing_repeats", "Repeats are missing", "know", _PRACTICE, "Take the planned repeats, or plan fewer.", values.missing_repeats),
    Rule("different_things", "Not the same thing", "know", "definition", "Compare only what means the same.", visits.different_things),
    Rule("assessor", "Assessor not checked", "know", "Perini et al. 2005", "Plan, Assessor check: ten people twice.", visits.unchecked_assessors),
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
        apart = {i for f in found if f.rule == "repeats" for i in f.readings}
        kept = [
            f
            for f in found
            if f.rule not in ("at_odds", "slip")
            or not apart & set(f.readings)
            or len(f.readings) == 1
        ]
        return ReviewResult(
            self.material,
            tuple(sorted(kept, key=lambda f: (SEVERITIES.index(f.severity), -f.weight))),
        )


__all__ = ["RULE", "RULES", "Finding", "Material", "ReviewRequest", "ReviewResult", "Rule"]
