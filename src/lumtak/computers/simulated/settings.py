"""The settings of a simulated computer: a value each, which changes its load through the model.

And what goes wrong with it.
"""

from collections.abc import Callable, Collection, Sequence

from lumtak.computers.clutter import ASIDE, KEPT
from lumtak.computers.simulated import disk
from lumtak.computers.simulated.faults import (
    LOCKED_S,
    RESPAWN_S,
    REVERT_S,
    SLOW_S,
    Fault,
    FaultKind,
)
from lumtak.computers.simulated.installed import remove
from lumtak.computers.simulated.items import items_of
from lumtak.computers.simulated.machine import Machine
from lumtak.computers.simulated.upkeep import gather, trim
from lumtak.core.emptying import Doubts, Emptied
from lumtak.core.facts import Item, Setting
from lumtak.core.owned import Chosen
from lumtak.core.setting import IN_FORCE, SettingRef, Shows, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError


class SimulatedSettings:
    """See `Settings`.

    Args:
        machine: of the computer.
        address: of the computer, as it was named.
        faults: what goes wrong with it.
    """

    def __init__(self, machine: Machine, address: str, faults: tuple[Fault, ...]) -> None:
        self._machine = machine
        self._address, self._faults = address, faults
        self._name = machine.name
        self._chosen: dict[str, Chosen] = {}

    def read(self, ref: SettingRef) -> State:
        """The setting as it is set, in force or not."""
        return State(value=self._machine.state.settings.get(self._known(ref), KEPT))

    def vouched(self, ref: SettingRef, state: State) -> bool:
        """See `Settings.vouched`: nothing here takes root."""
        del ref, state
        return True

    def write(self, ref: SettingRef, state: State, *, believed: bool = False) -> None:
        """Set it; what shows at once is in force when this returns, the rest after a login or
        restart.
        """
        del believed
        address = self._by_value(ref, state)
        item = self._item(ref)
        problem = (
            item.setting.problem_with(state.value)
            if isinstance(item.setting, Setting)
            else "it is fixed."
        )
        if problem:
            raise ComputerError(f"{self._name}: {address} cannot be set to {state.word}:", problem)
        before = self._machine.state.settings.get(address, KEPT)
        self._check_files(ref, state.value)
        self._go_wrong(address)
        self._machine.put(settings={**self._machine.state.settings, address: state.value})
        if ref.area == "storage":
            chosen = self._chosen.get(ref.key, Chosen())
            disk.put(self._machine, ref.key, state.value, chosen)
        if self._shows(ref) == "now":
            self._machine.put_in_force(address)
        self._go_wrong_later(address, before)
        self._machine.save()

    def _check_files(self, ref: SettingRef, value: str | None) -> None:
        if value != ASIDE or ref.area != "storage" or not disk.is_of_files(ref.key):
            return
        if ref.key not in self._machine.state.held and (
            why := disk.why_not(self._machine, ref.key, self._chosen.get(ref.key, Chosen()))
        ):
            raise ComputerError(f"{self._name}: {why}", "Nothing was changed.")

    def choose(self, ref: SettingRef, chosen: Chosen) -> None:
        """See `Settings.choose`."""
        self._chosen[ref.key] = chosen

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The same value."""
        self._by_value(ref, state)
        return State(value=state.value)

    def _by_value(self, ref: SettingRef, state: State) -> str:
        """The address of a setting.

        A state that was recorded on a computer of another kind is refused.
        """
        if state.exact is not None:
            raise ComputerError(
                f"{plain(str(ref))} is not brought to the state that was recorded: {self._name}"
                " keeps values alone.",
                "Nothing was changed; `lumtak journal` shows the record.",
            )
        return self._known(ref)

    def in_force(self, ref: SettingRef) -> str:
        """What is read is what the model runs with."""
        del ref
        return IN_FORCE

    def takes_root(self, ref: SettingRef) -> bool:
        """Whoever has it may change everything."""
        del ref
        return False

    def doubts(self, ref: SettingRef) -> Doubts:
        """See `Settings.doubts`."""
        self._must_hold(ref)
        return disk.doubts(self._machine, ref.key)

    def empty(
        self, ref: SettingRef, on_progress: Callable[[Emptied], None], agreed: Collection[int] = ()
    ) -> Emptied:
        """See `Settings.empty`."""
        self._must_hold(ref)
        ended = disk.empty(self._machine, ref.key, agreed)
        self._machine.save()
        on_progress(ended)
        return ended

    def _must_hold(self, ref: SettingRef) -> None:
        if ref.area != "storage" or ref.key not in self._machine.state.held:
            raise ComputerError(
                f"Nothing of {plain(ref.key)} is set aside.",
                f"`lumtak storage {self._address}` lists what is.",
            )

    def remove_programs(self, names: Sequence[str]) -> tuple[str, ...]:
        """See `Settings.remove_programs`."""
        gone = remove(self._machine, names)
        self._machine.save()
        return gone

    def note_ceilings(self, cpu_pct: float, ram_pct: float) -> None:
        """It has no watch of its own."""

    def reinstall(self, packages: Sequence[str], *, rehearse: bool) -> tuple[str, ...]:
        """See `Settings.reinstall`."""
        if not rehearse:
            self._machine.put(mended=(*self._machine.state.mended, *packages))
            self._machine.save()
        return tuple(f"Inst {name}" for name in packages) if rehearse else tuple(packages)

    def gather(self, path: str) -> tuple[int, int]:
        """See `Settings.gather`."""
        return gather(self._machine, path)

    def trim(self) -> dict[str, int]:
        """See `Settings.trim`."""
        told = trim(self._machine)
        self._machine.save()
        return told

    def undo_kit(self) -> None:
        """None: nothing of it stays when Lumtak is gone."""

    def take_rights(self, *, ask: bool) -> None:
        """Whoever has it may change everything."""

    def give_back_rights(self) -> None:
        """There is nothing to give back."""

    def _known(self, ref: SettingRef) -> str:
        address = str(ref)
        files = ref.area == "storage" and disk.is_of_files(ref.key)
        if address not in self._machine.state.settings and not files:
            raise ComputerError(
                f"{self._name} has no setting {address}.",
                f"`lumtak audit {self._address}` lists them.",
            )
        return address

    def _item(self, ref: SettingRef) -> Item:
        found = (i for i in items_of(self._machine) if (i.area, i.key) == (ref.area, ref.key))
        item = next(found, None)
        return item or disk.item_of_files(self._machine, ref.key)

    def _shows(self, ref: SettingRef) -> Shows:
        setting = self._item(ref).setting
        return setting.shows if isinstance(setting, Setting) else "restart"

    # -- faults ------------------------------------------------------------------------------------

    def _hit(self, kind: FaultKind, address: str) -> bool:
        return any(f.kind == kind and f.hits(address) for f in self._faults)

    def _go_wrong(self, address: str) -> None:
        """Faults that strike before a setting is written."""
        if self._hit("slow", address):
            self._machine.wait(SLOW_S)
        if self._hit("refuse", address):
            raise ComputerError(
                f"{self._name}: {address} was refused:",
                "a policy of this computer does not let it be changed.",
            )
        if self._hit("locked", address):
            until = self._machine.state.locked_until.get(address)
            if until is None:
                until = self._machine.model.clock_s + LOCKED_S
                self._machine.put(locked_until={**self._machine.state.locked_until, address: until})
                self._machine.save()
            if self._machine.model.clock_s < until:
                raise ComputerError(
                    f"{self._name}: {address} is locked by another program.",
                    "Try again in a minute.",
                )
        if self._hit("powercut", address) and not self._machine.state.lost_power:
            self._machine.put(lost_power=True)
            self._machine.restart()
            raise ComputerError(
                f"{self._name} lost power in the middle of the change.", "It has started again."
            )

    def _go_wrong_later(self, address: str, before: str | None) -> None:
        """Faults that strike some time after a setting was written."""
        if self._hit("revert", address):
            reverting = {
                **self._machine.state.reverting,
                address: (self._machine.model.clock_s + REVERT_S, before),
            }
            self._machine.put(reverting=reverting)
        if self._hit("respawn", address) and address.startswith("services:"):
            respawning = {
                **self._machine.state.respawning,
                address: self._machine.model.clock_s + RESPAWN_S,
            }
            self._machine.put(respawning=respawning)
