"""Programs in sandboxes that may run in the background.

The permission store's table "background" (XDG Desktop Portal, PermissionStore).
"""

import json
from typing import Any

from lumtak.computers.hands.reach import names_at, reason_of
from lumtak.computers.hands.sent.states.states import Permission
from lumtak.computers.hands.sent.table import STORE, STORE_PATH
from lumtak.computers.hands.sent.table import STORE_TABLE as TABLE
from lumtak.computers.linux.adapter import Adapter, Counted, Listed, Look
from lumtak.computers.linux.proc import SANDBOX
from lumtak.core.facts import Gap, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import NOT_KNOWN_NOW, ComputerError

PREFIX = SANDBOX.partition(":")[2]
_BUSES = "/usr/share/dbus-1/services"
_RAW = {"on": "yes", "off": "no"}
_VALUES = {"yes": "on", "no": "off"}
_TIMEOUT_S = 8.0


class Sandboxes(Adapter):
    """Permissions of one user's programs."""

    area = "apps"
    kinds = (Permission,)

    def has(self, ref: SettingRef) -> bool:
        """Whether the setting is a program's in a sandbox."""
        return super().has(ref) and ref.key.startswith(PREFIX)

    def counts(self, look: Look) -> Counted:
        """Each of them runs in a unit of its own."""
        return Counted(units=frozenset(item.consumer for item in look.once(self._programs).items))

    def items(self, look: Look) -> Listed:
        """Programs that asked; nothing where there is no such store."""
        return look.once(self._programs)

    def _programs(self) -> Listed:
        if not self._hand.live or not self._is_there():
            return Listed()
        try:
            held = self._held()
        except OSError as error:
            what = "which programs in sandboxes may run in the background was not told"
            why = f"{what}: {reason_of(error)}"
            return Listed(gaps=[Gap(area="apps", reason=why, needed="the user's session bus")])
        return Listed(
            [
                Item(
                    area="apps",
                    key=PREFIX + app,
                    title=plain(app),
                    origin="user",
                    role=self._catalogue.role_for("apps", app, names=(app.rpartition(".")[2],)),
                    value=_VALUES.get(raw),
                    started_by=(
                        "may run in the background, in a sandbox"
                        if raw == "yes"
                        else "asks before it runs in the background"
                    ),
                    setting=Setting(values=("on", "off"), shows="login"),
                )
                for app, raw in sorted(held.items())
            ]
        )

    def _is_there(self) -> bool:
        return f"{STORE}.service" in names_at(self._hand, _BUSES)

    def _held(self) -> dict[str, str]:
        """The permission by program: yes, no, ask; empty where nobody was asked yet.

        The store keeps a file a table.
        """
        if not self._of_user.exists(f"{self._user.data_home}/flatpak/db/{TABLE}"):
            return {}
        try:
            if TABLE not in json.loads(self._call("List", "s", TABLE))["data"][0]:
                return {}
            table: Any = json.loads(self._call("Lookup", "ss", TABLE, TABLE))["data"][0]
            return {str(app): str(held[0]) if held else "" for app, held in table.items()}
        except (ValueError, KeyError, IndexError, TypeError, AttributeError) as error:
            raise OSError("the permission store's answer is not understood") from error

    def _call(self, method: str, *arguments: str) -> bytes:
        call = (
            "busctl",
            "--user",
            "--json=short",
            "call",
            "--",
            STORE,
            STORE_PATH,
            STORE,
            method,
            *arguments,
        )
        return self._of_user.run(call, _TIMEOUT_S, bus=self._user.bus)

    # -- the setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """On, off or unset."""
        app = ref.key.removeprefix(PREFIX)
        try:
            raw = self._held().get(app, "")
        except OSError as error:
            raise ComputerError(
                f"{plain(str(ref))} cannot be read: {reason_of(error)}.",
                "Is the user logged in?",
            ) from error
        return State(value=_VALUES.get(raw), exact=Permission(app, raw))

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The permission as it will be stored."""
        return State(
            value=value, exact=Permission(ref.key.removeprefix(PREFIX), _RAW.get(value or "", ""))
        )

    def write(self, ref: SettingRef, exact: Permission) -> None:
        """Store the permission, or take it away."""
        try:
            if exact.raw:
                self._call(
                    "SetPermission", "sbssas", TABLE, "true", TABLE, exact.app, "1", exact.raw
                )
            else:
                self._call("DeletePermission", "sss", TABLE, TABLE, exact.app)
        except OSError as error:
            raise ComputerError(
                f"{plain(str(ref))} was refused: {reason_of(error)}.", NOT_KNOWN_NOW
            ) from error
