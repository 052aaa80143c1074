"""Background apps that start at login (XDG Autostart Specification 0.5), and switching them off by
the user's own override.
"""

import contextlib
import posixpath
from typing import NamedTuple

import msgspec

from lumtak.computers.hands.sent.files.words import escaped, unescaped
from lumtak.computers.hands.sent.states.states import File
from lumtak.computers.hands.sent.units.entries import names_in
from lumtak.computers.hands.sent.units.resolving import Gap as Unseen
from lumtak.computers.linux.adapter import Counted, Listed, Look, Means, gap_of
from lumtak.computers.linux.desktop_entry import (
    command_of,
    is_off,
    never_here,
    program_of,
    read_entry,
    with_hidden,
)
from lumtak.computers.linux.folder import InFiles, UserFolder
from lumtak.computers.linux.login_starts import PROGRAM_FOLDERS, LoginStart
from lumtak.computers.linux.session import desktops_of
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError, LumtakError

_ENDING = ".desktop"
_PHASES = {"EarlyInitialization", "PreDisplayServer", "DisplayServer", "Initialization",
           "WindowManager", "Panel", "Desktop"}  # fmt: skip
"""Of a session, in which it waits for what starts; GNOME session manager, gnome-session(1)."""
_AT_LOGIN, _FROM_THE_LIST = "starts at login", "starts at login, from the system's list"
_LONGEST_DELAY_S = 3600
_MOST_OF_ONE, _MOST_OF_ALL = 1 << 16, 1 << 22
"""Bytes of an entry, and of all of them in one look: what is beyond is listed, and not read."""


class _Entries(NamedTuple):
    """One look at them."""

    items: list[Item]
    starts: list[LoginStart]
    gaps: list[Unseen]
    replaced: set[str]
    """Consumers whose entry of the system's the user's own replaces with another program."""


class Autostart(InFiles):
    """The entries of one user."""

    area = "apps"

    def __init__(self, means: Means) -> None:
        super().__init__(means)
        self._own = UserFolder(means.of_user, posixpath.join(means.user.config_home, "autostart"))

    # -- what there is -----------------------------------------------------------------------------

    def counts(self, look: Look) -> Counted:
        """What the entries start."""
        return Counted(starts=tuple(look.once(self._entries).starts))

    def items(self, look: Look) -> Listed:
        """All entries, the user's before the system's."""
        found = look.once(self._entries)
        items, folders = found.items, self._user.config_dirs[:1]
        gaps = [gap_of("apps", gap) for gap in found.gaps]
        return Listed(
            items,
            gaps=gaps,
            paths={
                i.consumer: f"{f}/autostart/{i.key}{_ENDING}"
                for f in folders
                for i in items
                if i.consumer not in found.replaced
            },
        )

    def _entries(self) -> _Entries:
        """Every entry that was looked at; of a folder that holds too many, the first."""
        origins: dict[str, bool] = {}
        gaps: list[Unseen] = []
        folders = [(self._hand, f"{d}/autostart") for d in reversed(self._user.config_dirs)]
        for hand, folder in (*folders, (self._of_user, self._own.path)):
            names, gap = names_in(hand, folder)
            origins |= dict.fromkeys(names, folder == self._own.path)
            gaps += [gap] if gap else []
        items, starts, desktops = [], list[LoginStart](), desktops_of(self._hand, self._user)
        replaced: set[str] = set()
        left = _MOST_OF_ALL
        # The system's first: nobody pushes them out of sight by many of their own.
        for name, own in sorted(origins.items(), key=lambda one: (one[1], one[0])):
            if left <= 0:
                items.append(
                    _unread(
                        name,
                        f"login entries here hold more than {_MOST_OF_ALL >> 20} MiB; look at them"
                        " by hand",
                    )
                )
                continue
            item, start, size = self._item(name, desktops, own=own)
            left -= size
            items.append(item)
            if own and self._replaces(name):
                replaced.add(item.consumer)
            starts += [start] if start else []
        return _Entries(items, starts, gaps, replaced)

    def _replaces(self, name: str) -> bool:
        """Whether the user's own entry of this name says by itself what is started."""
        with contextlib.suppress(LumtakError):
            return bool(read_entry(self._own.content(name, _MOST_OF_ONE) or b"").get("Exec"))
        return False

    def _item(
        self, name: str, desktops: list[str], *, own: bool
    ) -> tuple[Item, LoginStart | None, int]:
        """(item, what it starts, bytes that were read for it)."""
        key = escaped(name.removesuffix(_ENDING))
        try:
            own_data, system_data = self._own.content(name, _MOST_OF_ONE), self._system_data(name)
        except LumtakError as error:
            return _unread(name, f"{error.message} {error.next_step}"), None, _MOST_OF_ONE
        first = own_data if own_data is not None else (system_data or b"")
        entry = read_entry(first)
        # An override may hold nothing but Hidden: name and program then stand in the system's file.
        shown = entry if entry.get("Exec") or system_data is None else read_entry(system_data)
        item = self._as_item(key, shown, packaged=system_data is not None, own=own)
        if own_data is not None:  # a name is easily taken: what is started has to be the system's
            role = self._identity.role_of_command(item.role, shown.get("Exec", ""))
            item = msgspec.structs.replace(item, role=role)
        if is_off(first):
            item = msgspec.structs.replace(item, value="off")
        elif never := never_here(shown, desktops, self._is_there, self._user.config_home):
            item = _never_starting(item, plain(never))
        return item, self._start(item, shown), len(own_data or b"") + len(system_data or b"")

    def _as_item(self, key: str, shown: dict[str, str], *, packaged: bool, own: bool) -> Item:
        """An entry that is on."""
        return Item(
            area="apps",
            key=key,
            title=plain(shown.get("Name", "") or key),
            origin="package" if packaged else "user",
            role=self._catalogue.role_for("apps", key, names=(program_of(shown),)),
            value="on",
            at_login=True,
            started_by=_AT_LOGIN if own and not packaged else _FROM_THE_LIST,
            setting=Setting(values=("on", "off"), shows="login"),
            note=plain(shown.get("Comment", "")),
            evidence=("phase",) if shown.get("X-GNOME-Autostart-Phase") in _PHASES else (),
        )

    def _start(self, item: Item, shown: dict[str, str]) -> LoginStart | None:
        """What the entry starts; None where it names no program."""
        runs, shell = command_of(shown)
        if not runs:
            return None
        delay_s = min(number(shown.get("X-GNOME-Autostart-Delay")) or 0, _LONGEST_DELAY_S)
        return LoginStart(item.consumer, runs, shell, self._user.uid, delay_s)

    def _is_there(self, name: str) -> bool:
        places = (
            [name] if name.startswith("/") else [f"{folder}/{name}" for folder in PROGRAM_FOLDERS]
        )
        return any(self._of_user.exists(p) for p in places)  # as the user, who wrote where to look

    def _system_data(self, name: str) -> bytes | None:
        for folder in self._user.config_dirs:
            try:
                return self._hand.read(f"{folder}/autostart/{name}")
            except FileNotFoundError:
                continue
            except OSError:
                return None
        return None

    # -- the setting -------------------------------------------------------------------------------

    def place(self, ref: SettingRef) -> tuple[UserFolder, str]:
        """See `InFiles.place`."""
        name = unescaped(ref.key) + _ENDING
        if not _is_entry(name):
            raise ComputerError(
                f"{plain(ref.key)} is no name of an autostart entry.",
                "`lumtak audit local` lists them.",
            )
        return self._own, name

    def read(self, ref: SettingRef) -> State:
        """On or off, with the user's override exactly as it is.

        Raises:
            ComputerError: there is no such entry any more, or it cannot be read.
        """
        own, name = self.place(ref)
        data = own.content(name, _MOST_OF_ONE)
        data = data if data is not None else self._system_data(name)
        value = None if data is None else "off" if is_off(data) else "on"
        return State(value=value, exact=own.exact(name))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """On or off by an override in the user's folder, to the byte.

        Off: the user's file, made from the system's where there is none, says Hidden=true. On:
        Hidden=false; an override that does nothing but hide a system entry is removed instead.

        Raises:
            ComputerError: the entry is not there any more.
        """
        folder, name = self.place(ref)
        own, system = folder.content(name, _MOST_OF_ONE), self._system_data(name)
        base = own if own is not None else system
        if base is None:
            raise ComputerError(
                f"The autostart entry {plain(ref.key)} is not there any more.",
                "Audit the computer again.",
            )
        exact = folder.exact(name)
        mode = exact.mode if isinstance(exact, File) else 0o644
        changed = with_hidden(base, hidden=value == "off")
        if is_off(changed) != (value == "off"):
            raise ComputerError(
                f"{ref} cannot be changed: its file is no desktop entry.",
                "Nothing was changed; look at it by hand.",
            )
        if value == "off":
            exact = folder.file(name, changed, mode)
        elif is_off(base):
            shown = system is not None and not is_off(system)
            only_hides = own is not None and shown and not read_entry(own).get("Exec")
            exact = folder.absent(name) if only_hides else folder.file(name, changed, mode)
        return State(value=value, exact=exact)


def _never_starting(item: Item, why: str) -> Item:
    """An entry that is on and does not start at this login all the same."""
    return msgspec.structs.replace(
        item, value="off", at_login=False, started_by=why, setting=Fixed(needed=f"it {why}")
    )


def _unread(name: str, why: str) -> Item:
    key = escaped(name.removesuffix(_ENDING))
    fixed, begins = Fixed(needed=why), "starts at login"
    return Item(
        area="apps", key=key, title=plain(key), setting=fixed, started_by=begins, at_login=True
    )


def _is_entry(name: str) -> bool:
    return name.endswith(_ENDING) and name != _ENDING and "/" not in name and "\0" not in name
