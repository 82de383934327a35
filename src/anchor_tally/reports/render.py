"""A document as one self-contained HTML text, and as PDF."""

from __future__ import annotations

from collections.abc import Callable
from importlib import resources
from typing import Any

from ..domain.errors import UserError
from ..figures.paper import FONTS, PaperFigure, font_faces
from .document import Document

NEEDED = "libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0"
OWN = "own"  # scheme of the addresses of a document's own parts


def as_html(document: Document) -> str:
    """The document as HTML: fonts and figures inside, nothing is fetched, all text escaped."""
    sealed = f"<!-- {document.seal} -->\n" if document.seal else ""
    return _rendered(document, font_faces(), None) + sealed


def _rendered(document: Document, fonts: str, address: Callable[[PaperFigure], str] | None) -> str:
    """Fill the template; figures stand in the text, or are pictures with an address."""
    import jinja2
    from markupsafe import Markup

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("anchor_tally.reports"),
        autoescape=True,
        trim_blocks=True,
        undefined=jinja2.StrictUndefined,
    )
    environment.filters["css_text"] = lambda text: Markup(_css_text(text))
    template = environment.get_template("document.html")
    return template.render(document=document, address=address, fonts=Markup(fonts))


def _css_text(text: str) -> str:
    """A text as a string of a style sheet: what could end it stands as its number."""
    safe = "".join(c if c.isalnum() or c in " .,-()" else f"\\{ord(c):06x} " for c in text)
    return f'"{safe}"'


def _name_scopes(_: object, pdf: Any) -> None:
    """Tell readers that each head of a table is that of its column: the renderer leaves it out."""
    import pydyf  # type: ignore[import-untyped]

    for part in pdf.objects:
        if isinstance(part, pydyf.Dictionary) and part.get("S") == "/TH":
            part["A"] = pydyf.Dictionary({"O": "/Table", "Scope": "/Column"})


def as_pdf(document: Document) -> bytes:
    """The document as tagged PDF pages with embedded fonts. Raises UserError without Pango."""
    try:
        import weasyprint  # type: ignore[import-untyped]
    except OSError as error:
        raise UserError(
            f"PDF pages need libraries that are not installed: sudo apt-get install {NEEDED};"
            " nothing was written. HTML needs none of them"
        ) from error

    # handed over under addresses: as data inside the text they would be parsed as text first
    parts: dict[str, tuple[bytes, str]] = {}
    folder = resources.files("anchor_tally") / "assets" / "fonts"
    faces = []
    for name, weight in FONTS:
        url = f"{OWN}:/{name}"
        parts[url] = (folder / name).read_bytes(), "font/ttf"
        faces.append(
            f"@font-face {{ font-family: 'IBM Plex Sans'; font-weight: {weight};"
            f" src: url({url}) format('truetype'); }}"
        )

    def address(figure: PaperFigure) -> str:
        url = f"{OWN}:/figure-{len(parts)}.svg"
        parts[url] = figure.svg().encode(), "image/svg+xml"
        return url

    class Fetcher(weasyprint.urls.URLFetcher):  # type: ignore[misc]
        """Gives the document's own parts, and nothing from outside."""

        def fetch(self, url: str, headers: object = None) -> object:
            content, kind = parts[url]
            return weasyprint.urls.URLFetcherResponse(url, content, {"Content-Type": kind})

    html = _rendered(document, "\n".join(faces), address)
    made = weasyprint.HTML(string=html, url_fetcher=Fetcher())
    found = made.write_pdf(pdf_variant="pdf/ua-1", finisher=_name_scopes)
    assert found is not None
    # a line after the end of a PDF is passed over by readers
    return bytes(found) + (f"% {document.seal}\n".encode() if document.seal else b"")
