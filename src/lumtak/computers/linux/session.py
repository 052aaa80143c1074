"""Programs that run as the chosen user, with the user's own bus where they are logged in."""

import os
import tempfile

from lumtak.computers.linux.transport import Transport
from lumtak.computers.linux.user import User

_BUS = """\
<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig>
  <type>session</type>
  <listen>unix:tmpdir=/tmp</listen>
  <auth>EXTERNAL</auth>
  <servicedir>/usr/share/dbus-1/services</servicedir>
  <policy context="default">
    <allow send_destination="*" eavesdrop="true"/>
    <allow eavesdrop="true"/>
    <allow own="*"/>
  </policy>
</busconfig>
"""
"""A session bus that starts what the system's packages brought, and nothing that stands in a folder of the user; dbus-daemon(1)."""


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
        """What a program prints that runs as the user: on their bus where they are logged in, else on one of its own.

        It has the user's ids and groups and gains no others; the transport keeps it from the terminal.

        Raises:
            OSError: it is missing, fails, or takes too long.
        """
        runtime = f"/run/user/{self._user.uid}"
        if os.path.exists(f"{runtime}/bus"):
            bus = (f"XDG_RUNTIME_DIR={runtime}", f"DBUS_SESSION_BUS_ADDRESS=unix:path={runtime}/bus")
            return self._transport.run(self._as_user(bus, arguments), timeout_s=timeout_s)
        with tempfile.TemporaryDirectory(prefix="lumtak-bus-") as folder:
            config = os.path.join(folder, "bus.conf")
            with open(config, "w", encoding="ascii") as file:
                file.write(_BUS)
            os.chmod(folder, 0o755)  # noqa: S103 - it holds the text above, which the user's bus reads
            own = os.path.join(
                folder, "run"
            )  # else some programs leave theirs in the user's cache, though they only read
            os.mkdir(own, 0o700)
            if os.geteuid() == 0:
                os.chown(own, self._user.uid, self._user.gid)
            private = ("dbus-run-session", f"--config-file={config}", "--", *arguments)
            return self._transport.run(self._as_user((f"XDG_RUNTIME_DIR={own}",), private), timeout_s=timeout_s)

    def _as_user(self, surroundings: tuple[str, ...], command: tuple[str, ...]) -> tuple[str, ...]:
        own = (f"HOME={self._user.home}", f"XDG_CONFIG_HOME={self._user.config_home}")
        whole = ("env", *own, *surroundings, *command)
        if os.geteuid() != 0 or self._user.uid == 0:
            return whole
        ids = (
            f"--reuid={self._user.uid}",
            f"--regid={self._user.gid}",
            "--init-groups",
            "--no-new-privs",
            "--inh-caps=-all",
        )
        return ("setpriv", *ids, "--", *whole)
