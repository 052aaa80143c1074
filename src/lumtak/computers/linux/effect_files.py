"""Settings of desktops that keep them in files of groups and keys.

One setting a file, so that each file is put back to the byte.
"""

import posixpath

from lumtak.computers.hands.sent.desktop.desktops import Key
from lumtak.computers.hands.sent.states.states import File
from lumtak.computers.linux.adapter import Listed, Look
from lumtak.computers.linux.desktop import LOCKED, DesktopAdapter, item_of, raw_of, value_of
from lumtak.computers.linux.folder import InFiles, UserFolder
from lumtak.computers.linux.ini_text import Place, find, value_in, with_value, without
from lumtak.core.facts import Gap
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError, LumtakError


class EffectFiles(DesktopAdapter, InFiles):
    """Effects of one user's desktop that stand in files."""

    store = "ini"

    def items(self, look: Look) -> Listed:
        """What the desktop that is here keeps in files."""
        items, gaps = [], []
        for key in self.keys(look):
            try:
                data, default, locked = self._looked_at(key)
            except LumtakError as error:
                why = f"{key.setting} cannot be told: {error.message.rstrip('.')}"
                gaps.append(Gap(area=self.area, reason=why, needed="a look by hand"))
                continue
            items.append(
                item_of(
                    key,
                    value_in(data, _place(key, data)),
                    default,
                    note=f"{key.at}, {key.name}",
                    shows="login",
                    fixed=LOCKED if locked else "",
                    display=self.display(look) if key.force else "",
                )
            )
        return Listed(items, gaps)

    def _looked_at(self, key: Key) -> tuple[bytes, str, bool]:
        """(the user's file, what counts while it says nothing, whether nobody may change it)."""
        folder, name = self._file(key)
        default, locked = key.default, False
        paths = [f"{d}/{key.at}" for d in self._user.config_dirs]
        for data in reversed([d for d in self._hand.read_many(paths) if d]):
            place = _place(key, data)
            default, locked = value_in(data, place) or default, locked or place.locked
        data = folder.content(name) or b""
        return data, default, locked or _place(key, data).locked

    def _file(self, key: Key) -> tuple[UserFolder, str]:
        path, name = posixpath.split(posixpath.join(self._user.config_home, key.at))
        return UserFolder(self._of_user, path), name

    # -- the setting -------------------------------------------------------------------------------

    def place(self, ref: SettingRef) -> tuple[UserFolder, str]:
        """See `InFiles.place`."""
        return self._file(self.key_of(ref))

    def read(self, ref: SettingRef) -> State:
        """On, off or unset, with the file exactly as it is."""
        key = self.key_of(ref)
        folder, name = self._file(key)
        data = folder.content(name) or b""
        return State(
            value=value_of(key, value_in(data, _place(key, data))), exact=folder.exact(name)
        )

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The file with that one value, every other byte as it was."""
        key = self.key_of(ref)
        folder, name = self._file(key)
        if self._looked_at(key)[2]:
            raise ComputerError(f"{ref} cannot be changed: {LOCKED}.", "Nothing was changed.")
        now, data = folder.exact(name), folder.content(name) or b""
        mode = now.mode if isinstance(now, File) else 0o600
        raw = raw_of(key, ref, value)
        changed = (
            with_value(data, _place(key, data), raw) if raw else without(data, key.under, key.name)
        )
        if value_in(changed, _place(key, changed)) != raw:
            raise ComputerError(
                f"{ref} cannot be changed: {plain(name)} has not the form that its desktop writes.",
                "Nothing was changed; change it in the desktop's own settings.",
            )
        return State(value=value, exact=folder.file(name, changed, mode))


class FileIdle(EffectFiles):
    """What such a desktop does when nobody does anything."""

    area = "power"


def _place(key: Key, data: bytes) -> Place:
    return find(data, key.under, key.name)
