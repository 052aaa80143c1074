"""What every adapter is.

It knows the settings of one kind on a Linux computer, lists, reads, foresees and writes them.
"""

import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from types import MappingProxyType
from typing import Any, ClassVar, NamedTuple, TypeVar

from lumtak.computers.hands.reach import Reach
from lumtak.computers.hands.sent.states.states import Exact
from lumtak.computers.hands.sent.units.resolving import Gap as Unseen
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux.identity import Programs
from lumtak.computers.linux.login_starts import LoginStart
from lumtak.computers.linux.root import Root
from lumtak.core.catalogue import Catalogue
from lumtak.core.facts import Gap, Item
from lumtak.core.setting import Area, SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

T = TypeVar("T")


class Means:
    """What adapters work with, on one computer.

    Args:
        hands: of the computer.
        user: whose settings.
        catalogue: knows roles.
    """

    def __init__(self, hands: Hands, user: User, catalogue: Catalogue) -> None:
        self.hands = hands
        self.hand: Reach = hands.own
        self.of_user: Reach = hands.user
        self.root = Root(hands)
        self.user = user
        self.catalogue = catalogue
        self.identity = Programs(hands.own, user.home, catalogue)


class Counted(NamedTuple):
    """What readings count under a name of its own."""

    starts: tuple[LoginStart, ...] = ()
    """What is started at login."""
    units: frozenset[str] = frozenset()
    """Consumers that run in a unit of their own."""


class Look:
    """One look at the computer, shared by all adapters.

    What several of them want to know is found out once.

    Args:
        memory: finds out bytes by name; proc(5), meminfo.
        running: finds out which consumers run.
    """

    def __init__(
        self, memory: Callable[[], dict[str, int]], running: Callable[["Look"], frozenset[str]]
    ) -> None:
        self._memory, self._running = memory, running
        self._known: dict[Any, Any] = {}
        self._lock = threading.RLock()

    @property
    def memory(self) -> dict[str, int]:
        """Bytes by name."""
        return self.once(self._memory)

    @property
    def running(self) -> frozenset[str]:
        """Consumers that run."""
        return self.once(self._running, self)

    def once(self, find_out: Callable[..., T], *arguments: Any) -> T:  # noqa: ANN401 - whatever it takes
        """What this finds out of these arguments, once a look; adapters look side by side."""
        with self._lock:
            if (find_out, arguments) not in self._known:
                self._known[find_out, arguments] = find_out(*arguments)
            found: T = self._known[find_out, arguments]
            return found


def gap_of(area: Area, unseen: Unseen) -> Gap:
    """What of a folder was not seen, as the audit tells it."""
    needed = "a look by hand"
    return Gap(area=area, reason=plain(unseen.in_words, 300), needed=needed, partly=unseen.of > 0)


class Listed(NamedTuple):
    """What an adapter found."""

    items: Sequence[Item] = ()
    gaps: Sequence[Gap] = ()
    """What could not be read."""
    paths: Mapping[str, str] = MappingProxyType({})
    """The file that defines an item, by its consumer; a package may have brought it."""


class Adapter(ABC):
    """The settings of one kind.

    Args:
        means: of the computer.
    """

    area: ClassVar[Area]
    kinds: ClassVar[tuple[type[Exact], ...]]
    """The kinds of states that are its own: what is recorded as one of them is written by it."""

    def __init__(self, means: Means) -> None:
        self._hands = means.hands
        self._hand, self._of_user, self._root = means.hand, means.of_user, means.root
        self._user, self._catalogue = means.user, means.catalogue
        self._identity = means.identity

    def has(self, ref: SettingRef) -> bool:
        """Whether it keeps this setting here now.

        Asked of the adapters of an area in the order of the registry.
        """
        return ref.area == self.area

    def counts(self, look: Look) -> Counted:
        """What readings count under names of its own."""
        del look
        return Counted()

    @abstractmethod
    def items(self, look: Look) -> Listed:
        """What there is."""

    @abstractmethod
    def read(self, ref: SettingRef) -> State:
        """See `Settings.read`; with its exact form."""

    @abstractmethod
    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """What `read` will give once the setting has this value, and what has to be written for
        that.

        Raises:
            ComputerError: it cannot have it.
        """

    @abstractmethod
    def write(self, ref: SettingRef, exact: Any) -> None:  # noqa: ANN401 - one of its kinds
        """Bring about an exact state of one of its kinds."""

    def in_force(self, ref: SettingRef) -> str:
        """See `Settings.in_force`."""
        del ref
        return ""

    def accept(self, ref: SettingRef, exact: Any) -> None:  # noqa: ANN401 - one of its kinds
        """Whether a state that was recorded can be brought about here now.

        Raises:
            ComputerError: it cannot.
        """
        del ref, exact


class RootAdapter(Adapter):
    """Settings of the system: root's hand writes them, and knows by itself how."""

    def write(self, ref: SettingRef, exact: Any) -> None:  # noqa: ANN401 - one of its kinds
        """See `Adapter.write`."""
        self._root.bring(ref, self.read(ref).exact, exact)


def unfit(ref: SettingRef, why: str, by_hand: str = "") -> ComputerError:
    """The refusal of a recorded state, with what a person can type who knows the record to be
    right.
    """
    return ComputerError(
        f"{plain(str(ref))} is not brought to the state that was recorded: {plain(why, 400)}.",
        (
            f"Nothing was changed; if the record is right, type: {plain(by_hand, 4000)}"
            if by_hand
            else "Nothing was changed; `lumtak journal` shows the record."
        ),
    )


def check_fits(ref: SettingRef, exact: Exact) -> None:
    """Whether an exact state is one that this setting can have had, whoever recorded it.

    Raises:
        ComputerError: it is not.
    """
    if why := exact.problem(ref.area, ref.key):
        raise unfit(ref, why, exact.by_hand())
