"""HTML to PDF pages."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QMarginsF, QSizeF
from PyQt6.QtGui import QFont, QPageLayout, QPageSize, QPdfWriter, QTextDocument

from ..exchange.writing import replacing

SIZES = {"A4": QPageSize.PageSizeId.A4, "Letter": QPageSize.PageSizeId.Letter}
MARGIN_MM = 14.0


def write_pdf(html: str, path: str | Path, size: str = "A4", title: str = "") -> Path:
    """Write a text document as PDF pages, text as text with its fonts.

    Parameters
    ----------
    html : str
        What a text document of Qt understands.
    path : str or Path
        Where to; .pdf is added where the name has no suffix.
    size : str
        A4 or Letter.
    title : str
        Title of the document.

    Returns
    -------
    Path
        What was written. Raises UserError.
    """
    target = Path(path)
    target = target if target.suffix else target.with_suffix(".pdf")
    with replacing(target) as part:
        writer = QPdfWriter(str(part))
        writer.setTitle(title)
        writer.setPageLayout(
            QPageLayout(
                QPageSize(SIZES[size]),
                QPageLayout.Orientation.Portrait,
                QMarginsF(MARGIN_MM, MARGIN_MM, MARGIN_MM, MARGIN_MM),
                QPageLayout.Unit.Millimeter,
            )
        )
        document = QTextDocument()
        font = QFont("IBM Plex Sans")
        font.setPointSizeF(9)
        document.setDefaultFont(font)
        document.documentLayout().setPaintDevice(writer)  # type: ignore[union-attr]
        document.setHtml(html)
        rect = writer.pageLayout().paintRectPixels(writer.resolution())
        document.setPageSize(QSizeF(rect.width(), rect.height()))
        document.print(writer)
    return target
