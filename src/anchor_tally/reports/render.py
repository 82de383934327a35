"""A document as one self-contained HTML text, and as PDF."""

from __future__ import annotations

import base64

from ..domain.errors import UserError
from ..figures.paper import font_faces
from .document import Document

NEEDED = "libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0"


def as_html(document: Document, *, inline: bool = True) -> str:
    """The document as HTML: fonts and figures inside, nothing is fetched, all text escaped.

    ``inline`` puts figures into the text, else they are pictures of their own.
    """
    import jinja2
    from markupsafe import Markup

    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("anchor_tally.reports"),
        autoescape=True,
        trim_blocks=True,
        undefined=jinja2.StrictUndefined,
    )
    environment.filters["base64"] = lambda text: base64.b64encode(text.encode()).decode()
    template = environment.get_template("document.html")
    return template.render(document=document, inline=inline, fonts=Markup(font_faces()))


def as_pdf(document: Document) -> bytes:
    """The document as tagged PDF pages with embedded fonts. Raises UserError without Pango."""
    try:
        import weasyprint  # type: ignore[import-untyped]
    except OSError as error:
        raise UserError(
            f"PDF pages need libraries that are not installed: sudo apt-get install {NEEDED};"
            " nothing was written. HTML needs none of them"
        ) from error
    fetcher = weasyprint.urls.URLFetcher(allowed_protocols={"data"})  # nothing from outside
    made = weasyprint.HTML(string=as_html(document, inline=False), url_fetcher=fetcher)
    found = made.write_pdf(pdf_variant="pdf/ua-1")
    assert found is not None
    return bytes(found)
