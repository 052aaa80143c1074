"""Clutter that a program of the system owns: nothing is pulled from under that."""

from typing import Any

import msgspec

from lumtak.computers.clutter import KEPT, item_of, pile_of, shipped
from lumtak.computers.linux.adapter import Adapter, Listed, Look
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError


class ToolClutters(Adapter):
    """What a program of the system owns: listed, and emptied by that alone."""

    area = "storage"
    kinds = ()

    def has(self, ref: SettingRef) -> bool:
        """See `Adapter.has`."""
        known = shipped().get(ref.key)
        return ref.area == "storage" and known is not None and known.whose == "tool"

    def items(self, look: Look) -> Listed:
        """The places that are there, each with its command."""
        del look
        found = []
        for clutter in shipped().values():
            there = [p for p in clutter.commands if self._hand.exists(p)]
            if clutter.whose == "tool" and there:
                pile = msgspec.structs.replace(pile_of(clutter), command=clutter.commands[there[0]])
                found.append(item_of(clutter.name, pile, clutter.title, KEPT))
        return Listed(items=found)

    def read(self, ref: SettingRef) -> State:
        """It stands where it stands."""
        del ref
        return State(value=KEPT)

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """See `Adapter.foresee`."""
        del value
        raise ComputerError(
            f"{plain(str(ref))} belongs to a program of the system.",
            f"Its own command empties it: {next(iter(shipped()[ref.key].commands.values()))}",
        )

    def write(self, ref: SettingRef, exact: Any) -> None:  # noqa: ANN401
        """Never."""
        del exact
        self.foresee(ref, None)
