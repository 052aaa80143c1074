"""Services and timers where systemd runs: how they start, what they need, and changing how they start."""

from collections.abc import Mapping

from lumtak.computers.hands.reach import Reach, runs_systemd, text
from lumtak.computers.hands.states import links_of
from lumtak.computers.hands.table import NOWHERE, UNITS, is_switch, why_no_link
from lumtak.computers.linux.known_states import check_kind, unit_of_service
from lumtak.computers.linux.packages import with_packages
from lumtak.computers.linux.root import Root
from lumtak.computers.linux.units import (
    Fields,
    all_units,
    behind_mask,
    installing,
    links,
    packed,
    show,
)
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Fixed, Gap, Item, Origin, Setting, Trigger, TriggerKind
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
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


class Services:
    """Services and timers of the system's manager.

    Args:
        hand: of the computer.
        root: does what takes root.
        catalogue: knows roles.
    """

    def __init__(self, hand: Reach, root: Root, catalogue: Catalogue) -> None:
        self._hand = hand
        self._root = root
        self._catalogue = catalogue

    # -- what there is ------------------------------------------------------------------------------------------------

    def items(self) -> tuple[list[Item], list[Gap]]:
        """(items, what could not be read)."""
        if not runs_systemd(self._hand):
            return [], [
                Gap(
                    area="services",
                    reason="systemd does not run here, so there are no services to read",
                    needed="a computer booted with systemd",
                )
            ]
        try:
            units = all_units(self._hand)
        except OSError as error:
            said = plain(str(error), 200)
            return [], [Gap(area="services", reason=f"the services could not be asked for: {said}", needed="systemctl")]
        items, paths = self.parse(units)
        return with_packages(self._hand, items, paths), []

    def parse(self, units: list[Fields]) -> tuple[list[Item], dict[str, str]]:
        """(items, unit file of each by key); units that are not there, and what is neither service nor timer, are passed over."""
        active = {u["Id"] for u in units if u.get("ActiveState") in _UP}
        switched = links(self._hand)
        items: dict[str, Item] = {}
        paths: dict[str, str] = {}
        for fields in units:
            unit = fields["Id"]
            if not unit.endswith((".service", ".timer")) or fields.get("LoadState") not in _KNOWN:
                continue
            key = unit.removesuffix(".service")
            paths[key] = fields.get("FragmentPath", "")
            items[key] = self._item(key, unit, fields, active, switched.get(unit, {}))
        return list(items.values()), paths

    def _item(self, key: str, unit: str, fields: Fields, active: set[str], switched: Mapping[str, str]) -> Item:
        value = _value(fields, active)
        wants = " ".join(fields.get(name, "") for name in ("Requires", "BindsTo", "Requisite")).split()
        aliases = [n.removesuffix(".service") for n in fields.get("Names", "").split() if n != unit]
        base = key.partition(".")[0]
        if unit.endswith(".timer"):
            served = [n.removesuffix(".service") for n in fields.get("Triggers", "").split()]
            started_by = "counts from the start of the system" if value == "auto" else "is not counting"
            role = self._catalogue.role_of(base, *served)
            triggers: tuple[Trigger, ...] = (Trigger(kind="system"),) if value == "auto" else ()
        else:
            started_by = _STARTS.get(fields.get("UnitFileState", ""), "was started by hand or by a program")
            role = self._catalogue.role_of(key, key.split("@", 1)[0], *aliases)
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
            needs=tuple(dict.fromkeys(w.removesuffix(".service") for w in wants if w.endswith(".service"))),
            aliases=tuple(aliases),
            triggers=triggers,
            setting=self._setting(unit, fields, value, active, switched),
            note=plain(fields.get("Description", "")),
            start_s=_start_s(fields),
        )

    def _setting(
        self, unit: str, fields: Fields, value: str | None, active: set[str], switched: Mapping[str, str]
    ) -> Setting | Fixed:
        """The values that this unit can take here; none where a link stands that Lumtak could not put back."""
        if why := self._root.why_not():
            return Fixed(needed=why)
        if strange := next((why for link in switched.items() if (why := why_no_link(*link))), ""):
            return Fixed(needed=f"{plain(strange, 300)}, which Lumtak could not put back; change it by hand")
        state, path = fields.get("UnitFileState", ""), fields.get("FragmentPath", "")
        if not path and state not in {"masked", "generated"}:
            return Fixed(needed="it has no unit file: something made it that will make it again")
        values = {value} if value else set()
        if state not in {"static", "generated", "masked"}:
            values |= {"auto", "demand" if _asked_for(fields, active) else "manual"}
        if state == "masked":  # what it would be without the mask shows only once the mask is gone
            values |= {"auto", "manual"}
        if not path.startswith(f"{UNITS}/") and unit.endswith(".service"):
            values.add(
                "off"
            )  # a mask is a link in that folder, and would have to take the place of the unit file itself
        if len(values) < 2:
            return Fixed(
                needed="its unit file stands in /etc, so it cannot be masked; edit the file"
                if path.startswith(f"{UNITS}/")
                else "other units start it: change those"
            )
        return Setting(values=tuple(v for v in ("auto", "demand", "manual", "off") if v in values))

    # -- the setting --------------------------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """How it starts, with every link that says so; and, beside it, whether it runs.

        Raises:
            ComputerError: there is no such unit any more, or systemd does not answer.
        """
        unit = unit_of_service(ref)
        fields = self._fields(ref)
        found = links(self._hand).get(unit, {})
        around = {"active": "yes" if fields.get("ActiveState") in _UP else "no", "unit": unit}
        return State(value=self._value_of(ref, fields), exact=packed(found), around=around)

    def _shown(self, ref: SettingRef, *units: str) -> list[Fields]:
        try:
            return show(self._hand, *units)
        except OSError as error:
            raise ComputerError(
                f"{plain(str(ref))} cannot be read: {plain(str(error), 200)}.", "See whether systemctl answers there."
            ) from error

    def _fields(self, ref: SettingRef) -> Fields:
        found = self._shown(ref, unit_of_service(ref))
        if not found or found[0].get("LoadState") not in _KNOWN:
            raise ComputerError(f"The service {plain(ref.key)} is not there any more.", "Audit the computer again.")
        return found[0]

    def _value_of(self, ref: SettingRef, fields: Fields) -> str | None:
        by = fields.get("TriggeredBy", "").split()
        active = {u["Id"] for u in self._shown(ref, *by) if u.get("ActiveState") in _UP} if by else set()
        return _value(fields, active)

    def foresee(self, ref: SettingRef, state: State) -> State:
        """Every link as it will be: those of its [Install] section for auto, none of those for manual and demand, a mask for off."""
        unit = unit_of_service(ref)
        if state.exact is not None:
            check_kind(ref, state, ("links",), "a service is switched by links")
            return state
        fields = self._fields(ref)
        found = dict(links(self._hand).get(unit, {}))
        found.pop(f"{UNITS}/{unit}", None) if found.get(f"{UNITS}/{unit}") == NOWHERE else None
        if state.value == "off":
            found[f"{UNITS}/{unit}"] = NOWHERE
        elif state.value == "auto":
            found |= self._installing(unit, fields, ref)
        elif state.value == "demand":
            found = {path: target for path, target in found.items() if not is_switch(path)}
        else:
            found = {}
        return State(value=state.value, exact=packed(found), around={"unit": unit})

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
                f"{plain(ref.key)} does not say what it starts with, so it cannot be switched to auto.",
                "Choose demand or manual.",
            )
        return wanted

    def write(self, ref: SettingRef, state: State) -> None:
        """Bring the links to this state, then start or stop it: as it was where it is restored, else as the value says."""
        wanted = self.foresee(ref, state)
        unit = unit_of_service(ref)
        now = links(self._hand).get(unit, {})
        then = links_of(wanted.exact or packed(now))
        for path in now.keys() - then.keys():
            self._root.remove(path, folder_too=is_switch(path))
        for path, target in then.items():
            if now.get(path) != target:
                self._root.link(path, target)
        if now != then:
            self._root.systemctl("daemon-reload")
        runs = self._fields(ref).get("ActiveState") in _UP
        wants = state.around.get("active") == "yes" if "active" in state.around else state.value == "auto"
        if runs and not wants:
            self._root.systemctl("stop", unit)
        elif wants and not runs:
            self._root.systemctl("start", unit)


def _asked_for(fields: Fields, active: set[str]) -> bool:
    """Whether something that waits for it now can start it: a socket, timer or path that is active, or a bus name."""
    return bool(fields.get("BusName")) or any(name in active for name in fields.get("TriggeredBy", "").split())


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
    """From leaving the inactive state to running, or to the end of what only does its work and ends (org.freedesktop.systemd1)."""
    left, up, down = (
        int(value) if (value := fields.get(f"{name}TimestampMonotonic", "")).isdigit() else 0
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
        Trigger(kind="wants", by=w.removesuffix(".service")) for w in dict.fromkeys(wanted) if w.endswith(".service")
    ]
    kinds: dict[str, TriggerKind] = {"timer": "timer", "socket": "socket", "path": "path"}
    for name in fields.get("TriggeredBy", "").split():
        ending = name.rpartition(".")[2]
        if ending in kinds:
            found.append(Trigger(kind=kinds[ending], by=plain(name)))
    if fields.get("BusName"):
        found.append(Trigger(kind="bus", by=plain(fields["BusName"])))
    return tuple(found)
