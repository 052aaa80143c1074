"""The language of what is handed over: words by gettext catalogues, dates and numbers by CLDR.

A language is one file, `data/languages/NAME.po`; without one for what is asked for, it is English.
"""

import gettext
import io
import os
from datetime import date
from functools import lru_cache
from importlib.resources import files
from typing import Literal

from lumtak.core.settings import Settings
from lumtak.core.units import large

PaperName = Literal["a4", "letter"]
SOURCE = "en"
_LETTER = frozenset(
    ["BZ", "CA", "CL", "CO", "CR", "GT", "MX", "NI", "PA", "PH", "PR", "SV", "US", "VE"]
)
"""Countries that use US Letter (Unicode CLDR, supplemental data, paperSize)."""
_MS, _FEW = 0.1, 10.0


def languages() -> tuple[str, ...]:
    """Those in which sheets and reports can be had."""
    folder = files("lumtak") / "data" / "languages"
    found = [e.name.removesuffix(".po") for e in folder.iterdir() if e.name.endswith(".po")]
    return (SOURCE, *sorted(found))


class Tongue:
    """A language with the customs of a country.

    Args:
        name: as in LANG: en, de_AT; empty is what the environment says.
        paper: of the country where it is empty.
    """

    def __init__(self, name: str = "", paper: str = "") -> None:
        from babel import Locale, UnknownLocaleError

        wanted = name or _of_environment()
        language, _, country = wanted.partition("_")
        self.language = language if language in languages() else SOURCE
        try:
            customs = wanted if self.language == language else SOURCE
            self._locale = Locale.parse(customs)
        except (UnknownLocaleError, ValueError):
            self._locale = Locale.parse(self.language)
        self.paper: PaperName = "letter" if country in _LETTER else "a4"
        if paper in {"a4", "letter"}:
            self.paper = "letter" if paper == "letter" else "a4"
        self._words = _catalogue(self.language)

    @property
    def tag(self) -> str:
        """For a document's own language; BCP 47."""
        return str(self._locale).replace("_", "-")

    def say(self, words: str, /, **values: object) -> str:
        """These English words in this language, with values in them."""
        said = self._words.gettext(words)
        return said.format(**values) if values else said

    def quoted(self, words: str) -> str:
        """Words that are somebody's, or a name."""
        return self.say("“{words}”", words=words)

    def number(self, value: float, decimals: int = 0) -> str:
        """A number with so many decimals."""
        from babel.numbers import format_decimal

        pattern = "#,##0" + ("." + "0" * decimals if decimals else "")
        said = format_decimal(round(value, decimals) + 0.0, pattern, locale=self._locale)
        return said.replace("-", "\u2212")

    def signed(self, value: float, decimals: int = 0) -> str:
        """A number with its sign; what rounds to nothing has none."""
        said = self.number(value, decimals)
        rounded = round(value, decimals)
        return f"+{said}" if rounded > 0 else said

    def percent(self, value: float, decimals: int = 0) -> str:
        """A percentage."""
        return f"{self.number(value, decimals)}\u00a0%"

    def size(self, size_bytes: float) -> str:
        """A size in the large unit of size; the same unit everywhere, so that sizes compare."""
        size, unit = large()
        amount = round(size_bytes / size, 1)
        return f"{self.number(amount, 0 if amount == int(amount) else 1)}\u00a0{unit}"

    def seconds(self, seconds: float) -> str:
        """A length of time as people say it."""
        if seconds >= 60:
            return self.say("{minutes} minutes", minutes=self.number(seconds / 60, 1))
        if seconds >= _FEW:
            return self.say("{seconds} seconds", seconds=self.number(seconds))
        if seconds >= _MS:
            said = self.number(seconds, 1 if seconds >= 1 else 2)
            return self.say("{seconds} seconds", seconds=said)
        return self.say(
            "{thousandths} thousandths of a second",
            thousandths=self.number(1000 * seconds, 0 if seconds >= _FEW / 1000 else 2),
        )

    def date(self, day: str) -> str:
        """A day, of an ISO date or time."""
        from babel.dates import format_date

        return format_date(date.fromisoformat(day[:10]), "long", locale=self._locale)

    def listed(self, words: list[str]) -> str:
        """Words as a list in a sentence."""
        from babel.lists import format_list

        return format_list(words, locale=self._locale) if words else ""


def tongue_of(settings: Settings, language: str = "", paper: str = "") -> Tongue:
    """The language of what is handed over: as asked for, else as the shop has set."""
    return Tongue(language or settings.language, paper or settings.paper)


def _of_environment() -> str:
    """As POSIX has it: LC_ALL, LC_MESSAGES, LANG."""
    for name in ("LC_ALL", "LC_MESSAGES", "LANG"):
        if value := os.environ.get(name, "").partition(".")[0].partition("@")[0]:
            return SOURCE if value in {"C", "POSIX"} else value
    return SOURCE


@lru_cache(maxsize=8)
def _catalogue(language: str) -> gettext.NullTranslations:
    if language == SOURCE:
        return gettext.NullTranslations()
    from babel.messages.mofile import write_mo
    from babel.messages.pofile import read_po

    path = files("lumtak") / "data" / "languages" / f"{language}.po"
    made = io.BytesIO()
    with path.open("rb") as file:
        write_mo(made, read_po(file, locale=language))
    made.seek(0)
    return gettext.GNUTranslations(made)
