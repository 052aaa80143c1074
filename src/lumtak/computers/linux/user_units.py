"""Services and timers of the user's own manager (systemd --user).

Switched off by a mask in the user's folder, or by their one link.

Everything is read from files, so that it is known without a session too; what runs is told by
control groups.
"""

import posixpath
from typing import NamedTuple

from lumtak.computers.hands.reach import text
from lumtak.computers.hands.sent.states.states import Absent, InFolder
from lumtak.computers.hands.sent.states.watch_states import SERVICE, TIMER
from lumtak.computers.hands.sent.table import NOWHERE
from lumtak.computers.hands.sent.units.links import wanted_by
from lumtak.computers.hands.sent.units.resolving import SWITCHES, Units, of_user
from lumtak.computers.hands.sent.units.resolving import Gap as Unseen
from lumtak.computers.linux.adapter import Counted, Listed, Look, Means, gap_of
from lumtak.computers.linux.folder import InFiles, UserFolder
from lumtak.computers.linux.proc import USER_UNIT
from lumtak.computers.linux.units import Fields, fields_of
from lumtak.computers.linux.watch import is_ours
from lumtak.core.facts import Fixed, Item, Origin, Setting, Trigger, TriggerKind
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError, LumtakError

PREFIX = USER_UNIT.partition(":")[2]
_KINDS = (".service", ".timer")
_STARTERS: dict[str, TriggerKind] = {".socket": "socket", ".timer": "timer", ".path": "path"}
_MOST_BYTES = 1 << 16
_MOST_UNITS = 20_000


class _Found(NamedTuple):
    """One unit, as files tell it."""

    name: str
    path: str
    """Of the first file that has it; empty where only a mask is left."""
    masked: str
    """The mask's path; empty where it is not masked."""
    switches: tuple[str, ...]
    """Links that start it with another unit."""


class UserUnits(InFiles):
    """Units of one user."""

    area = "apps"

    def __init__(self, means: Means) -> None:
        super().__init__(means)
        user = means.user
        self._own = posixpath.join(user.config_home, "systemd/user")
        self._folders = of_user(user.config_home, user.data_home, f"/run/user/{user.uid}")

    # -- what there is -----------------------------------------------------------------------------

    def has(self, ref: SettingRef) -> bool:
        """Whether the setting is a unit's."""
        return super().has(ref) and ref.key.startswith(PREFIX)

    def counts(self, look: Look) -> Counted:
        """What runs in a unit of this user."""
        return Counted(units=frozenset(f"{USER_UNIT}{name}" for name in look.once(self._seen)[0]))

    def items(self, look: Look) -> Listed:
        """Units that start with another, are masked, or run now."""
        (found, unseen), running = look.once(self._seen), look.running
        shown = {
            name
            for name, unit in found.items()
            if name.endswith(_KINDS)
            and (unit.switches or unit.masked or f"{USER_UNIT}{name}" in running)
        }
        items = [self._item(found[name], found, running, shown) for name in sorted(shown)]
        gaps = [gap_of("apps", gap) for gap in unseen]
        paths = {f"{USER_UNIT}{n}": found[n].path for n in shown}
        return Listed(items, gaps=gaps, paths=paths)

    def _found(self) -> dict[str, _Found]:
        return self._seen()[0]

    def _seen(self) -> tuple[dict[str, _Found], list[Unseen]]:
        """(units by name, what was not seen): those that are switched on or masked first."""
        units = Units(self._of_user, self._folders)
        paths, masks, switches = self._files(units)
        every = sorted(paths.keys() | masks.keys(), key=lambda n: (n not in switches, n))
        gaps = list(units.gaps)
        if len(every) > _MOST_UNITS:
            gaps.append(Unseen("the folders of the user's units", "", _MOST_UNITS, len(every)))
        found = {
            n: _Found(n, paths.get(n, ""), masks.get(n, ""), tuple(switches.get(n, ())))
            for n in every[:_MOST_UNITS]
        }
        return found, gaps

    def _files(self, units: Units) -> tuple[dict[str, str], dict[str, str], dict[str, list[str]]]:
        """(file, mask, links that switch it on) of each unit, by its name."""
        paths: dict[str, str] = {}
        masks: dict[str, str] = {}
        switches: dict[str, list[str]] = {}
        for folder in self._folders:
            for name in self._names(units, folder):
                path = f"{folder}/{name}"
                if name.endswith(SWITCHES):
                    for unit in self._names(units, path):
                        switches.setdefault(unit, []).append(f"{path}/{unit}")
                elif (
                    name.endswith((*_KINDS, *_STARTERS)) and "@." not in name and name not in paths
                ):
                    target = self._folder(folder).link(name)
                    if target == NOWHERE:
                        masks.setdefault(name, path)
                    elif target is None or folder == self._own:
                        paths[name] = path
        return paths, masks, switches

    def _names(self, units: Units, folder: str) -> list[str]:
        names = units.names(folder)
        if {SERVICE, TIMER}.isdisjoint(names) or not is_ours(self._of_user, self._user):
            return names
        return [n for n in names if n not in {SERVICE, TIMER}]  # a setting of upkeep

    def _folder(self, path: str) -> UserFolder:
        return UserFolder(self._of_user, path)

    def _fields(self, unit: _Found) -> tuple[Fields, str]:
        """What the unit file says, read as the user: it may be the user's own, or lead anywhere."""
        folder, name = posixpath.split(unit.path)
        try:
            content = (
                text((self._folder(folder).content(name) or b"")[:_MOST_BYTES]) if unit.path else ""
            )
        except LumtakError:
            content = ""
        return fields_of(content), content

    def _item(
        self, unit: _Found, found: dict[str, _Found], running: frozenset[str], shown: set[str]
    ) -> Item:
        fields, content = self._fields(unit)
        base = unit.name.rpartition(".")[0]
        triggers = self._triggers(unit, fields, found)
        at_login = any(t.kind == "login" for t in triggers)
        needs = " ".join(fields.get(n, "") for n in ("Requires", "BindsTo", "Requisite")).split()
        origin: Origin = "user" if unit.path.startswith((self._own, self._user.home)) else "package"
        return Item(
            area="apps",
            key=PREFIX + unit.name,
            title=plain(fields.get("Description", "") or base),
            origin=origin,
            role=self._role(unit, origin, base, fields.get("BusName", "")),
            value="off" if unit.masked else "on",
            running=f"{USER_UNIT}{unit.name}" in running,
            at_login=at_login,
            started_by=(
                "starts at login, by the user's own manager"
                if at_login
                else "starts when another program asks for it"
            ),
            needs=tuple(dict.fromkeys(PREFIX + n for n in needs if n in shown)),
            triggers=triggers,
            setting=self._setting(unit, content),
            note=plain(fields.get("Description", "")),
        )

    def _role(self, unit: _Found, origin: Origin, base: str, bus_name: str) -> str:
        """Of a unit of the user's own a guarded one only where it starts programs of the system."""
        names = (base.removeprefix("app-"), bus_name)
        role = self._catalogue.role_for("apps", PREFIX + unit.name, names=names)
        if origin != "user" or not role:
            return role
        said = Units(self._of_user, self._folders).find(unit.name).commands
        for command in said or [""]:
            role = self._identity.role_of_command(role, command)
        return role

    @staticmethod
    def _triggers(unit: _Found, fields: Fields, found: dict[str, _Found]) -> tuple[Trigger, ...]:
        by: list[Trigger] = []
        for path in unit.switches:
            wanting = posixpath.basename(posixpath.dirname(path)).rpartition(".")[0]
            if wanting.endswith(_KINDS):
                by.append(Trigger(kind="wants", by=PREFIX + wanting))
            elif not any(t.kind == "login" for t in by):
                by.append(Trigger(kind="login"))
        base = unit.name.rpartition(".")[0]
        if unit.name.endswith(".service"):
            for ending, kind in _STARTERS.items():
                other = found.get(base + ending)
                if other and other.switches and not other.masked:
                    key = PREFIX + other.name if kind == "timer" else other.name
                    by.append(Trigger(kind=kind, by=plain(key)))
            if fields.get("BusName"):
                by.append(Trigger(kind="bus", by=plain(fields["BusName"])))
        return tuple(by)

    def _setting(self, unit: _Found, content: str) -> Setting | Fixed:
        if unit.masked and posixpath.dirname(unit.masked) != self._own:
            return Fixed(
                needed=f"the administrator masked it for everybody, by {plain(unit.masked)}"
            )
        if posixpath.dirname(unit.path) != self._own:
            return Setting(values=("on", "off"), shows="login")
        if len(wanted_by(content)) != 1:
            return Fixed(
                needed=(
                    "its unit file stands in the user's own folder, so it cannot be masked; edit"
                    " the file"
                )
            )
        return Setting(values=("on", "off"), shows="login")

    # -- the setting -------------------------------------------------------------------------------

    def place(self, ref: SettingRef) -> tuple[UserFolder, str]:
        """See `InFiles.place`."""
        folder, name, *_ = self._switch(ref)
        return folder, name

    def _switch(self, ref: SettingRef) -> tuple[UserFolder, str, InFolder, InFolder]:
        """(folder, name, what stands there for on, what for off).

        A mask, or the link of a unit of the user's own.
        """
        name = ref.key.removeprefix(PREFIX)
        unit = self._found().get(name)
        if unit is None or not name.endswith(_KINDS) or "/" in name or "\0" in name:
            raise ComputerError(
                f"The user's unit {plain(name)} is not there any more.", "Audit the computer again."
            )
        _, content = self._fields(unit)
        setting = self._setting(unit, content)
        if isinstance(setting, Fixed):
            raise ComputerError(
                f"{plain(str(ref))} cannot be changed: {setting.needed}.", "Nothing was changed."
            )
        if posixpath.dirname(unit.path) != self._own:
            folder = self._folder(self._own)
            return folder, name, folder.absent(name), folder.leading(name, NOWHERE)
        (by,) = wanted_by(content)
        folder = self._folder(f"{self._own}/{by}")
        return folder, name, folder.leading(name, unit.path), folder.absent(name)

    def read(self, ref: SettingRef) -> State:
        """On or off, with the link that says so; it counts from the next login on."""
        folder, name, _, off = self._switch(ref)
        exact = folder.exact(name)
        is_off = isinstance(exact, Absent) if isinstance(off, Absent) else exact == off
        return State(value="off" if is_off else "on", exact=exact)

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The link as it will be; what is as asked already stays to the byte."""
        _, _, on, off = self._switch(ref)
        now = self.read(ref)
        return (
            now if now.value == value else State(value=value, exact=off if value == "off" else on)
        )
