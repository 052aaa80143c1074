"""Workload profiles: what a computer's owner does on it, and what follows for the audit."""

import re
import types
from typing import Any, Literal, get_args, get_origin

import msgspec

from lumtak.core.record import Record
from lumtak.core.toml import read_toml
from lumtak.errors import BadFileError

FORMAT = 1
MOST_DISRUPTION = 1000
LONGEST_ASIDE_DAYS = 3650
LONGEST_IDLE_S = 86_400
"""A day: nobody waits longer for a screen to go off."""
Rhythm = Literal["weekly", "monthly", "quarterly", "half-yearly"]


class Needs(Record):
    """Roles that must work."""

    roles: tuple[str, ...] = ()


class Ceilings(Record):
    """The load that is acceptable at idle."""

    cpu_pct: float
    """Of the whole computer, above 0, at most 100."""
    ram_pct: float
    """Of all RAM, cache apart."""


class Threshold(Record):
    """Differences smaller than this do not matter in practice: the proof calls them no effect."""

    cpu_pct: float = 1.0
    """Percentage points of the whole computer."""
    ram_pct: float = 1.0
    """Of all RAM."""


class EffectWishes(Record):
    """Visual effects that stay."""

    keep: tuple[str, ...] = ()


class PowerWishes(Record):
    """The power plan for each source."""

    mains: str | None = None
    battery: str | None = None
    dim_mains: Literal["on", "off"] | None = None
    """Whether the screen is dimmed when nobody does anything; left out: left alone, like all that
    follow."""
    dim_battery: Literal["on", "off"] | None = None
    screen_off_mains: int | None = None
    """Seconds after which the screen goes off; 0: never."""
    screen_off_battery: int | None = None
    sleep_mains: int | None = None
    """Seconds after which the computer sleeps; 0: never."""
    sleep_battery: int | None = None
    wireless_saving: Literal["on", "off"] | None = None
    """Whether wireless devices save power, which makes them answer late."""


class MemoryRule(Record):
    """Memory settings by name; what is left out is left alone."""

    swappiness: int | None = None
    swap: Literal["shop", "hibernation", "measured"] | None = None
    """The rule by which the size of the swap is judged."""


class StorageRule(Record):
    """The system's volume."""

    free_gib: float | None = None
    """So much is to stay free; left out: 5 % of the volume."""
    aside_days: int = 14
    """For so many days what was set aside can be put back before anybody is reminded to empty
    it."""


class Upkeep(Record):
    """How often somebody should look again; left out: no reminder."""

    updates: Rhythm | None = None
    drift: Rhythm | None = None
    """Whether settings are still as they were left."""
    space: Rhythm | None = None
    audit: Rhythm | None = None
    """The whole audit anew."""
    disks: Rhythm | None = None
    """Whether a disk fails or a file system has errors."""
    integrity: Rhythm | None = None
    """The system's files against what was recorded of them."""
    odd: Rhythm | None = None
    """What starts from odd places."""
    unwanted: Rhythm | None = None
    """Files shown to a scanner."""
    fragments: Rhythm | None = None
    stopping: Rhythm | None = None
    """What held up the last shutdown."""


class Scale(Record):
    """How much each kind of disruption counts in a plan; a new login or a restart once a plan."""

    nothing: int = 0
    """What nobody notices."""
    slower: int = 1
    """Slower at first use."""
    convenience: int = 3
    """A convenience goes."""
    function: int = 8
    """A function goes."""
    copies: int = 25
    """Copies or synchronising of the owner's data stop."""
    login: int = 1
    restart: int = 2


class Never(Record):
    """What is not touched, whatever the audit says."""

    roles: tuple[str, ...] = ()
    items: tuple[str, ...] = ()
    """Addresses, AREA:KEY."""


class Profile(Record):
    """A workload profile."""

    format: int
    name: str
    title: str
    about: str = ""
    needs: Needs = Needs()
    ceilings: Ceilings
    threshold: Threshold = Threshold()
    effects: EffectWishes = EffectWishes()
    power: PowerWishes = PowerWishes()
    memory: MemoryRule = MemoryRule()
    storage: StorageRule = StorageRule()
    upkeep: Upkeep = Upkeep()
    never: Never = Never()
    disruption: Scale = Scale()


def load_profile(text: str, path: str) -> Profile:
    """The profile in a TOML document.

    Args:
        text: the document.
        path: its name, for errors.

    Raises:
        BadFileError: it is not TOML, a key is not known (the nearest one is named), a key is
            missing, or a value does
            not fit; with the line.
    """
    document = read_toml(text, path)
    _check_keys(document, Profile, (), text, path)
    try:
        profile = msgspec.convert(document, Profile, strict=True)
    except msgspec.ValidationError as error:
        raise _explained(error, text, path) from error
    _check_values(profile, text, path)
    _check_scale(profile.disruption, text, path)
    return profile


def _check_keys(
    table: dict[str, Any], record: type[Record], at: tuple[str, ...], text: str, path: str
) -> None:
    fields = {field.name: field for field in msgspec.structs.fields(record)}
    for key, value in table.items():
        if key not in fields:
            import difflib

            near = difflib.get_close_matches(key, fields, n=1, cutoff=0.0)[0]
            where = f"[{'.'.join(at)}] has" if at else "a profile has"
            raise BadFileError(
                path,
                f"{where} no key “{key}”.",
                line=_line_of((*at, key), text),
                next_step=f"Did you mean “{near}”?",
            )
        inner = _record_in(fields[key].type)
        if inner and isinstance(value, dict):
            _check_keys(value, inner, (*at, key), text, path)


def _record_in(kind: Any) -> type[Record] | None:  # noqa: ANN401
    options = get_args(kind) if get_origin(kind) is types.UnionType else (kind,)
    return next((o for o in options if isinstance(o, type) and issubclass(o, Record)), None)


def _explained(error: msgspec.ValidationError, text: str, path: str) -> BadFileError:
    message, _, where = str(error).partition(" - at `")
    at = tuple(re.findall(r"[A-Za-z_][\w-]*", where))
    missing = re.match(r"Object missing required field `(\w+)`", message)
    if missing:
        table = f"[{'.'.join(at)}] lacks" if at else "the profile lacks"
        return BadFileError(
            path, f"{table} the key “{missing[1]}”.", line=_line_of(at, text), next_step="Add it."
        )
    wanted = message.replace("Expected", "expected").replace("`", "")
    return BadFileError(
        path, f"“{'.'.join(at)}”: {wanted}.", line=_line_of(at, text), next_step="Mend that value."
    )


def _check_values(profile: Profile, text: str, path: str) -> None:
    if profile.format != FORMAT:
        raise BadFileError(
            path,
            f"format {profile.format} is not known here; this Lumtak reads format {FORMAT}.",
            line=_line_of(("format",), text),
        )
    for key in ("cpu_pct", "ram_pct"):
        value = getattr(profile.ceilings, key)
        if not 0 < value <= 100:
            raise BadFileError(
                path,
                f"“ceilings.{key}” is {value:g}, and a ceiling is above 0 and at most 100.",
                line=_line_of(("ceilings", key), text),
            )
    for key in ("screen_off_mains", "screen_off_battery", "sleep_mains", "sleep_battery"):
        seconds = getattr(profile.power, key)
        if seconds is not None and not 0 <= seconds <= LONGEST_IDLE_S:
            problem = f"“power.{key}” is {seconds}, and it is from 0 to {LONGEST_IDLE_S} seconds."
            raise BadFileError(path, problem, line=_line_of(("power", key), text))
    for key in ("cpu_pct", "ram_pct"):
        value = getattr(profile.threshold, key)
        if not 0 <= value <= 100:
            problem = f"“threshold.{key}” is {value:g}, and a threshold is from 0 to 100."
            raise BadFileError(path, problem, line=_line_of(("threshold", key), text))
    _check_storage(profile.storage, text, path)
    if not re.fullmatch(r"[a-z0-9][a-z0-9-]{0,60}", profile.name):
        raise BadFileError(
            path,
            "“name” is made of lower-case letters, digits and hyphens.",
            line=_line_of(("name",), text),
        )


def _check_storage(rule: StorageRule, text: str, path: str) -> None:
    if rule.free_gib is not None and rule.free_gib < 0:
        problem = f"“storage.free_gib” is {rule.free_gib:g}, and space is never below 0."
        raise BadFileError(path, problem, line=_line_of(("storage", "free_gib"), text))
    if not 0 <= rule.aside_days <= LONGEST_ASIDE_DAYS:
        problem = (
            f"“storage.aside_days” is {rule.aside_days}, and it is from 0 to"
            f" {LONGEST_ASIDE_DAYS} days."
        )
        raise BadFileError(path, problem, line=_line_of(("storage", "aside_days"), text))


def _check_scale(scale: Scale, text: str, path: str) -> None:
    for key in Scale.__struct_fields__:
        number = getattr(scale, key)
        if not 0 <= number <= MOST_DISRUPTION:
            problem = f"“disruption.{key}” is {number}, and it is from 0 to {MOST_DISRUPTION}."
            raise BadFileError(path, problem, line=_line_of(("disruption", key), text))


def _line_of(at: tuple[str, ...], text: str) -> int:
    """The 1-based line where the key at this path stands.

    The table's line, or 1, where it does not stand at all.
    """
    table: tuple[str, ...] = ()
    best = 1
    for number, line in enumerate(text.splitlines(), start=1):
        header = re.match(r"\s*\[\[?\s*([^\]]+?)\s*\]\]?", line)
        if header:
            table = tuple(part.strip(" \"'") for part in header[1].split("."))
            if table == at[: len(table)]:
                best = number
            if table == at:
                return number
            continue
        pair = re.match(r"\s*([\w\"'.-]+)\s*=", line)
        if pair and (*table, *(part.strip("\"'") for part in pair[1].split("."))) == at:
            return number
    return best
