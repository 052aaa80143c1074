"""What every computer can do, whatever kind it is.

All that core, journal and screens know of it.
"""

import threading
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Protocol

from lumtak.computers.abilities import Capabilities
from lumtak.computers.acts import Acts
from lumtak.computers.kit import UndoKit
from lumtak.computers.own_files import OwnFiles
from lumtak.core.clutter import Looked, Survey
from lumtak.core.facts import Facts, Item, Process, ProcessDetails, Space, System
from lumtak.core.felt import Start, Try
from lumtak.core.installed import Programs
from lumtak.core.owned import Chosen
from lumtak.core.record import Figure, NotMeasured, Record
from lumtak.core.sample import Snapshot
from lumtak.core.setting import SettingRef, State
from lumtak.core.upkeep.tasks import Partial, Result


class Program(Record):
    """A program of a package, whose start a person may have tried."""

    path: str
    title: str


class Identity(Protocol):
    """Which computer it is, and whose settings are changed."""

    address: str
    """As the user names it: "sim:drawing-bench", "local"."""
    identity: str
    """Knows it again; fit for a file name."""
    name: str
    """For people."""
    user_name: str
    """Whose settings are changed."""


class About(OwnFiles, Protocol):
    """What a computer is."""

    def facts(self) -> Facts:
        """Everything about it, read now."""
        ...

    def system(self) -> System:
        """What runs on it and since when: the cheap part of facts."""
        ...

    def closely(self, process: Process) -> ProcessDetails:
        """More about a process, read now.

        Raises:
            ComputerError: it has ended, or another process has its number by now.
        """
        ...

    def history(self, item: Item) -> tuple[str, ...]:
        """Since when it is here and when it was last used: lines for people, read now; or none."""
        ...

    def used_days(self, items: Sequence[Item]) -> dict[str, float]:
        """Days since the user last used an item, by consumer; those that nothing tells of are left
        out.
        """
        ...

    def times(self) -> dict[str, Figure]:
        """Seconds by name: parts of its last start."""
        ...

    def starts(self) -> tuple[Start, ...] | NotMeasured:
        """The starts that its own records tell of, oldest first; or why none is known."""
        ...

    def programs(self) -> tuple[Program, ...]:
        """Large programs whose start can be tried, by title; none where none is known."""
        ...

    def why_not_tried(self, path: str) -> str:
        """Why the start of a program that a person named is not tried, as a clause; empty where it
        is.
        """
        ...

    def space(self) -> Space:
        """The system's volume, read now: cheap."""
        ...

    def survey(
        self, on_progress: Callable[[Looked], None], stop: threading.Event, top: str = "/"
    ) -> Survey:
        """A volume looked through: where the disk went; of the system's what each class of clutter
        holds.

        Args:
            top: a folder on it.
            on_progress: told about four times a second.
            stop: ends it.

        Raises:
            StoppedError: it was told to stop; ComputerError: the volume cannot be looked through.
        """
        ...

    def installed(self, items: Sequence[Item]) -> Programs:
        """The programs that are installed, those first that hold most.

        Args:
            items: of the computer: what of a program starts by itself.
        """
        ...

    def upkeep(self, begun: Partial, tell: Callable[[Partial], None]) -> Result:
        """A task of upkeep is done: it only reads, and may run beside anything else, one at a time.

        Args:
            begun: which, and where it goes on.
            tell: told about four times a second how far it is; what it raises ends it.

        Raises:
            ComputerError: it could not be brought to its end.
        """
        ...

    def hints(self) -> tuple[str, ...]:
        """What a watch kept, a sentence each: the owner's account wrote it, it decides nothing."""
        ...

    def rehearse(self, names: Sequence[str]) -> None:
        """Have the package manager itself go through removing these, without doing it.

        Raises:
            ComputerError: it would not do it.
        """
        ...

    def capabilities(self) -> Capabilities:
        """What can be done to it."""
        ...


class Life(Record):
    """What people do with a computer, which is none of its load at idle; empty where it cannot be
    told.
    """

    power_source: str = ""
    """mains, battery."""
    lid: str = ""
    """open, closed."""
    locked: str = ""
    """on where the screen of a session is locked, off where none is."""
    sessions: tuple[str, ...] = ()
    """Of people, as the session manager names them."""
    touched_s: tuple[float, float] | None = None
    """Between which two instants somebody last touched keyboard, mouse or a terminal, on the
    computer's monotonic clock; None where nothing tells.
    Two, since on a busy computer seconds pass between the question and its answer."""


class Watch(Protocol):
    """Tries what the owner waits for, now and then while a reading is taken, and sees whether
    somebody does something with the computer meanwhile.
    """

    def tries(self) -> list[Try]:
        """Those that ended since this was asked last."""
        ...

    def life(self) -> tuple[float, Life] | None:
        """(when it was seen, on the computer's monotonic clock, what was seen last); None where
        nothing was yet.
        """
        ...

    def close(self) -> None:
        """It ends, and leaves nothing behind."""
        ...


class Load(Protocol):
    """What a computer is busy with."""

    def sample(self, *, memory: bool = False) -> Snapshot:
        """Its counters now; with each consumer's memory if asked, which is dear."""
        ...

    def watch(self, *, every_s: float, program: str = "") -> Watch:
        """A watch over it; its own cost is left out of samples until it is closed.

        Args:
            every_s: from one round of tries to the next.
            program: the path of a large program whose start is tried too, as the person agreed;
                empty for none.
        """
        ...

    def end_process(self, process: Process, *, force: bool = False, wait_s: float = 5.0) -> bool:
        """Ask a process to end, or force it; whether it is gone after so many seconds.

        Raises:
            ComputerError: it may not be ended, or another process has its number by now.
        """
        ...


class Settings(Acts, Protocol):
    """The settings of a computer, and what is needed to change them."""

    def read(self, ref: SettingRef) -> State:
        """The state of a setting.

        Raises:
            ComputerError: it cannot be read.
        """
        ...

    def foresee(self, ref: SettingRef, state: State) -> State:
        """What `read` will give once `write` has brought the setting to this state, as exactly as
        can be told; touches nothing.

        Raises:
            ComputerError: it cannot be told, because the write would fail too.
        """
        ...

    def write(self, ref: SettingRef, state: State, *, believed: bool = False) -> None:
        """Bring a setting to a state: exactly, where the state came from `read`.

        Else to its value by the standard's way.

        Restoring is idempotent, and clears what an interrupted write left behind.

        Args:
            ref: of the setting.
            state: to be brought about.
            believed: whether a person was shown all of it, and wants it although the computer does
                not vouch for it.

        Raises:
            ComputerError: it was refused or failed; a look tells how the setting is now.
        """
        ...

    def vouched(self, ref: SettingRef, state: State) -> bool:
        """Whether this state may be restored on the word of whoever recorded it: it takes only the
        user's rights, or the computer itself kept a receipt that it stood there.

        Raises:
            ComputerError: that cannot be asked now.
        """
        ...

    def in_force(self, ref: SettingRef) -> str:
        """Whether what is stored shows in the thing itself.

        `IN_FORCE`, or why not as `not_in_force` says it; empty where nothing can be seen.

        Raises:
            ComputerError: it cannot be asked.
        """
        ...

    def takes_root(self, ref: SettingRef) -> bool:
        """Whether a change of it takes root, for which may have to be asked."""
        ...

    def choose(self, ref: SettingRef, chosen: Chosen) -> None:
        """What is meant by this key of storage from now on, as a person chose it; touches
        nothing.
        """
        ...

    def undo_kit(self) -> UndoKit | None:
        """What leaves an undo script there; None for a simulated computer."""
        ...

    def take_rights(self, *, ask: bool) -> None:
        """Have what changes that take root need, until they are given back.

        Args:
            ask: whether a password may be asked for: the terminal is handed over.

        Raises:
            ComputerError: it is refused.
        """
        ...

    def give_back_rights(self) -> None:
        """They are not needed any more; nothing of root's runs after that."""
        ...


class Clock(Protocol):
    """The clock of a computer, and its starts."""

    def now_s(self) -> float:
        """Its monotonic clock."""
        ...

    def wall(self) -> datetime:
        """Its clock on the wall, UTC."""
        ...

    def wait(self, seconds: float, stop: threading.Event | None = None) -> None:
        """Let so much of its time pass; returns early when `stop` is set."""
        ...

    def boot_id(self) -> str:
        """Changes with every start."""
        ...

    def session_id(self) -> str | NotMeasured:
        """Changes with every login of the chosen user."""
        ...

    def restart(self, *, login_only: bool = False) -> None:
        """Restart it, or log its user out and in again; returns when the user is logged in.

        Raises:
            ComputerError: Lumtak cannot, with what to do instead.
        """
        ...


class Computer(Identity, Protocol):
    """One computer, in four parts. Synchronous; called from worker threads, one at a time."""

    @property
    def about(self) -> About:
        """What it is."""
        ...

    @property
    def load(self) -> Load:
        """What it is busy with."""
        ...

    @property
    def settings(self) -> Settings:
        """How it is set."""
        ...

    @property
    def clock(self) -> Clock:
        """Its time and its starts."""
        ...

    def close(self) -> None:
        """Let go of it; a simulated computer is saved."""
        ...
