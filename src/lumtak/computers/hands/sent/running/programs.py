"""Programs that a hand runs: in a session of their own, bounded in time and in what they print.

One file of the standard library, in the language of Python 3.8, for it is sent with the hand.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import select
import signal
import subprocess
import tempfile
import time

from lumtak.computers.hands.sent.files.making import new_file
from lumtak.computers.hands.sent.files.opening import lines_of

_MOST_PRINTED = 1 << 25
_PATH = "/usr/sbin:/usr/bin:/sbin:/bin"
_BUS = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>session</type><listen>unix:tmpdir=/tmp</listen><auth>EXTERNAL</auth>
<servicedir>/usr/share/dbus-1/services</servicedir>
<policy context="default"><allow send_destination="*" eavesdrop="true"/>
<allow eavesdrop="true"/><allow own="*"/></policy></busconfig>
"""
"""A session bus that starts what the system's packages brought, and nothing that stands in a folder
of the user; dbus-daemon(1)."""


def on_the_bus(arguments: list[str], timeout_s: float, own: dict[str, str]) -> bytes:
    """What a program prints that runs on the session bus of this hand's user.

    On one of its own where the user is not logged in. Programs of dconf see what the user set, and
    not what the administrator did for everybody.
    """
    if arguments[0] == "dconf":
        with tempfile.NamedTemporaryFile("w", prefix="lumtak-profile-") as profile:
            profile.write(_own_of_profile())
            profile.flush()
            return _on_a_bus(arguments, timeout_s, dict(own, DCONF_PROFILE=profile.name))
    return _on_a_bus(arguments, timeout_s, own)


def _own_of_profile() -> str:
    """The database of a user's own, as the administrator's profile names it; dconf(7)."""
    try:
        said = b"".join(lines_of("/etc/dconf/profile/user")).decode("utf-8", "replace")
    except OSError:
        said = ""
    named = [line for line in said.splitlines() if line.startswith(("user-db:", "service-db:"))]
    return "%s\n" % (named[0] if named else "user-db:user")


def _on_a_bus(arguments: list[str], timeout_s: float, own: dict[str, str]) -> bytes:
    if "DBUS_SESSION_BUS_ADDRESS" in own:
        return printed(arguments, timeout_s, check=True, more=own)
    runtime = "/run/user/%d" % os.geteuid()
    if os.path.exists(runtime + "/bus"):
        own = dict(
            own, XDG_RUNTIME_DIR=runtime, DBUS_SESSION_BUS_ADDRESS="unix:path=%s/bus" % runtime
        )
        return printed(arguments, timeout_s, check=True, more=own)
    with tempfile.TemporaryDirectory(prefix="lumtak-bus-") as folder:
        new_file(folder + "/bus.conf", _BUS.encode("ascii"))
        # Some programs leave files in the user's cache, though they only read, where there is no
        # folder for what runs.
        own = dict(own, XDG_RUNTIME_DIR=folder)
        whole = ["dbus-run-session", "--config-file=%s/bus.conf" % folder, "--", *arguments]
        return printed(whole, timeout_s, check=True, more=own)


def printed(
    arguments: list[str],
    timeout_s: float,
    check: bool,
    more: dict[str, str] | None = None,
    alone: bool = False,
) -> bytes:
    """What a program prints that runs in a session of its own.

    Without a terminal, with a clean environment and no descriptor but three.

    Args:
        arguments: its name and arguments.
        timeout_s: after that it is ended.
        check: whether it has to succeed.
        more: added to its environment.
        alone: whether what it left running is ended too.
    """
    program = subprocess.Popen(  # noqa: S603 - a table of programs and arguments, no shell
        arguments,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env=dict(more or {}, PATH=_PATH, LC_ALL="C"),
        cwd="/",
        close_fds=True,
        start_new_session=True,
        preexec_fn=_dies_with_its_hand if alone else None,  # noqa: PLW1509 - a hand has one thread
    )
    out, said, late = _collected(program, timeout_s, alone)
    if late:
        raise OSError(errno.ETIMEDOUT, "%s failed: %s" % (arguments[0], late))
    if check and program.returncode != 0:
        lines = said.decode("utf-8", "replace").strip().splitlines()
        raise OSError(
            errno.EIO,
            "%s failed: %s"
            % (arguments[0], lines[-1] if lines else "code %d" % program.returncode),
        )
    return out


def _dies_with_its_hand() -> None:
    """Whatever ends the hand ends this too; prctl(2), PR_SET_PDEATHSIG."""
    ctypes.CDLL(None).prctl(1, signal.SIGKILL, 0, 0, 0)


def _collected(
    program: subprocess.Popen[bytes], timeout_s: float, alone: bool
) -> tuple[bytes, bytes, str]:
    """(what it printed, what it said, why it was ended early)."""
    # Both pipes are read at once: a program that fills the one would wait for ever on the other.
    pipes = [p for p in (program.stdout, program.stderr) if p is not None]
    kept: dict[int, list[bytes]] = {pipe.fileno(): [] for pipe in pipes}
    end = time.monotonic() + min(timeout_s, 600.0)
    late = _drained(kept, end)
    if late == _TOO_LATE:
        late = "it took longer than %g s" % timeout_s
    if late or alone:
        with contextlib.suppress(subprocess.TimeoutExpired):
            program.wait(timeout=0.0 if late else max(0.1, end - time.monotonic()))
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(program.pid, signal.SIGKILL)
    else:
        with contextlib.suppress(subprocess.TimeoutExpired):
            program.wait(timeout=max(0.1, end - time.monotonic()))
    program.kill()
    out, said = (b"".join(parts) for parts in kept.values())
    for pipe in pipes:
        pipe.close()
    program.wait()
    return out, said, late


_TOO_LATE = "too late"


def _drained(kept: dict[int, list[bytes]], end: float) -> str:
    """Read pipes until both end; why it was given up, else.

    What comes is bounded in size and time, since whatever runs there may flood or hang.
    """
    waiting, size = list(kept), 0
    while waiting:
        ready, _, _ = select.select(waiting, [], [], max(0.0, end - time.monotonic()))
        if not ready:
            return _TOO_LATE
        for descriptor in ready:
            data = os.read(descriptor, 1 << 16)
            size += len(data)
            kept[descriptor].append(data)
            if not data:
                waiting.remove(descriptor)
            elif size > _MOST_PRINTED:
                return "it printed more than %d bytes" % _MOST_PRINTED
    return ""
