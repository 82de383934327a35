"""A card to hang beside a scale: what to do with its reading, for whom, until when."""

from __future__ import annotations

from collections.abc import Sequence

from ..analysis.offsets.versions import Version
from ..domain.free_text import FreeText
from ..domain.metrics import metric_of
from ..wording import certificate as words
from ..wording.numbers import day_words
from .document import Block, Document, Paragraph, Section


def device_card(
    found: Sequence[Version],
    free: FreeText,
    set_by_hand: str,
    asked: Sequence[str],
    made_on: str,
    paper: str = "A4",
    *,
    waiting: Sequence[int] = (),
) -> Document:
    """Make the document.

    Parameters
    ----------
    found : sequence of Version
        Adopted versions of one instrument and metric, at least one: one of each setting.
    free : FreeText
        What replaces the study's free text.
    set_by_hand : str
        Sentence on a level that was set by hand; empty where it was not.
    asked : sequence of str
        The conditions of a measurement, as the study asks them.
    made_on : str
        Today, an ISO day.
    paper : str
        A4 or Letter.
    waiting : sequence of int
        Readings behind each version that Review says not to use; none given: none.

    Returns
    -------
    Document
        A section for each version in large type.
    """
    sections = []
    for k, v in enumerate(found):
        r = v.record
        m = metric_of(r.metric)
        setting = free.setting(r.setting)
        blocks: list[Block] = [Paragraph(words.card_words(r), "large")]
        if words.STATES[v.state]:
            blocks.append(Paragraph(words.STATES[v.state], "caution"))
        if waiting and waiting[k]:
            blocks.append(Paragraph(words.waiting_words(waiting[k]), "caution"))
        blocks += [Paragraph(t, "sign") for t in words.card_lines(r, set_by_hand)]
        title = f"{m.label} ({m.symbol or m.unit})" + (f", setting: {setting}" if setting else "")
        sections.append(Section(f"version-{r.version}", title, tuple(blocks)))
    if asked:
        sections.append(
            Section("conditions", "Before you step on", tuple(Paragraph(a, "sign") for a in asked))
        )
    sections.append(Section("caution", "Caution", (Paragraph(words.CAUTION),)))
    return Document(
        found[0].record.instrument,
        (f"Made on {day_words(made_on)}, version {found[0].record.version}",),
        tuple(sections),
        paper,
        contents=False,
    )
