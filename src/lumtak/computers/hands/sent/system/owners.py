"""Which package brought a file, asked of the package manager's own records.

dpkg's lists are read; rpm is asked. Sent with the hand: the standard library only, in the language
of Python 3.8. Sources: dpkg(1), FILES; rpm(8), --query --file.
"""

from __future__ import annotations

import re
from typing import Any, Dict, Optional

from lumtak.computers.hands.sent.running.programs import printed
from lumtak.computers.hands.sent.system.packages import INFO, MOST_STATUS

_DEFINES = re.compile(rb"(?m)^((?:/usr)?/lib/systemd/[^\n]+|/etc/xdg/autostart/[^\n]+)$")
_RPM = ("/var/lib/rpm", "/usr/lib/sysimage/rpm")
_ASKED_S = 20.0


class Owners:
    """Packages by file.

    Args:
        hand: looks: `names`, `read`, `exists`.
        live: whether programs run there.
    """

    def __init__(self, hand: Any, live: bool) -> None:
        self._hand, self._live = hand, live
        self._by_path: Optional[Dict[str, str]] = None
        self._asked: Dict[str, Optional[str]] = {}

    def package_of(self, path: str) -> Optional[str]:
        """The package that brought a unit or login entry; empty where none did, None where nobody
        can tell.
        """
        if self._by_path is None:
            self._by_path = self._lists()
        if self._by_path:
            return self._by_path.get(_short(path), "")
        if path not in self._asked:
            self._asked[path] = self._by_rpm(path)
        return self._asked[path]

    def _lists(self) -> Dict[str, str]:
        found: Dict[str, str] = {}
        try:
            names = self._hand.names(INFO)
        except OSError:
            return found
        for name in names:
            if not name.endswith(".list"):
                continue
            try:
                data = self._hand.read("%s/%s" % (INFO, name), MOST_STATUS)
            except OSError:
                continue
            # Most packages hold none: a plain search passes them over ten times as fast.
            if b"/lib/systemd/" in data or b"/etc/xdg/autostart/" in data:
                package = name[: -len(".list")].partition(":")[0]
                for line in _DEFINES.findall(data):
                    found[_short(line.decode("utf-8", "surrogateescape"))] = package
        return found

    def _by_rpm(self, path: str) -> Optional[str]:
        if not self._live or not any(self._hand.exists(place) for place in _RPM):
            return None
        asked = ["rpm", "--query", "--queryformat", "%{NAME}\\n", "--file", "--", path]
        try:
            said = printed(asked, _ASKED_S, check=True)
        except FileNotFoundError:
            return None
        except OSError:
            return ""
        return said.decode("utf-8", "replace").partition("\n")[0].strip()


def _short(path: str) -> str:
    """/bin, /lib and their like are links into /usr by now, and were recorded either way."""
    return path[len("/usr") :] if path.startswith("/usr/lib/") else path
