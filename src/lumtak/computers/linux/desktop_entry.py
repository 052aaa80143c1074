"""Desktop entry files, as far as autostart needs them (Desktop Entry Specification 1.5)."""

import re
from collections.abc import Callable, Sequence

_HEADER = b"[Desktop Entry]"
_MOST_LINES = 5000
_LONGEST_COMMAND = 4096
_BEFORE = {"env", "nice", "ionice", "setsid", "nohup"}
_SHELLS = {"sh", "bash", "dash"}
_BY_UNIT = (
    ("X-GNOME-HiddenUnderSystemd", "GNOME", "/usr/lib/systemd/user/gnome-session-manager@.service"),
    ("X-systemd-skip", "KDE", "/usr/lib/systemd/user/plasma-workspace.target"),
)
"""(what an entry says, on which desktop, the unit that manages it): the session then passes
over the entry, and starts a user unit of the same program; systemd-xdg-autostart-generator(8)."""
_SWITCH = "X-GNOME-Autostart-enabled"


def read_entry(data: bytes) -> dict[str, str]:
    """Keys of the main group, localised ones left out; of a key given twice the first counts."""
    keys: dict[str, str] = {}
    inside = False
    for raw in data.split(b"\n")[:_MOST_LINES]:
        line = raw.strip()
        if line.startswith(b"["):
            if inside:
                break
            inside = line == _HEADER
        elif inside and b"=" in line and not line.startswith(b"#"):
            key, _, value = line.partition(b"=")
            name = key.strip().decode("utf-8", "replace")
            if "[" not in name:
                keys.setdefault(name, value.strip().decode("utf-8", "replace"))
    return keys


def is_off(data: bytes) -> bool:
    """Whether the entry says that it does not start.

    Hidden, or the switch that several desktops' own settings write.
    """
    entry = read_entry(data)
    return entry.get("Hidden", "").lower() in {"true", "1"} or entry.get(_SWITCH, "").lower() in {
        "false",
        "0",
    }


def never_here(
    entry: dict[str, str], desktops: Sequence[str], there: Callable[[str], bool], config_home: str
) -> str:
    """Why an entry that is on does not start at this login, as a clause.

    Empty where it does, or where that cannot be told.

    Args:
        entry: from `read_entry`.
        desktops: names of the desktop that is used, as XDG_CURRENT_DESKTOP has them; empty where it
            is not known.
        there: whether a program or file is on the computer, by its name or path.
        config_home: the user's configuration folder.
    """
    if elsewhere := _elsewhere(entry, desktops):
        return elsewhere
    for switch, desktop, manager in _BY_UNIT:
        is_skipped = entry.get(switch, "").lower() == "true" and desktop in desktops
        if is_skipped and there(manager):
            return "does not start by this entry: the session starts its unit instead"
    if (program := entry.get("TryExec")) and not there(program):
        return f"does not start, since {program} is not installed"
    condition, _, what = entry.get("AutostartCondition", "").partition(" ")
    path = f"{config_home}/{what.strip()}"
    match condition.lower():
        case "if-exists" if what and not there(path):
            return f"does not start until {path} is there"
        case "unless-exists" if what and there(path):
            return f"does not start while {path} is there"
    return ""


def _elsewhere(entry: dict[str, str], desktops: Sequence[str]) -> str:
    """Why it does not start on this desktop, as a clause; see `never_here`."""
    only, never = (_listed(entry.get(name, "")) for name in ("OnlyShowIn", "NotShowIn"))
    mine = {d.lower() for d in desktops}
    if mine and only and mine.isdisjoint(only):
        return f"starts only on {', '.join(entry['OnlyShowIn'].strip(';').split(';'))}"
    if not mine.isdisjoint(never):
        return f"does not start on {', '.join(desktops)}"
    return ""


def _listed(value: str) -> list[str]:
    return [v.strip().lower() for v in value.split(";") if v.strip()]


def with_hidden(data: bytes, *, hidden: bool) -> bytes:
    """The file with Hidden set in its main group, every other byte as it was.

    To show it, the desktops' switch is set too where it is off.
    """
    if not hidden and read_entry(data).get(_SWITCH, "").lower() in {"false", "0"}:
        data = re.sub(
            rb"(?m)^([ \t]*%s[ \t]*=[ \t]*)(?:false|0)" % _SWITCH.encode(),
            rb"\1true",
            data,
            count=1,
            flags=re.IGNORECASE,
        )
    setting = b"Hidden=" + (b"true" if hidden else b"false")
    lines = data.split(b"\n")
    header, found = _where_hidden_stands(lines)
    # A file without the group starts nothing; what it says otherwise stays below.
    if header is None:
        return _HEADER + b"\n" + setting + b"\n" + data
    like = lines[header if found is None else found]
    line = setting + (b"\r" if like.endswith(b"\r") else b"")
    if found is None:
        lines.insert(header + 1, line)
    else:
        lines[found] = line
    return b"\n".join(lines)


def _where_hidden_stands(lines: list[bytes]) -> tuple[int | None, int | None]:
    """(line of the main group's header, line of Hidden in it), from 0; None where there is none."""
    header = None
    for number, raw in enumerate(lines):
        line = raw.strip()
        if line.startswith(b"["):
            if header is not None:
                break
            if line == _HEADER:
                header = number
        elif header is not None and re.match(rb"Hidden\s*=", line):
            return header, number
    return header, None


def command_of(entry: dict[str, str]) -> tuple[tuple[str, ...], str]:
    """(what Exec runs: the program and its arguments, the shell that it is run through, if one is
    named).

    Field codes are left out (Desktop Entry Specification, the Exec key): at login no file is handed
    over. Programs that only set something up before they run another one are passed over. Nothing
    where it cannot be told.
    """
    found = re.findall(r'"((?:[^"\\]|\\.)*)"|(\S+)', entry.get("Exec", "")[:_LONGEST_COMMAND])
    words = [re.sub(r"\\(.)", r"\1", quoted) if quoted else bare for quoted, bare in found]
    words = [re.sub(r"%%", "%", w) for w in words if not re.fullmatch(r"%[a-zA-Z]", w)]
    shell = ""
    while words:
        base = words[0].rsplit("/", 1)[-1]
        if base in _SHELLS:
            shell = base
        elif base not in _BEFORE and "=" not in words[0] and not words[0].startswith("-"):
            break
        words = words[1:]
    return tuple(words), shell


def program_of(entry: dict[str, str]) -> str:
    """Base name of the program that Exec starts; empty when it cannot be told."""
    words, _ = command_of(entry)
    return words[0].rsplit("/", 1)[-1] if words else ""
