"""Every sentence of the program in plain words: notes, headlines, labels and terms, with typical and extreme facts."""

import ast
import re
from pathlib import Path
from string import Formatter

import pytest

import anchor_tally
from anchor_tally.analysis.agreement.change import ChangeRequest
from anchor_tally.analysis.agreement.hydration import HydrationRequest
from anchor_tally.analysis.agreement.redundancy import RedundancyRequest
from anchor_tally.analysis.agreement.repeatability import RepeatabilityRequest
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.which_device import JOBS, WhichDeviceRequest
from anchor_tally.analysis.time.drift import DriftRequest
from anchor_tally.app.actions import ACTIONS, STAGES
from anchor_tally.app.views import VIEWS
from anchor_tally.domain.metrics import METRICS
from anchor_tally.domain.steps import finish
from anchor_tally.stats.estimate import note
from anchor_tally.wording import drift, offsets, views, which_device
from anchor_tally.wording.glossary import GLOSSARY, meaning_of
from anchor_tally.wording.notes import NOTES, sentence
from anchor_tally.wording.sentences import headline
from anchor_tally.wording.statistics import EXPLANATIONS, STATISTICS

# words that plain English or the field's terms replace
NOT = re.compile(
    r"\b(sisters?|tall(?:y|ies)|anchors?|lens|rungs?|lanes?|strays?|accuse\w*|told twice|no say|"
    r"carried over|face|Closeness|Consistency|Look-alikes|Score card|as wanted|steady|"
    r"nothing can be said|cannot be said|want[s]? a look|beside it|move as one)\b",
    re.IGNORECASE,
)
ODD = re.compile(
    r"\(s\)|\(\s*\)|\(\(|\)\)|[a-z]+_[a-z]+|(?<![\d.])([−+]?[\d.]+) to \1(?![\d.])|(?:up|down|by) 0\.0\b| 1\b(?= *$)|  |\{|\}"
)
TEXTS = {
    "client": "Merle", "clients": ("Merle", "Auk"), "metric": "total muscle", "words": "fasted",
    "names": ("Birch",), "settings": ("standard", "athlete"), "sites": ("navel", "rib"),
    "source": "Siri 1961", "unit": "pp", "at": "2026-05-25T06:30", "until": "2026-12-07",
    "last": "2026-01-10", "value": "39.2", "slip": "swapped digits", "who": "R. K.", "name": "Alder",
    "comparator": "Consensus", "instrument": "Alder", "used": "athlete", "calibrated": "standard",
    "method": "BMI equation", "first": "standard", "then": "athlete", "price": "149 EUR",
}  # fmt: skip
NUMBERS = (0, 1, 2, 3.0, 0.04, -2.6, 12345.6)


def named(template):
    """The facts that a sentence asks for, each with its format."""
    return [(f, spec or "") for _, f, spec, _ in Formatter().parse(template) if f]


def said_of(code, number):
    """A note with every fact that its sentence asks for, and this number in the others."""
    facts = {"decimals": 1}
    for name, spec in named(NOTES[code]):
        plain = name in TEXTS and not re.search(r"[.\d]\d*[fg]|\|\w", spec)
        whole = not re.search(r"[fg]", spec)
        if name == "others":
            facts[name] = (19.4, 19.5)
        elif plain and not (name == "clients" and "|" in spec):
            facts[name] = TEXTS[name]
        else:
            # the ends of an interval differ, and a size that is told is not zero
            shift = {"high": 1.7, "slope": 0.6, "size": 0.7, "rate": 0.8}.get(name, 0.0)
            facts[name] = abs(int(number)) if whole else float(number) + shift
    for name, _ in named(NOTES[code]):
        facts.setdefault(name, number)
    return sentence(note(code, **facts))


def plain(text, most):
    """Assert that a text is plain, and that none of its sentences is too long."""
    assert not NOT.search(text), (NOT.search(text), text)
    assert not ODD.search(text), (ODD.search(text), text)
    for part in re.split(r"(?<=[.?!;:]) |\n", text):
        words = [w for w in part.split() if re.search(r"[A-Za-z]", w)]
        assert len(words) <= most, (len(words), part)


@pytest.mark.parametrize("code", NOTES)
def test_notes_are_plain(code):
    """Each note with none, one, many, small, negative and large numbers: whole, short and in plain words."""
    for number in NUMBERS:
        plain(said_of(code, number), 25)


def test_every_note_that_is_made_has_its_sentence():
    """Codes of notes in the source and sentences are the same set."""
    made = set()
    for path in Path(anchor_tally.__file__).parent.rglob("*.py"):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        for call in ast.walk(tree):
            if isinstance(call, ast.Call) and getattr(call.func, "id", "") in ("note", "Note"):
                constants = (c for c in ast.walk(call.args[0]) if isinstance(c, ast.Constant))
                made |= {c.value for c in constants if isinstance(c.value, str)}
    assert made <= set(NOTES)
    assert set(NOTES) - made <= {
        # made from a variable: kinds of doubt, findings, and cautions of a card
        *(k for k in NOTES if k.startswith(("value_", "review_"))),
        *("provisional_method", "method_error_unknown", "eating_disorder", "low_energy"),
        *("cutting_weight", "ill"),
    }


def test_headlines_of_the_demo_are_plain(demo):
    """Every headline and sentence of advice on the demo study, in at most 20 and 25 words a sentence."""
    snapshot, lens = demo.snapshot(), demo.lens
    wide = finish(demo.wide_snapshot_steps(("body_fat_percent", "total_body_water_percent")))
    offered = finish(CalibrateRequest(snapshot, lens).run())
    heads = [headline(r.comparison) for r in offered]
    heads += [offsets.offset_headline(r) for r in offered]
    heads += [
        views.repeatability_headline(r) for r in finish(RepeatabilityRequest(snapshot, lens).run())
    ]
    heads += [views.change_headline(r) for r in finish(ChangeRequest(snapshot, lens).run())]
    heads += [views.hydration_headline(r) for r in finish(HydrationRequest(wide, lens).run())]
    heads += [views.redundancy_headline(finish(RedundancyRequest(wide, lens).run()))]
    drifts = finish(DriftRequest(snapshot, lens).run())
    heads += [drift.drift_headline(r) for r in drifts]
    which = finish(WhichDeviceRequest(snapshot, lens).run())
    heads += [which_device.which_device_headline(which)]
    for text in heads:
        plain(text, 20)
        assert "clients (now" not in text  # the demo has enough for every headline
    rest = [offsets.calibration_sentence(r) for r in offered]
    rest += [f"{offsets.adopted_for(r)} {offsets.range_sentence(r)}".strip() for r in offered]
    rest += [drift.drift_advice(r) for r in drifts] + [drift.side_words(r) for r in drifts]
    rest += [which_device.job_words(which, job) for job in JOBS]
    for text in rest:
        plain(text, 25)


def test_labels_and_terms_are_plain():
    """Labels of stages, views, actions and statistics, explanations, and at most 40 terms of two sentences."""
    labels = [x.label for x in (*STAGES, *VIEWS)] + [
        s.label.format(unit="pp", scan="scan") for s in STATISTICS
    ]
    for text in labels:
        plain(text.strip(), 8)
    for text in [a.words for a in ACTIONS] + [v.purpose for v in VIEWS]:
        plain(text.replace("Anchor Tally", "the program"), 14)
    for e in EXPLANATIONS.values():
        plain(e.meaning, 25)
    assert len(GLOSSARY) <= 40
    for term in GLOSSARY:
        assert len(re.findall(r"[.?!](?: |$)", term.meaning)) <= 2, term.name
    assert meaning_of("Upper limit (pp)").startswith("The range that is expected")
    assert "unit of a difference" in meaning_of("Change (pp)")
    assert [m.label for m in METRICS.values() if m.symbol in ("percent", "1")] == []
