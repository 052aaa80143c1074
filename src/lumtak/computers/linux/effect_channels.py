"""Settings of a desktop whose own keeper holds them in channels.

While the user is logged in the keeper is asked, over the bus on which it is: it would write over
its files, now or when it ends. Else they are read and written in its files.

Source: xfconfd, org.xfce.Xfconf; a property that the user does not have is the administrator's, or
nobody's.
"""

import json
import posixpath
import time
from typing import Any, NamedTuple

from lumtak.computers.hands.reach import reason_of
from lumtak.computers.hands.sent.desktop.desktop_data import KEYS
from lumtak.computers.hands.sent.desktop.desktops import Key
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.sent.states.states import Absent, ChannelKey, File, Link
from lumtak.computers.hands.sent.table import CHANNELS, CHANNELS_PATH
from lumtak.computers.linux import channel_text
from lumtak.computers.linux.adapter import Listed, Look, unfit
from lumtak.computers.linux.desktop import (
    LOCKED,
    DesktopAdapter,
    item_of,
    raw_of,
    value_of,
)
from lumtak.computers.linux.folder import UserFolder
from lumtak.computers.linux.ini_text import value_in, with_value
from lumtak.computers.linux.session import environment_of, process_of
from lumtak.core.facts import Gap
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import NOT_KNOWN_NOW, ComputerError, LumtakError

_FOLDER = "xfce4/xfconf/xfce-perchannel-xml"
_KEEPER = ("xfconfd",)
_TYPES = {"b": "bool", "i": "int", "s": "string", "d": "double"}
"""By the letters of D-Bus."""
_WRITES_LATER_S, _LOOK_S = 8.0, 0.1
"""The keeper writes its files some seconds after a change."""
_ANSWER_S = 4.0
_BY_HAND = "Nothing was changed; change it in the desktop's own settings."

_Channel = dict[str, str]
"""Texts by property."""


class _Held(NamedTuple):
    """What is kept of one channel."""

    own: bytes | None
    """The user's file; None where there is none."""
    system: bytes
    """The administrator's; empty where there is none."""
    told: _Channel | None
    """What the keeper says, where it runs."""

    def raw(self, key: Key) -> str:
        """What the user has of a property; empty where they have none of their own."""
        kind = _TYPES[key.kind]
        mine = channel_text.find(self.own or b"", key.name, kind)
        if self.told is None:
            return value_in(self.own or b"", mine)
        told = self.told.get(key.name, "")
        # The keeper tells the administrator's alike, and writes its file some seconds later.
        own = mine.there and value_in(self.own or b"", mine) == told
        return told if own or told != self._everybodys(key) else ""

    def _everybodys(self, key: Key) -> str:
        """What the administrator set; empty where they did not."""
        return value_in(self.system, channel_text.find(self.system, key.name, ""))

    def default(self, key: Key) -> str:
        """What counts while the user has none."""
        return self._everybodys(key) or key.default


class DesktopChannels(DesktopAdapter):
    """Effects that stand in channels."""

    store = "xfconf"
    kinds = (ChannelKey,)

    def items(self, look: Look) -> Listed:
        """What the desktop that is here keeps in channels."""
        keys = self.keys(look)
        items, gaps = [], []
        bus = self._bus() if keys else None
        held: dict[str, _Held | str] = {}
        for key in keys:
            if key.at not in held:
                held[key.at] = self._looked_at(key.at, bus)
                if isinstance(why := held[key.at], str):
                    gaps.append(Gap(area=self.area, reason=why, needed="a look by hand"))
            if isinstance(now := held[key.at], _Held):
                locked = channel_text.locked_for(now.system, key.name, self._user.name)
                items.append(
                    item_of(
                        key,
                        now.raw(key),
                        now.default(key),
                        note=f"{key.at}, {key.name}",
                        shows="login" if bus is None else "now",
                        fixed=LOCKED if locked else "",
                        display="" if bus is None else self.display(look),
                    )
                )
        return Listed(items, gaps)

    def counting(self, key: Key) -> str:
        """See `DesktopAdapter.counting`."""
        held = self._held(key.at, self._bus())
        return value_of(key, held.raw(key)) or value_of(key, held.default(key)) or ""

    def _looked_at(self, channel: str, bus: str | None) -> _Held | str:
        """What is kept of a channel, or why that cannot be told."""
        try:
            return self._held(channel, bus)
        except LumtakError as error:
            return error.message.rstrip(".")

    # -- what is kept ------------------------------------------------------------------------------

    def _bus(self) -> str | None:
        """How a hand is told to ask the keeper; None where none runs for this user."""
        if not self._hand.live:
            return None
        pid = process_of(self._hand, self._user, _KEEPER)
        if pid is None:
            return None
        address = environment_of(self._of_user, pid).get("DBUS_SESSION_BUS_ADDRESS")
        return f"{self._user.bus}\n{address}" if address else self._user.bus

    def _folder(self) -> UserFolder:
        return UserFolder(self._of_user, posixpath.join(self._user.config_home, _FOLDER))

    def _held(self, channel: str, bus: str | None) -> _Held:
        own = self._folder().content(f"{channel}.xml")
        system = b""
        for folder in self._user.config_dirs:
            paths = [f"{folder}/{_FOLDER}/{channel}.xml"]
            system = system or next((d for d in self._hand.read_many(paths) if d), b"")
        return _Held(own, system, None if bus is None else self._told(channel, bus))

    def _ask(self, bus: str, *words: str) -> Any:  # noqa: ANN401 - whatever the keeper says
        call = ("--user", "--json=short", "--auto-start=no", "call", "--")
        said = self._of_user.run(
            ("busctl", *call, CHANNELS, CHANNELS_PATH, CHANNELS, *words), _ANSWER_S, bus=bus
        )
        return json.loads(said)["data"] if said.strip() else None

    def _told(self, channel: str, bus: str) -> _Channel:
        try:
            # Of a channel that is empty the keeper says nothing at all.
            (said,) = self._ask(bus, "GetAllProperties", "ss", channel, "/") or [{}]
            return {name: _as_text(value["data"]) for name, value in said.items()}
        except (OSError, ValueError, TypeError, KeyError, AttributeError) as error:
            if "does not exist" in str(error):
                return {}
            raise ComputerError(
                f"What the desktop keeps of {plain(channel)} cannot be told: {reason_of(error)}.",
                "Try again, or log its user out first.",
            ) from error

    # -- the setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """The value or unset, with what the file holds."""
        key = self.key_of(ref)
        held = self._held(key.at, self._bus())
        raw = held.raw(key)
        return State(value=value_of(key, raw), exact=self._state(key, raw, held.own))

    def _state(self, key: Key, raw: str, data: bytes | None) -> ChannelKey:
        folder = self._folder()
        exact = folder.exact(f"{key.at}.xml")
        if isinstance(exact, Link) and self._bus() is None:
            raise ComputerError(
                f"{plain(folder.path)}/{key.at}.xml is a link, which would be lost.", _BY_HAND
            )
        mode = exact.mode if isinstance(exact, File) else 0o600
        place = escaped(folder.path)
        return ChannelKey(key.at, key.name, key.kind, raw, place, folder.missing(), mode, data)

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The text as it will be, in the file as it will be where nobody holds it."""
        key = self.key_of(ref)
        bus = self._bus()
        held = self._held(key.at, bus)
        if channel_text.locked_for(held.system, key.name, self._user.name):
            raise ComputerError(f"{ref} cannot be changed: {LOCKED}.", "Nothing was changed.")
        raw = raw_of(key, ref, value)
        data = held.own if bus is not None else _changed(key, held.own, raw, ref)
        return State(value=value, exact=self._state(key, raw, data))

    def accept(self, ref: SettingRef, exact: ChannelKey) -> None:
        """See `Adapter.accept`: the desktop that is here keeps it there, for the same user."""
        key = self.key_of(ref)
        if (exact.channel, exact.name) != (key.at, key.name):
            raise unfit(ref, f"it was kept in {exact.channel}, {exact.name}")
        if exact.folder != escaped(self._folder().path):
            raise unfit(ref, f"it was kept in {exact.folder}")

    def write(self, ref: SettingRef, exact: ChannelKey) -> None:
        """Through the keeper where it runs, else in its file."""
        bus = self._bus()
        if bus is None:
            self._write_file(ref, exact)
            return
        words = (
            ("SetProperty", "ssv", exact.channel, exact.name, exact.letter, exact.raw)
            if exact.raw
            else ("ResetProperty", "ssb", exact.channel, exact.name, "false")
        )
        try:
            self._ask(bus, *words)
        except (OSError, ValueError) as error:
            # Of what the user does not have the keeper says that it is not there.
            if exact.raw or "does not exist" not in str(error):
                raise ComputerError(
                    f"{ref} was refused: {reason_of(error)}.", NOT_KNOWN_NOW
                ) from error
        key = self.key_of(ref)
        # Where the administrator set the same, the file alone tells that it is the user's own.
        if self._held(key.at, bus).raw(key) != exact.raw:
            self._wait_for_file(exact)

    def _wait_for_file(self, exact: ChannelKey) -> None:
        """Until the keeper has written its file."""
        until = time.monotonic() + _WRITES_LATER_S
        while time.monotonic() < until:
            data = self._folder().content(f"{exact.channel}.xml") or b""
            place = channel_text.find(data, exact.name, "")
            if place.there == bool(exact.raw) and value_in(data, place) == exact.raw:
                return
            time.sleep(_LOOK_S)

    def _write_file(self, ref: SettingRef, exact: ChannelKey) -> None:
        """To the byte where nothing else has changed since, else this property alone."""
        folder, name = self._folder(), f"{exact.channel}.xml"
        now, then = folder.content(name), exact.data
        rest = channel_text.others(now or b"", exact.name)
        mine = value_in(then or b"", channel_text.find(then or b"", exact.name, ""))
        if mine == exact.raw and rest == channel_text.others(then or b"", exact.name):
            if then is None:
                folder.remove(name, exact.missing)
            else:
                folder.put(name, then, exact.mode)
            return
        key = self.key_of(ref)
        folder.put(name, _changed(key, now, exact.raw, ref) or b"", exact.mode)


class ChannelIdle(DesktopChannels):
    """What such a desktop does when nobody does anything."""

    area = "power"


def _changed(key: Key, data: bytes | None, raw: str, ref: SettingRef) -> bytes | None:
    """A channel's file with this text, or without its property where that is empty.

    Raises:
        ComputerError: it has not the form that the keeper writes.
    """
    if not raw:
        return None if data is None else channel_text.without(data, key.name)
    now = data or channel_text.empty_file(key.at)
    changed = with_value(now, channel_text.find(now, key.name, _TYPES[key.kind]), raw)
    there = value_in(changed, channel_text.find(changed, key.name, "")) == raw
    if not there or b"</channel>" not in changed:
        raise ComputerError(
            f"{ref} cannot be changed: {plain(key.at)}.xml has not the form that its desktop"
            " writes.",
            _BY_HAND,
        )
    return changed


def property_of_file(exact: object, setting: str) -> ChannelKey | None:
    """The state of a property, from that of a channel's whole file as a journal had it."""
    if not isinstance(exact, (File, Absent)) or not exact.folder.endswith(f"/{_FOLDER}"):
        return None
    channel = exact.name.removesuffix(".xml")
    key = next(
        (k for k in KEYS if (k.store, k.at, k.setting) == ("xfconf", channel, setting)), None
    )
    if key is None:
        return None
    data, mode = (exact.data, exact.mode) if isinstance(exact, File) else (None, 0o600)
    raw = value_in(data or b"", channel_text.find(data or b"", key.name, _TYPES[key.kind]))
    at = exact.folder, exact.missing, mode, data
    return ChannelKey(channel, key.name, key.kind, raw, *at)


def _as_text(value: object) -> str:
    """A value of the bus as the keeper writes it in its files."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, (str, int, float)) else "?"
