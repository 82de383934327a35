"""The study report: what was asked, measured and found, as a document.

Every number comes from a result; nothing is computed here.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from ..analysis.agreement.agreement import CompareResult
from ..analysis.agreement.change import ChangeResult
from ..analysis.agreement.hydration import HydrationResult
from ..analysis.agreement.redundancy import RedundancyResult
from ..analysis.agreement.repeatability import RepeatabilityResult
from ..analysis.offsets.calibrate import CalibrateResult
from ..analysis.offsets.which_device import WhichDeviceResult
from ..analysis.people.withheld import withheld
from ..analysis.review.finding import Finding
from ..analysis.time.drift import DriftResult
from ..domain.catalogue import Catalogue
from ..domain.lens import Lens
from ..domain.metrics import metric_of
from ..figures import difference, forest, ladder
from ..figures import drift as drift_figure
from ..figures import views as view_figures
from ..figures.paper import DOUBLE_MM, PAPER, PaperFigure
from ..figures.style import Mark, marks_of
from ..wording import offsets, views
from ..wording import which_device as which_words
from ..wording.drift import drift_advice, drift_headline, drift_lines
from ..wording.notes import sentence
from ..wording.numbers import MISSING, count, day_words, number, signed, span
from ..wording.sentences import headline, pairs_sentence
from ..wording.statistics import EXPLANATIONS, Line, rows
from .checklists import AGREEMENT, RELIABILITY, TITLE, Item
from .document import Block, Document, FigureBlock, Paragraph, Section, TableBlock

LIMITS_OF_USE = (
    "Nothing in this report is a diagnosis. Local rules and licensed practice take precedence.",
    "Differences include the error of the reference itself.",
    "Limits of agreement describe single readings of new clients who are like those measured.",
    "A high correlation is not agreement; it is reported for completeness only.",
)


@dataclass(frozen=True, slots=True)
class Flow:
    """Readings of one instrument: taken, failed, excluded; pairs, and why the rest has none."""

    instrument: str
    taken: int
    failed: int
    excluded: int
    pairs: int
    left_out: tuple[tuple[str, int], ...]


@dataclass(frozen=True, slots=True)
class Findings:
    """Everything that the report is made of; each result answers the same filters."""

    catalogue: Catalogue
    lens: Lens
    flows: tuple[Flow, ...]
    compared: tuple[CompareResult, ...]
    repeatability: tuple[RepeatabilityResult, ...]
    change: tuple[ChangeResult, ...]
    hydration: tuple[HydrationResult, ...]
    redundancy: tuple[RedundancyResult, ...]
    which: tuple[WhichDeviceResult, ...]
    drift: tuple[DriftResult, ...]
    calibrated: tuple[CalibrateResult, ...]
    review: tuple[Finding, ...]
    first_day: str
    last_day: str
    digest: str
    version: str
    made_on: str
    commands: tuple[str, ...]
    people: str = ""


@dataclass(frozen=True, slots=True)
class Part:
    """A section that the report can have: key, title, the questions that it needs, its making."""

    key: str
    title: str
    needs: tuple[str, ...]
    make: Callable[[Findings], Section]


def study_report(f: Findings, paper: str = "A4", wanted: Collection[str] | None = None) -> Document:
    """Make the document.

    Parameters
    ----------
    f : Findings
        Results, and where they come from.
    paper : str
        A4 or Letter.
    wanted : collection of str, optional
        Keys of the sections to have; by default all.

    Returns
    -------
    Document
        Codes of clients only; no title of the study, no names, no free text.
    """
    m = metric_of(f.lens.metric)
    reference = f.compared[0].pairs.reference.name if f.compared else MISSING
    under = (
        f"{m.label} against {reference}" if f.compared else f"{m.label}, no scan in the study",
        (
            f"{count(len(f.catalogue.clients), 'client')}, {day_words(f.first_day)} to"
            f" {day_words(f.last_day)}"
            if f.first_day
            else "no readings"
        ),
        f"Made on {day_words(f.made_on)} with version {f.version}",
    )
    alone = wanted is not None and set(wanted) == {CHECKLIST}  # it is about the whole report
    sections = [p.make(f) for p in PARTS if wanted is None or alone or p.key in wanted]
    made = tuple(s for s in sections if s.blocks)
    there = () if alone else made
    if wanted is None or CHECKLIST in wanted:
        there = (*there, checklist(REPORT_TITLE, made))
    return Document(REPORT_TITLE, under, there, paper)


def _question(f: Findings) -> Section:
    m, lens = metric_of(f.lens.metric), f.lens
    reference = f.compared[0].pairs.reference.name if f.compared else MISSING
    margin = f.catalogue.margin(m)
    blocks: list[Block] = [
        Paragraph(
            f"How well do the devices agree with {reference} in {m.name}, do they follow"
            " change, and what can be subtracted from them?",
            "lead",
        ),
        TableBlock(
            "Question and filters",
            ("What", "Choice"),
            (
                ("Metric", f"{m.label} ({m.symbol or m.unit}): {m.definition}"),
                ("Reference", reference),
                ("Setting", lens.setting or "all settings together"),
                (
                    "Pairing window",
                    f"{lens.window_hours:g} h, "
                    + (
                        "mean of all readings in it" if lens.around else "nearest visit to the scan"
                    ),
                ),
                ("Margin", MISSING if margin is None else f"±{number(margin)} {m.difference_unit}"),
                ("Clients", "all" if lens.clients is None else f"{len(lens.clients)} chosen"),
            ),
            numeric_from=9,
        ),
    ]
    asked = [(i.condition.question, i.condition.wanted) for i in f.catalogue.protocol if i.asked]
    if asked:
        heads = ("Question", "Wanted")
        blocks.append(TableBlock("Conditions asked at each visit", heads, tuple(asked), 9))
    return Section("question", "Question and conditions", tuple(blocks))


def _flow(f: Findings) -> Section:
    clients = list(f.catalogue.clients.values())
    sexes = {s: sum(c.sex == s for c in clients) for s in ("female", "male", "")}
    who = ", ".join(f"{n} {s or 'not stated'}" for s, n in sexes.items() if n)
    blocks: list[Block] = [
        Paragraph(f"{count(len(clients), 'client')}: {who}." if clients else "No clients."),
        *([Paragraph(f.people)] if f.people else []),
        TableBlock("Devices and methods", ("Name", "What it is"), _devices(f), 9),
        TableBlock(
            "From readings to pairs",
            ("Instrument", "Readings", "Failed", "Excluded", "Pairs"),
            tuple(
                (x.instrument, f"{x.taken}", f"{x.failed}", f"{x.excluded}", f"{x.pairs}")
                for x in f.flows
            ),
        ),
    ]
    for x in f.flows:
        if x.left_out:
            reasons = "; ".join(f"{n} × {why}" for why, n in x.left_out)
            blocks.append(Paragraph(f"{x.instrument}, not paired: {reasons}.", "note"))
    if f.review:
        blocks.append(
            Paragraph(
                f"The review has {count(len(f.review), 'finding')} to resolve or check.", "note"
            )
        )
    return Section("flow", "Clients, devices and readings", tuple(blocks))


def _agreement(f: Findings) -> Section:
    if not f.compared:
        return Section("agreement", "Agreement", ())
    items = {i.id: i for i in f.catalogue.instruments.values()}
    mark_of = marks_of(items.values(), PAPER)
    marks = tuple(mark_of(r.pairs.instrument) for r in f.compared)
    m, shown = metric_of(f.lens.metric), ladder.info(f.compared)
    blocks: list[Block] = [
        FigureBlock(
            f"Differences from {f.compared[0].pairs.reference.name}: bias with its 95 % confidence"
            " interval (thick), limits of agreement (thin), one tick a client; shaded: the margin.",
            "; ".join(headline(r) for r in f.compared),
            PaperFigure(
                partial(_draw_ladder, shown, marks),
                "ladder",
                shown,
                height=14 + 9.0 * len(f.compared),
                margins=(52.0, 4.0, 14.0, 3.0),
            ),
        ),
        TableBlock(
            f"Bias and limits of agreement ({m.difference_unit})",
            (
                "Instrument",
                "Pairs",
                "Bias",
                "95 % CI",
                "Lower limit",
                "95 % CI",
                "Upper limit",
                "95 % CI",
            ),
            tuple(_limits_row(r) for r in f.compared),
        ),
    ]
    for k, r in enumerate(f.compared):
        blocks += _one_device(r, marks[k])
        blocks += _range_of(f, r)
    return Section("agreement", "Agreement", tuple(blocks))


def _range_of(f: Findings, r: CompareResult) -> list[Block]:
    """Over which values of the reference the pairs reach, of clients whose values may be shown."""
    clients, m = f.catalogue.clients, metric_of(r.pairs.metric)
    shown = [not withheld(clients[k], m.id) for k in r.pairs.client.tolist()]
    x = r.pairs.x[shown]
    if not x.size:
        return []
    low, high = (number(float(v), m.decimals) for v in (x.min(), x.max()))
    return [Paragraph(f"Reference values from {low} to {high} {m.symbol}.".replace(" .", "."))]


def _devices(f: Findings) -> tuple[tuple[str, str], ...]:
    """Each instrument of the report, described."""
    items = {i.name: i for i in f.catalogue.instruments.values()}
    named = [x.instrument for x in f.flows]
    named += [r.pairs.reference.name for r in f.compared[:1]]
    layouts = {"none": "scale without electrodes", "": "electrodes not stated"}
    out = []
    for name in dict.fromkeys(named):
        i = items.get(name)
        if i is None or i.equation:
            what = "published equation"
        elif i.kind == "device":
            what = layouts.get(i.electrodes, f"impedance device, electrodes: {i.electrodes}")
        else:
            what = i.kind
        out.append((name, what))
    return tuple(out)


def _limits_row(r: CompareResult) -> tuple[str, ...]:
    k, limits = metric_of(r.pairs.metric).decimals, r.limits
    return (
        r.pairs.instrument.name,
        f"{r.pairs.n}",
        signed(r.bias.value if r.bias is not None else None, k),
        span(r.bias.interval if r.bias is not None else None, k, sign=True),
        signed(limits.lower if limits is not None else None, k),
        span(limits.lower_interval if limits is not None else None, k, sign=True),
        signed(limits.upper if limits is not None else None, k),
        span(limits.upper_interval if limits is not None else None, k, sign=True),
    )


def _one_device(r: CompareResult, mark: Mark) -> list[Block]:
    name = r.pairs.instrument.name
    blocks: list[Block] = [Paragraph(headline(r), "lead"), Paragraph(pairs_sentence(r))]
    if r.pairs.n:
        what = difference.info(r)
        blocks.append(
            FigureBlock(
                f"{name}: difference against the mean of device and reference.",
                headline(r),
                PaperFigure(
                    partial(_draw_difference, what, mark),
                    f"difference-{name}",
                    what,
                    height=70,
                    margins=(16.0, 34.0, 14.0, 3.0),
                ),
            )
        )
    lines = [x for _, x in rows(r, all_of_them=True) if x.value != MISSING]  # the rest has notes
    blocks.append(_table(f"{name}: all statistics", lines))
    blocks += [Paragraph(sentence(n), "note") for n in r.notes]
    return blocks


def _table(caption: str, lines: Iterable[Line]) -> TableBlock:
    return TableBlock(
        caption,
        ("Figure", "Value", "95 % interval"),
        tuple((x.name.strip(), x.value, x.interval) for x in lines),
    )


def _lines(
    key: str,
    title: str,
    results: Sequence[Any],
    head: Callable[[Any], str],
    lines: Callable[[Any], Sequence[Line]],
    name: Callable[[Any], str],
) -> Section:
    """One sentence, one table and the notes of each result."""
    blocks: list[Block] = []
    for r in results:
        blocks.append(Paragraph(head(r), "lead"))
        found = lines(r)
        if found:
            blocks.append(_table(f"{name(r)}: {title.lower()}", found))
        blocks += [Paragraph(sentence(n), "note") for n in r.notes]
    return Section(key, title, tuple(blocks))


def _change(f: Findings) -> Section:
    section = _lines(
        "change",
        "Change",
        f.change,
        views.change_headline,
        views.change_lines,
        lambda r: r.instrument.name,
    )
    mark_of = marks_of(f.catalogue.instruments.values(), PAPER)
    figures = [
        FigureBlock(
            f"{r.instrument.name}: change of the device against change of the scan; framed: noise.",
            views.change_headline(r),
            PaperFigure(
                partial(_draw_change, view_figures.quadrants(r), mark_of(r.instrument)),
                f"change-{r.instrument.name}",
                view_figures.quadrants(r),
                width=DOUBLE_MM / 2,
                height=70,
                margins=(16.0, 4.0, 14.0, 3.0),
            ),
        )
        for r in f.change
        if r.dx.size
    ]
    return Section("change", "Change", (*section.blocks, *figures))


def _draw_ladder(what: ladder.LadderInfo, marks: tuple[Mark, ...], axes: Any, family: str) -> None:
    ladder.draw(axes, what, marks, -1, PAPER, family)


def _draw_difference(what: difference.DifferenceInfo, mark: Mark, axes: Any, family: str) -> None:
    difference.draw(axes, what, mark, PAPER, family)


def _draw_change(what: view_figures.QuadrantInfo, mark: Mark, axes: Any, family: str) -> None:
    view_figures.draw_quadrants(axes, what, mark, PAPER, family)


def _draw_drift(what: drift_figure.DriftInfo, mark: Mark, axes: Any, family: str) -> None:
    drift_figure.draw(axes, what, mark, PAPER, family, None, None)


def _draw_forest(what: forest.ForestInfo, mark: Mark, axes: Any, family: str) -> None:
    forest.draw(axes, what, mark, -1, PAPER, family)


def _similar(f: Findings) -> Section:
    blocks: list[Block] = []
    for r in f.redundancy:
        blocks.append(Paragraph(views.redundancy_headline(r), "lead"))
        lines = views.redundancy_lines(r)
        if lines:
            blocks.append(_table("Similar devices", lines))
    return Section("similar", "Similar devices", tuple(blocks))


def _drift(f: Findings) -> Section:
    blocks: list[Block] = []
    mark_of = marks_of(f.catalogue.instruments.values(), PAPER)
    for r in f.drift:
        blocks += [Paragraph(drift_headline(r), "lead"), Paragraph(drift_advice(r))]
        if r.slope is not None:
            what = drift_figure.info(r, f.catalogue.zone)
            blocks.append(
                FigureBlock(
                    f"{r.instrument.name}: difference from the scan through time.",
                    drift_headline(r),
                    PaperFigure(
                        partial(_draw_drift, what, mark_of(r.instrument)),
                        f"drift-{r.instrument.name}",
                        what,
                        height=62,
                        margins=(16.0, 6.0, 12.0, 3.0),
                    ),
                )
            )
        blocks.append(_table(f"{r.instrument.name}: drift", drift_lines(r)))
    return Section("drift", "Drift", tuple(blocks))


def _calibration(f: Findings) -> Section:
    blocks: list[Block] = []
    codes = {k: c.code for k, c in f.catalogue.clients.items()}
    mark_of = marks_of(f.catalogue.instruments.values(), PAPER)
    for r in f.calibrated:
        name = r.comparison.pairs.instrument.name
        blocks.append(Paragraph(offsets.offset_headline(r), "lead"))
        words = (
            offsets.calibration_sentence(r),
            offsets.error_sentence(r),
            offsets.range_sentence(r),
        )
        blocks += [Paragraph(w) for w in words if w]
        if r.clients:
            what = forest.info(r, codes, len(r.clients) + 1)
            blocks.append(
                FigureBlock(
                    f"{name}: offset of each client with its 95 % interval; band: the pooled one.",
                    offsets.offset_headline(r),
                    PaperFigure(
                        partial(_draw_forest, what, mark_of(r.comparison.pairs.instrument)),
                        f"offsets-{name}",
                        what,
                        height=18 + 4.6 * (len(what.trees) + 1),
                        margins=(26.0, 4.0, 13.0, 3.0),
                    ),
                )
            )
        blocks += [Paragraph(sentence(n), "note") for n in r.notes]
    return Section("calibration", "Calibration", tuple(blocks))


def _which(f: Findings) -> Section:
    blocks: list[Block] = []
    for r in f.which:
        blocks.append(Paragraph(which_words.which_device_headline(r), "lead"))
        found = which_words.which_device_lines(r)
        if found:
            wide = max(len(row) for row in found)
            heads = tuple(which_words.HEADS[:wide])
            blocks.append(TableBlock("Which device?", heads, tuple(tuple(row) for row in found)))
    return Section("which", "Which device?", tuple(blocks))


def _limitations(f: Findings) -> Section:
    few = [r for r in f.compared if r.pairs.clients < 8]
    said = list(LIMITS_OF_USE)
    if few:
        said.append("Fewer than 8 clients: rely on the intervals, not on the estimates.")
    if not f.compared:
        said.append("No reference has readings of this metric, so agreement cannot be told.")
    elif f.compared[0].pairs.reference.kind != "reference":
        said.append("No scan is in the study: the comparator is another method, not a reference.")
    return Section("limitations", "Limitations", tuple(Paragraph(x) for x in said))


def _methods(_: Findings) -> Section:
    table = TableBlock(
        "Statistics and their sources",
        ("Statistic", "How", "Source"),
        tuple((e.name, e.formula, e.source) for e in EXPLANATIONS.values()),
        9,
    )
    told = Paragraph(
        "Assumptions: differences are about normal within and between clients; a note names"
        " devices whose differences have more extreme values. No value was transformed: where"
        " differences grow with the value, limits are given by level."
    )
    return Section("methods", "Methods", (table, told))


def _data(f: Findings) -> Section:
    return Section(
        "data",
        "Data and reproduction",
        (
            Paragraph(
                f"Fingerprint of the readings used: {f.digest}. Resampling uses fixed seeds."
            ),
            Paragraph(f"Software: Anchor Tally {f.version}."),
            *(Paragraph(c, "code") for c in f.commands),
        ),
    )


def _repeatability(f: Findings) -> Section:
    return _lines(
        "repeatability",
        "Repeatability",
        f.repeatability,
        views.repeatability_headline,
        views.repeatability_lines,
        lambda r: r.instrument.name,
    )


def _hydration(f: Findings) -> Section:
    return _lines(
        "hydration",
        "Hydration",
        f.hydration,
        views.hydration_headline,
        views.hydration_lines,
        lambda r: r.instrument.name,
    )


PARTS = (
    Part("question", "Question and conditions", ("compare",), _question),
    Part("flow", "Clients, devices and readings", ("compare", "review"), _flow),
    Part("agreement", "Agreement", ("compare",), _agreement),
    Part("repeatability", "Repeatability", ("consistency",), _repeatability),
    Part("change", "Change", ("change",), _change),
    Part("hydration", "Hydration", ("water",), _hydration),
    Part("similar", "Similar devices", ("alike",), _similar),
    Part("drift", "Drift", ("drift",), _drift),
    Part("calibration", "Calibration", ("calibrate",), _calibration),
    Part("which", "Which device?", ("score",), _which),
    Part("limitations", "Limitations", ("compare",), _limitations),
    Part("methods", "Methods", (), _methods),
    Part("data", "Data and reproduction", ("compare",), _data),
)
REPORT_TITLE = "Study report on agreement and reliability"
CHECKLIST, CHECKLIST_TITLE = "checklist", "Reporting items"
# every question, since it tells which sections have an answer; each is asked once
CHECKLIST_NEEDS = tuple(dict.fromkeys(q for p in PARTS for q in p.needs))


def checklist(title: str, made: Sequence[Section]) -> Section:
    """Where each reporting item is answered, and which are not.

    An item is answered where a section that was made holds what the item asks for.
    """
    titles = {s.key: s.title for s in made} | {TITLE: "title"}
    texts = {s.key: text_of(s) for s in made} | {TITLE: title.lower()}

    def where(item: Item) -> str:
        if item.section and item.holds.lower() in texts.get(item.section, "").lower():
            return titles.get(item.section, "") or "–"
        return f"not answered: {item.why or 'the report has nothing on it'}"

    blocks: list[Block] = [
        TableBlock(
            f"{name}: {items[0].source}",
            ("Item", "Where"),
            tuple((i.text, where(i)) for i in items),
            9,
        )
        for name, items in (
            ("Limits of agreement", AGREEMENT),
            ("Reliability and agreement", RELIABILITY),
        )
    ]
    return Section(CHECKLIST, CHECKLIST_TITLE, tuple(blocks))


def text_of(section: Section) -> str:
    """Everything that a section says."""
    out: list[str] = []
    for b in section.blocks:
        if isinstance(b, Paragraph):
            out.append(b.text)
        elif isinstance(b, FigureBlock):
            out.append(b.caption)
        else:
            out += [b.caption, *b.heads, *(cell for row in b.rows for cell in row)]
    return "\n".join(out)
