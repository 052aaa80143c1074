"""Documents of several pages: paper, type, tables, the page at the foot of each."""

import io
from collections.abc import Callable
from typing import Any, NamedTuple

from lumtak.report.lettering import BOLD, SANS, SERIF_BOLD, fonts, marked, paragraph
from lumtak.report.tongue import Tongue

INK, SOFT, _RULE = "#22282e", "#5a646d", "#c3cad0"
FRAME_PADDING = 6


class Doc:
    """A document of ours: our fonts, its title and the page at the foot of each.

    Args:
        title: of it.
        tongue: its language and paper.
    """

    def __init__(self, title: str, tongue: Tongue) -> None:
        from reportlab.lib import pagesizes
        from reportlab.lib.units import mm
        from reportlab.platypus import SimpleDocTemplate

        fonts()
        self._tongue = tongue
        self._out = io.BytesIO()
        self._document = SimpleDocTemplate(
            self._out,
            pagesize=pagesizes.LETTER if tongue.paper == "letter" else pagesizes.A4,
            leftMargin=20 * mm,
            rightMargin=20 * mm,
            topMargin=18 * mm,
            bottomMargin=18 * mm,
            title=title,
            author="Lumtak",
            creator="Lumtak",
            lang=tongue.tag,
            invariant=1,
            initialFontName=SANS,
        )
        self.width: float = self._document.width

    def built(self, story: list[Any]) -> bytes:
        """Its bytes."""
        self._document.build(story, onFirstPage=self._page, onLaterPages=self._page)
        return self._out.getvalue()

    def _page(self, canvas: Any, document: Any) -> None:  # noqa: ANN401 - reportlab has no types
        name_language(canvas, self._tongue.tag)
        canvas.setFont(SANS, 7)
        canvas.setFillColor(SOFT)
        canvas.drawString(document.leftMargin, 24, document.title[:120])
        words = self._tongue.say("page {number}", number=document.page)
        canvas.drawRightString(document.pagesize[0] - document.rightMargin, 24, words)


def name_language(canvas: Any, tag: str) -> None:  # noqa: ANN401
    """A document says its language, and that its title is to be shown; ISO 32000-1, 14.9.2."""
    from reportlab.pdfbase.pdfdoc import PDFString

    canvas._doc.Catalog.Lang = PDFString(tag)  # noqa: SLF001 - the library has no other way
    canvas.setViewerPreference("DisplayDocTitle", "true")


class Styles(NamedTuple):
    """Paragraphs by their kind; each takes plain text."""

    title: Callable[[str], Any]
    head: Callable[[str], Any]
    big: Callable[[str], Any]
    body: Callable[[str], Any]
    soft: Callable[[str], Any]
    soft_style: Any
    """For what has marks of its own."""

    def two(self, words: str, under: str) -> Any:  # noqa: ANN401
        """Words, and smaller ones under them."""
        from reportlab.platypus import Paragraph

        small = f"<font size=7 color='{SOFT}'>{marked(under)}</font>"
        return Paragraph(f"{marked(words)}<br/>{small}", self.soft_style)


def paragraphs(width: float) -> Styles:
    """Of every document.

    Args:
        width: of what they stand in, for text that runs from right to left.
    """
    from reportlab.lib.styles import ParagraphStyle

    def of(style: Any) -> Callable[[str], Any]:  # noqa: ANN401
        return lambda text: paragraph(text, style, width)

    body = ParagraphStyle(
        "body", fontName=SANS, fontSize=9, leading=13, textColor=INK, splitLongWords=1
    )
    soft = ParagraphStyle("soft", parent=body, fontSize=8, leading=11, textColor=SOFT)
    air = {"spaceBefore": 12, "spaceAfter": 4}
    head = ParagraphStyle("head", parent=body, fontName=BOLD, fontSize=11, leading=15, **air)
    title = ParagraphStyle(
        "title", parent=head, fontName=SERIF_BOLD, fontSize=17, leading=22, spaceBefore=0
    )
    big = ParagraphStyle("big", parent=body, fontSize=12, leading=17, spaceBefore=6, spaceAfter=6)
    return Styles(of(title), of(head), of(big), of(body), of(soft), soft)


def table(rows: list[list[Any]], widths: list[float]) -> Any:  # noqa: ANN401
    """Rows under their head, which each page repeats."""
    from reportlab.platypus import Table, TableStyle

    return Table(
        rows,
        colWidths=widths,
        repeatRows=1,
        style=TableStyle(
            [
                ("FONT", (0, 0), (-1, 0), BOLD, 8),
                ("FONT", (0, 1), (-1, -1), SANS, 8),
                ("TEXTCOLOR", (0, 0), (-1, -1), INK),
                ("LINEBELOW", (0, 0), (-1, -1), 0.4, _RULE),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
                ("RIGHTPADDING", (0, 0), (-1, -1), 4),
                ("TOPPADDING", (0, 0), (-1, -1), 2.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 2.5),
            ]
        ),
    )
