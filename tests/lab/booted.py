"""Builds and boots a Debian under user-mode Linux.

No KVM, a kernel of its own, a disk with a journal. Killing it is a power cut.

`python tests/lab/booted.py` builds and boots one and opens a shell in it with Lumtak; `make lab`
does the same. It takes root and /dev/net/tun.
"""

import argparse
import hashlib
import os
import shutil
import signal
import subprocess
import tempfile
import time
from pathlib import Path

REPO = Path(__file__).parents[2]
TOOLS = ("mmdebstrap", "linux.uml", "mke2fs", "mkswap", "ssh", "ip", "unshare", "nsenter")
PACKAGES = (
    "systemd,systemd-sysv,dbus,dbus-user-session,libpam-systemd,polkitd,sudo,libglib2.0-bin,dconf-gsettings-backend,dconf-cli,"
    "gsettings-desktop-schemas,power-profiles-daemon,openssh-server,python3,python3-dbusmock,xdg-desktop-portal,procps,kmod,iproute2,cron,zstd,busybox"
)
LIBRARIES = ("msgspec", "click", "platformdirs", "numpy", "numpy.libs", "scipy", "scipy.libs")
DIES_WITH_US = ("setpriv", "--pdeathsig", "KILL")
"""Begins a command that ends when whoever started it does, however that ends."""
USER, STRANGER = "lum", "mate"
"""May do everything through sudo; may do nothing."""
MASKED = (
    "systemd-udevd.service systemd-udevd-control.socket systemd-udevd-kernel.socket"
    " systemd-udev-trigger.service sys-kernel-debug.mount sys-kernel-tracing.mount"
    " systemd-binfmt.service proc-sys-fs-binfmt_misc.automount proc-sys-fs-binfmt_misc.mount"
    " getty@tty1.service e2scrub_reap.service apt-daily.timer apt-daily-upgrade.timer"
)
NETWORK = """[Unit]
DefaultDependencies=no
Before=sysinit.target
[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=/sbin/ip addr add 10.9.0.2/24 dev vec0
ExecStart=/sbin/ip link set vec0 up
ExecStart=/usr/local/lib/let-in
[Install]
WantedBy=sysinit.target
"""
LET_IN = """#!/bin/sh
# Whoever started this kernel said by its command line which key opens this computer, this time.
key=$(sed -n 's/.*labkey=\\([A-Za-z0-9+/=]*\\).*/\\1/p' /proc/cmdline)
[ -n "$key" ] && printf 'ssh-ed25519 %s\\n' "$key" >/run/lab_keys
"""
BURN = """#!/usr/bin/python3
import sys, time
held = bytearray(int(sys.argv[2]) << 20)
held[::4096] = b"x" * len(held[::4096])
share = float(sys.argv[1])
while True:
    start = time.monotonic()
    while time.monotonic() - start < share / 10:
        pass
    time.sleep((1 - share) / 10)
"""
UNITS = {
    "chart-tiles.service": (
        "[Unit]\nDescription=Keeps chart tiles in memory\n[Service]\nExecStart=/usr/local/lib/burn"
        " 0.30 180\n[Install]\nWantedBy=multi-user.target\nAlias=tiles.service\n"
    ),
    "tide-poll.service": (
        "[Unit]\nDescription=Asks for tides\n[Service]\nType=oneshot\nExecStart=/usr/bin/timeout 2"
        " /usr/local/lib/burn 0.3 40\nSuccessExitStatus=124\n"
    ),
    "tide-poll.timer": (
        "[Unit]\nDescription=Asks for tides"
        " often\n[Timer]\nOnActiveSec=5\nOnUnitActiveSec=10\nAccuracySec=500ms\n"
        "[Install]\nWantedBy=timers.target\n"
    ),
    "sail-print.socket": (
        "[Unit]\nDescription=Waits for sails to"
        " print\n[Socket]\nListenStream=/run/sail-print\n[Install]\nWantedBy=sockets.target\n"
    ),
    "sail-print.service": (
        "[Unit]\nDescription=Prints"
        " sails\nRequires=sail-print.socket\n[Service]\nExecStart=/usr/local/lib/burn 0.02"
        " 20\n[Install]\nWantedBy=multi-user.target\n"
    ),
    "odd\\x20name.service": (
        "[Unit]\nDescription=An odd name\n[Service]\nExecStart=/bin/sleep infinity\n"
    ),
    "etc-own.service": (
        "[Unit]\nDescription=Of the administrator\n[Service]\nExecStart=/bin/sleep"
        " infinity\n[Install]\nWantedBy=multi-user.target\n"
    ),
}
IN_ETC = {"etc-own.service"}
SWITCHED_ON = (
    "chart-tiles.service",
    "tide-poll.timer",
    "sail-print.socket",
    "sail-print.service",
    "etc-own.service",
)
USER_UNIT = (
    "[Unit]\nDescription=Indexes sails\n[Service]\nExecStart=/bin/sleep"
    " infinity\n[Install]\nWantedBy=default.target\n"
)
ENTRY = "[Desktop Entry]\nType=Application\nName=Corner bell\nExec=/bin/sleep 1000\n"


def missing() -> str:
    """Why this machine cannot boot a lab, as a sentence; empty where it can."""
    if os.geteuid() != 0:
        return "a lab takes root"
    if not Path("/dev/net/tun").exists():
        return "there is no /dev/net/tun"
    tools = [t for t in TOOLS if not shutil.which(t)]
    return f"missing: {', '.join(tools)}; `make lab-tools` installs them" if tools else ""


class Lab:
    """One computer.

    Args:
        folder: where its image is kept; an image that is there already is used again.
        log: told what goes on.
    """

    def __init__(self, folder: Path, log=lambda words: None) -> None:
        self.folder, self._log = folder, log
        self.base, self.disk = folder / "base.img", folder / "disk.img"
        self.tree = folder / "tree"
        """The same as a folder."""
        self._kernel: subprocess.Popen | None = None
        self._shared = ""
        """Where connections are shared: the first of a user takes seconds, the next do not. The key
        lies there too, made anew at each boot and gone with it."""

    # -- the image ---------------------------------------------------------------------------------

    def build(self) -> None:
        """A Debian with Lumtak in it, its libraries, and the heavy set; about a minute."""
        sources = [
            Path(__file__),
            *sorted((REPO / "src").rglob("*.py")),
            *sorted((REPO / "src").rglob("*.toml")),
        ]
        recipe = hashlib.sha256(b"".join(p.read_bytes() for p in sources)).hexdigest()
        made_by = self.folder / "base.recipe"
        if (
            self.base.exists()
            and self.tree.exists()
            and made_by.exists()
            and made_by.read_text() == recipe
        ):
            return
        self._log("building a Debian with a heavy set of services (about a minute)")
        root = self.folder / "root"
        shutil.rmtree(root, ignore_errors=True)
        self.folder.mkdir(parents=True, exist_ok=True)
        sources = [
            p
            for p in (Path("/etc/apt/sources.list.d/debian.sources"), Path("/etc/apt/sources.list"))
            if p.exists()
        ]
        options = (
            'APT::Install-Recommends "false"', 'Acquire::Languages "none"',
        )  # fmt: skip
        paths = ("/usr/share/man/*", "/usr/share/doc/*", "/usr/share/locale/*")
        run(
            "mmdebstrap", "--quiet", "--mode=root", "--variant=minbase", f"--include={PACKAGES}",
            *(f"--aptopt={o}" for o in options), "--dpkgopt=force-unsafe-io",
            *(f"--dpkgopt=path-exclude={p}" for p in paths),
            "bookworm", root, sources[0],
        )  # fmt: skip
        self._modules(root)
        self._furnish(root)
        self._lumtak(root)
        new = self.folder / "base.new"
        new.unlink(missing_ok=True)
        run("truncate", "-s", "1800M", new)
        run("mke2fs", "-q", "-t", "ext4", "-J", "size=16", "-m", "0", "-d", root, new)
        shutil.rmtree(self.tree, ignore_errors=True)
        root.rename(self.tree)
        new.rename(self.base)
        made_by.write_text(recipe)

    @staticmethod
    def _modules(root: Path) -> None:
        modules = Path("/usr/lib/uml/modules")
        version = next(p.name for p in modules.iterdir())
        for name in ("zram", "zsmalloc", "autofs4"):
            for found in (modules / version).rglob(f"{name}.ko"):
                target = root / "lib/modules" / version / found.relative_to(modules / version)
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copy(found, target)
        for found in (modules / version).glob("modules.*"):
            if found.name.startswith(("modules.builtin", "modules.order")):
                shutil.copy(found, root / "lib/modules" / version / found.name)
        run("chroot", root, "depmod", version)

    def _furnish(self, root: Path) -> None:
        def put(path: str, content: str, mode: int = 0o644) -> None:
            place = root / path
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_text(content)
            place.chmod(mode)

        put("etc/hostname", "drawing-lab\n")
        put("etc/hosts", "127.0.0.1 localhost drawing-lab\n")
        put("etc/fstab", "/swapfile none swap sw 0 0\n")
        put("swapfile", "", 0o600)
        run("dd", "if=/dev/zero", f"of={root / 'swapfile'}", "bs=1M", "count=64", "status=none")
        run("mkswap", root / "swapfile")
        put("etc/machine-id", "")
        put("etc/systemd/system/labnet.service", NETWORK)
        put("usr/local/lib/burn", BURN, 0o755)
        for name, content in UNITS.items():
            put(f"{'etc' if name in IN_ETC else 'usr/lib'}/systemd/system/{name}", content)
        put("usr/lib/systemd/user/sail-index.service", USER_UNIT)
        put("etc/xdg/autostart/corner-bell.desktop", ENTRY)
        for name in (USER, STRANGER):
            run("chroot", root, "useradd", "-m", "-s", "/bin/bash", name)
        put(f"etc/sudoers.d/{USER}", f"{USER} ALL=(ALL) NOPASSWD: ALL\n", 0o440)
        put(
            f"home/{USER}/.config/autostart/sail-copy.desktop",
            ENTRY.replace("Corner bell", "Sail copy"),
        )
        put("usr/local/lib/let-in", LET_IN, 0o755)
        put("etc/ssh/sshd_config.d/lab.conf", "AuthorizedKeysFile /run/lab_keys\n")
        wanted = root / f"home/{USER}/.config/systemd/user/default.target.wants"
        wanted.mkdir(parents=True)
        (wanted / "sail-index.service").symlink_to("/usr/lib/systemd/user/sail-index.service")
        for name in (USER, STRANGER):
            run("chroot", root, "chown", "-R", f"{name}:{name}", f"/home/{name}")
        run("chroot", root, "systemctl", "-q", "enable", "labnet", *SWITCHED_ON)
        run("chroot", root, "systemctl", "-q", "mask", *MASKED.split())

    @staticmethod
    def _lumtak(root: Path) -> None:
        """Lumtak as it stands in this tree, with the libraries of this environment."""
        import msgspec

        site = Path(msgspec.__file__).parents[1]
        place = root / "opt/lumtak"
        for name in LIBRARIES:
            if (site / name).is_dir():
                ignored = shutil.ignore_patterns("tests", "__pycache__", "*.pyi")
                shutil.copytree(site / name, place / name, ignore=ignored, symlinks=True)
        shutil.copytree(
            REPO / "src/lumtak", place / "lumtak", ignore=shutil.ignore_patterns("__pycache__")
        )
        shutil.copytree(
            REPO / "scripts", place / "scripts", ignore=shutil.ignore_patterns("__pycache__")
        )
        for name in (
            "textual",
            "rich",
            "markdown_it",
            "mdurl",
            "mdit_py_plugins",
            "linkify_it",
            "uc_micro",
            "pygments",
        ):
            if (site / name).is_dir():
                shutil.copytree(
                    site / name, place / name, ignore=shutil.ignore_patterns("__pycache__")
                )
        for found in site.glob("typing_extensions.py"):
            shutil.copy(found, place)
        run("chroot", root, "python3", "-m", "compileall", "-q", "/opt/lumtak")
        for name, what in (
            ("lumtak", "-m lumtak"),
            ("lumtak-bench", "/opt/lumtak/scripts/bench.py"),
        ):
            command = root / "usr/local/bin" / name
            command.write_text(f'#!/bin/sh\nPYTHONPATH=/opt/lumtak exec python3 {what} "$@"\n')
            command.chmod(0o755)

    # -- running -----------------------------------------------------------------------------------

    def boot(self, *, anew: bool = False) -> None:
        """Switched on, on the disk as it was left, or on a new one.

        Returns when the system runs.
        """
        if anew or not self.disk.exists():
            self.disk.unlink(missing_ok=True)
            run("cp", "--sparse=always", "--reflink=auto", self.base, self.disk)
        (self.folder / "tmp").mkdir(exist_ok=True)
        self._shared = tempfile.mkdtemp(prefix="lab-")
        run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", self._key)
        _, public, *_ = self._key.with_suffix(".pub").read_text().split()
        script = (
            f"mount -t tmpfs -o mode=1777 tmpfs {self.folder}/tmp; export TMPDIR={self.folder}/tmp"
            f" HOME={self.folder}; ip link set lo up; ip tuntap add tap0 mode tap; ip addr add"
            f" 10.9.0.1/24 dev tap0; ip link set tap0 up; exec linux.uml mem=1024M ubd0={self.disk}"
            " root=/dev/ubda rw vec0:transport=tap,ifname=tap0,depth=64,gro=0 con=null"
            f" con0=fd:0,fd:1 quiet umid=lab uml_dir={self.folder}/tmp/ labkey={public}"
        )
        with (self.folder / "console.log").open("ab") as console:
            self._kernel = subprocess.Popen(
                [*DIES_WITH_US, "unshare", "--fork", "--pid", "--mount", "--mount-proc", "--net",
                "--propagation", "private", "--kill-child=SIGKILL",
                 "bash", "-c", script],
                stdin=subprocess.DEVNULL, stdout=console, stderr=console, start_new_session=True,
            )  # fmt: skip
        end = time.monotonic() + 180
        while time.monotonic() < end:
            if self._kernel.poll() is not None:
                break
            try:
                state = self.ssh(
                    "root", "systemctl", "is-system-running", "--wait", timeout_s=60, check=False
                ).strip()
            except subprocess.TimeoutExpired:
                continue
            if state in {"running", "degraded"}:
                return
            time.sleep(0.3)
        raise RuntimeError(
            "the lab did not"
            f" boot:\n{(self.folder / 'console.log').read_text(errors='replace')[-2000:]}"
        )

    @property
    def _key(self) -> Path:
        return Path(self._shared, "key")

    def _inside(self) -> str:
        """Number of the process in the lab's own network."""
        found = subprocess.run(
            ["pgrep", "-P", str(self._kernel.pid if self._kernel else 0)],
            capture_output=True,
            text=True,
            check=False,
        ).stdout.split()
        return found[0] if found else "0"

    def command(self, user: str) -> list[str]:
        """What reaches a shell of this user."""
        options = (
            "StrictHostKeyChecking=no", "UserKnownHostsFile=/dev/null", "LogLevel=ERROR",
            "BatchMode=yes", "ConnectTimeout=8",
            "ControlMaster=auto", "ControlPersist=300", f"ControlPath={self._shared}/%r",
        )  # fmt: skip
        flags = [x for o in options for x in ("-o", o)]
        return [
            "nsenter",
            f"--net=/proc/{self._inside()}/ns/net",
            "ssh",
            "-i",
            str(self._key),
            *flags,
            f"{user}@10.9.0.2",
        ]

    def ssh(
        self, user: str, *words: str, timeout_s: float = 120, check: bool = True, stdin: str = ""
    ) -> str:
        """What a command prints there, errors included."""
        import shlex

        result = subprocess.run(
            [*self.command(user), shlex.join(words)], input=stdin, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True, errors="replace", timeout=timeout_s, check=False,
        )  # fmt: skip
        if check and result.returncode != 0:
            raise RuntimeError(f"{shlex.join(words)} gave {result.returncode}:\n{result.stdout}")
        return result.stdout

    def cut_power(self) -> None:
        """It is off, at once."""
        if self._kernel is not None:
            os.killpg(self._kernel.pid, signal.SIGKILL)
            self._gone()

    def switch_off(self) -> None:
        """It shuts down in order."""
        if self._kernel is None:
            return
        self.ssh("root", "systemctl", "poweroff", check=False, timeout_s=30)
        try:
            self._kernel.wait(60)
            self._gone()
        except subprocess.TimeoutExpired:
            self.cut_power()

    def _gone(self) -> None:
        """It is off: shared connections end."""
        if self._kernel is not None:
            self._kernel.wait()
            self._kernel = None
        for name in (n for n in os.listdir(self._shared) if not n.startswith("key")):
            command = [
                "ssh",
                "-o",
                f"ControlPath={self._shared}/{name}",
                "-O",
                "exit",
                f"{name}@10.9.0.2",
            ]
            subprocess.run(command, capture_output=True, check=False)
        shutil.rmtree(self._shared, ignore_errors=True)

    def restart(self) -> None:
        """Off in order, and on again."""
        self.switch_off()
        self.boot()


def run(*words: object) -> None:
    """A command that has to succeed; what it said is in the error."""
    result = subprocess.run(
        [str(w) for w in words],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    if result.returncode != 0:
        raise RuntimeError(f"{words[0]} gave {result.returncode}:\n{result.stdout[-3000:]}")


def main() -> None:
    """A shell in a lab, which is thrown away afterwards."""
    why = missing()
    if why:
        raise SystemExit(f"No lab can be booted here: {why}.")
    parser = argparse.ArgumentParser(description=main.__doc__)
    parser.add_argument(
        "folder",
        nargs="?",
        type=Path,
        default=Path.home() / ".cache/lumtak-lab",
        help="where its image is kept (default: %(default)s)",
    )
    lab = Lab(parser.parse_args().folder, log=lambda words: print(words, flush=True))
    lab.build()
    print("booting (about ten seconds)", flush=True)
    lab.boot(anew=True)
    print(
        f"A slow computer, as {USER} (sudo without a password). Try: lumtak, or lumtak audit local"
        " --profile writing-and-web; lumtak-bench real_facts. Leave with exit."
    )
    try:
        subprocess.run([*lab.command(USER)[:-1], "-t", lab.command(USER)[-1]], check=False)
    finally:
        lab.cut_power()


if __name__ == "__main__":
    main()
