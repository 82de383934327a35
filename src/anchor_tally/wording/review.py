"""Sentences of Review: number of findings, one finding, what to do, effect of exclusions."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from ..analysis.agreement.exclusions import Sensitivity
from ..analysis.review import RULE, Finding, Material
from ..domain.instants import zone_named
from ..domain.metrics import metric_named
from .notes import sentence
from .numbers import ci, count, day_words, number, signed

MARK = {"stop": "■ Do not use", "look": "▲ Check", "know": "● Note"}


def review_headline(found: Sequence[Finding], decided: int) -> str:
    """How many findings there are, and how many must be resolved."""
    done = f" {count(decided, 'finding')} decided." if decided else ""
    if not found:
        return f"No rule found a problem.{done}"
    parts = []
    for severity, words in (
        ("stop", "to resolve before use"),
        ("look", "to check"),
        ("know", "to note"),
    ):
        n = sum(f.severity == severity for f in found)
        if n:
            parts.append(f"{n} {words}")
    if len(parts) == 1:
        return f"{count(len(found), 'finding')} {parts[0].split(' ', 1)[1]}.{done}"
    return f"{count(len(found), 'finding')}: {', '.join(parts)}.{done}"


def subject(f: Finding, m: Material) -> str:
    """Who, with what."""
    parts = []
    if f.client in m.snapshot.clients:
        parts.append(m.snapshot.clients[f.client].code)
    if f.instrument in m.snapshot.instruments:
        parts.append(m.snapshot.instruments[f.instrument].name)
    metric = metric_named(f.metric) if f.metric else None
    if metric is not None:
        parts.append(metric.name)
    return ", ".join(parts) or "the study"


def moment_of(f: Finding, m: Material) -> str:
    """When, for a finding about a visit."""
    at = (m.snapshot.visits.visit == f.visit).nonzero()[0]
    if not f.visit or not at.size:
        return ""
    instant = int(m.snapshot.visits.instant[at[0]])
    at = datetime.fromtimestamp(instant, zone_named(m.snapshot.catalogue.zone))
    return day_words(at.date().isoformat())


def finding_row(f: Finding, m: Material) -> tuple[str, str, str, str, str]:
    """A finding as a line: its sentence, severity, rule, subject and date."""
    return sentence(f.note), MARK[f.severity], RULE[f.rule].name, subject(f, m), moment_of(f, m)


def advice_words(f: Finding, decided: tuple[str, str] | None = None) -> str:
    """The finding in full, what to do first or what was decided, and where the rule comes from."""
    rule = RULE[f.rule]
    done = {"keep": "Left as it is", "exclude": "Excluded", "again": "To be measured again"}
    then = f"{done.get(decided[0], decided[0])}: {decided[1]}." if decided else rule.advice
    return f"{sentence(f.note)}\n{then} (Rule: {rule.name.lower()}; {rule.source}.)"


def sensitivity_words(found: Sequence[Sensitivity]) -> str:
    """What the excluded readings move."""
    said = []
    for s in found:
        a, b = s.without.bias, s.with_them.bias
        m = metric_named(s.without.pairs.metric)
        unit, k = (m.difference_unit, m.decimals) if m is not None else ("", 1)
        bias = "no pairs"
        if a is not None and b is not None:
            first, then = (
                f"{signed(e.value, k)} {unit}{ci(e.interval, k, sign=True)}" for e in (a, b)
            )
            bias = f"bias {first} without, {then} with"
        la, lb = s.without.limits, s.with_them.limits
        wide = (
            f"; limits {number(la.upper - la.lower, k)} and {number(lb.upper - lb.lower, k)} {unit}"
            " wide"
            if la and lb
            else ""
        )
        said.append(
            f"{s.without.pairs.instrument.name}: {bias} the"
            f" {count(s.excluded, 'excluded reading')}{wide}"
        )
    return ". ".join(said) + ("." if said else "")
