"""Programs that run as the chosen user, with the user's own bus where they are logged in."""

import os

from lumtak.computers.linux.transport import Transport
from lumtak.computers.linux.user import User


class Session:
    """Runs programs as one user.

    Args:
        transport: of the computer.
        user: whose.
    """

    def __init__(self, transport: Transport, user: User) -> None:
        self._transport = transport
        self._user = user

    def run(self, *arguments: str, timeout_s: float = 20.0) -> bytes:
        """What a program prints that runs as the user; on a bus of its own where the user has none.

        Raises:
            OSError: it is missing, fails, or takes too long.
        """
        runtime = f"/run/user/{self._user.uid}"
        surroundings = [f"HOME={self._user.home}", f"XDG_CONFIG_HOME={self._user.config_home}"]
        command: tuple[str, ...] = arguments
        if os.path.exists(f"{runtime}/bus"):
            surroundings += [f"XDG_RUNTIME_DIR={runtime}", f"DBUS_SESSION_BUS_ADDRESS=unix:path={runtime}/bus"]
        else:
            command = ("dbus-run-session", "--", *arguments)
        whole = ("env", *surroundings, *command)
        if os.geteuid() == 0 and self._user.uid != 0:
            ids = (f"--reuid={self._user.uid}", f"--regid={self._user.gid}", "--init-groups")
            whole = ("setpriv", *ids, "--", *whole)
        return self._transport.run(whole, timeout_s=timeout_s)
