"""Exact states as they come out of a journal, checked before anything is done with them.

A kind that is not known, or parts that are not those of its kind, are refused with a sentence: a record may be damaged, of another desktop,
or written by somebody else.
"""

import re
from collections.abc import Callable, Mapping

from lumtak.computers.hands.shell import quoted
from lumtak.computers.hands.states import FILE, LIVE, decoded, links_of, only, unit_name, why_no_state
from lumtak.computers.hands.states import KINDS as OF_ROOT
from lumtak.computers.linux.escapes import unescaped
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

FILES = ("absent", "file", "link")
"""Kinds of what stands in a folder of the user."""
_LONGEST = 1 << 16


def unfit(ref: SettingRef, why: str, by_hand: str = "") -> ComputerError:
    """The refusal of a recorded state, with what a person can type who knows the record to be right."""
    return ComputerError(
        f"{plain(str(ref))} is not brought to the state that was recorded: {plain(why, 400)}.",
        f"Nothing was changed; if the record is right, type: {by_hand}"
        if by_hand
        else "Nothing was changed; `lumtak journal` shows the record.",
    )


def _by_hand(ref: SettingRef, exact: Mapping[str, str]) -> str:
    """The commands that bring a state of the system, which Lumtak itself would not write; empty where there are none so short."""

    def word(text: str) -> str:
        return plain(quoted(text).decode("utf-8", "replace"), 2000)

    match exact.get("kind"):
        case "links" if links := links_of(exact):
            made = [f"sudo ln -sfT {word(target)} {word(path)}" for path, target in links.items()]
            return "; ".join([*made, "sudo systemctl daemon-reload"])
        case "sysctl" if {"file", FILE, LIVE, "kernel"} <= exact.keys():
            kept = decoded(exact[FILE])
            name = f"vm.{ref.key}={exact[LIVE]}"
            keep = f"printf %s {word((kept or b'').decode('utf-8', 'replace'))} | sudo tee {word(exact['file'])}; "
            return (keep if kept else "") + f"sudo sysctl {word(name)}"
        case "property" if {"bus", "path", "value"} <= exact.keys():
            bus, path, value = (word(exact[n]) for n in ("bus", "path", "value"))
            return f"sudo busctl --system set-property {bus} {path} {bus} ActiveProfile s {value}"
    return ""


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
        raise unfit(ref, why, _by_hand(ref, state.exact))


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


def _file(ref: SettingRef, state: State) -> str:
    del ref
    exact = state.exact or {}
    if why := only(exact, "mode", "bytes") or _in_a_folder(state):
        return why
    if re.fullmatch(r"[0-7]{1,4}", exact["mode"]) is None or decoded(exact["bytes"]) is None:
        return "its mode or bytes cannot be read"
    return ""


def _link(ref: SettingRef, state: State) -> str:
    del ref
    exact = state.exact or {}
    if why := only(exact, "target") or _in_a_folder(state):
        return why
    return "" if exact["target"] and "\0" not in exact["target"] else "it leads nowhere"


def _absent(ref: SettingRef, state: State) -> str:
    del ref
    return only(state.exact or {}) or _in_a_folder(state)


def _in_a_folder(state: State) -> str:
    folder, name = state.around.get("folder", ""), state.around.get("file", "")
    whole = folder.startswith("/") and "\0" not in folder + name
    return "" if whole and name not in {"", ".", ".."} and "/" not in name else "it does not say in which file it stood"


def _desktop_key(ref: SettingRef, state: State) -> str:
    from lumtak.computers.linux.effects import FAMILIES

    exact = state.exact or {}
    if why := only(exact, "schema", "key", "path", "raw"):
        return why
    known = (k for family in FAMILIES for k in family if k.effect == ref.key)
    if not any((k.schema, k.key, k.path) == (exact["schema"], exact["key"], exact["path"]) for k in known):
        return "no desktop that Lumtak knows keeps it there"
    raw = exact["raw"]
    return "" if len(raw) <= _LONGEST and raw.isprintable() and not raw.startswith("-") else "its text cannot be stored"


def _permission(ref: SettingRef, state: State) -> str:
    exact = state.exact or {}
    if why := only(exact, "app", "raw"):
        return why
    if ref.key != f"sandbox/{exact['app']}" or exact["raw"] not in {"", "yes", "no", "ask"}:
        return "it is a permission of another program, or none"
    return ""


def unit_of_service(ref: SettingRef) -> str:
    """The unit of a service or timer.

    Raises:
        ComputerError: no unit can be called so.
    """
    unit = unit_name(ref.key)
    if not unit:
        raise ComputerError(f"{plain(ref.key)} is no name of a service.", "`lumtak audit local` lists them.")
    return unit


def _of_root(ref: SettingRef, state: State) -> str:
    return why_no_state(ref.area, ref.key, state.exact or {}, state.around)


_KINDS: dict[str, tuple[tuple[str, ...], Callable[[SettingRef, State], str]]] = {
    "absent": (("apps", "effects"), _absent),
    "file": (("apps", "effects"), _file),
    "link": (("apps", "effects"), _link),
    **dict.fromkeys(OF_ROOT, (("services", "memory", "power"), _of_root)),
    "gsettings": (("effects",), _desktop_key),
    "sandbox": (("apps",), _permission),
}
"""The areas in which a kind is found, and what it looks like."""
