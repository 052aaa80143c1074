"""Visual effects of desktops that keep them in files of the user.

One setting a file, so that each file is put back to the byte.
"""

import posixpath
import re
from typing import Literal, NamedTuple

from lumtak.computers.hands.desktops import FAMILIES
from lumtak.computers.hands.reach import Reach, text_at
from lumtak.computers.hands.states import File, InFolder
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.adapter import Listed, Look
from lumtak.computers.linux.folder import InFiles, UserFolder
from lumtak.computers.linux.hardware import desktops_of, sessions
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError, LumtakError


class FileKey(NamedTuple):
    """One setting in a file."""

    effect: str
    title: str
    program: str
    """Whose presence says that the desktop is here."""
    folder: str
    """Under the user's configuration folder."""
    file: str
    form: Literal["ini", "xml"]
    group: str
    """Of an INI file; in XML the property that holds this one, empty for the channel itself."""
    name: str
    on: str
    off: str
    kind: str = "bool"
    """The type that XML says."""


def _xfce(
    effect: str,
    title: str,
    file: str,
    group: str,
    name: str,
    on: str = "true",
    off: str = "false",
    kind: str = "bool",
) -> FileKey:
    return FileKey(effect, title,
    "xfconfd" if file == "xsettings.xml" else "xfwm4" if file == "xfwm4.xml" else "thunar",
                   "xfce4/xfconf/xfce-perchannel-xml", file, "xml", group, name, on, off,
                   kind)  # fmt: skip


KEYS = (
    FileKey("animations", "Animations", "plasmashell", "", "kdeglobals", "ini", "KDE",
    "AnimationDurationFactor", "1", "0"),
    FileKey("compositing", "Window compositing", "kwin_x11", "", "kwinrc", "ini", "Compositing",
    "Enabled", "true", "false"),
    FileKey("transparency", "Blur behind glass", "plasmashell", "", "kwinrc", "ini", "Plugins",
    "blurEnabled", "true", "false"),
    FileKey("shadows", "Window shadows", "plasmashell", "", "breezerc", "ini", "Common",
    "ShadowSize", "ShadowLarge", "ShadowNone"),
    FileKey("cursor-blinking", "Blinking cursor", "plasmashell", "", "kdeglobals", "ini", "KDE",
    "CursorBlinkRate", "1000", "0"),
    FileKey("smooth-fonts", "Smooth fonts", "plasmashell", "", "kdeglobals", "ini", "General",
    "XftAntialias", "true", "false"),
    _xfce("compositing", "Window compositing", "xfwm4.xml", "general", "use_compositing"),
    _xfce("shadows", "Window shadows", "xfwm4.xml", "general", "show_frame_shadow"),
    _xfce("cursor-blinking", "Blinking cursor", "xsettings.xml", "Net", "CursorBlink"),
    _xfce("event-sounds", "Sounds of events", "xsettings.xml", "Net", "EnableEventSounds"),
    _xfce("smooth-fonts", "Smooth fonts", "xsettings.xml", "Xft", "Antialias", "1", "0", "int"),
    _xfce("thumbnails", "Thumbnails", "thunar.xml", "", "misc-thumbnail-mode",
    "THUNAR_THUMBNAIL_MODE_ONLY_LOCAL", "THUNAR_THUMBNAIL_MODE_NEVER",
          "string"),
)  # fmt: skip
"""Two desktops; their own documentation names these keys."""
_FILES = {"ini": "KDE", "xml": "XFCE"}
"""What the desktop that keeps its effects in such files calls itself (Desktop Menu Specification,
registered names)."""
_SHOWN = "compositing"
_XML = (
    '<?xml version="1.0" encoding="UTF-8"?>\n\n<channel name="{channel}"'
    ' version="1.0">\n</channel>\n'
)
_PROGRAMS = (
    "/usr/bin",
    "/usr/lib/xfce4/xfconf",
    "/usr/lib/x86_64-linux-gnu/xfce4/xfconf",
    "/usr/lib/aarch64-linux-gnu/xfce4/xfconf",
    "/usr/libexec/xfce4/xfconf",
)
_HELD = (
    "the user's desktop runs and would write over it; log its user out, then change it from a"
    " console with --user"
)
_BY_HAND = "Nothing was changed; change it in the desktop's own settings."
_KEEPER = "xfconfd"
"""Holds the XML files' settings in memory while its user is logged in, and writes the files
anew."""


class EffectFiles(InFiles):
    """Effects of one user's desktop that stand in files."""

    area = "effects"

    def has(self, ref: SettingRef) -> bool:
        """Whether this effect is kept in a file here."""
        return super().has(ref) and any(
            key.effect == ref.key for key in file_keys(self._hand, self._user)
        )

    def items(self, look: Look) -> Listed:
        """What the desktops that are here keep in files."""
        items = []
        keys = look.once(file_keys, self._hand, self._user)
        held = self._held() if any(k.form == "xml" for k in keys) else False
        for key in keys:
            try:
                value = self._value(key, self._folder(key).content(key.file))
            except LumtakError:
                continue
            items.append(
                Item(
                    area="effects",
                    key=key.effect,
                    title=key.title,
                    origin="system",
                    value=value,
                    running=value != "off",
                    setting=(
                        Fixed(needed=_HELD)
                        if key.form == "xml" and held
                        else Setting(values=("on", "off"), shows="login")
                    ),
                    note=f"{key.file}, {key.name}",
                )
            )
        return Listed(items)

    def _held(self) -> bool:
        """Whether the desktop's own keeper of settings runs for this user.

        It would write over the file.
        """
        for pid in self._hand.names("/proc"):
            if pid.isdigit() and text_at(self._hand, f"/proc/{pid}/comm") == _KEEPER:
                uid = re.search(r"(?m)^Uid:\s+(\d+)", text_at(self._hand, f"/proc/{pid}/status"))
                if uid and int(uid[1]) == self._user.uid:
                    return True
        return False

    def _folder(self, key: FileKey) -> UserFolder:
        return UserFolder(
            self._of_user, posixpath.join(self._user.config_home, key.folder).rstrip("/")
        )

    @staticmethod
    def _value(key: FileKey, data: bytes | None) -> str | None:
        raw = None if data is None else _get(key, data)
        if raw is None:
            return None
        return "off" if raw == key.off else "on"

    # -- the setting -------------------------------------------------------------------------------

    def _key(self, ref: SettingRef) -> FileKey:
        key = next((k for k in file_keys(self._hand, self._user) if k.effect == ref.key), None)
        if key is None:
            raise ComputerError(
                f"{plain(ref.key)} is no effect of this desktop.", "Audit the computer again."
            )
        return key

    def place(self, ref: SettingRef) -> tuple[UserFolder, str]:
        """See `InFiles.place`."""
        key = self._key(ref)
        return self._folder(key), key.file

    def read(self, ref: SettingRef) -> State:
        """On, off or unset, with the file exactly as it is."""
        folder, name = self.place(ref)
        return State(
            value=self._value(self._key(ref), folder.content(name)), exact=folder.exact(name)
        )

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The file with that one value, every other byte as it was."""
        key = self._key(ref)
        folder, name = self.place(ref)
        now, data = folder.exact(name), folder.content(name)
        if data is None:
            data = (
                _XML.format(channel=name.removesuffix(".xml")).encode()
                if key.form == "xml"
                else b""
            )
        mode = now.mode if isinstance(now, File) else 0o600
        changed = _set(key, data, key.off if value == "off" else key.on)
        if self._value(key, changed) != value:
            raise ComputerError(
                f"{ref} cannot be changed: {plain(name)} has not the form that its desktop writes.",
                _BY_HAND,
            )
        return State(value=value, exact=folder.file(name, changed, mode))

    def write(self, ref: SettingRef, exact: InFolder) -> None:
        """See `InFiles.write`; not while the desktop would write over it."""
        if self._key(ref).form == "xml" and self._held():
            raise ComputerError(f"{ref} cannot be changed: {_HELD}.", "Nothing was changed.")
        super().write(ref, exact)


def file_keys(hand: Reach, user: User) -> list[FileKey]:
    """Those of the desktop whose session the user runs; of all that are here where nobody tells.

    A desktop may ship the window manager of another, whose files count for nothing then. Under
    Wayland nothing is shown without compositing, so that this is no choice.
    """
    used = set(desktops_of(hand, user))
    wayland = [s.get("TYPE") for s in sessions(hand, user.uid) or []][-1:] == ["wayland"]
    stores = {*_FILES.values(), *(name for family in FAMILIES for name in family.desktops)}
    found: dict[str, FileKey] = {}
    for key in KEYS:
        if (used & stores and _FILES[key.form] not in used) or (wayland and key.effect == _SHOWN):
            continue
        if any(hand.exists(f"{folder}/{key.program}") for folder in _PROGRAMS):
            found.setdefault(key.effect, key)
    return list(found.values())


class _Place(NamedTuple):
    """Where a value stands in a file, or would."""

    start: int
    end: int
    """Of the value; equal where there is none."""
    before: bytes
    after: bytes
    """What is written around a value that is not there yet."""
    there: bool


def _get(key: FileKey, data: bytes) -> str | None:
    place = _find(key, data)
    return data[place.start : place.end].decode("utf-8", "replace") if place.there else None


def _set(key: FileKey, data: bytes, value: str) -> bytes:
    """The same bytes with this value.

    Where the key was not there, it is added at the least surprising place.
    """
    place = _find(key, data)
    return data[: place.start] + place.before + value.encode() + place.after + data[place.end :]


def _find(key: FileKey, data: bytes) -> _Place:
    return _find_in_xml(key, data) if key.form == "xml" else _find_in_ini(key, data)


def _find_in_ini(key: FileKey, data: bytes) -> _Place:
    """Of a key given twice the last counts, in whichever part of its group it stands."""
    header, name = b"[%s]" % key.group.encode(), key.name.encode()
    inside, at = False, 0
    below: int | None = None
    found: _Place | None = None
    for line in re.findall(rb"[^\n]*\n|[^\n]+", data):
        words = line.strip()
        # A group may stand in several parts: each of them counts.
        if words.startswith(b"["):
            inside = words == header
            if inside:
                below = at + len(line)
        elif inside and b"=" in line and line.partition(b"=")[0].strip() == name:
            rest = line.partition(b"=")[2]
            start = at + len(line) - len(rest.lstrip(b" \t"))
            found = _Place(start, start + len(rest.strip()), b"", b"", there=True)
        at += len(line)
    if found is not None:
        return found
    if below is not None:
        gap = b"" if data[:below].endswith(b"\n") else b"\n"
        return _Place(below, below, gap + name + b"=", b"\n", there=False)
    gap = _blank_line_after(data)
    return _Place(at, at, gap + header + b"\n" + name + b"=", b"\n", there=False)


def _blank_line_after(data: bytes) -> bytes:
    """What a new group needs before it, so that a blank line parts it from what is there."""
    if not data or data.endswith(b"\n\n"):
        return b""
    return b"\n" if data.endswith(b"\n") else b"\n\n"


_TAG = re.compile(rb"<(/?)property\b([^<>]*)>[ \t]*\n?")


def _find_in_xml(key: FileKey, data: bytes) -> _Place:
    """The property that stands in the one that holds it, or in the channel itself.

    One of the same name elsewhere is another.
    """
    wanted = [n.encode() for n in (key.group, key.name) if n]
    inside: list[bytes] = []
    holder: re.Match[bytes] | None = None
    for tag in _TAG.finditer(data):
        if tag[1]:
            del inside[-1:]
            continue
        path = [*inside, _attribute(tag[2], b"name")[0]]
        if path == wanted and (value := _attribute(tag[2], b"value"))[1] >= 0:
            start = tag.start(2) + value[1]
            return _Place(start, start + len(value[0]), b"", b"", there=True)
        if path == wanted[:-1] and holder is None:
            holder = tag
        if not tag[2].endswith(b"/"):
            inside = path
    return _new_in_xml(key, data, holder)


def _attribute(words: bytes, name: bytes) -> tuple[bytes, int]:
    """(value, where it begins) of an attribute; nothing, and -1 where there is none."""
    found = re.search(rb'\b%s="([^"]*)"' % name, words)
    return (found[1], found.start(1)) if found else (b"", -1)


def _new_in_xml(key: FileKey, data: bytes, holder: re.Match[bytes] | None) -> _Place:
    """Where a property is added.

    First in the one that holds it, which is made where it is not there.
    """
    inside = b"    " if key.group else b"  "
    before = b'%s<property name="%s" type="%s" value="' % (
        inside,
        key.name.encode(),
        key.kind.encode(),
    )
    if holder is not None and holder[2].endswith(b"/"):  # it is there, and holds nothing
        return _Place(
            holder.end(2) - 1,
            holder.end(2) + 1,
            b">\n" + before,
            b'"/>\n  </property>',
            there=False,
        )
    if holder is not None:
        return _Place(holder.end(), holder.end(), before, b'"/>\n', there=False)
    end = data.rfind(b"</channel>") if b"</channel>" in data else len(data)
    if not key.group:
        return _Place(end, end, before, b'"/>\n', there=False)
    opening = b'  <property name="%s" type="empty">\n' % key.group.encode()
    return _Place(end, end, opening + before, b'"/>\n  </property>\n', there=False)
