"""Updates that wait, by the package manager's own lists; nothing is ever fetched.

Sources: apt-get(8), --simulate: a line "Inst NAME [OLD] (NEW ARCHIVE, ... [ARCH])" for each package
that would be installed; sources.list(5), archives.
"""

import re

from lumtak.computers.hands.reach import names_at, reason_of, text
from lumtak.computers.hands.sent.table import APT
from lumtak.computers.linux.signs import waiting_restart
from lumtak.computers.linux.upkeep.given import Given
from lumtak.core.upkeep.system import Update, updates_result
from lumtak.core.upkeep.tasks import Result, not_possible

_ASK = (*APT, "dist-upgrade")
LISTS = "/var/lib/apt/lists"
_INST = re.compile(
    r"(?m)^Inst ([a-z0-9][a-z0-9+.:-]{1,120}) \[([^\]\n]{1,200})\]"
    r" \(([^\s)]{1,200}) ([^\n)]{0,1000})\)?"
)
_SECURITY = re.compile(r"(?i)security|-esm")
_RESTARTS = re.compile(
    r"^(?:linux-image-.*|linux-generic.*|libc6|libc-bin|systemd|systemd-sysv|dbus|dbus-daemon|"
    r"libssl\d.*|udev|.*-microcode|.*-firmware|firmware-.*)$"
)
"""What is in use until the next start; the same packages after which distributions ask for one."""
_DAY_S = 86_400


def updates(given: Given) -> Result:
    """How many wait, how many of them mend holes, which of them take a restart."""
    hand = given.hands.own
    if not hand.exists(LISTS):
        why = "the package manager of this computer is none whose lists are read"
        return not_possible("updates", given.at, why, "This task knows apt's.")
    try:
        said = text(given.hands.beside(as_user=False).run(_ASK, 300.0))
    except OSError as error:
        return not_possible(
            "updates", given.at, f"apt cannot be asked: {reason_of(error)}", "See what apt says."
        )
    waiting = [
        Update(
            name=name,
            old=old,
            new=new,
            security=bool(_SECURITY.search(archives)),
            restart=bool(_RESTARTS.match(name.partition(":")[0])),
        )
        for name, old, new, archives in _INST.findall(said)
    ]
    return updates_result(waiting, given.at, _age(given), waiting_restart(given.hands.own))


def _age(given: Given) -> float | None:
    """Days since the lists were fetched; None where they never were."""
    hand = given.hands.own
    names = [n for n in names_at(hand, LISTS) if n.endswith(("Release", "_Packages", ".lz4"))]
    times = hand.times_of([f"{LISTS}/{n}" for n in names])
    newest = max((t[2] for t in times if t), default=None)
    return None if newest is None else max(0.0, (given.now_s - newest) / _DAY_S)
