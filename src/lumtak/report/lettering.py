"""Letters on paper: fonts that are embedded, and text that runs from right to left."""

import importlib.util
import unicodedata
from pathlib import Path
from typing import Any

from lumtak.core.text import plain
from lumtak.errors import StorageError

SANS, BOLD, SERIF, SERIF_BOLD, MONO = (
    "Lumtak", "Lumtak-Bold", "Lumtak-Serif", "Lumtak-Serif-Bold", "Lumtak-Mono",
)  # fmt: skip
_FILES = {
    SANS: ("DejaVuSans.ttf", "Vera.ttf"),
    BOLD: ("DejaVuSans-Bold.ttf", "VeraBd.ttf"),
    SERIF: ("DejaVuSerif.ttf", "Vera.ttf"),
    SERIF_BOLD: ("DejaVuSerif-Bold.ttf", "VeraBd.ttf"),
    MONO: ("DejaVuSansMono.ttf", "Vera.ttf"),
}
"""By name: with the plotting library, and with the PDF library, which has fewer letters."""
_RIGHT_TO_LEFT = {"R", "AL"}
"""Bidirectional classes; Unicode Standard Annex 9."""
_MOST = 800


def fonts() -> None:
    """Our fonts are known to the PDF library.

    Raises:
        StorageError: none of their files is there.
    """
    from reportlab.graphics import shapes
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFError, TTFont

    known = pdfmetrics.getRegisteredFontNames()
    for name, (file, instead) in _FILES.items():
        if name in known:
            continue
        for place in (
            _beside("matplotlib", "mpl-data/fonts/ttf", file),
            _beside("reportlab", "fonts", instead),
        ):
            try:
                pdfmetrics.registerFont(TTFont(name, str(place)))
                break
            except (TTFError, OSError):
                continue
        else:
            raise StorageError(
                "The fonts for PDF files are not there.",
                "Install Lumtak again; they come with what it needs.",
            )
    # A drawing names its first font even where it writes nothing in it.
    shapes.STATE_DEFAULTS["fontName"] = SANS


def _beside(package: str, folder: str, file: str) -> Path:
    """A file of a package, without importing it."""
    found = importlib.util.find_spec(package)
    root = Path(found.origin).parent if found is not None and found.origin else Path()
    return root / folder / file


def not_in_font(text: str) -> str:
    """The letters of a text that our font has no picture of; each once."""
    from reportlab.pdfbase import pdfmetrics

    fonts()
    known = pdfmetrics.getFont(SANS).face.charToGlyph
    shown = shaped(text) if _turns(text) else text
    return "".join(dict.fromkeys(c for c in shown if ord(c) not in known and not c.isspace()))


def marked(text: str) -> str:
    """Text for a paragraph: no sign of it is markup."""
    return plain(text, _MOST).replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def paragraph(text: str, style: Any, width: float = 0.0) -> Any:  # noqa: ANN401 - reportlab has no types
    """A paragraph of plain text; what runs from right to left is laid line by line.

    Args:
        text: without markup.
        style: of the PDF library.
        width: that it has, where text can run from right to left; else it is one line.
    """
    from reportlab.lib.utils import simpleSplit
    from reportlab.platypus import Paragraph

    said = plain(text, _MOST)
    if not _turns(said):
        return Paragraph(marked(said), style)
    lines = simpleSplit(said, style.fontName, style.fontSize, width) if width else [said]
    return Paragraph("<br/>".join(marked(shaped(line)) for line in lines), style)


def _turns(text: str) -> bool:
    return any(unicodedata.bidirectional(c) in _RIGHT_TO_LEFT for c in text)


def shaped(line: str) -> str:
    """A line as it stands on paper, from left to right; Unicode Standard Annex 9."""
    import arabic_reshaper
    from bidi import get_display

    return str(get_display(arabic_reshaper.reshape(line)))
