"""Exact states as they come out of a journal, checked before anything is done with them.

A kind that is not known, or parts that are not those of its kind, are refused with a sentence: a record may be damaged, of another desktop,
or written by somebody else.
"""

import base64
import binascii
import re
from collections.abc import Callable, Mapping

from lumtak.computers.hands.table import (
    KERNEL,
    PROFILE_BUSES,
    PROFILES,
    UNITS,
    is_own_content,
    kernel_value_fits,
    sysctl_file,
    unit_of,
    why_no_link,
)
from lumtak.computers.linux.escapes import unescaped
from lumtak.core.setting import PART, SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

FILES = ("absent", "file", "link")
"""Kinds of what stands in a folder of the user."""
_LONGEST = 1 << 16
_WORD = re.compile(r"[a-z0-9_]*")

Exact = Mapping[str, str]


def unfit(ref: SettingRef, why: str) -> ComputerError:
    """The refusal of a recorded state."""
    return ComputerError(
        f"{plain(str(ref))} is not brought to the state that was recorded: {plain(why, 400)}.",
        "Nothing was changed; `lumtak journal` shows the record.",
    )


def check_state(ref: SettingRef, state: State) -> None:
    """Whether an exact state is one that this setting can have had.

    Raises:
        ComputerError: it is not.
    """
    if state.exact is None:
        return
    kind = state.exact.get("kind", "")
    areas, why_not = _KINDS.get(kind, ((), _unknown))
    why = why_not(ref, state) if ref.area in areas else f"“{plain(kind, 40)}” is no kind of state that {ref.area} have"
    if why:
        raise unfit(ref, why)


def check_kind(ref: SettingRef, state: State, kinds: tuple[str, ...], what: str) -> None:
    """Whether the recorded kind is the one in which this computer keeps the setting now.

    Args:
        ref: the setting.
        state: with its exact form.
        kinds: those that fit here now.
        what: how this computer keeps it, as a clause.

    Raises:
        ComputerError: it is another.
    """
    if state.exact is not None and state.exact.get("kind") not in kinds:
        raise unfit(ref, f"it was recorded as {plain(state.exact.get('kind', 'nothing'), 40)}, and {what}")


def check_place(ref: SettingRef, state: State, folder: str, name: str) -> None:
    """Whether the recorded file is the one in which this computer keeps the setting now.

    Raises:
        ComputerError: it stood elsewhere.
    """
    stood = tuple(unescaped(state.around.get(n, "")) for n in ("folder", "file"))
    if stood != (folder, name):
        raise ComputerError(
            f"{plain(str(ref))} was changed in {plain('/'.join(stood))}, and its place is {plain(f'{folder}/{name}')} now.",
            "Run Lumtak as the same user, on the same desktop, with the same HOME and XDG_CONFIG_HOME.",
        )


def missing_folders(state: State) -> int:
    """How many folders were not there before the file, as it was noted with the state."""
    said = state.around.get("missing", "0")
    return int(said) if re.fullmatch(r"[0-9]{1,3}", said) else 0


# -- what a kind of state looks like: each gives why this is none, as a clause; empty where it is one -------------------------------


def _unknown(ref: SettingRef, state: State) -> str:
    del ref, state
    return "its kind is not known"


def _only(exact: Exact, *names: str) -> str:
    """Whether it has these parts and no others."""
    odd = sorted(exact.keys() ^ {"kind", *names})
    return f"its part {plain(odd[0], 60)} is missing or unknown" if odd else ""


def _bytes(said: str) -> bytes | None:
    try:
        return base64.b64decode(said, validate=True)
    except (binascii.Error, ValueError):
        return None


def _file(ref: SettingRef, state: State) -> str:
    del ref
    exact = state.exact or {}
    if why := _only(exact, "mode", "bytes") or _in_a_folder(state):
        return why
    if re.fullmatch(r"[0-7]{1,4}", exact["mode"]) is None or _bytes(exact["bytes"]) is None:
        return "its mode or bytes cannot be read"
    return ""


def _link(ref: SettingRef, state: State) -> str:
    del ref
    exact = state.exact or {}
    if why := _only(exact, "target") or _in_a_folder(state):
        return why
    return "" if exact["target"] and "\0" not in exact["target"] else "it leads nowhere"


def _absent(ref: SettingRef, state: State) -> str:
    del ref
    return _only(state.exact or {}) or _in_a_folder(state)


def _in_a_folder(state: State) -> str:
    folder, name = state.around.get("folder", ""), state.around.get("file", "")
    whole = folder.startswith("/") and "\0" not in folder + name
    return "" if whole and name not in {"", ".", ".."} and "/" not in name else "it does not say in which file it stood"


def _unit_links(ref: SettingRef, state: State) -> str:
    exact, unit = state.exact or {}, unit_name(ref)
    links = {name.removeprefix(PART): target for name, target in exact.items() if name.startswith(PART)}
    if len(links) + 1 != len(exact):
        return "it has parts that are no links"
    if state.around.get("unit", unit) != unit or state.around.get("active", "no") not in {"yes", "no"}:
        return "what is noted beside it belongs to another unit"
    for path, target in links.items():
        if why := why_no_link(path, target):
            return why
        if unit_of(path, target) != unit:
            return f"{path} is a link of another unit"
    return ""


def _kernel_value(ref: SettingRef, state: State) -> str:
    exact = state.exact or {}
    live, file = f"{PART}live", f"{PART}bytes"
    if why := _only(exact, "kernel", "file", live, file):
        return why
    if ref.key not in KERNEL or exact["kernel"] != f"/proc/sys/vm/{ref.key}" or exact["file"] != sysctl_file(ref.key):
        return "it is a value of another setting"
    if not kernel_value_fits(ref.key, exact[live]):
        return f"{exact[live]} is no value that Lumtak sets there"
    return _own_file(exact["file"], exact[file])


def _own_file(path: str, said: str) -> str:
    data = _bytes(said)
    return (
        ""
        if not said or (data and is_own_content(path, data))
        else f"{path} holds something else than what Lumtak writes there"
    )


def _clock(ref: SettingRef, state: State) -> str:
    del ref
    exact = state.exact or {}
    policies = {name: words for name, words in exact.items() if re.fullmatch(rf"{PART}policy[0-9]+", name)}
    file, link = f"{PART}bytes", f"{PART}link"
    if why := _only(exact, *policies, file, link):
        return why
    for words in policies.values():
        governor, slash, preference = words.partition("/")
        if not (governor and slash and _WORD.fullmatch(governor) and _WORD.fullmatch(preference)):
            return "what a policy of the clock held cannot be read"
    unit = f"{UNITS}/lumtak-power.service"
    return _own_file(unit, exact[file]) or ("" if exact[link] in {"", unit} else "its link leads elsewhere")


def _swap(ref: SettingRef, state: State) -> str:
    for name, word in (state.exact or {}).items():
        own = re.fullmatch(rf"{PART}own [1-9][0-9]{{0,6}} (kept|on)", name)
        old = re.fullmatch(rf"{PART}old [^/\0\n]+\.swap", name)
        if name != "kind" and not ((own and word == "yes") or (old and word in {"on", "masked"})):
            return f"its part {plain(name, 60)} is unknown"
    return "" if ref.key == "swap_mib" else "it is a value of another setting"


def _property(ref: SettingRef, state: State) -> str:
    del ref
    exact = state.exact or {}
    if why := _only(exact, "bus", "path", "value"):
        return why
    if PROFILE_BUSES.get(exact["bus"]) != exact["path"] or exact["value"] not in PROFILES:
        return f"the plan {plain(exact['value'], 40)} is none that Lumtak sets"
    return ""


def _desktop_key(ref: SettingRef, state: State) -> str:
    from lumtak.computers.linux.effects import FAMILIES

    exact = state.exact or {}
    if why := _only(exact, "schema", "key", "path", "raw"):
        return why
    known = (k for family in FAMILIES for k in family if k.effect == ref.key)
    if not any((k.schema, k.key, k.path) == (exact["schema"], exact["key"], exact["path"]) for k in known):
        return "no desktop that Lumtak knows keeps it there"
    raw = exact["raw"]
    return "" if len(raw) <= _LONGEST and raw.isprintable() and not raw.startswith("-") else "its text cannot be stored"


def _permission(ref: SettingRef, state: State) -> str:
    exact = state.exact or {}
    if why := _only(exact, "app", "raw"):
        return why
    if ref.key != f"sandbox/{exact['app']}" or exact["raw"] not in {"", "yes", "no", "ask"}:
        return "it is a permission of another program, or none"
    return ""


def unit_name(ref: SettingRef) -> str:
    """The unit of a service or timer.

    Raises:
        ComputerError: no unit can be called so.
    """
    if "/" in ref.key or "\0" in ref.key or not ref.key:
        raise ComputerError(f"{plain(ref.key)} is no name of a service.", "`lumtak audit local` lists them.")
    return ref.key if ref.key.endswith(".timer") else f"{ref.key}.service"


_KINDS: dict[str, tuple[tuple[str, ...], Callable[[SettingRef, State], str]]] = {
    "absent": (("apps", "effects"), _absent),
    "file": (("apps", "effects"), _file),
    "link": (("apps", "effects"), _link),
    "links": (("services",), _unit_links),
    "sysctl": (("memory",), _kernel_value),
    "clock": (("power",), _clock),
    "swap": (("memory",), _swap),
    "property": (("power",), _property),
    "gsettings": (("effects",), _desktop_key),
    "sandbox": (("apps",), _permission),
}
"""The areas in which a kind is found, and what it looks like."""
