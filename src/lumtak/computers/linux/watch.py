"""A watch: the user's own timer that looks now and then, and keeps what it saw for the next visit.

Sources: systemd.timer(5), systemd.service(5), file-hierarchy(7) of user units. It is never a timer
of the system, never lingers, and is put back as any change.
"""

import posixpath
import re
from importlib.resources import files

import msgspec

from lumtak.computers.hands.reach import Reach, reason_of
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.sent.states.states import WatchFiles
from lumtak.computers.hands.sent.states.watch_states import (
    FOUND,
    PROGRAM,
    PROGRAM_MODE,
    SERVICE,
    TIMER,
    UNIT_MODE,
    WANTS,
)
from lumtak.computers.hands.whose import PYTHON, User
from lumtak.computers.linux.adapter import Adapter, Listed, Look, Means
from lumtak.computers.linux.folder import UserFolder
from lumtak.core.facts import Fixed, Item, Setting
from lumtak.core.record import UNREADABLE, Record
from lumtak.core.setting import IN_FORCE, SettingRef, State, not_in_force
from lumtak.core.text import plain
from lumtak.errors import ComputerError, LumtakError

RHYTHMS = ("weekly", "monthly", "quarterly", "half-yearly")
_LEFT = "# Left by Lumtak, and removed when the change is put back.\n"
_SERVICE = """{left}[Unit]
Description=A short look that Lumtak was asked to take now and then
[Service]
Type=oneshot
Nice=19
IOSchedulingClass=idle
ExecStart={python} -I -S -B "{program}" {every} {cpu:g} {ram:g}
"""
_TIMER = """{left}[Unit]
Description=When Lumtak's short look may be due
[Timer]
OnStartupSec=15min
OnUnitActiveSec=1d
[Install]
WantedBy=timers.target
"""
_NUMBER = r"([0-9]{1,3}(?:\.[0-9]{1,4})?)"
_EVERY = re.compile(rf'(?m)^ExecStart=.* "[^"\n]*" ([a-z-]{{1,20}}) {_NUMBER} {_NUMBER}$')
_MOST_LOOKS = 12
CEILINGS = (25.0, 80.0)
"""Load in percent, CPU and RAM, from which on it tells the owner where no profile says."""


class Watching(Adapter):
    """One setting: how often it looks, or off."""

    area = "upkeep"
    kinds = (WatchFiles,)

    def __init__(self, means: Means) -> None:
        super().__init__(means)
        user = means.user
        units = posixpath.join(user.config_home, "systemd/user")
        self._units = UserFolder(means.of_user, units)
        self._wants = UserFolder(means.of_user, f"{units}/{WANTS}")
        self._data = UserFolder(means.of_user, posixpath.join(user.data_home, "lumtak-watch"))
        self.ceilings = CEILINGS

    def has(self, ref: SettingRef) -> bool:
        """See `Adapter.has`."""
        return super().has(ref) and ref.key == "watch"

    def items(self, look: Look) -> Listed:
        """The one, where systemd looks after users."""
        del look
        if not self._hand.exists("/usr/lib/systemd/user") and not self._hand.exists(
            "/lib/systemd/user"
        ):
            return Listed()
        why = "" if self._hand.exists(PYTHON) else f"{PYTHON} is not there"
        value = None
        try:
            value = self.read(SettingRef(area="upkeep", key="watch")).value
        except LumtakError as error:  # the owner's account may put anything there
            why = plain(f"{error.message} {error.next_step}", 300).rstrip(".")
        setting = Setting(values=("off", *RHYTHMS))
        item = Item(
            area="upkeep",
            key="watch",
            title="A short look now and then",
            origin="user",
            value=value,
            setting=Fixed(needed=why) if why else setting,
            note="A timer of the user's; it sends nothing, and runs only while they are logged in.",
        )
        return Listed(items=[item])

    def _exact(self) -> WatchFiles:
        link = self._wants.link(TIMER)
        return self._state(
            self._units.content(SERVICE),
            self._units.content(TIMER),
            None if link is None else escaped(link),
            self._data.content(PROGRAM),
        )

    def _state(
        self,
        service: bytes | None,
        timer: bytes | None,
        link: str | None,
        program: bytes | None,
    ) -> WatchFiles:
        return WatchFiles(
            escaped(self._units.path),
            escaped(self._data.path),
            (self._wants.missing(), self._data.missing()),
            service,
            timer,
            link,
            program,
        )

    def read(self, ref: SettingRef) -> State:
        """How often it looks, by what its service says; unset where nothing of it stands."""
        del ref
        exact = self._exact()
        if exact.service is None and exact.link is None and exact.program is None:
            return State(value=None, exact=exact)
        said = _EVERY.search((exact.service or b"").decode("utf-8", "replace"))
        whole = said is not None and exact.link is not None and exact.program is not None
        return State(value=said[1] if said and whole else "off", exact=exact)

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """The files as they will be."""
        if value in {None, "off"}:
            return State(value=None, exact=self._state(None, None, None, None))
        if value not in RHYTHMS:
            wanted = ", ".join(("off", *RHYTHMS))
            raise ComputerError(f"{ref} cannot be {plain(value or '')}.", f"It is {wanted}.")
        program = f"{self._data.path}/{PROGRAM}"
        if re.search(r'["\\\n$]', program) or not program.isprintable():
            raise ComputerError(
                f"The folder {plain(self._data.path)} cannot be named in a unit.",
                "Leave the watch off.",
            )
        cpu, ram = self.ceilings
        text = _SERVICE.format(
            left=_LEFT,
            python=PYTHON,
            program=program.replace("%", "%%"),
            every=value,
            cpu=cpu,
            ram=ram,
        )
        timer = _TIMER.format(left=_LEFT)
        exact = self._state(text.encode(), timer.encode(), f"../{TIMER}", program_text())
        return State(value=value, exact=exact)

    def write(self, ref: SettingRef, exact: WatchFiles) -> None:
        """Files first, the link last; taken away the other way round."""
        del ref
        if exact.link is None:
            self._stop_timer()
            self._wants.remove(TIMER, 0)
        for folder, name, data, mode in (
            (self._data, PROGRAM, exact.program, PROGRAM_MODE),
            (self._units, SERVICE, exact.service, UNIT_MODE),
            (self._units, TIMER, exact.timer, UNIT_MODE),
        ):
            if data is None:
                folder.remove(name, 0)
            else:
                folder.put(name, data, mode)
        if exact.program is None:
            self._data.remove(FOUND, exact.missing[1])
        if exact.link is not None:
            self._wants.bring(TIMER, self._wants.leading(TIMER, exact.link), keep=False)
        else:
            self._wants.remove(TIMER, exact.missing[0])
        self._tell("daemon-reload")
        if exact.link is not None:
            self._tell("start", "--", TIMER)

    def _tell(self, *verb: str) -> bool:
        """The user's service manager does this, where it runs; whether it did."""
        try:
            self._of_user.run(("systemctl", "--user", *verb), 30.0, bus=self._user.bus)
        except OSError:
            return False
        return True

    def _stop_timer(self) -> None:
        """It runs no more; where no manager of the user's runs, neither does it.

        Raises:
            ComputerError: it runs still.
        """
        if not self._tell("stop", "--", TIMER) and self._tell("is-active", "--", TIMER):
            raise ComputerError(
                "The timer of the watch cannot be stopped.", "Log out and in again, then try again."
            )

    def in_force(self, ref: SettingRef) -> str:
        """Whether the user's service manager has the timer."""
        if self.read(ref).value in {None, "off"} or not self._hand.live:
            return ""
        asked = ("systemctl", "--user", "is-active", "--", TIMER)
        try:
            self._of_user.run(asked, 20.0, bus=self._user.bus)
        except OSError as error:
            return not_in_force(f"it begins at the next login ({reason_of(error)})")
        return IN_FORCE

    def hints(self) -> tuple[str, ...]:
        """What it kept, a sentence each; it is the user's own word, and decides nothing."""
        try:
            data = self._data.content(FOUND) or b""
            looks = msgspec.json.decode(data, type=_Found).looks if data else ()
        except (*UNREADABLE, ComputerError):
            return ("What the watch kept cannot be read.",)
        return tuple(look.in_words() for look in looks[-_MOST_LOOKS:])


def is_ours(hand: Reach, user: User) -> bool:
    """Whether what stands under the names of a watch is what Lumtak writes, to the byte: nobody
    else hides behind its names.

    Args:
        hand: of the user.
        user: whose.
    """
    units = f"{user.config_home}/systemd/user"
    program = f"{user.data_home}/lumtak-watch/{PROGRAM}"
    try:
        service, timer, runs = (
            hand.read(path, 1 << 18) for path in (f"{units}/{SERVICE}", f"{units}/{TIMER}", program)
        )
    except OSError:
        return False
    said = _EVERY.search(service.decode("utf-8", "replace"))
    wanted = said and _SERVICE.format(
        left=_LEFT,
        python=PYTHON,
        program=program.replace("%", "%%"),
        every=said[1],
        cpu=float(said[2]),
        ram=float(said[3]),
    )
    whole = service == (wanted or "").encode() and timer == _TIMER.format(left=_LEFT).encode()
    return whole and runs == program_text()


class _Look(Record):
    """One look, as the watch kept it."""

    day: str
    cpu_pct: float
    ram_pct: float
    drifted: list[str]
    told: list[str]

    def in_words(self) -> str:
        """One sentence."""
        said = f"{plain(self.day, 10)}: CPU {self.cpu_pct:.0f} %, RAM {self.ram_pct:.0f} %"
        if self.drifted:
            said += f", {plain('; '.join(self.drifted[:5]), 300)}"
        return said


class _Found(Record):
    format: int
    looks: tuple[_Look, ...]


def program_text() -> bytes:
    """The one file that it runs."""
    return (files("lumtak.computers.hands.sent") / "lookout.py").read_bytes()
