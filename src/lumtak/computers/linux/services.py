"""Services and timers where systemd runs.

How they start, what they need, and changing how they start.
"""

from collections.abc import Mapping

import msgspec

from lumtak.computers.hands.reach import reason_of, runs_systemd, text
from lumtak.computers.hands.sent.states.states import UnitLinks, unit_name
from lumtak.computers.hands.sent.table import NOWHERE, UNITS, is_switch, why_no_link
from lumtak.computers.hands.sent.units.links import behind_mask, installing, links
from lumtak.computers.hands.sent.units.resolving import Units
from lumtak.computers.linux.adapter import Listed, Look, RootAdapter, gap_of
from lumtak.computers.linux.listening import is_open
from lumtak.computers.linux.units import Fields, all_units, show
from lumtak.core.facts import Fixed, Gap, Item, Origin, Setting, Trigger, TriggerKind
from lumtak.core.setting import IN_FORCE, SettingRef, State, not_in_force
from lumtak.core.text import number, plain
from lumtak.errors import ComputerError

_STARTS = {
    "enabled": "starts with the system",
    "enabled-runtime": "starts with the system until the next restart",
    "disabled": "starts by hand, or when another unit wants it",
    "static": "starts when another unit wants it",
    "indirect": "starts through another unit",
    "generated": "made from another configuration at each start",
    "masked": "is masked",
    "masked-runtime": "is masked until the next restart",
}
_UP = {"active", "activating", "reloading"}
_STANDING = {"masked": "off", "enabled": "auto", "enabled-runtime": "auto", "generated": "auto"}
_KNOWN = {"loaded", "masked"}

_EARLY = {
    "sysinit.target", "local-fs.target", "local-fs-pre.target", "cryptsetup.target",
    "network-pre.target", "initrd.target",
}  # fmt: skip
_VALUES = ("auto", "demand", "manual", "off")


class Services(RootAdapter):
    """Services and timers of the system's manager."""

    area = "services"
    kinds = (UnitLinks,)

    # -- what there is -----------------------------------------------------------------------------

    def items(self, look: Look) -> Listed:
        """Services and timers."""
        del look
        if not runs_systemd(self._hand):
            why = "systemd does not run here, so there are no services to read"
            return Listed(
                gaps=[Gap(area="services", reason=why, needed="a computer booted with systemd")]
            )
        resolved = Units(self._hand)
        try:
            units = all_units(self._hand, resolved)
        except OSError as error:
            why = f"the services could not be asked for: {reason_of(error)}"
            return Listed(gaps=[Gap(area="services", reason=why, needed="systemctl")])
        items, paths = self.parse(units)
        gaps = [gap_of("services", gap) for gap in resolved.gaps]
        of_key = {f"services:{key}": path for key, path in paths.items()}
        return Listed(items, gaps=gaps, paths=of_key)

    def parse(self, units: list[Fields]) -> tuple[list[Item], dict[str, str]]:
        """(items, unit file of each by key).

        Units that are not there, and what is neither service nor timer, are passed over.
        """
        active = {u["Id"] for u in units if u.get("ActiveState") in _UP}
        opened = {u["Id"] for u in units if u["Id"] in active and is_open(u.get("Listen", ""))}
        switched = links(self._hand)
        items: dict[str, Item] = {}
        paths: dict[str, str] = {}
        for fields in units:
            unit = fields["Id"]
            if not unit.endswith((".service", ".timer")) or fields.get("LoadState") not in _KNOWN:
                continue
            key = unit.removesuffix(".service")
            paths[key] = fields.get("FragmentPath", "")
            item = self._item(key, unit, fields, active, switched.get(unit, {}))
            if not opened.isdisjoint(fields.get("TriggeredBy", "").split()):
                item = msgspec.structs.replace(item, evidence=(*item.evidence, "listens"))
            items[key] = item
        return list(items.values()), paths

    def _item(
        self, key: str, unit: str, fields: Fields, active: set[str], switched: Mapping[str, str]
    ) -> Item:
        value = _value(fields, active)
        wants = " ".join(
            fields.get(name, "") for name in ("Requires", "BindsTo", "Requisite")
        ).split()
        aliases = [n.removesuffix(".service") for n in fields.get("Names", "").split() if n != unit]
        base = key.partition(".")[0]
        if unit.endswith(".timer"):
            served = [n.removesuffix(".service") for n in fields.get("Triggers", "").split()]
            started_by = (
                "counts from the start of the system" if value == "auto" else "is not counting"
            )
            role = self._catalogue.role_for(self.area, key, names=(base, *served))
            triggers: tuple[Trigger, ...] = (Trigger(kind="system"),) if value == "auto" else ()
        else:
            started_by = _STARTS.get(
                fields.get("UnitFileState", ""), "was started by hand or by a program"
            )
            role = self._catalogue.role_for(self.area, key, names=(key.partition("@")[0], *aliases))
            triggers = _triggers(fields, value)
        return Item(
            area="services",
            key=key,
            title=plain(fields.get("Description", "") or key),
            origin=_origin(fields.get("FragmentPath", "")),
            role=role,
            value=value,
            running=fields.get("ActiveState") in _UP,
            started_by=started_by,
            needs=tuple(
                dict.fromkeys(w.removesuffix(".service") for w in wants if w.endswith(".service"))
            ),
            aliases=tuple(aliases),
            triggers=triggers,
            setting=self._setting(unit, fields, value, active, switched),
            note=plain(fields.get("Description", "")),
            evidence=("early",) if _is_early(fields) else (),
            start_s=_start_s(fields),
        )

    def _setting(
        self,
        unit: str,
        fields: Fields,
        value: str | None,
        active: set[str],
        switched: Mapping[str, str],
    ) -> Setting | Fixed:
        """The values that this unit can take here, or why it can take none."""
        if why := self._why_fixed(unit, fields, switched):
            return Fixed(needed=why)
        state, path = fields.get("UnitFileState", ""), fields.get("FragmentPath", "")
        by_hand = path.startswith(f"{UNITS}/")
        # What it has now can always be asked for again, whatever else is possible.
        values = {value} if value else set()
        if state == "masked":  # what it would be without the mask shows only once the mask is gone
            values |= {"auto", "manual"}
        elif state not in {"static", "generated"}:
            values |= {"auto", "demand" if _asked_for(fields, active) else "manual"}
        # A mask is a link in the folder of /etc, and would have to take the place of a unit file
        # that stands there itself.
        if not by_hand and unit.endswith(".service"):
            values.add("off")
        if len(values) >= 2:
            return Setting(values=tuple(v for v in _VALUES if v in values))
        if by_hand:
            return Fixed(
                needed="its unit file stands in /etc, so it cannot be masked; edit the file"
            )
        return Fixed(needed="other units start it: change those")

    def _why_fixed(self, unit: str, fields: Fields, switched: Mapping[str, str]) -> str:
        """Why nothing of this unit can be changed here, as a clause; empty where something can."""
        if why := self._root.why_not():
            return why
        strange = next((why for link in switched.items() if (why := why_no_link(*link))), "")
        if strange:
            return f"{plain(strange, 300)}, which Lumtak could not put back; change it by hand"
        if fields.get("LoadState") == "masked" and not behind_mask(self._hand, unit):
            return "nothing but the mask is there: what it masks was removed"
        made = fields.get("UnitFileState", "") in {"masked", "generated"}
        if not fields.get("FragmentPath", "") and not made:
            return "it has no unit file: something made it that will make it again"
        return ""

    # -- the setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """How it starts, with every link that says so; and, beside it, whether it runs.

        Raises:
            ComputerError: there is no such unit any more, or systemd does not answer.
        """
        unit = _unit(ref)
        fields = self._fields(ref)
        exact = UnitLinks(unit, links(self._hand).get(unit, {}), fields.get("ActiveState") in _UP)
        return State(value=self._value_of(ref, fields), exact=exact)

    def in_force(self, ref: SettingRef) -> str:
        """What is off and runs all the same was started by something else."""
        fields = self._fields(ref)
        runs, value = fields.get("ActiveState") in _UP, self._value_of(ref, fields)
        if value in {"off", "manual"}:
            return not_in_force("it runs all the same") if runs else IN_FORCE
        return IN_FORCE if runs else ""

    def _shown(self, ref: SettingRef, *units: str) -> list[Fields]:
        try:
            return show(self._hand, *units)
        except OSError as error:
            raise ComputerError(
                f"{plain(str(ref))} cannot be read: {reason_of(error)}.",
                "See whether systemctl answers there.",
            ) from error

    def _fields(self, ref: SettingRef) -> Fields:
        found = self._shown(ref, _unit(ref))
        if not found or found[0].get("LoadState") not in _KNOWN:
            raise ComputerError(
                f"The service {plain(ref.key)} is not there any more.", "Audit the computer again."
            )
        return found[0]

    def _value_of(self, ref: SettingRef, fields: Fields) -> str | None:
        by = fields.get("TriggeredBy", "").split()
        active = (
            {u["Id"] for u in self._shown(ref, *by) if u.get("ActiveState") in _UP} if by else set()
        )
        return _value(fields, active)

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """Every link as it will be.

        Those of its [Install] section for auto, none of those for manual and demand, a mask for
        off.
        """
        unit = _unit(ref)
        fields = self._fields(ref)
        found = dict(links(self._hand).get(unit, {}))
        mask = f"{UNITS}/{unit}"
        if found.get(mask) == NOWHERE:
            del found[mask]
        if value == "off":
            found[mask] = NOWHERE
        elif value == "auto":
            found |= self._installing(unit, fields, ref)
        elif value == "demand":
            found = {path: target for path, target in found.items() if not is_switch(path)}
        else:
            found = {}
        return State(value=value, exact=UnitLinks(unit, found, value == "auto"))

    def _installing(self, unit: str, fields: Fields, ref: SettingRef) -> dict[str, str]:
        path = fields.get("FragmentPath", "")
        if fields.get("LoadState") == "masked":
            path = behind_mask(self._hand, unit)
        try:
            content = text(self._hand.read(path))
        except OSError as error:
            raise ComputerError(
                f"The unit file of {plain(ref.key)} cannot be read.", "See whether it is there."
            ) from error
        wanted = installing(unit, path, content)
        if not wanted:
            raise ComputerError(
                f"{plain(ref.key)} does not say what it starts with, so it cannot be switched to"
                " auto.",
                "Choose demand or manual.",
            )
        return wanted


def _unit(ref: SettingRef) -> str:
    """The unit of a service or timer.

    Raises:
        ComputerError: no unit can be called so.
    """
    unit = unit_name(ref.key)
    if not unit:
        raise ComputerError(
            f"{plain(ref.key)} is no name of a service.", "`lumtak audit local` lists them."
        )
    return unit


def _asked_for(fields: Fields, active: set[str]) -> bool:
    """Whether something that waits for it now can start it.

    A socket, timer or path that is active, or a bus name.
    """
    return bool(fields.get("BusName")) or any(
        name in active for name in fields.get("TriggeredBy", "").split()
    )


def _value(fields: Fields, active: set[str]) -> str | None:
    """How it starts, from its unit file's state; systemctl(1), is-enabled."""
    state = fields.get("UnitFileState", "").removesuffix("-runtime")
    if not state:
        return None
    if state in _STANDING:
        return _STANDING[state]
    if state in {"static", "indirect"}:
        return "demand"
    return "demand" if _asked_for(fields, active) else "manual"


def _start_s(fields: Fields) -> float | None:
    """From leaving the inactive state to running, or to the end of what only does its work and ends
    (org.freedesktop.systemd1).
    """
    left, up, down = (
        number(fields.get(f"{name}TimestampMonotonic")) or 0
        for name in ("InactiveExit", "ActiveEnter", "InactiveEnter")
    )
    reached = min((t for t in (up, down) if t >= left), default=0)
    return (reached - left) / 1e6 if left and reached else None


def _origin(path: str) -> Origin:
    """Where the unit file stands; systemd.unit(5). What a package brought is told apart later."""
    if path.startswith(("/etc/", "/usr/local/")):
        return "user"
    return "system" if path.startswith("/run/") else "unknown"


def _triggers(fields: Fields, value: str | None) -> tuple[Trigger, ...]:
    """What starts the unit: targets count as the system."""
    wanted = f"{fields.get('WantedBy', '')} {fields.get('RequiredBy', '')}".split()
    found = []
    if value == "auto" or any(w.endswith(".target") for w in wanted):
        found.append(Trigger(kind="system"))
    found += [
        Trigger(kind="wants", by=w.removesuffix(".service"))
        for w in dict.fromkeys(wanted)
        if w.endswith(".service")
    ]
    kinds: dict[str, TriggerKind] = {"timer": "timer", "socket": "socket", "path": "path"}
    for name in fields.get("TriggeredBy", "").split():
        ending = name.rpartition(".")[2]
        if ending in kinds:
            found.append(Trigger(kind=kinds[ending], by=plain(name)))
    if fields.get("BusName"):
        found.append(Trigger(kind="bus", by=plain(fields["BusName"])))
    return tuple(found)


def _is_early(fields: Fields) -> bool:
    """Whether it starts before the system is up; bootup(7)."""
    wanted = {*fields.get("WantedBy", "").split(), *fields.get("RequiredBy", "").split()}
    return fields.get("DefaultDependencies") == "no" or not wanted.isdisjoint(_EARLY)
