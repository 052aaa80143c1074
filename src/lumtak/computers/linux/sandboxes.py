"""Programs in sandboxes that may run in the background: the permission store's table "background" (XDG Desktop Portal, PermissionStore)."""

import json
from typing import Any

from lumtak.computers.hands.reach import Reach, names_at
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.known_states import check_kind
from lumtak.computers.linux.proc import SANDBOX
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Gap, Item, Setting
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

PREFIX = SANDBOX.partition(":")[2]
BUS, PATH = "org.freedesktop.impl.portal.PermissionStore", "/org/freedesktop/impl/portal/PermissionStore"
TABLE = "background"
_BUSES = "/usr/share/dbus-1/services"
_RAW = {"on": "yes", "off": "no"}
_VALUES = {"yes": "on", "no": "off"}
_TIMEOUT_S = 8.0


class Sandboxes:
    """Permissions of one user's programs.

    Args:
        hand: of the computer.
        user: whose.
        of_user: that user's hand.
        catalogue: knows roles.
    """

    def __init__(self, hand: Reach, user: User, of_user: Reach, catalogue: Catalogue) -> None:
        self._hand = hand
        self._user, self._of_user = user, of_user
        self._catalogue = catalogue

    def items(self) -> tuple[list[Item], list[Gap]]:
        """(programs that asked, what could not be read); nothing where there is no such store."""
        if not self._hand.live or not self._is_there():
            return [], []
        try:
            held = self._held()
        except OSError as error:
            why = f"which programs in sandboxes may run in the background was not told: {plain(str(error), 120)}"
            return [], [Gap(area="apps", reason=why, needed="the user's session bus")]
        return [
            Item(
                area="apps",
                key=PREFIX + app,
                title=plain(app),
                origin="user",
                role=self._catalogue.role_of(app, app.rpartition(".")[2]),
                value=_VALUES.get(raw),
                started_by="may run in the background, in a sandbox"
                if raw == "yes"
                else "asks before it runs in the background",
                setting=Setting(values=("on", "off"), shows="login"),
            )
            for app, raw in sorted(held.items())
        ], []

    def _is_there(self) -> bool:
        return f"{BUS}.service" in names_at(self._hand, _BUSES)

    def _held(self) -> dict[str, str]:
        """The permission by program: yes, no, ask; empty where nobody was asked yet. The store keeps a file a table."""
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
        call = ("busctl", "--user", "--json=short", "call", "--", BUS, PATH, BUS, method, *arguments)
        return self._of_user.run(call, _TIMEOUT_S, bus=self._user.bus)

    # -- the setting --------------------------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """On, off or unset."""
        app = ref.key.removeprefix(PREFIX)
        try:
            raw = self._held().get(app, "")
        except OSError as error:
            raise ComputerError(
                f"{plain(str(ref))} cannot be read: {plain(str(error), 200)}.", "Is the user logged in?"
            ) from error
        return State(value=_VALUES.get(raw), exact=_exact(app, raw))

    def foresee(self, ref: SettingRef, state: State) -> State:
        """The permission as it will be stored."""
        if state.exact is not None:
            check_kind(ref, state, ("sandbox",), "it is a permission in the permission store")
            return state
        return State(value=state.value, exact=_exact(ref.key.removeprefix(PREFIX), _RAW.get(state.value or "", "")))

    def write(self, ref: SettingRef, state: State) -> None:
        """Store the permission, or take it away."""
        exact = self.foresee(ref, state).exact or {}
        try:
            if exact["raw"]:
                self._call("SetPermission", "sbssas", TABLE, "true", TABLE, exact["app"], "1", exact["raw"])
            else:
                self._call("DeletePermission", "sss", TABLE, TABLE, exact["app"])
        except OSError as error:
            raise ComputerError(
                f"{plain(str(ref))} was refused: {plain(str(error), 200)}.", "Nothing was changed."
            ) from error


def _exact(app: str, raw: str) -> dict[str, str]:
    return {"kind": "sandbox", "app": app, "raw": raw}
