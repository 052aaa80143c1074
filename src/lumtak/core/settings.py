"""What a shop sets once: where results go, its name, the theme, units, keys, how sure a plan is."""

import re
from typing import Literal, get_args

import msgspec

from lumtak.core.record import Record
from lumtak.core.text import plain
from lumtak.core.toml import read_toml
from lumtak.errors import BadFileError, UsageError

FORMAT = 1
ThemeName = Literal["dark", "light"]
Sizes = Literal["binary", "decimal"]
Paper = Literal["", "a4", "letter"]
MOST_ADDRESS = 600
_LANGUAGE = re.compile(r"(?:[a-z]{2,3}(?:_[A-Z]{2})?)?")
LEAST_SURE, MOST_SURE = 0.5, 0.999


class Shop(Record):
    """Who works here; printed on what is handed over."""

    name: str = ""
    address: str = ""
    """With commas between its lines."""
    phone: str = ""
    """Whom the owner calls when something is missing; on the sheet."""


class Settings(Record):
    """All of them; a file may leave out any."""

    format: int = FORMAT
    report_folder: str = ""
    """Where reports and charts go; empty: the person's documents."""
    theme: ThemeName = "dark"
    sizes: Sizes = "binary"
    """GiB and MiB, or GB and MB."""
    confidence: float = 0.9
    """With which a plan keeps a ceiling."""
    language: str = ""
    """Of sheets and reports, as in LANG: en, en_US, de_AT; empty: the environment's."""
    paper: Paper = ""
    """Of sheets and reports; empty: what is used where the language is."""
    shop: Shop = Shop()
    keys: dict[str, str] = {}
    """Of commands, by their names."""


_OWN = ("report_folder", "theme", "sizes", "confidence", "language", "paper")
SETTABLE = (*_OWN, "shop.name", "shop.address", "shop.phone")
"""What is set one by one; `keys.NAME` too."""
ABOUT = {
    "report_folder": "where reports and charts go; empty is your documents folder",
    "theme": "dark or light",
    "sizes": "binary (GiB, MiB) or decimal (GB, MB)",
    "confidence": "how surely a plan keeps a ceiling, 0.5 to 0.999",
    "language": "of sheets and reports: en, en_US, de, de_AT; empty is the system's",
    "paper": "of sheets and reports: a4 or letter; empty is what the language's country uses",
    "shop.name": "printed on sheets and reports",
    "shop.address": "printed on sheets and reports, with commas between its lines",
    "shop.phone": "whom the owner calls; printed on sheets",
}


def load_settings(text: str, path: str) -> Settings:
    """The settings of a file.

    Raises:
        BadFileError: it is no TOML, names what there is not, or holds a value that cannot be; with
            what to mend.
    """
    document = read_toml(text, path)
    if document.get("format", FORMAT) != FORMAT:
        raise BadFileError(
            path,
            f"its format is {plain(str(document['format']), 20)}, and this Lumtak reads {FORMAT}.",
            next_step="Update Lumtak, or write it anew.",
        )
    try:
        found = msgspec.convert(document, Settings)
    except msgspec.ValidationError as error:
        raise BadFileError(
            path, f"{plain(str(error), 200)}.", next_step="Mend or remove that line."
        ) from error
    return _checked(found, path)


def _checked(found: Settings, path: str) -> Settings:
    if not LEAST_SURE <= found.confidence <= MOST_SURE:
        raise BadFileError(
            path,
            f"confidence is {found.confidence:g}, and can be {LEAST_SURE:g} to {MOST_SURE:g}.",
            next_step="Set it to 0.9, for example.",
        )
    if not _LANGUAGE.fullmatch(found.language):
        raise BadFileError(
            path,
            f"language is {plain(found.language, 40)}, which names none.",
            next_step="Set it to en, de or de_AT, for example.",
        )
    shop = (("name", 200), ("address", MOST_ADDRESS), ("phone", 200))
    for name, most in shop:
        if (words := getattr(found.shop, name)) != plain(words, most):
            raise BadFileError(
                path, f"shop.{name} has signs that cannot be printed, or is longer than {most}."
            )
    return found


def with_value(now: Settings, name: str, value: str) -> Settings:
    """The same settings with another value.

    Raises:
        UsageError: there is no such setting, or it cannot have that value.
    """
    if name.startswith("keys."):
        command = name.removeprefix("keys.")
        keys = {**now.keys, command: value} if value else _without(now.keys, command)
        return msgspec.structs.replace(now, keys=keys)
    if name not in SETTABLE:
        raise UsageError(
            f"There is no setting “{plain(name, 60)}”.",
            f"There are {', '.join(SETTABLE)} and keys.COMMAND.",
        )
    if name == "confidence":
        if not re.fullmatch(r"[0-9]?\.?[0-9]{1,6}", value):
            raise UsageError(f"confidence is a number, {ABOUT['confidence'].split(', ')[1]}.")
        made = msgspec.structs.replace(now, confidence=float(value))
    elif name.startswith("shop."):
        shop = msgspec.structs.replace(now.shop, **{name.removeprefix("shop."): value})
        made = msgspec.structs.replace(now, shop=shop)
    else:
        allowed = {
            "theme": get_args(ThemeName),
            "sizes": get_args(Sizes),
            "paper": get_args(Paper),
        }.get(name)
        if allowed is not None and value not in allowed:
            raise UsageError(f"{name} is {' or '.join(filter(None, allowed))}.")
        if value != plain(value, 1000):
            raise UsageError(f"{name} has signs that cannot be part of it.")
        made = msgspec.structs.replace(now, **{name: value})
    try:
        return _checked(made, name)
    except BadFileError as error:
        raise UsageError(str(error)) from error


def _without(keys: dict[str, str], name: str) -> dict[str, str]:
    return {n: k for n, k in keys.items() if n != name}


def value_of(found: Settings, name: str) -> str:
    """A setting as text."""
    part, _, rest = name.partition(".")
    value = getattr(found.shop, rest) if part == "shop" else getattr(found, part)
    return f"{value:g}" if isinstance(value, float) else str(value)


def settings_toml(found: Settings) -> str:
    """The settings as a file has them; only what is not as it was."""
    plain_ones = Settings()
    lines = [f"format = {FORMAT}"]
    for name in _OWN:
        value = getattr(found, name)
        if value != getattr(plain_ones, name):
            lines.append(f"{name} = {_toml(value)}")
    if found.shop != Shop():
        lines += ["", "[shop]"]
        lines += [f"{n} = {_toml(v)}" for n, v in msgspec.structs.asdict(found.shop).items() if v]
    if found.keys:
        lines += ["", "[keys]"]
        lines += [f"{_toml(name)} = {_toml(key)}" for name, key in sorted(found.keys.items())]
    return "\n".join(lines) + "\n"


def _toml(value: object) -> str:
    """A value as TOML has it: JSON's strings are TOML's basic strings."""
    return msgspec.json.encode(value).decode()
