"""Desktop entry files, as far as autostart needs them (Desktop Entry Specification 1.5)."""

import re

_HEADER = b"[Desktop Entry]"
_MOST_LINES = 5000


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


def is_hidden(data: bytes) -> bool:
    """Whether the entry is to be treated as not there."""
    return read_entry(data).get("Hidden", "").lower() in {"true", "1"}


def with_hidden(data: bytes, *, hidden: bool) -> bytes:
    """The file with Hidden set in its main group, every other byte as it was."""
    setting = b"Hidden=" + (b"true" if hidden else b"false")
    lines = data.split(b"\n")
    inside, header = False, None
    for number, raw in enumerate(lines):
        line = raw.strip()
        if line.startswith(b"["):
            if inside:
                break
            if line == _HEADER:
                inside, header = True, number
        elif inside and re.match(rb"Hidden\s*=", line):
            lines[number] = setting + (b"\r" if raw.endswith(b"\r") else b"")
            return b"\n".join(lines)
    if header is None:
        return _HEADER + b"\n" + setting + b"\n" + data
    ending = b"\r" if lines[header].endswith(b"\r") else b""
    lines.insert(header + 1, setting + ending)
    return b"\n".join(lines)


def program_of(entry: dict[str, str]) -> str:
    """Base name of the program that Exec starts; empty when it cannot be told."""
    words = re.findall(r'"((?:[^"\\]|\\.)*)"|(\S+)', entry.get("Exec", ""))
    for quoted, bare in words:
        word: str = quoted or bare
        base: str = word.rsplit("/", 1)[-1]
        if base in {"env", "sh", "bash", "nice", "ionice"} or "=" in word or word.startswith("-"):
            continue
        return base
    return ""
