"""A document as data: sections of paragraphs, tables and figures."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ..figures.paper import PaperFigure

Kind = Literal["text", "lead", "note", "caution", "code", "large", "sign"]


@dataclass(frozen=True, slots=True)
class Paragraph:
    """A paragraph: text, lead of a section, note, caution, code, or large type to be seen afar."""

    text: str
    kind: Kind = "text"


@dataclass(frozen=True, slots=True)
class TableBlock:
    """A table with a caption; columns from ``numeric_from`` on are set to the right."""

    caption: str
    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    numeric_from: int = 1


@dataclass(frozen=True, slots=True)
class FigureBlock:
    """A figure with a caption, and what it shows in words."""

    caption: str
    alternative: str
    figure: PaperFigure


Block = Paragraph | TableBlock | FigureBlock


@dataclass(frozen=True, slots=True)
class Section:
    """A section: title and blocks; ``key`` is where links go."""

    key: str
    title: str
    blocks: tuple[Block, ...]


@dataclass(frozen=True, slots=True)
class Document:
    """A document: title, lines under it, sections; ``contents`` lists them on the first page.

    A ``dense`` one has tables with less space between rows. ``told`` is for the one who makes it,
    and stands on no page. ``seal`` is a line at the end of the file by which it can be verified.
    """

    title: str
    under: tuple[str, ...]
    sections: tuple[Section, ...]
    paper: str = "A4"
    contents: bool = True
    dense: bool = False
    told: tuple[str, ...] = ()
    seal: str = ""
