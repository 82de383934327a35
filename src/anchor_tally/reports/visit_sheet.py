"""Visit sheets: a page a client for the bench, as data and as HTML."""

from __future__ import annotations

from dataclasses import dataclass
from html import escape


@dataclass(frozen=True, slots=True)
class SheetRow:
    """One row: instrument and what is read, its unit, cells for repeats, and what is usual."""

    instrument: str
    metric: str
    unit: str
    cells: int
    usual: str


@dataclass(frozen=True, slots=True)
class SheetStation:
    """A station with its reminder and rows, in the order of the bench."""

    title: str
    reminder: str
    rows: tuple[SheetRow, ...]


@dataclass(frozen=True, slots=True)
class Sheet:
    """One page: who (a code; a name only where it was asked for), when, and what is measured.

    ``conditions`` holds (question, wanted answer); ``cautions`` stand above everything else.
    """

    client: str
    name: str
    day: str
    cautions: tuple[str, ...]
    conditions: tuple[tuple[str, str], ...]
    stations: tuple[SheetStation, ...]


_STYLE = """
body { font-family: 'IBM Plex Sans', sans-serif; font-size: 9pt; color: #000000; }
h1, h2, th { font-weight: 600; }
h1 { font-size: 15pt; margin: 0 0 2pt 0; }
h2 { font-size: 11pt; margin: 8pt 0 2pt 0; }
p { margin: 0 0 3pt 0; }
.faint { color: #444444; font-size: 8pt; }
.warn { font-weight: 600; }
table { border-collapse: collapse; }
"""
BOX = "\N{BALLOT BOX}"
CELL = "&nbsp;" * 14


def as_html(sheets: tuple[Sheet, ...], study: str = "") -> str:
    """All sheets as one document; each begins a new page.

    Parameters
    ----------
    sheets : tuple of Sheet
        One a client.
    study : str
        A title above each page; empty for none.

    Returns
    -------
    str
        HTML for a text document of Qt: tables and plain styles only. Everything that a person
        typed is escaped.
    """
    pages = [_page(s, study, first=k == 0) for k, s in enumerate(sheets)]
    return f"<html><head><style>{_STYLE}</style></head><body>{''.join(pages)}</body></html>"


def _page(s: Sheet, study: str, *, first: bool) -> str:
    start = "" if first else ' style="page-break-before: always;"'
    who = escape(s.client) + (f" ({escape(s.name)})" if s.name else "")
    out = [f"<h1{start}>{who}, {escape(s.day)}</h1>"]
    if study:
        out.append(f'<p class="faint">{escape(study)}</p>')
    out += [f'<p class="warn">{escape(c)}</p>' for c in s.cautions]
    out.append("<p>Time: ______________ &nbsp;&nbsp; Assessor: ______________________</p>")
    if s.conditions:
        out.append("<h2>Conditions</h2>" + _conditions(s.conditions))
    for station in s.stations:
        out.append(_station(station))
    out.append(
        '<p class="faint">F: the reading failed. Write a remark beside the cell. Type the sheet at'
        " the bench in this order. Nothing here is a diagnosis.</p>"
    )
    return "".join(out)


def _conditions(conditions: tuple[tuple[str, str], ...]) -> str:
    cells = [
        f"<td width='50%'>{BOX} yes &nbsp; {BOX} no &nbsp; {escape(question)}"
        f" <span class='faint'>(planned: {escape(wanted)})</span></td>"
        for question, wanted in conditions
    ]
    rows = [cells[k : k + 2] for k in range(0, len(cells), 2)]
    body = "".join(f"<tr>{''.join(row)}</tr>" for row in rows)
    return f"<table width='100%' cellpadding='1'>{body}</table>"


def _station(s: SheetStation) -> str:
    most = max((r.cells for r in s.rows), default=1)
    heads = "".join(f"<th>{k + 1}</th>" for k in range(most))
    rows = []
    for r in s.rows:
        cells = "".join(f"<td>{CELL}</td>" for _ in range(r.cells))
        rest = "".join("<td bgcolor='#e6e6e6'>&nbsp;</td>" for _ in range(most - r.cells))
        unit = f" ({escape(r.unit)})" if r.unit else ""
        rows.append(
            f"<tr><td>{escape(r.instrument)}</td><td>{escape(r.metric)}{unit}</td>{cells}{rest}"
            f"<td class='faint'>{escape(r.usual)}</td></tr>"
        )
    left = "<th align='left'>"
    head = f"<tr>{left}Instrument</th>{left}Value</th>{heads}<th>Usual</th></tr>"
    reminder = f"<p class='faint'>{escape(s.reminder)}</p>" if s.reminder else ""
    return (
        f"<h2>{escape(s.title)}</h2>{reminder}"
        "<table width='100%' border='1' cellspacing='0' cellpadding='7'>"
        f"{head}{''.join(rows)}</table>"
    )
