"""A real systemd as process 1 of namespaces of its own.

In half a second, on a copy of the lab's Debian, without a kernel of its own.

Services, users' managers, buses and what stands in /etc are real there; the kernel is the host's,
so /proc/sys is read-only and loads are not its own. Takes root and a control group tree of version
2.
"""

import contextlib
import os
import shlex
import shutil
import signal
import subprocess
import time
from pathlib import Path

from lab.booted import DIES_WITH_US, missing, run

GROUPS = next(
    (p for p in ("/sys/fs/cgroup/unified", "/sys/fs/cgroup") if Path(p, "cgroup.procs").exists()),
    "",
)
_START = """
set -eu
cd "$1"
mount --bind . . && cd "$1"
mount -t proc proc proc
mount --bind proc/sys proc/sys && mount -o remount,bind,ro proc/sys
mount -t sysfs -o ro sysfs sys
mount -t tmpfs -o mode=755 tmpfs sys/fs/cgroup 2>/dev/null || true
mount -t cgroup2 cgroup2 sys/fs/cgroup
mount -t tmpfs -o mode=755 tmpfs dev
for d in null zero full random urandom tty; do touch dev/$d; mount --bind /dev/$d dev/$d; done
mkdir -p dev/pts dev/shm
mount -t devpts -o newinstance,ptmxmode=0666,mode=620 devpts dev/pts
ln -s pts/ptmx dev/ptmx
mount -t tmpfs -o mode=1777 tmpfs dev/shm
ln -s /proc/self/fd dev/fd
mount -t tmpfs -o mode=755 tmpfs run
mount -t tmpfs tmpfs tmp
ip link set lo up
hostname drawing-lab
pivot_root . mnt
umount -l /mnt
exec env -i container=lab PATH=/usr/sbin:/usr/bin:/sbin:/bin TERM=dumb \\
    /lib/systemd/systemd --log-target=console systemd.unified_cgroup_hierarchy=1
"""


def why_not() -> str:
    """Why this machine cannot do it, as a clause; empty where it can."""
    return missing() or ("" if GROUPS else "there are no control groups of version 2")


class Inner:
    """One system on a copy of a folder that holds a Debian.

    Args:
        tree: the Debian; it is not touched.
        folder: for the copy and the log; removed when it is switched off.
    """

    def __init__(self, tree: Path, folder: Path) -> None:
        self.root, self._log = folder / "root", folder / "console.log"
        folder.mkdir(parents=True, exist_ok=True)
        run("cp", "-a", "--reflink=auto", tree, self.root)
        for mask in ("labnet.service", "ssh.service"):
            (self.root / "etc/systemd/system" / mask).unlink(missing_ok=True)
            (self.root / "etc/systemd/system" / mask).symlink_to("/dev/null")
        self._group = Path(GROUPS, f"lumtak-lab-{os.getpid()}")
        self._outer: subprocess.Popen | None = None
        self._pid = 0

    def boot(self) -> None:
        """Switched on; returns when the system runs."""
        self._group.mkdir(exist_ok=True)
        flags = (
            "--fork",
            "--pid",
            "--mount",
            "--uts",
            "--ipc",
            "--net",
            "--cgroup",
            "--propagation",
            "private",
            "--kill-child=SIGKILL",
        )
        with self._log.open("ab") as console:
            self._outer = subprocess.Popen(
                [*DIES_WITH_US, "sh", "-c",
                f'echo $$ > {self._group}/cgroup.procs; exec unshare "$@"', "_", *flags, "bash",
                "-c", _START, "_", self.root],
                stdin=subprocess.DEVNULL, stdout=console, stderr=console, start_new_session=True,
            )  # fmt: skip
        end = time.monotonic() + 60
        while time.monotonic() < end and self._outer.poll() is None:
            found = subprocess.run(
                ["pgrep", "-P", str(self._outer.pid)], capture_output=True, text=True, check=False
            ).stdout.split()
            self._pid = int(found[0]) if found else 0
            if self._pid and self.run(
                "root", "systemctl", "is-system-running", "--wait", check=False
            ).strip() in {
                "running",
                "degraded",
            }:
                return
            time.sleep(0.1)
        raise RuntimeError(
            f"systemd did not start:\n{self._log.read_text(errors='replace')[-2000:]}"
        )

    def run(
        self, user: str, *words: str, check: bool = True, stdin: str = "", timeout_s: float = 60
    ) -> str:
        """What a command prints there, errors included."""
        result = subprocess.run(
            ["nsenter", f"--target={self._pid}", "--mount", "--pid", "--uts", "--ipc", "--net",
            "--cgroup", "--root", "--wd=/",
             "env", "-i", "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
             "LANG=C.UTF-8",
             "runuser", "-l", user, "-c", shlex.join(words)],
            input=stdin, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
            errors="replace", timeout=timeout_s, check=False,
        )  # fmt: skip
        if check and result.returncode != 0:
            raise RuntimeError(f"{shlex.join(words)} gave {result.returncode}:\n{result.stdout}")
        return result.stdout

    def off(self) -> None:
        """Everything in it is gone, and so is the copy."""
        if self._outer is not None:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self._outer.pid, signal.SIGKILL)
            self._outer.wait()
        shutil.rmtree(self.root, ignore_errors=True)
        for path in sorted(self._group.rglob("*"), reverse=True):
            if path.is_dir():
                with contextlib.suppress(OSError):
                    path.rmdir()
        with contextlib.suppress(OSError):
            self._group.rmdir()
