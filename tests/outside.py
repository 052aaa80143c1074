"""A real computer's outside on a folder.

Files are really moved, and systemd, dconf, the permission store, the profile service and swap
answer.
"""

import errno
import json
import os
import re
from pathlib import Path

from helpers import put
from lumtak.computers.hands.sent.desktop.desktop_data import KEYS
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.root.settling import RootHand
from lumtak.computers.hands.sent.table import (
    CHANNELS,
    NOWHERE,
    OF_A_USER,
    OF_ROOT,
    PROGRAMS,
    STORE,
    UNIT_FOLDERS,
    swap_file,
)
from lumtak.computers.hands.whose import Hands
from lumtak.computers.linux import channel_text
from lumtak.computers.linux.ini_text import value_in, with_value

ETC = "/etc/systemd/system"
FILE = "/usr/lib/systemd/system"
INSTALL = (
    "[Unit]\nDescription={0}\n[Service]\nExecStart=/bin/x\n"
    "[Install]\nWantedBy=multi-user.target\nAlias=also-{0}.service\n"
)
TIMER = "[Timer]\nOnCalendar=daily\n[Install]\nWantedBy=timers.target\n"
SDA2 = {"/dev/sda2": ("partition", 300, 0)}
PROFILES = ("power-saver", "balanced", "performance")


class Acting(RootHand):
    """A hand of root on a folder, where programs seem to run.

    What is asked of them is written down.
    """

    def __init__(self, root, replies=None, refuses=""):
        homes = ("/home/u/.config", "/home/u/.local/share")
        own = ("/home/u", "/home/u/.cache", "/home/u/.local/share")
        super().__init__(str(root), rules=True, homes=homes, own=own)
        self.live, self.asked, self.replies, self.refuses = True, [], replies or {}, refuses

    def _note(self, *words):
        self.asked.append(words)
        if self.refuses and self.refuses in " ".join(words):
            raise OSError(errno.EACCES, f"{words[0]} failed: no")

    def run(self, arguments, timeout_s=20.0, partly=False, bus=""):
        words = tuple(w for w in arguments if w != "--")
        self._note(*words)
        for name, answer in self.replies.items():
            if name in " ".join(words):
                return answer
        if not any(
            words[0] in t and re.fullmatch(t[words[0]], "\0".join(arguments[1:]))
            for t in (PROGRAMS, OF_A_USER)
        ):
            raise RefusalError(f"{words[0]} is not run by Lumtak with these arguments")
        return b""

    def run_as_root(self, arguments):
        if not re.fullmatch(OF_ROOT[arguments[0]], "\0".join(arguments[1:])):
            raise RefusalError(f"{arguments[0]} is not run by root with these arguments")
        self._note(*(w for w in arguments if w != "--"))

    def own_put(self, path, data):
        self._note("put", path)
        super().own_put(path, data)

    def own_link(self, path, target):
        self._note("link", path, target)
        super().own_link(path, target)

    def own_remove(self, path, folder_too=False):
        self._note("remove", path)
        super().own_remove(path, folder_too)

    def leave_script(self, tag, parts):
        self._note("leave script", tag)
        super().leave_script(tag, parts)

    def make_swap(self, mib):
        self._note("make swap", str(mib))

    def drop_swap(self, mib):
        self._note("drop swap", str(mib))


def hands_of(hand):
    return Hands(hand, hand, hand)


def shown(**fields):
    return ("\n".join(f"{k}={v}" for k, v in fields.items()) + "\n").encode()


class Outside(Acting):
    """The same, where programs do what they are asked for.

    What they keep stands in a file, so that it outlives a process that is killed.

    Args:
        root: the folder; what is missing in it is made.
        running: units.
        swaps: (kind, MiB, bytes in use) by path.
        plan: of a profile service; without it the clock's policies count.
        fields: what systemd tells otherwise of a unit, by its name without its ending.
    """

    def __init__(self, root, running=(), *, swaps=SDA2, plan="", ram_free=900, **fields):
        super().__init__(root)
        self.fields, self.fails, self.lasts = fields, "", True
        self.path = Path(self.root)
        self._file = self.path / "outside.json"
        if not self._file.exists():
            told = {
                "running": sorted(running),
                "stored": {},
                "permissions": {},
                "swaps": swaps,
                "plan": plan,
            }
            self._file.write_text(json.dumps(told))
            _furnish(self.path, ram_free, plan)
        self._say_swaps()

    def __getattr__(self, name):
        """running, stored, permissions, swaps, plan: as they are now."""
        if name not in {"running", "stored", "permissions", "swaps", "plan"}:
            raise AttributeError(name)
        told = json.loads(self._file.read_text())[name]
        if name == "swaps":
            return {path: tuple(area) for path, area in told.items()}
        return set(told) if name == "running" else told

    def tell(self, **changes):
        """Programs keep something: one step, which happens or does not."""
        told = {**json.loads(self._file.read_text()), **changes}
        fresh = self._file.with_suffix(".new")
        fresh.write_text(json.dumps({**told, "running": sorted(told["running"])}))
        fresh.rename(self._file)
        self._say_swaps()

    def _say_swaps(self):
        lines = [
            f"{path} {kind} {mib * 1024 - 4} {used} -2"
            for path, (kind, mib, used) in self.swaps.items()
        ]
        put(self.path, "/proc/swaps", "\n".join(["Filename Type Size Used Priority", *lines, ""]))

    def space(self, path):
        return [20 << 30, 10 << 30, 1 << 30]

    def acted(self):
        """What systemctl was told to do."""
        return [w[2:] for w in self.asked if w[0] == "systemctl" and w[1] == "--no-ask-password"]

    def run(self, arguments, timeout_s=20.0, partly=False, bus=""):
        words = [w for w in arguments if w != "--"]
        if self.fails and self.fails in words:
            self.fails = self.fails if self.lasts else ""
            raise OSError(errno.EIO, f"{words[0]} failed: no")
        printed = super().run(arguments, timeout_s, partly, bus)
        if printed:
            return printed
        match words:
            case ["systemctl", "show", _, _, *names]:
                return b"\n".join(self._unit(n) for n in names if "*" not in n)
            case ["dconf" | "gsettings", *_]:
                return self._desktop(*words[1:])
            case ["busctl", "--user", "--json=short", "--auto-start=no", *_]:
                return self._channel(*words[words.index(CHANNELS) + 3 :])
            case ["busctl", "--user", *_]:
                return self._store(*words[words.index(STORE) + 3 :])
            case ["busctl", *_]:
                return self._service(*words[2:])
        return printed

    def run_as_root(self, arguments):
        words = [w for w in arguments if w != "--"]
        if self.fails and self.fails in words:
            self.fails = self.fails if self.lasts else ""
            raise OSError(errno.EIO, f"{words[0]} failed: no")
        super().run_as_root(arguments)
        match words:
            case ["systemctl", _, "start" | "stop" as verb, unit]:
                self._switch(verb, unit)
            case ["busctl", *_]:
                self._service(*words[2:])

    def _desktop(self, *words):
        match words:
            case ["dump", _]:
                paths = {f"{k.at} {k.name}": k for k in KEYS}
                found = [(paths[name], value) for name, value in self.stored.items()]
                return "".join(
                    f"[{k.under.strip('/')}]\n{k.name}={value}\n" for k, value in found
                ).encode()
            case ["set", schema, key, value]:
                self.tell(stored={**self.stored, f"{schema} {key}": value})
            case ["reset", schema, key]:
                self.tell(stored={n: v for n, v in self.stored.items() if n != f"{schema} {key}"})
        return b""

    def _channel(self, method, _, channel, *rest):
        """The keeper of channels: what it holds is in its file at once."""
        file = self.path / f"home/u/.config/xfce4/xfconf/xfce-perchannel-xml/{channel}.xml"
        data = file.read_bytes() if file.exists() else channel_text.empty_file(channel)
        if method == "GetAllProperties":
            keys = [k for k in KEYS if (k.store, k.at) == ("xfconf", channel)]
            places = {k: channel_text.find(data, k.name, "") for k in keys}
            held = {k: value_in(data, place) for k, place in places.items() if place.there}
            said = {
                k.name: {"type": k.kind, "data": raw if k.kind in "sid" else raw == "true"}
                for k, raw in held.items()
            }
            return json.dumps({"type": "a{sv}", "data": [said]}).encode()
        key = next(k for k in KEYS if (k.at, k.name) == (channel, rest[0]))
        if method == "SetProperty":
            kind = {"b": "bool", "i": "int", "s": "string"}[key.kind]
            changed = with_value(data, channel_text.find(data, key.name, kind), rest[2])
        else:
            changed = channel_text.without(data, key.name)
        put(self.path, f"/{file.relative_to(self.path)}", changed)
        return b""

    def _service(self, verb, *words):
        if not self.plan:
            raise OSError(errno.ENOENT, "nobody answers")
        if verb == "set-property":
            self.tell(plan=words[-1])
        listed = " ".join(f'1 "Profile" s "{p}"' for p in PROFILES)
        return f'aa{{sv}} 3 {listed}\ns "{self.plan}"\n'.encode()

    def _unit(self, unit):
        masked = self.link(f"{ETC}/{unit}") == NOWHERE
        on = any(
            self.link(f"{ETC}/{w}.wants/{unit}") for w in ("multi-user.target", "timers.target")
        )
        path = next(
            (f"{d}/{unit}" for d in UNIT_FOLDERS if self.exists(f"{d}/{unit}") and not masked), ""
        )
        said = self.read(path) if path else b""
        told = {"Id": unit, "Names": unit,
        "LoadState": "masked" if masked else "loaded" if path else "not-found",
                "UnitFileState": "masked" if masked else "enabled" if on else "disabled"
                if b"[Install]" in said else "static",
                "ActiveState": "active" if unit in self.running else "inactive",
                "FragmentPath": path}  # fmt: skip
        return shown(**{**told, **self.fields.get(unit.partition(".")[0], {})})

    def _switch(self, verb, unit):
        if not unit.endswith(".swap"):
            self.tell(running=self.running | {unit} if verb == "start" else self.running - {unit})
            return
        mib = int(unit.removesuffix(".swap").rpartition("_")[2]) if "lumtak" in unit else 300
        path = swap_file(mib) if "lumtak" in unit else "/dev/sda2"
        left = {p: area for p, area in self.swaps.items() if p != path}
        own = (path, ("file" if "lumtak" in unit else "partition", mib, 0))
        self.tell(swaps=dict([*left.items(), own]) if verb == "start" else left)

    def _store(self, method, *rest):
        held = self.permissions
        match method:
            case "List":
                return json.dumps({"type": "as", "data": [["background"] if held else []]}).encode()
            case "Lookup":
                told = [{app: [raw] for app, raw in held.items()}, {"type": "y", "data": 0}]
                return json.dumps({"type": "a{sas}v", "data": told}).encode()
            case "SetPermission":
                self.tell(permissions={**held, rest[4]: rest[6]})
            case "DeletePermission":
                self.tell(permissions={app: raw for app, raw in held.items() if app != rest[3]})
        return b""

    def make_swap(self, mib):
        super().make_swap(mib)
        with self.system_folder("/var/lib/lumtak") as folder:
            os.close(os.open(f"swap_{mib}", os.O_WRONLY | os.O_CREAT, 0o600, dir_fd=folder))

    def drop_swap(self, mib):
        super().drop_swap(mib)
        RootHand.drop_swap(self, mib)

    def set_kernel(self, path, value):
        """All at once: a kernel takes a value or does not."""
        self.check_kernel(path, value)
        fresh = put(self.path, f"{path}.new", value + "\n")
        fresh.rename(self.path / path.lstrip("/"))


def _furnish(root, ram_free, plan):
    put(root, "/run/systemd/system/x", "")
    for name in ("tide", "quay"):
        put(root, f"{FILE}/{name}.service", INSTALL.format(name))
    put(root, f"{FILE}/log.timer", TIMER)
    put(root, "/etc/sysctl.d/x", "")
    put(
        root,
        "/usr/share/glib-2.0/schemas/gschemas.compiled",
        "org.mate.interface org.mate.thumbnailers",
    )
    put(root, "/home/u/.config/dconf/user", "")
    put(root, "/usr/bin/dconf", "")
    put(root, "/usr/bin/gsettings", "")
    put(root, f"/usr/share/dbus-1/services/{STORE}.service", "[D-BUS Service]\n")
    put(root, "/home/u/.local/share/flatpak/db/background", "")
    put(root, "/proc/self/mountinfo", "1 0 8:1 / / rw - ext4 /dev/sda1 rw\n")
    put(root, "/proc/meminfo", f"MemTotal: 1024000 kB\nMemAvailable: {ram_free * 1024} kB\n")
    put(root, "/run/systemd/generator/dev-sda2.swap", "[Swap]\nWhat=/dev/disk/by-uuid/1-2\n")
    (root / "dev/disk/by-uuid").mkdir(parents=True)
    (root / "dev/disk/by-uuid/1-2").symlink_to("../../sda2")
    (root / "var/lib").mkdir(parents=True, exist_ok=True)
    if plan:
        put(
            root,
            "/usr/share/dbus-1/system-services/net.hadess.PowerProfiles.service",
            "[D-BUS Service]\n",
        )
    else:
        put_clocks(root)


def put_clocks(
    root,
    driver="intel_pstate",
    held="powersave/balance_performance",
    offered="performance powersave",
):
    """Two policies of the clock."""
    governor, _, preference = held.partition("/")
    for number in (0, 1):
        folder = f"/sys/devices/system/cpu/cpufreq/policy{number}"
        put(root, f"{folder}/scaling_governor", governor + "\n")
        put(root, f"{folder}/scaling_driver", driver + "\n")
        put(root, f"{folder}/scaling_available_governors", offered + "\n")
        if preference:
            put(root, f"{folder}/energy_performance_preference", preference + "\n")
            put(
                root,
                f"{folder}/energy_performance_available_preferences",
                "default performance balance_performance balance_power power\n",
            )
