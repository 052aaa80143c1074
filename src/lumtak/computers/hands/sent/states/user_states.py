"""Exact states of what is the user's own: files, links, the desktop's settings, permissions."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import List, Optional

from lumtak.computers.hands.sent.desktop.desktop_data import KEYS
from lumtak.computers.hands.sent.desktop.desktops import OLD_PATHS, Key
from lumtak.computers.hands.sent.files.words import unescaped
from lumtak.computers.hands.sent.script.files_shell import FILES
from lumtak.computers.hands.sent.script.shell import (
    CHANNELS,
    DESKTOP,
    PERMISSIONS,
    ScriptPart,
    at,
    quoted,
)
from lumtak.computers.hands.sent.states.exact import Exact


def _key(store: str, setting: str, **parts: str) -> Optional[Key]:
    """The key of a store that keeps a setting, and has these parts; None where none has."""
    for key in KEYS:
        if (key.store, key.setting) == (store, setting) and all(
            getattr(key, name) == value for name, value in parts.items()
        ):
            return key
    return None


_ELSEWHERE = "no desktop that Lumtak knows keeps it there"
_ODD = "its text cannot be stored"


@dataclass(frozen=True)
class InFolder(Exact):
    """What stands at a place in a folder of the user.

    Where that is goes along: the setting says it too.
    """

    areas = ("apps", "effects")
    heads = (FILES,)
    folder: str = field(compare=False)
    """Absolute; as in `words.escaped`, as is everything that names a file."""
    name: str = field(compare=False)
    missing: int = field(compare=False)
    """How many folders were not there before, from the folder upwards."""

    def problem(self, area: str, key: str) -> str:
        """See `Exact.problem`."""
        name = unescaped(self.name)
        if (
            not self.folder.startswith("/")
            or "\0" in unescaped(self.folder)
            or "/" in name
            or "\0" in name
        ):
            return "it does not say in which file it stood"
        if name in {"", ".", ".."} or not 0 <= self.missing < 1000:
            return "it does not say in which file it stood"
        return super().problem(area, key)

    def _problem(self, key: str) -> str:
        return ""

    def alike(self, other: Exact) -> bool:
        """See `Exact.alike`."""
        return isinstance(other, InFolder)

    def preface(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.preface`."""
        return [at(unescaped(self.folder), unescaped(self.name))]


@dataclass(frozen=True)
class Absent(InFolder, kind="absent"):
    """Nothing stands there."""

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"absent"]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b'rm -f "$file"']

    def tidy(self) -> bytes:
        """See `Exact.tidy`."""
        gone = b'rm -f "$kept"'
        return b"{ %s; shed %d; }" % (gone, self.missing) if self.missing else gone


@dataclass(frozen=True)
class File(InFolder, kind="file"):
    """A file."""

    mode: int
    data: bytes

    def _problem(self, key: str) -> str:
        return "" if 0 <= self.mode <= 0o7777 else "its mode is none"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"{ %s | holds %04o; }" % (part.printing(self.data), self.mode)]

    def tidy(self) -> bytes:
        """See `Exact.tidy`."""
        return b"kept_goes"

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"%s | replace %04o" % (part.printing(self.data), self.mode)]


@dataclass(frozen=True)
class Link(InFolder, kind="link"):
    """A link, wherever it leads."""

    target: str

    def _problem(self, key: str) -> str:
        return "" if self.target and "\0" not in unescaped(self.target) else "it leads nowhere"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"points_to %s" % quoted(unescaped(self.target))]

    def tidy(self) -> bytes:
        """See `Exact.tidy`."""
        return b"kept_goes"

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"relink %s" % quoted(unescaped(self.target))]


@dataclass(frozen=True)
class DesktopKey(Exact, kind="gsettings"):
    """A setting of the user's desktop, as GVariant text.

    Empty where it is unset, which is a value of its own.
    """

    areas = ("effects", "power", "storage")
    heads = (DESKTOP,)
    schema: str
    key: str
    path: str
    """Its place in dconf."""
    raw: str

    def __post_init__(self) -> None:
        """A journal of 0.1 may have a place that never was one."""
        super().__post_init__()
        object.__setattr__(self, "path", OLD_PATHS.get(self.path, self.path))

    def _problem(self, key: str) -> str:
        known = _key("gsettings", key, at=self.schema, name=self.key, path=self.path)
        if known is None:
            return _ELSEWHERE
        return "" if known.fits(self.raw) else _ODD

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"desktop_is %s %s" % (quoted(self.path), quoted(self.raw))]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        where = b"%s %s" % (quoted(self.schema), quoted(self.key))
        return [
            (
                b"gsettings set %s %s" % (where, quoted(self.raw))
                if self.raw
                else b"gsettings reset %s" % where
            )
        ]


@dataclass(frozen=True)
class ChannelKey(Exact, kind="channel"):
    """A property of a channel, which the desktop's own keeper holds while its user is logged in.

    Its text is empty where the user has none of their own. What the file held goes along, so that
    it is put back to the byte where nothing else in it has changed since.
    """

    areas = ("effects", "power")
    heads = (CHANNELS,)
    channel: str
    name: str
    letter: str
    """Of its type (D-Bus)."""
    raw: str
    folder: str = field(compare=False)
    """Of the channel's file; as in `words.escaped`."""
    missing: int = field(compare=False)
    """How many folders were not there, from that one upwards."""
    mode: int = field(compare=False)
    data: Optional[bytes] = field(compare=False)
    """None where the file was not there, or nobody had to read it."""

    def _problem(self, key: str) -> str:
        known = _key("xfconf", key, at=self.channel, name=self.name, kind=self.letter)
        if known is None:
            return _ELSEWHERE
        folder = unescaped(self.folder)
        if not folder.startswith("/") or "\0" in folder or not 0 <= self.missing < 1000:
            return "it does not say in which file it stood"
        return "" if known.fits(self.raw) and 0 <= self.mode <= 0o7777 else _ODD

    def _place(self) -> bytes:
        file = "%s/%s.xml" % (unescaped(self.folder), self.channel)
        return b"%s %s %s %s" % tuple(
            map(quoted, (file, self.channel, self.name, self.name.rpartition("/")[2]))
        )

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"channel_is %s %s %s" % (self._place(), quoted(self.letter), quoted(self.raw))]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"channel %s %s %s" % (self._place(), quoted(self.letter), quoted(self.raw))]


@dataclass(frozen=True)
class Permission(Exact, kind="sandbox"):
    """Whether a program in a sandbox may run in the background: yes, no, ask.

    Empty where nobody was asked yet.
    """

    areas = ("apps",)
    heads = (PERMISSIONS,)
    app: str
    raw: str

    def _problem(self, key: str) -> str:
        fits = key == "sandbox/%s" % self.app and self.raw in {"", "yes", "no", "ask"}
        return "" if fits else "it is a permission of another program, or none"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"may_run_is %s %s" % (quoted(self.app), quoted(self.raw))]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"may_run %s %s" % (quoted(self.app), quoted(self.raw))]
