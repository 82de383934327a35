"""Text shown at the bench while measuring."""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass
from html import escape

from ..analysis.entry.entry_check import Doubt
from ..analysis.entry.field_method import MethodLine, Sensitivity
from ..analysis.entry.repeats import Tally
from ..analysis.entry.row_answers import RowAnswer
from ..analysis.people.cautions import Caution
from ..domain.metrics import SYMBOLS, Metric, metric_named, metric_of
from ..domain.protocol import ANY, Condition
from .notes import sentence
from .numbers import count, number, signed
from .offsets import corrected_sentence

_PERSON = {"sex": "sex", "age_years": "age", "height": "height"}
MARK = {
    "applies": "",
    "outside": "outside the population of the equation: ",
    "unfit": "does not apply: ",
    "missing": "needs ",
}


@dataclass(frozen=True, slots=True)
class StatedWords:
    """A value that the user states of a metric."""

    key: str
    label: str
    meaning: str


STATED = (
    StatedWords(
        "margin",
        "Margin",
        "The smallest difference that matters. It is used for equivalence and shown as a band.",
    ),
    StatedWords(
        "reference_sd",
        "SD of one scan",
        "The scan's precision (RMS-SD of repeated scans), used when this study has no repeated"
        " scans.",
    ),
    StatedWords(
        "client_sd",
        "Spread of offsets between clients",
        "SD of a device's offset between people, used only when too few clients were scanned.",
    ),
)


def tally_words(t: Tally, m: Metric) -> str:
    """The value that the repeats give, and what the protocol asks for next."""
    if t.value is None:
        return ""
    text = (
        f"{t.how} {number(t.value, m.decimals)}"
        if t.how != "single"
        else number(t.value, m.decimals)
    )
    asked = "".join(f" · {sentence(n)}" for n in t.notes)
    if not asked and t.how == "last" and t.n > 1:
        asked = f" · of {t.n}; the protocol uses the last one"
    elif not asked and t.how == "median" and t.agree is False:
        asked = (
            f" · the first two differed by {number(t.difference, m.decimals)} {m.difference_unit},"
            f" more than {number(t.tolerance, m.decimals)}; the median is used"
        )
    elif not asked and t.how == "median":
        asked = f" · of {t.n}"
    return text + asked


@dataclass(frozen=True, slots=True)
class RowWords:
    """Words beside a row: tag (plain), result (rich text, escaped), and whether it warns."""

    tag: str
    meaning: str
    warn: bool


def row_words(a: RowAnswer, *, one_instrument: bool) -> RowWords:
    """What a row reports about its readings."""
    m = metric_of(a.plan.metric)
    unit = a.plan.unit or m.symbol
    what = unit if one_instrument else f"{m.label}, {unit}".removesuffix(", ")
    tag = what + (f" · {a.setting}" if a.setting and not one_instrument else "")
    if a.locked is not None and not a.values:
        asked = a.locked.note.code == "safety_open"
        return RowWords(tag, WAITS if asked else LOCKED, warn=not asked)
    if a.unseen:
        return RowWords(tag, f"{len(a.values)} saved, not shown" if a.values else "", warn=False)
    text = escape(tally_words(a.tally, m))
    if a.simulated and text:
        text += " · simulated"
    if a.corrected is not None and a.corrected.value is None:
        text += f" · {escape(corrected_sentence(a.corrected, a.plan.metric))}"
    elif a.corrected is not None:
        text += f" → corrected <b>{escape(corrected_sentence(a.corrected, a.plan.metric))}</b>"
    elif a.uncorrected:
        text += " · not corrected"
    if a.warning is not None:
        text += f" · {escape(sentence(a.warning))}"
    if a.side is not None:
        text += f" · {escape(side_words(a, m))}"
    if a.landmark:
        text += f" · taken at another landmark: {escape(a.landmark)}"
    for c in a.broken:
        text += f" · {escape(f'{a.plan.instrument} requires {wanted_words(c)}')}"
    return RowWords(tag, text, warn=bool(a.tally.notes or a.landmark or a.broken))


def side_words(a: RowAnswer, m: Metric) -> str:
    """How a site differs from the same one on the other side."""
    side = "left" if "right" in (a.plan.setting or "") else "right"
    if a.side is None or round(a.side, m.decimals) == 0:
        return f"same as on the {side} side"
    return (
        f"{number(abs(a.side), m.decimals)} {m.difference_unit} {'more' if a.side > 0 else 'less'}"
        f" than on the {side} side"
    )


def wanted_words(c: Condition) -> str:
    """What a condition wants, in words."""
    if c.wanted == ANY:
        return f"{c.label.lower()}: either"
    return f"{c.label.lower()} {c.wanted} or more" if c.hours else f"{c.label.lower()}: {c.wanted}"


LOCKED, WAITS = "not used: see above", "waits for the answer above"


def ask_safety_words(code: str) -> str:
    """What is asked once of a client before the first impedance reading."""
    return f"Ask {code} first: implanted electronics, or pregnant?"


def unknown_client_words(code: str) -> str:
    """A code that nobody has."""
    return (
        f'No client has the code "{code}". Press Enter again in the client field to add this'
        " client; nothing was saved."
    )


def bench_headline(who: str, kept: int, *, noted: bool, empty: bool, before: str = "") -> str:
    """Words on top of the bench: progress of the visit, next step, day of the visit ``before``."""
    if kept:
        return f"{who}: {count(kept, 'reading')} saved in this visit." + (
            "" if noted else " Conditions not noted yet (F7)."
        )
    if empty:
        return "Add an instrument below, or import readings (Ctrl+I)."
    seen = f" Last visit {before}." if before else " No visit yet."
    return (
        f"{who}: type the first reading.{seen}"
        if who
        else "Choose a client, or type the code of a new one."
    )


def order_words(order: Sequence[str]) -> str:
    """The order of the devices at this visit."""
    return f"Order of this visit: {', '.join(order)}"


def more_rows_words(others: int) -> str:
    """Rows that are not shown."""
    return f"{count(others, 'more row')}: type an instrument's name to show it." if others else ""


NOT_A_DIAGNOSIS = "Not a diagnosis."


def error_words(metric: str, assessor: str, errors: Mapping[str, float]) -> str:
    """The assessor's own error at a site, or that nobody has checked it."""
    m = metric_named(metric)
    if m is None or not assessor:
        return ""
    if metric not in errors:
        return f"{assessor} has not been checked at this site (Plan › Assessor check)."
    return f"{assessor}: technical error at this site {number(errors[metric], 2)} {m.unit}."


def device_words(
    name: str,
    whom: str,
    values: Sequence[tuple[str, str]],
    reason: str,
    *,
    simulated: bool,
    unseen: Container[str] = (),
) -> str:
    """What was taken from a device, for whom: (metric, text) pairs, or the reason of a failure.

    ``unseen``: metrics whose values are not said.
    """
    said = [(m, text) for m, text in values if m not in unseen]
    found = [(metric_named(m), text) for m, text in said[:3]]
    words = ", ".join(f"{m.name} {text}" for m, text in found if m)
    words = words or ("saved, not shown" if values else f"failed ({reason})")
    return f"{whom}, {name}{' (simulated)' if simulated else ''}: {words}."


def strip_words(a: RowAnswer) -> str:
    """The spread of a row beside its usual one; "" where nothing was read."""
    if not a.values:
        return ""
    spread = number(max(a.values) - min(a.values), 1) if len(a.values) > 1 else "–"
    usual = f"usual SD {number(a.usual, 2)}" if a.usual else "usual SD not known yet"
    return f"Spread {spread}; {usual}"


def last_words(last: float | None, metric: str) -> str:
    """The value at the visit before, faint beside the cells."""
    m = metric_named(metric)
    return "" if last is None or m is None else f" · last {number(last, m.decimals)}"


def doubt_words(d: Doubt, *, unseen: bool = False) -> str:
    """What is odd about a typed value, and the keys that settle it."""
    if unseen:
        return (
            "This value differs from earlier readings. K: keep it as read. Or type it again;"
            " nothing is saved yet."
        )
    take = f"C: change to {d.instead}. " if d.instead else ""
    keep = "" if d.note.code == "value_impossible" else "K: keep it as read. "
    return f"{sentence(d.note)}. {take}{keep}Or type it again; nothing is saved yet."


def refusal_words(error: Exception) -> str:
    """Why a value was not taken, and what happens to it."""
    said = str(error).removesuffix("; nothing was changed").removesuffix(". Nothing was changed")
    return f"{said[:1].upper()}{said[1:]}. What you typed stays in the cell; nothing was saved."


def input_words(key: str) -> str:
    """An input of an equation in words: "triceps skinfold"."""
    m = metric_named(key)
    return _PERSON.get(key) or (m.label[0].lower() + m.label[1:] if m else key)


def method_words(x: MethodLine, reading_sd: float | None = None) -> tuple[str, str]:
    """The number of an equation with its unit, and the notes on it.

    ``reading_sd`` is the part of its error that the assessor's reading makes.
    """
    m = metric_of(x.metric)
    if x.state == "missing":
        return "–", MARK["missing"] + ", ".join(input_words(k) for k in x.missing)
    if x.value is None or x.state == "unfit":
        return "–", MARK["unfit"] + "; ".join(x.reasons)
    unit = "" if m.unit == "1" else f" {m.symbol}"
    if x.metric == "endomorphy":
        rest = dict(x.others)
        value = "–".join(number(v, 1) for v in (x.value, rest["mesomorphy"], rest["ectomorphy"]))
    else:
        value = f"{number(x.value, m.decimals)}{unit}"
    said = (MARK["outside"] if x.state == "outside" else "") + "; ".join(x.reasons)
    memory = "from memory" if x.certainty == "from memory" else ""
    error = (
        f"± {number(1.96 * reading_sd, max(m.decimals, 1))} from reading error alone (95 %)"
        if reading_sd is not None
        else ""
    )
    published = "" if x.see.startswith("not a prediction") else f"standard error {x.see}"
    caution = sentence(x.caution) if x.caution is not None else ""
    return value, " · ".join(filter(None, (caution, said, error, published, memory)))


def sensitivity_words(s: Sensitivity, metric: str) -> tuple[str, str]:
    """What a step of one input does: "1 mm of triceps skinfold", "+0.11 %"."""
    m = metric_of(metric)
    unit = "" if m.unit == "1" else f" {m.difference_unit}"
    return (
        f"{s.step:g} {SYMBOLS.get(s.unit, s.unit)} more of {input_words(s.input)}",
        f"{signed(s.change, max(m.decimals + 1, 2))}{unit}",
    )


def condition_words(c: Condition) -> str:
    """What a broken condition means."""
    return f"{c.label}: {c.breach}"


def caution_words(c: Caution) -> str:
    """A caution as a sentence."""
    return sentence(c.note)
