"""Visual effects of desktops that keep them in files of the user: one setting a file, so that each file is put back to the byte."""

import posixpath
import re
from typing import Literal, NamedTuple

from lumtak.computers.hands.reach import Reach, text_at
from lumtak.computers.hands.states import File, InFolder
from lumtak.computers.linux.adapter import Listed, Look
from lumtak.computers.linux.folder import InFiles, UserFolder
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
    effect: str, title: str, file: str, group: str, name: str, on: str = "true", off: str = "false", kind: str = "bool"
) -> FileKey:
    return FileKey(effect, title, "xfconfd" if file == "xsettings.xml" else "xfwm4" if file == "xfwm4.xml" else "thunar",
                   "xfce4/xfconf/xfce-perchannel-xml", file, "xml", group, name, on, off, kind)  # fmt: skip


KEYS = (
    FileKey("animations", "Animations", "plasmashell", "", "kdeglobals", "ini", "KDE", "AnimationDurationFactor", "1", "0"),
    FileKey("compositing", "Window compositing", "kwin_x11", "", "kwinrc", "ini", "Compositing", "Enabled", "true", "false"),
    FileKey("transparency", "Blur behind glass", "plasmashell", "", "kwinrc", "ini", "Plugins", "blurEnabled", "true", "false"),
    FileKey("shadows", "Window shadows", "plasmashell", "", "breezerc", "ini", "Common", "ShadowSize", "ShadowLarge", "ShadowNone"),
    FileKey("cursor-blinking", "Blinking cursor", "plasmashell", "", "kdeglobals", "ini", "KDE", "CursorBlinkRate", "1000", "0"),
    FileKey("smooth-fonts", "Smooth fonts", "plasmashell", "", "kdeglobals", "ini", "General", "XftAntialias", "true", "false"),
    _xfce("compositing", "Window compositing", "xfwm4.xml", "general", "use_compositing"),
    _xfce("shadows", "Window shadows", "xfwm4.xml", "general", "show_frame_shadow"),
    _xfce("cursor-blinking", "Blinking cursor", "xsettings.xml", "Net", "CursorBlink"),
    _xfce("event-sounds", "Sounds of events", "xsettings.xml", "Net", "EnableEventSounds"),
    _xfce("smooth-fonts", "Smooth fonts", "xsettings.xml", "Xft", "Antialias", "1", "0", "int"),
    _xfce("thumbnails", "Thumbnails", "thunar.xml", "", "misc-thumbnail-mode", "THUNAR_THUMBNAIL_MODE_ONLY_LOCAL", "THUNAR_THUMBNAIL_MODE_NEVER",
          "string"),
)  # fmt: skip
"""Two desktops; their own documentation names these keys."""
_XML = '<?xml version="1.0" encoding="UTF-8"?>\n\n<channel name="{channel}" version="1.0">\n</channel>\n'
_PROGRAMS = (
    "/usr/bin",
    "/usr/lib/xfce4/xfconf",
    "/usr/lib/x86_64-linux-gnu/xfce4/xfconf",
    "/usr/lib/aarch64-linux-gnu/xfce4/xfconf",
    "/usr/libexec/xfce4/xfconf",
)
_HELD = "the user's desktop runs and would write over it; log its user out, then change it from a console with --user"
_KEEPER = "xfconfd"
"""Holds the XML files' settings in memory while its user is logged in, and writes the files anew."""


class EffectFiles(InFiles):
    """Effects of one user's desktop that stand in files."""

    area = "effects"

    def has(self, ref: SettingRef) -> bool:
        """Whether this effect is kept in a file here."""
        return super().has(ref) and any(key.effect == ref.key for key in file_keys(self._hand))

    def items(self, look: Look) -> Listed:
        """What the desktops that are here keep in files."""
        items = []
        keys = look.once(file_keys, self._hand)
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
                    setting=Fixed(needed=_HELD)
                    if key.form == "xml" and held
                    else Setting(values=("on", "off"), shows="login"),
                    note=f"{key.file}, {key.name}",
                )
            )
        return Listed(items)

    def _held(self) -> bool:
        """Whether the desktop's own keeper of settings runs for this user: it would write over the file."""
        for pid in self._hand.names("/proc"):
            if pid.isdigit() and text_at(self._hand, f"/proc/{pid}/comm") == _KEEPER:
                uid = re.search(r"(?m)^Uid:\s+(\d+)", text_at(self._hand, f"/proc/{pid}/status"))
                if uid and int(uid[1]) == self._user.uid:
                    return True
        return False

    def _folder(self, key: FileKey) -> UserFolder:
        return UserFolder(self._of_user, posixpath.join(self._user.config_home, key.folder).rstrip("/"))

    @staticmethod
    def _value(key: FileKey, data: bytes | None) -> str | None:
        raw = None if data is None else _get(key, data)
        if raw is None:
            return None
        return "off" if raw == key.off else "on"

    # -- the setting --------------------------------------------------------------------------------------------------

    def _key(self, ref: SettingRef) -> FileKey:
        key = next((k for k in file_keys(self._hand) if k.effect == ref.key), None)
        if key is None:
            raise ComputerError(f"{plain(ref.key)} is no effect of this desktop.", "Audit the computer again.")
        return key

    def place(self, ref: SettingRef) -> tuple[UserFolder, str]:
        """See `InFiles.place`."""
        key = self._key(ref)
        return self._folder(key), key.file

    def read(self, ref: SettingRef) -> State:
        """On, off or unset, with the file exactly as it is."""
        folder, name = self.place(ref)
        return State(value=self._value(self._key(ref), folder.content(name)), exact=folder.exact(name))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The file with that one value, every other byte as it was."""
        key = self._key(ref)
        folder, name = self.place(ref)
        now, data = folder.exact(name), folder.content(name)
        if data is None:
            data = _XML.format(channel=name.removesuffix(".xml")).encode() if key.form == "xml" else b""
        mode = now.mode if isinstance(now, File) else 0o600
        return State(value=value, exact=folder.file(name, _set(key, data, key.off if value == "off" else key.on), mode))

    def write(self, ref: SettingRef, exact: InFolder) -> None:
        """See `InFiles.write`; not while the desktop would write over it."""
        if self._key(ref).form == "xml" and self._held():
            raise ComputerError(f"{ref} cannot be changed: {_HELD}.", "Nothing was changed.")
        super().write(ref, exact)


def file_keys(hand: Reach) -> list[FileKey]:
    """Those of the desktops that are here."""
    found: dict[str, FileKey] = {}
    for key in KEYS:
        if any(hand.exists(f"{folder}/{key.program}") for folder in _PROGRAMS):
            found.setdefault(key.effect, key)
    return list(found.values())


def _pattern(key: FileKey) -> re.Pattern[bytes]:
    name = re.escape(key.name.encode())
    if key.form == "xml":
        return re.compile(rb'(<property name="%s" type="\w+" value=")([^"]*)(")' % name)
    group = re.escape(key.group.encode())
    return re.compile(
        rb"(?ms)(^\[%s\]\s*?\n(?:(?!\[)[^\n]*\n)*?%s[ \t]*=[ \t]*)([^\n]*?)([ \t]*(?:\n|\Z))" % (group, name)
    )


def _get(key: FileKey, data: bytes) -> str | None:
    found = _pattern(key).search(data)
    return found[2].decode("utf-8", "replace") if found else None


def _set(key: FileKey, data: bytes, value: str) -> bytes:
    """The same bytes with this value; where the key was not there, it is added at the least surprising place."""
    pattern = _pattern(key)
    if pattern.search(data):
        return pattern.sub(lambda m: m[1] + value.encode() + m[3], data, count=1)
    if key.form == "xml":
        return _added(key, data, value)
    line = f"{key.name}={value}\n".encode()
    group = re.search(rb"(?m)^\[%s\][ \t]*\n" % re.escape(key.group.encode()), data)
    if group:
        return data[: group.end()] + line + data[group.end() :]
    gap = b"" if not data or data.endswith(b"\n\n") else b"\n" if data.endswith(b"\n") else b"\n\n"
    return data + gap + f"[{key.group}]\n".encode() + line


def _added(key: FileKey, data: bytes, value: str) -> bytes:
    """The XML with the property added: first in the one that holds it, which is made where it is not there."""
    inside = "    " if key.group else "  "
    line = f'{inside}<property name="{key.name}" type="{key.kind}" value="{value}"/>\n'.encode()
    if not key.group:
        return data.replace(b"</channel>", line + b"</channel>", 1)
    group = re.search(rb'<property name="%s" type="empty">[ \t]*\n?' % re.escape(key.group.encode()), data)
    if group:
        return data[: group.end()] + line + data[group.end() :]
    whole = b'  <property name="%s" type="empty">\n%s  </property>\n' % (key.group.encode(), line)
    return data.replace(b"</channel>", whole + b"</channel>", 1)
