"""What may become of a unit, by what it is: root's hand holds every change against this.

A short list of units and targets that nobody starts, links, masks or stops, whatever their name;
what is guarded; and what could not be started again. Sent with the hand: the standard library only,
in the language of Python 3.8.
"""

from __future__ import annotations

import fnmatch
import re
from typing import Any, Callable, Dict, Iterable, List, Optional, Sequence, Tuple

from lumtak.computers.hands.sent.files.owned import sum_of, why_not_roots
from lumtak.computers.hands.sent.units.guards_data import PACKAGES, PATTERNS, PROGRAMS, UNITS
from lumtak.computers.hands.sent.units.resolving import Unit, Units
from lumtak.computers.hands.sent.units.running import programs_in

_LETS_IN = (
    "debug-shell.service", "emergency.*", "rescue.*", "sulogin*", "getty*@*.service",
    "serial-getty@*.service", "console-getty.service", "container-getty@*.service",
    "autovt@*.service", "getty-static.service", "runlevel[01s6].target",
)  # fmt: skip
_SWITCHES_OFF = (
    "poweroff.*", "reboot.*", "halt.*", "kexec.*", "exit.target", "shutdown.target", "final.target",
    "umount.target", "soft-reboot.*", "suspend.*", "hibernate.*", "hybrid-sleep.*",
    "suspend-then-hibernate.*", "sleep.target", "ctrl-alt-del.target", "systemd-poweroff.*",
    "systemd-reboot.*", "systemd-soft-reboot.*", "systemd-halt.*", "systemd-kexec.*",
    "systemd-exit.*", "systemd-suspend.*", "systemd-hibernate.*", "systemd-hybrid-sleep.*",
    "systemd-suspend-then-hibernate.*", "system-update*", "factory-reset*", "initrd*",
    "systemd-factory-reset*", "systemd-firstboot*", "systemd-update-done*", "switch-root.target",
)  # fmt: skip
NEVER_STARTED = _LETS_IN + _SWITCHES_OFF
"""Lets somebody in, or switches the computer off."""
NEVER_OFF = (
    "dbus.*", "dbus-broker*", "dbus-org.freedesktop.login1.*", "systemd-logind*",
    "systemd-journald*", "systemd-udev*", "systemd-user-sessions*", "systemd-tmpfiles-setup*",
    "systemd-remount-fs*", "systemd-fsck*", "systemd-cryptsetup*", "systemd-ask-password*",
    "systemd-networkd.*", "systemd-resolved.*", "systemd-modules-load*", "systemd-sysctl*",
    "systemd-random-seed*", "udev.service", "firewalld.service", "nftables.service",
    "ufw.service", "iptables.service", "ip6tables.service", "netfilter-persistent.service",
    "shorewall*.service", "apparmor.service", "snapd.apparmor.service", "selinux-*",
    "auditd.service", "polkit.service", "apt-daily*", "unattended-upgrades*", "dnf-automatic*",
    "yum-cron*", "transactional-update*", "zypp-refresh*", "*.target",
)  # fmt: skip
"""The bus, the manager's own parts, firewalls, mandatory access control, security updates: nobody
masks, unlinks or stops them."""
PackageOf = Callable[[str], Optional[str]]
"""The package of a file: its name, nothing where no package brought it, None where that cannot be
asked."""


def _named(names: Iterable[str], patterns: Sequence[str]) -> str:
    """The first of the names that is listed; empty for none."""
    for name in names:
        if any(fnmatch.fnmatchcase(name, p) for p in patterns):
            return name
    return ""


def guard_of(names: Sequence[str], package: str) -> str:
    """The title of the guard under which a unit of these names stands; empty for none.

    Its own names before its package, as in the catalogue.
    """
    keys = [k for name in names for k in _keys(name)]
    for key in keys:
        if key in UNITS:
            return UNITS[key]
    if package.lower() in PACKAGES:
        return PACKAGES[package.lower()]
    for key in keys:
        if key in PROGRAMS:
            return PROGRAMS[key]
    for pattern, guard in PATTERNS:
        if any(fnmatch.fnmatchcase(key, pattern) for key in keys):
            return guard
    return ""


def _keys(name: str) -> List[str]:
    """The names by which a unit can be listed; a timer goes by that of what it starts too."""
    whole = name.lower()
    bare = re.sub(r"\.(?:service|timer|socket|path)$", "", whole)
    found = [whole.removesuffix(".service"), bare]
    return list(dict.fromkeys(found + [n.partition("@")[0] + "@" for n in found if "@" in n]))


class Policy:
    """What root's hand may make of units.

    Args:
        hand: looks: `names`, `link`, `read`, `listing`.
        root: a folder that looks like the computer; empty for the computer itself.
        package_of: asks for the package of a file.
    """

    def __init__(self, hand: Any, root: str, package_of: PackageOf) -> None:
        self.units = Units(hand)
        self._root, self._package_of = root, package_of

    def why_not(
        self,
        switched: Tuple[str, bool, bool],
        itself: bool,
        fresh: bool,
        sums: Optional[Dict[str, str]],
    ) -> str:
        """Why a unit is not switched so, as a clause; empty where it is.

        What could not be started again is not stopped either.

        Args:
            switched: its name, whether it is taken off, whether it is put on; a name that leads to
                it now, or did, is held against what is never done and what is guarded.
            itself: whether this is the unit, and no other name of it.
            fresh: whether nobody vouches for it: neither a receipt of root's nor a person.
            sums: what it was and ran when root recorded it; None without a receipt.
        """
        unit, off, on = switched
        why = self.why_never(unit, off, on)
        if not why and fresh:
            why = self.why_guarded(unit)
        if why or not itself or (not on and sums is not None):
            return why
        known = self.units.find(unit).name
        if known != unit:
            return "%s is another name of %s: name that" % (unit, known)
        return self.why_not_again(unit, sums)

    def why_never(self, name: str, off: bool, on: bool) -> str:
        """Why nobody does that to a unit, as a clause; empty where somebody may.

        Args:
            name: as it was asked for.
            off: whether it is masked, unlinked or stopped.
            on: whether it is linked or started.
        """
        unit = self.units.find(name)
        known = [name, *unit.names]
        if on or off:
            listed = _named([*known, *unit.serves], NEVER_STARTED)
            if listed:
                return "%s is %s, which Lumtak neither starts nor links nor masks" % (name, listed)
        if off:
            listed = _named(known, NEVER_OFF)
            if listed:
                return "%s is %s, which nobody switches off with Lumtak" % (name, listed)
        return ""

    def why_guarded(self, name: str) -> str:
        """Under which guard a unit stands, as a clause; empty for none."""
        unit = self.units.find(name)
        package = self._package_of(unit.fragment) if unit.fragment else ""
        served = [s for s in unit.serves if s.rpartition(".")[0] == name.rpartition(".")[0]]
        guard = guard_of([*unit.names, *served], package or "")
        return "%s is guarded: %s" % (name, guard.lower()) if guard else ""

    def why_not_again(self, name: str, sums: Optional[Dict[str, str]] = None) -> str:
        """Why root would not start this unit, as a clause; empty where it would.

        Its file, its drop-ins and, where no package brought it, all that it runs are root's, and
        nobody else can write there; and unchanged since, where their sums were recorded.
        """
        unit = self.units.find(name)
        if not unit.fragment:
            return "%s has no unit file" % name
        owned = bool(self._package_of(unit.fragment))
        for path in unit.files if owned else self.all_of(unit):
            why = "" if self._root else why_not_roots(path)
            if why:
                return "%s would be started, and %s" % (name, why)
        held = {} if owned or not sums else self.sums(name)
        if sums and any(sums.get(path) != made for path, made in held.items()):
            return "%s was changed since Lumtak recorded it" % name
        return ""

    @staticmethod
    def all_of(unit: Unit) -> List[str]:
        """Files of a unit, and the programs that it runs."""
        runs = [p for command in unit.commands for p in programs_in(command, "/root")]
        return list(dict.fromkeys([*unit.files, *runs]))

    def sums(self, name: str) -> Dict[str, str]:
        """SHA-256 of each file of a unit that no package brought, and of what it runs."""
        unit = self.units.find(name)
        if not unit.fragment or self._package_of(unit.fragment):
            return {}
        return {path: sum_of(self._root + path) for path in self.all_of(unit)}
