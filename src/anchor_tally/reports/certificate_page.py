"""A certificate as a page to hang beside the device."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ..analysis.offsets.versions import Version
from ..domain.free_text import FreeText
from ..domain.metrics import metric_of
from ..wording import certificate as words
from ..wording.numbers import day_words
from ..wording.versions import version_name
from .document import Block, Document, Paragraph, Section, TableBlock

SEAL = "anchor-tally certificate"


def certificate_page(
    found: Sequence[Version],
    free: FreeText,
    data: Sequence[Mapping[str, Any]],
    made_on: str,
    *,
    paper: str = "A4",
    clients: bool = False,
    full: bool = False,
) -> Document:
    """Make the document.

    Parameters
    ----------
    found : sequence of Version
        Adopted versions of one instrument and metric, at least one: one of each setting.
    free : FreeText
        What replaces the study's free text.
    data : sequence of mapping
        What ``certificate_json`` gives for each version with the same choices.
    made_on : str
        Today, an ISO day.
    paper : str
        A4 or Letter.
    clients : bool
        Name each client's code with its offset; otherwise they are counted.
    full : bool
        Give the reason for adopting against the advice in words.

    Returns
    -------
    Document
        A section for each version; codes of clients only.
    """
    sections = []
    for v, certificate in zip(found, data, strict=True):
        r = v.record
        unit = metric_of(r.metric).difference_unit
        told = (words.STATES[v.state], words.left_over_words(r), words.bounds_words(r))
        blocks: list[Block] = [Paragraph(words.action_words(r), "lead")]
        blocks += [Paragraph(t) for t in told if t]
        waiting = words.waiting_words(certificate["made_from"]["waiting_in_review"])
        blocks += [Paragraph(waiting, "caution")] if waiting else []
        blocks.append(
            TableBlock(
                f"What is subtracted ({unit})" + (" after the line" if r.line else ""),
                ("Client", "Offset", "95 % prediction interval", "Scans"),
                words.offset_rows(r, clients=clients),
            )
        )
        blocks.append(
            TableBlock(
                "Conditions and origin",
                ("What", "Value"),
                words.condition_rows(v, free, certificate, full=full),
                9,
            )
        )
        blocks.append(Paragraph(words.CAUTION))
        sections.append(
            Section(f"version-{r.version}", f"Version {version_name(v)[1:]}", tuple(blocks))
        )
    return Document(
        f"Certificate of {found[0].record.instrument}",
        (f"Made on {day_words(made_on)}",),
        tuple(sections),
        paper,
        contents=False,
        dense=True,
        seal=seal(data, made_on, paper, clients=clients, full=full),
    )


def seal(
    data: Sequence[Mapping[str, Any]], made_on: str, paper: str, *, clients: bool, full: bool
) -> str:
    """The line by which a page is verified: how it was made, and the digests of its versions."""
    digests = ",".join(str(c["digest"]) for c in data)
    return f"{SEAL} {made_on} {paper} clients={clients:d} full={full:d} {digests}"
