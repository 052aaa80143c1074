"""What a hand may do.

The table of what root writes (places, contents, link targets), and the programs that are run with
which arguments.

A hand of root holds every write against this table, whoever asks: what comes over the pipe, or out
of a journal, may have been written by somebody else. One file of the standard library, in the
language of Python 3.8, for it is sent with the hand.
"""

from __future__ import annotations

import posixpath
import re

from lumtak.computers.hands.sent.desktop.desktop_data import KEYS

UNITS, SYSCTL_D, SWAP_FOLDER = "/etc/systemd/system", "/etc/sysctl.d", "/var/lib/lumtak"
NOWHERE = "/dev/null"
"""A link there is a mask; systemctl(1)."""
UNIT_FOLDERS = (
    UNITS,
    "/run/systemd/system",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
)
"""Where the system keeps unit files, most important first; systemd.unit(5)."""
UNIT_ENDINGS = tuple(
    "." + kind
    for kind in (
        "service",
        "socket",
        "device",
        "mount",
        "automount",
        "swap",
        "target",
        "path",
        "timer",
        "slice",
        "scope",
    )
)
"""What the name of a unit ends with; systemd.unit(5). The system passes over anything else."""
SWITCH_FOLDERS = (".wants", ".requires", ".upholds")
KERNEL = {"swappiness": (0, 200), "vfs_cache_pressure": (0, 1000)}
"""Name under /proc/sys/vm: lowest, highest (kernel, admin-guide/sysctl/vm)."""
POLICIES = "/sys/devices/system/cpu/cpufreq"
POWER_UNIT = "lumtak-power.service"
POWER_FILE, POWER_SWITCH = (
    "%s/%s" % (UNITS, POWER_UNIT),
    "%s/multi-user.target.wants/%s"
    % (
        UNITS,
        POWER_UNIT,
    ),
)
GOVERNORS = ("powersave", "schedutil", "ondemand", "conservative", "performance")
PREFERENCES = ("", "power", "balance_performance")
PROFILE_BUSES = {
    "org.freedesktop.UPower.PowerProfiles": "/org/freedesktop/UPower/PowerProfiles",
    "net.hadess.PowerProfiles": "/net/hadess/PowerProfiles",
}
"""Path of the profile service by its name on the system bus, the newer name first;
power-profiles-daemon(8)."""
DISKS = (
    "org.freedesktop.UDisks2",
    "/org/freedesktop/UDisks2",
    "org.freedesktop.DBus.ObjectManager",
    "GetManagedObjects",
)
"""How the service of disks is asked for all that it knows; UDisks2 reference."""
PROFILES = ("power-saver", "balanced", "performance")
UNIT_NAME = re.compile(r"[A-Za-z0-9:_.\\@-]+")
"""What units and the folders that hold their links can be called; systemd.unit(5). The system
passes over anything else."""
_LEFT = "# Left by Lumtak, and removed when the change is put back.\n"
_FOR_ALL = (
    "ExecStart=/bin/sh -c 'for f in {folder}/policy*/{file}; do echo {word} > \"$f\"; done'\n"
)
_UNIT = r"[A-Za-z0-9:_.\\@-]+\.(?:service|timer|swap)"
_LINK = re.compile(r"%s/(?:[A-Za-z0-9:_.\\@-]+\.(?:wants|requires|upholds)/)?%s" % (UNITS, _UNIT))
_SWAP_UNIT = re.compile(r"var-lib-lumtak-swap_([1-9][0-9]{0,6})\.swap")
_SYSCTL_FILE = re.compile(r"%s/90-lumtak-([a-z_]+)\.conf" % SYSCTL_D)
_SYSCTL_TEXT = re.compile(r"%svm\.([a-z_]+) = ([0-9]{1,4})\n" % re.escape(_LEFT))
POLICY_FILE = re.compile(
    r"%s/policy[0-9]+/(?:scaling_governor|energy_performance_preference)" % POLICIES
)


WIRELESS_FILE = "/etc/NetworkManager/conf.d/zz-lumtak-wireless.conf"
"""Sorted after what others set there; NetworkManager.conf(5)."""
WIRELESS = {"off": 2, "on": 3}
"""Whether wireless devices save power, as NetworkManager counts it: wifi.powersave."""


def wireless_text(value: str) -> bytes:
    """What Lumtak's own file says of it."""
    return ("%s[connection]\nwifi.powersave=%d\n" % (_LEFT, WIRELESS[value])).encode()


UPKEEP = {
    "journal_mib": (16, 1_000_000),
    "temporary_days": (1, 3650),
    "stop_seconds": (20, 600),
    "automatic_updates": (0, 1),
    "update_hour": (0, 23),
}
"""How large the system's journal may grow, after how many days temporary files go, how long
services may take to stop, whether updates install themselves, at which hour: lowest, highest. What
stops in less than 20 s may lose what it has not written yet."""
_UPKEEP_FILES = {
    "journal_mib": "/etc/systemd/journald.conf.d/90-lumtak.conf",
    "temporary_days": "/etc/tmpfiles.d/00-lumtak.conf",
    "stop_seconds": "/etc/systemd/system.conf.d/90-lumtak.conf",
    "automatic_updates": "/etc/apt/apt.conf.d/zz-lumtak-updates",
    "update_hour": "%s/apt-daily-upgrade.timer.d/90-lumtak.conf" % UNITS,
}
"""Of two lines for one path the first file counts (tmpfiles.d(5)); elsewhere the last."""
_UPKEEP_TEXTS: dict[str, str] = {
    "journal_mib": "[Journal]\nSystemMaxUse={0}M\n",
    "temporary_days": "q /tmp 1777 root root {0}d\n",
    "stop_seconds": "[Manager]\nDefaultTimeoutStopSec={0}s\n",
    "automatic_updates": (
        'APT::Periodic::Update-Package-Lists "{0}";\nAPT::Periodic::Unattended-Upgrade "{0}";\n'
    ),
    "update_hour": ("[Timer]\nOnCalendar=\nOnCalendar=*-*-* {0}:00:00\nRandomizedDelaySec=30min\n"),
}
OTHER_WAYS = (
    "/usr/bin/gnome-software",
    "/usr/bin/plasma-discover",
    "/usr/bin/update-manager",
    "/usr/bin/mintupdate",
    "/usr/bin/update-notifier",
)
"""Programs of a desktop that tell of security updates and install them."""
READ_ANEW = {"stop_seconds", "update_hour"}
"""The service manager is told to read these anew."""
_OWN_FOLDERS = {posixpath.dirname(_UPKEEP_FILES[key]) for key in READ_ANEW}
"""Folders that are made for such a file, and go with it where nothing else is in them."""


def upkeep_file(key: str) -> str:
    """Where such a setting is kept."""
    return _UPKEEP_FILES[key]


def upkeep_text(key: str, value: str) -> bytes:
    """What is kept there; journald.conf(5), tmpfiles.d(5), systemd-system.conf(5), apt.conf(5),
    systemd.timer(5).
    """
    text = _UPKEEP_TEXTS[key].replace("{0}", value)
    return b"%s%s" % (_LEFT.encode(), text.encode())


def upkeep_value(key: str, data: bytes) -> str:
    """The value that such a file says; empty where Lumtak would not have written it so."""
    lowest, highest = UPKEEP[key]
    found = re.findall(rb"[0-9]{1,7}", data[len(_LEFT) :])
    for number in dict.fromkeys(found):
        value = str(number, "ascii")
        fits = lowest <= int(value) <= highest and str(int(value)) == value
        if fits and data == upkeep_text(key, value):
            return value
    return ""


def has_own_folder(path: str) -> bool:
    """Whether the folder of this file is made for it, and goes with it."""
    return posixpath.dirname(path) in _OWN_FOLDERS


def swap_file(mib: int) -> str:
    """Where Lumtak's own swap file of this size stands."""
    return "%s/swap_%d" % (SWAP_FOLDER, int(mib))


def swap_unit(mib: int) -> str:
    """The unit of that file: systemd takes no other name for it; systemd.swap(5)."""
    return swap_file(mib).strip("/").replace("/", "-") + ".swap"


def swap_unit_size(name: str) -> int:
    """The size in MiB of the file that a swap unit of Lumtak's own keeps.

    0 where it is none of those.
    """
    said = _SWAP_UNIT.fullmatch(name)
    return int(said[1]) if said else 0


def swap_unit_text(mib: int) -> bytes:
    """The swap unit that keeps a file of Lumtak's own."""
    text = (
        "%s[Unit]\nDescription=Swap file that was made by"
        " Lumtak\n[Swap]\nWhat=%s\n[Install]\nWantedBy=swap.target\n"
    )
    return (text % (_LEFT, swap_file(mib))).encode()


def sysctl_file(name: str) -> str:
    """Where a value of the kernel is kept over a restart."""
    return "%s/90-lumtak-%s.conf" % (SYSCTL_D, name)


def sysctl_text(name: str, value: str) -> bytes:
    """What is kept there; sysctl.d(5)."""
    return ("%svm.%s = %s\n" % (_LEFT, name, value)).encode()


def kernel_value_fits(name: str, value: str) -> bool:
    """Whether this value of the kernel is one that Lumtak sets."""
    lowest, highest = KERNEL.get(name, (0, -1))
    return re.fullmatch(r"[0-9]{1,4}", value) is not None and lowest <= int(value) <= highest


def power_unit_text(governor: str, preference: str) -> bytes:
    """The unit that sets a governor, and an energy preference where there is one, at each start."""
    lines = _FOR_ALL.format(folder=POLICIES, file="scaling_governor", word=governor)
    if preference:
        lines += _FOR_ALL.format(
            folder=POLICIES, file="energy_performance_preference", word=preference
        )
    return (
        _LEFT
        + "[Unit]\nDescription=Keeps the power plan that was set by Lumtak\n"
        + "After=systemd-modules-load.service systemd-udev-trigger.service\n"
        + "[Service]\nType=oneshot\n"
        + lines
        + "[Install]\nWantedBy=multi-user.target\n"
    ).encode()


def is_own_place(path: str) -> bool:
    """Whether this is the place of a file that only Lumtak writes."""
    folder, name = posixpath.split(path)
    kept = _SYSCTL_FILE.fullmatch(path)
    return (
        path in {WIRELESS_FILE, *_UPKEEP_FILES.values()}
        or bool(kept and kept[1] in KERNEL)
        or (folder == UNITS and (name == POWER_UNIT or swap_unit_size(name) > 0))
    )


def is_own_content(path: str, data: bytes) -> bool:
    """Whether Lumtak itself would write these bytes to this place."""
    if not is_own_place(path):
        return False
    name = posixpath.basename(path)
    size = swap_unit_size(name)
    if size:
        return data == swap_unit_text(size)
    for key, place in _UPKEEP_FILES.items():
        if path == place:
            return bool(upkeep_value(key, data))
    if path == WIRELESS_FILE:
        return data in map(wireless_text, WIRELESS)
    if name == POWER_UNIT:
        return any(data == power_unit_text(g, p) for g in GOVERNORS for p in PREFERENCES)
    said = _SYSCTL_TEXT.fullmatch(data.decode("utf-8", "replace"))
    return said is not None and path == sysctl_file(said[1]) and kernel_value_fits(said[1], said[2])


def is_switch(path: str) -> bool:
    """Whether a link in this place starts the unit with another.

    In a .wants, .requires or .upholds folder.
    """
    return posixpath.dirname(path).endswith(SWITCH_FOLDERS)


def unit_of(path: str, target: str) -> str:
    """The unit that a link in the administrator's folder switches on, names or masks."""
    return posixpath.basename(path if target == NOWHERE or is_switch(path) else target)


def is_link_place(path: str) -> bool:
    """Whether a link of a unit can stand there."""
    return _LINK.fullmatch(path) is not None and posixpath.normpath(path) == path


def why_no_link(path: str, target: str) -> str:
    """Why Lumtak would not make this link, as a clause; empty where it would.

    A mask stands in the administrator's folder itself. Every other link leads to a unit file in a
    folder of the system, by the name of that unit (an instance by that of its template), or is
    another name of a unit of the same kind.
    """
    if not is_link_place(path):
        return "%s is no place of a unit" % path
    name = posixpath.basename(path)
    if target == NOWHERE:
        return "%s masks nothing there" % path if is_switch(path) else ""
    folder, unit = posixpath.split(
        posixpath.normpath(posixpath.join(posixpath.dirname(path), target))
    )
    if folder not in UNIT_FOLDERS or re.fullmatch(_UNIT, unit) is None:
        return "%s leads to %s, outside the system's own folders of units" % (path, target)
    template = re.sub(r"@[^@]*(?=\.[a-z]+$)", "@", name)
    if is_switch(path) and unit not in {name, template}:
        return "%s leads to another unit, %s" % (path, unit)
    return (
        ""
        if unit.rpartition(".")[2] == name.rpartition(".")[2]
        else "%s leads to a unit of another kind" % path
    )


# -- the programs that a hand runs: their arguments, joined by NUL ---------------------------------

_PATTERN = r"[A-Za-z0-9:_.\\@*?-]+"
_TEXT = r"[^\0]{0,65536}"
STORE, STORE_TABLE = "org.freedesktop.impl.portal.PermissionStore", "background"
STORE_PATH = "/" + STORE.replace(".", "/")
"""The permission store of the user's session, and its table of programs that may run in the
background (XDG Desktop Portal)."""
APT = (
    "apt-get",
    "--simulate",
    "--option=Debug::NoLocking=true",
    "--option=Dir::Cache::pkgcache=",
    "--option=Dir::Cache::srcpkgcache=",
)
"""How apt is asked what it would do: it locks nothing and writes no cache; apt-get(8)."""
PROGRAMS = {
    "true": r"",
    "dpkg": r"--simulate\0--remove\0--(?:\0[a-z0-9][a-z0-9+.:-]{1,120})+",
    "apt-get": (
        r"\0".join(map(re.escape, APT[1:]))
        + r"\0(?:dist-upgrade|--reinstall\0install\0--(?:\0[a-z0-9][a-z0-9+.:-]{1,120})+)"
    ),
    "rpm": r"--query\0--all\0--queryformat\0[%{}A-Z\\tn-]{1,200}",
    "journalctl": (
        r"--no-pager\0--quiet\0--output=json\0--output-fields=[A-Z_,]+\0--lines=[0-9]{1,6}"
        r"(?:\0--until=@[0-9]{1,12})?(?:\0_BOOT_ID=[0-9a-f]{32})?"
        r"(?:(?:\0MESSAGE_ID=[0-9a-f]{32})+|\0(?:_PID=1|_TRANSPORT=kernel)(?:\0PRIORITY=[0-4])+)"
    ),
    "loginctl": (
        r"show-session\0--no-pager(?:\0--property=[A-Za-z]+)+(?:\0--(?:\0[A-Za-z0-9]{1,20})+)?"
    ),
    "systemctl": r"show\0--no-pager\0--property=[A-Za-z,]+(?:\0--(?:\0%s)*)?" % _PATTERN,
    "busctl": (
        r"--system\0get-property\0--\0(?:%s)\0/[A-Za-z/]+\0[A-Za-z.]+(?:\0[A-Za-z]+)+"
        % "|".join(map(re.escape, PROFILE_BUSES))
        + r"|--system\0--json=short\0--auto-start=no\0call\0--\0%s" % "\0".join(DISKS)
    ),
}
"""What every hand runs: it looks, and changes nothing."""
CHANNELS, CHANNELS_PATH = "org.xfce.Xfconf", "/org/xfce/Xfconf"
"""The keeper of channels on the bus of a user's session."""


def _named(store: str) -> str:
    """Place and name of every key of a store, as two arguments."""
    return "|".join(sorted({re.escape(k.at + "\0" + k.name) for k in KEYS if k.store == store}))


_CHANNEL_NAMES = "|".join(sorted({re.escape(k.at) for k in KEYS if k.store == "xfconf"}))
_CALL = r"--user\0--json=short\0--auto-start=no\0call\0--\0%s\0%s\0%s\0" % (
    re.escape(CHANNELS),
    CHANNELS_PATH,
    re.escape(CHANNELS),
)
OF_A_USER = {
    "dconf": r"dump\0/",
    "systemctl": (r"--user\0(?:daemon-reload|(?:start|stop|is-active)\0--\0lumtak-watch\.timer)"),
    "gsettings": r"(?:set\0(?:{0})\0(?!-(?!1\Z)){1}|reset\0(?:{0}))".format(
        _named("gsettings"), _TEXT
    ),
    "busctl": (
        _CALL
        + r"(?:GetAllProperties\0ss\0(?:%s)\0/" % _CHANNEL_NAMES
        + r"|SetProperty\0ssv\0(?:%s)\0[bisd]\0%s" % (_named("xfconf"), _TEXT)
        + r"|ResetProperty\0ssb\0(?:%s)\0false)" % _named("xfconf")
        + r"|--user\0--json=short\0call\0--\0%s\0%s\0%s\0"
        % (re.escape(STORE), STORE_PATH, re.escape(STORE))
        + r"(?:List|Lookup|SetPermission|DeletePermission)(?:\0%s)+" % _TEXT
    ),
}
"""What a hand runs besides on the bus of the user whom it is."""
_NEVER = (
    r"(?!(?:systemd-(?:poweroff|reboot|soft-reboot|halt|kexec|exit|suspend|hibernate)"
    r"|rescue|emergency|debug-shell)\b)"
)
"""What switches the computer off, or lets somebody in, is neither started nor stopped."""
OF_ROOT = {
    "systemctl": (
        r"--no-ask-password\0(?:(?:start|stop)\0--\0%s[A-Za-z0-9:_.\\@-]+\.(?:service|timer|socket|path|swap)|daemon-reload)"
        % _NEVER
    ),
    "busctl": "|".join(
        r"--system\0set-property\0--\0{0}\0{1}\0{0}\0ActiveProfile\0s\0(?:{2})".format(
            re.escape(bus), path, "|".join(PROFILES)
        )
        for bus, path in PROFILE_BUSES.items()
    ),
}
"""What a hand of root runs besides."""
