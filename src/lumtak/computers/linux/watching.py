"""What a user waits for, tried on a real computer; what people do with it meanwhile."""

import posixpath
import threading
from collections.abc import Callable, Sequence

from lumtak.computers.hands.piped import Piped
from lumtak.computers.hands.reach import Reach, names_at, reason_of, text, text_at
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux import hardware
from lumtak.computers.linux.in_force import displays_of
from lumtak.computers.linux.session import is_wayland
from lumtak.computers.protocol import Life
from lumtak.core.felt import TRIED, Felt, Try
from lumtak.core.record import Figure, NotMeasured
from lumtak.core.text import plain

PROGRAM_EVERY_S = 30.0
"""A large program is started so often at most."""
_ON_THE_DISK: tuple[Felt, ...] = ("file_write", "file_read")
_LIDS = "/proc/acpi/button/lid"
_LOGIN_S, _BEGINS_IN_S = 5.0, 10.0


class LinuxWatch:
    """See `Watch`.

    A thread of its own asks a hand of its own: neither samples nor keys wait for a slow disk.

    Args:
        hands: of the computer.
        user: who waits.
        now_s: the computer's monotonic clock.
        every_s: from round to round.
        program: the path of a large program; empty for none.
    """

    def __init__(
        self,
        hands: Hands,
        user: User,
        *,
        now_s: Callable[[], float],
        every_s: float,
        program: str,
    ) -> None:
        self._hand, self._user, self._now_s = hands.own, user, now_s
        self._trying = hands.trying
        self._every_s, self._program = every_s, program
        self._tries: list[Try] = []
        self._seen: tuple[float, Life] | None = None
        self._stop, self._begun, self._lock = threading.Event(), threading.Event(), threading.Lock()
        self._least: dict[Felt, float] = {}
        self._program_s = float("-inf")
        self.disk_s = 0.0
        """For how long the disk had to do with what was tried: each as long as the shortest of its
        kind took, so that waiting for others does not count."""
        self._thread: threading.Thread | None = None
        if self._trying is not None and self._hand.live:
            folders = (user.data_home, user.home, "/var/tmp")  # noqa: S108
            self._folder = next((f for f in folders if self._hand.exists(f)), "/")
            self._display = _display(hands, user)
            self._thread = threading.Thread(target=self._run, args=(self._trying,), daemon=True)
            self._thread.start()
            # A disk that hangs, or a user who stops the hand, holds nobody up for longer.
            self._begun.wait(_BEGINS_IN_S)

    @property
    def pid(self) -> int:
        """The process that tries, 0 where there is none."""
        return self._trying.known_pid if self._trying is not None else 0

    def tries(self) -> list[Try]:
        """What came since."""
        with self._lock:
            found, self._tries = self._tries, []
        return found

    def life(self) -> tuple[float, Life] | None:
        """As it was seen last."""
        return self._seen

    def close(self) -> None:
        """The hand ends, and its file with it."""
        self._stop.set()
        if self._trying is not None:
            self._trying.kill()
        if self._thread is not None:
            self._thread.join(_LOGIN_S)

    def _run(self, hand: Piped) -> None:
        try:
            # The first round makes the file and fills the caches: its times are nobody's.
            self._round(hand, keep=False)
            self._begun.set()
            due_s = self._now_s()
            while True:
                due_s = max(due_s + self._every_s, self._now_s())
                if self._stop.wait(max(0.0, due_s - self._now_s())):
                    return
                self._round(hand, keep=True)
        finally:
            # A round that was under way when the watch ended may have started the hand again.
            hand.kill()

    def _round(self, hand: Reach, *, keep: bool) -> None:
        try:
            life = self._life(hand)
            told = self._felt(hand)
        except OSError as error:
            if self._stop.is_set():
                return
            why = NotMeasured(not_measured=f"it could not be tried: {reason_of(error)}")
            told, life = dict.fromkeys(TRIED[:-1], why), None
        now_s = self._now_s()
        temperature = hardware.temperature_c(self._hand)
        with self._lock:
            if life is not None:
                self._seen = life
            for felt in _ON_THE_DISK:
                took = told.get(felt)
                if isinstance(took, float):
                    self._least[felt] = min(took, self._least.get(felt, took))
                    self.disk_s += self._least[felt]
            if keep:
                self._tries += [
                    Try(felt=felt, at_s=now_s, took=took)
                    for felt, took in {**told, "temperature": temperature}.items()
                ]

    def _felt(self, hand: Reach) -> dict[Felt, Figure]:
        now_s = self._now_s()
        due = bool(self._program) and now_s - self._program_s >= PROGRAM_EVERY_S
        if due:
            self._program_s = now_s
        said = hand.feel(self._folder, self._program if due else "")
        found: dict[Felt, Figure] = {}
        for felt in TRIED:
            value = said.get(felt)
            if isinstance(value, str):
                found[felt] = NotMeasured(not_measured=plain(value, 200) or "it was not told why")
            elif value is not None:
                found[felt] = float(value)
        return found

    # -- people ------------------------------------------------------------------------------------

    def _life(self, hand: Reach) -> tuple[float, Life]:
        at_s = self._now_s()
        _, source = hardware.battery(self._hand)
        sessions = tuple(s["ID"] for s in hardware.sessions(self._hand) or [])
        asked_s = self._now_s()
        ago_s = hand.touched(*self._display)
        touched_s = (asked_s - ago_s, self._now_s() - ago_s)
        return at_s, Life(
            power_source=source,
            lid=_lid(self._hand),
            locked=_locked(hand, sessions),
            sessions=sessions,
            touched_s=None if ago_s < 0 else touched_s,
        )


def _display(hands: Hands, user: User) -> tuple[str, str]:
    """The display at which the user is logged in, and its file of cookies; empty where none is."""
    if is_wayland(hands.own, user):
        return "", ""
    name, authority = next(iter(displays_of(hands.own, hands.user, user).items()), ("", ""))
    return name, authority if authority and hands.user.exists(authority) else ""


def _lid(hand: Reach) -> str:
    """As the firmware tells; empty where there is none."""
    for name in names_at(hand, _LIDS):
        said = text_at(hand, f"{_LIDS}/{posixpath.basename(name)}/state").split()
        if said[-1:] in (["open"], ["closed"]):
            return said[-1]
    return ""


def _locked(hand: Reach, sessions: Sequence[str]) -> str:
    """Whether the screen of a session is locked, as the session manager is told.

    Org.freedesktop.login1(5), LockedHint.
    """
    named = [s for s in sessions if s.isalnum()]
    if not named:
        return ""
    asked = ("loginctl", "show-session", "--no-pager", "--property=LockedHint", "--", *named)
    try:
        said = text(hand.run(asked, _LOGIN_S)).split()
    except OSError:
        return ""
    return "on" if "LockedHint=yes" in said else "off" if said else ""
