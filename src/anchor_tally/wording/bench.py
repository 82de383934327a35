"""What is said at the bench while measuring."""

from __future__ import annotations

from ..analysis.cautions import Caution
from ..analysis.field_method import MethodLine, Sensitivity
from ..analysis.tally import Tally
from ..domain.metrics import METRICS, Metric, metric_named
from ..domain.protocol import Condition
from .numbers import number, signed
from .sentences import sentence

_PERSON = {"sex": "sex", "age_years": "age", "height": "height"}
MARK = {"applies": "", "outside": "outside its population: ", "unfit": "does not apply: ", "missing": "needs "}


def tally_words(t: Tally, m: Metric) -> str:
    """The value that the repeats give, and what the protocol asks for next."""
    if t.value is None:
        return ""
    text = f"{t.how} {number(t.value, m.decimals)}" if t.how != "single" else number(t.value, m.decimals)
    asked = "".join(f" · {sentence(n)}" for n in t.notes)
    if not asked and t.agree is False and t.n >= 3:
        asked = f" · the first two differed by {number(t.difference, m.decimals)} {m.difference_unit}"
    return text + asked


def input_words(key: str) -> str:
    """An input of an equation in words: "triceps skinfold"."""
    m = metric_named(key)
    return _PERSON.get(key) or (m.label[0].lower() + m.label[1:] if m else key)


def method_words(x: MethodLine, reading_sd: float | None = None) -> tuple[str, str]:
    """The number of an equation with its unit, and what is to be said about it.

    ``reading_sd`` is the part of its error that the assessor's reading makes.
    """
    m = METRICS[x.metric]
    if x.state == "missing":
        return "–", MARK["missing"] + ", ".join(input_words(k) for k in x.missing)
    if x.value is None or x.state == "unfit":
        return "–", MARK["unfit"] + "; ".join(x.reasons)
    unit = "" if m.unit == "1" else f" {'%' if m.unit == 'percent' else m.unit}"
    if x.metric == "endomorphy":
        rest = dict(x.others)
        value = "–".join(number(v, 1) for v in (x.value, rest["mesomorphy"], rest["ectomorphy"]))
    else:
        value = f"{number(x.value, m.decimals)}{unit}"
    said = (MARK["outside"] if x.state == "outside" else "") + "; ".join(x.reasons)
    memory = "from memory" if x.certainty == "from memory" else ""
    error = f"± {number(1.96 * reading_sd, max(m.decimals, 1))} from reading alone (95 %)" if reading_sd is not None else ""
    published = "" if x.see.startswith("not a prediction") else f"standard error {x.see}"
    return value, " · ".join(filter(None, (said, error, memory, published)))


def sensitivity_words(s: Sensitivity, metric: str) -> tuple[str, str]:
    """What a step of one input does: "1 mm of triceps skinfold", "+0.11 %"."""
    m = METRICS[metric]
    unit = "" if m.unit == "1" else f" {m.difference_unit}"
    return f"{s.step:g} {s.unit} more of {input_words(s.input)}", f"{signed(s.change, max(m.decimals + 1, 2))}{unit}"


def condition_words(c: Condition) -> str:
    """What a broken condition means."""
    return f"{c.label}: {c.breach}"


def caution_words(c: Caution) -> str:
    """A caution as a sentence."""
    return sentence(c.note)
