"""Clutter of a Linux computer: what stands where the standards say, set aside by whose it is."""

import contextlib
import re
import time
from collections.abc import Callable, Collection, Iterator
from typing import Any, ClassVar

import msgspec

from lumtak.computers.clutter import ASIDE, KEPT, PARTLY, item_of, next_key, pile_of, shipped
from lumtak.computers.hands.reach import Reach, names_at, reason_of
from lumtak.computers.hands.sent.clutter.rules import OWN_NOTES
from lumtak.computers.hands.sent.files.words import escaped, unescaped
from lumtak.computers.hands.sent.states.aside_states import Aside, RootAside, UserAside
from lumtak.computers.hands.sent.table import SWAP_FOLDER
from lumtak.computers.linux.adapter import Adapter, Listed, Look, Means
from lumtak.core.clutter import CHOSEN, PATH, Clutter, Pile
from lumtak.core.emptying import Doubts, Emptied
from lumtak.core.facts import Item
from lumtak.core.owned import Chosen, title_of_chosen
from lumtak.core.record import Record
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import ComputerError

_NOTE, _ENDING, _MOST_NOTE = "aside-", ".json", 1 << 16
_FRESH_S = 60.0
_KEY = re.compile(r"[a-z-]{1,40}(?:\.[0-9]{1,6})?|/.{1,20000}", re.DOTALL)
_MOST_NOTED = (1 << 40, 1 << 60, 1 << 33)
"""Files, bytes, seconds since 1970."""
_MOST_SHOWN = 80


class Note(Record, forbid_unknown_fields=False):
    """What is held, as it was noted beside it; docs/FORMATS.md has its form."""

    key: str = ""
    clutter: str = ""
    sha256: str = ""
    phase: str = ""
    files: int = 0
    bytes: int = 0
    at: int = 0


def class_of(key: str) -> str:
    """The class that a key is about."""
    return PATH if key.startswith("/") else key.partition(".")[0]


class Clutters(Adapter):
    """Clutter of one owner."""

    area = "storage"
    whose: ClassVar[str]
    state: ClassVar[type[Aside]]

    def __init__(self, means: Means) -> None:
        super().__init__(means)
        self._planned: dict[str, tuple[float, Aside, str]] = {}
        """What is to be set aside, by key: when it was looked for, the state that comes of it, and
        the handle by which the hand knows it."""
        self._chosen: dict[str, Chosen] = {}
        """What a person chose, by key."""

    # -- whose hand --------------------------------------------------------------------------------

    @property
    def folder(self) -> str:
        """Where it is noted what is held."""
        raise NotImplementedError

    def acting(self) -> Reach:
        """The hand that moves."""
        raise NotImplementedError

    # -- what there is -----------------------------------------------------------------------------

    def has(self, ref: SettingRef) -> bool:
        """See `Adapter.has`."""
        known = shipped().get(class_of(ref.key))
        return ref.area == "storage" and known is not None and known.whose == self.whose

    def notes(self) -> list[Note]:
        """What is held, or was begun; a note that cannot be read is passed over."""
        found = []
        for name in names_at(self._hand_that_looks, self.folder):
            if not (name.startswith(_NOTE) and name.endswith(_ENDING)):
                continue
            try:
                data = self._hand_that_looks.read(f"{self.folder}/{name}", _MOST_NOTE)
                note = msgspec.json.decode(data, type=Note)
            except (OSError, msgspec.MsgspecError, UnicodeError):
                continue
            if name == f"{_NOTE}{note.sha256[:16]}{_ENDING}" and self._is_ours(note):
                found.append(note)
        # Of one key there is one; whoever writes another note makes none of it count.
        first = {note.key: note for note in sorted(found, key=lambda n: (-n.at, n.sha256))}
        return sorted(first.values(), key=lambda note: (note.at, note.sha256))

    def _is_ours(self, note: Note) -> bool:
        """Whether this can have been noted by the hand: its folder may be somebody's who lies."""
        numbers = (note.files, note.bytes, note.at)
        return (
            _KEY.fullmatch(note.key) is not None
            and self.has(SettingRef(area="storage", key=note.key))
            and all(0 <= n <= most for n, most in zip(numbers, _MOST_NOTED, strict=True))
        )

    @property
    def _hand_that_looks(self) -> Reach:
        return self._of_user if self.whose == "user" else self._hand

    def items(self, look: Look) -> Listed:
        """What is held, and the classes whose places are there."""
        del look
        notes = self.notes()
        held = {note.key for note in notes}
        found = [_held_item(note) for note in notes]
        for clutter in shipped().values():
            if clutter.whose == self.whose and self._is_there(clutter):
                key = next_key(clutter.name, held)
                found.append(item_of(key, pile_of(clutter), clutter.title, KEPT))
        return Listed(items=found)

    def _is_there(self, clutter: Clutter) -> bool:
        return any(self._hand_that_looks.exists(place) for place in self.places(clutter))

    def places(self, clutter: Clutter) -> Iterator[str]:
        """Its folders, of this user."""
        named = dict(zip(("$HOME", "$CACHE", "$DATA"), self._user.homes, strict=True))
        for place in clutter.where:
            first, slash, rest = place.partition("/")
            yield named.get(first, first) + slash + rest

    # -- one setting -------------------------------------------------------------------------------

    def read(self, ref: SettingRef) -> State:
        """Whether it is set aside, under which list."""
        note = next((n for n in self.notes() if n.key == ref.key), None)
        if note is None:
            return State(value=KEPT, exact=self.state(self.folder, "", False))
        half = note.phase != "held"
        exact = self.state(self.folder, note.sha256, half)
        return State(value=PARTLY if half else ASIDE, exact=exact)

    def foresee(self, ref: SettingRef, value: str | None) -> State:
        """What comes of it: what may be set aside is looked for now."""
        if value == KEPT:
            return State(value=KEPT, exact=self.state(self.folder, "", False))
        if value != ASIDE:
            raise ComputerError(f"{plain(str(ref))} is {KEPT} or {ASIDE}.", "Choose one of them.")
        now = self.read(ref)
        if now.value == ASIDE:
            return now
        looked, exact, _ = self._planned.get(ref.key, (0.0, None, ""))
        if exact is None or time.monotonic() - looked > _FRESH_S:
            exact, handle = self._look_for(ref)
            self._planned[ref.key] = time.monotonic(), exact, handle
        return State(value=ASIDE, exact=exact)

    def choose(self, ref: SettingRef, chosen: Chosen) -> None:
        """See `Settings.choose`."""
        self._chosen[ref.key] = chosen
        self._planned.pop(ref.key, None)

    def _look_for(self, ref: SettingRef) -> tuple[Aside, str]:
        name = class_of(ref.key)
        chosen = self._chosen.get(ref.key, Chosen())
        paths = chosen.paths or ((ref.key,) if name == PATH else ())
        if name == CHOSEN and not paths:
            raise ComputerError(
                f"Nothing is chosen under {plain(ref.key, _MOST_SHOWN)}.",
                "`lumtak set-aside COMPUTER PATH...` sets aside what is named.",
            )
        copies = [[unescaped(p), [unescaped(c) for c in held]] for p, held in chosen.copies]
        try:
            marks = [[unescaped(p), mark] for p, mark in chosen.marks]
            named = [unescaped(p) for p in paths]
            found = self.acting().aside_look(name, ref.key, named, copies, marks)
        except OSError as error:
            raise ComputerError(
                f"{plain(ref.key, _MOST_SHOWN)} cannot be set aside: {reason_of(error)}.",
                "Nothing was changed.",
            ) from error
        sha256 = found.get("sha256")
        if not isinstance(sha256, str) or not sha256:
            raise ComputerError(
                f"There is nothing to set aside in {plain(ref.key, _MOST_SHOWN)}"
                f"{_because(found.get('left'))}.",
                "Nothing was changed.",
            )
        return self.state(self.folder, sha256, False), str(found["handle"])

    def accept(self, ref: SettingRef, exact: Aside) -> None:
        """See `Adapter.accept`."""
        if exact.folder != self.folder:
            raise ComputerError(
                f"{plain(str(ref))} was noted in {plain(exact.folder)}, and that is"
                f" {plain(self.folder)} now.",
                "Run Lumtak as the same user, with the same HOME and XDG_DATA_HOME.",
            )

    def write(self, ref: SettingRef, exact: Aside) -> None:
        """Set aside what was looked for; or everything that is held under this key goes back."""
        if exact.sha256:
            self._set_aside(ref, exact)
            return
        stuck: dict[str, int] = {}
        notes = self.notes()
        if not notes and self._hand_that_looks.exists(self.folder):
            self._tidy()
        for note in notes:
            if note.key == ref.key:
                for why, count in self._back(note).items():
                    stuck[why] = stuck.get(why, 0) + count
        if stuck:
            raise ComputerError(
                f"Not all of {plain(ref.key, _MOST_SHOWN)} could go back{_because(stuck)}.",
                "The rest is still held: move what stands there away and put it back again, or"
                " delete what is held (lumtak empty-aside).",
            )

    def _tidy(self) -> None:
        """An interruption may have left the folder, with nothing in it."""
        if not names_at(self._hand_that_looks, self.folder):
            with contextlib.suppress(OSError):
                self.acting().aside_back("")

    def _set_aside(self, ref: SettingRef, exact: Aside) -> None:
        now = self.read(ref).exact
        if now == exact:
            return
        _, planned, handle = self._planned.pop(ref.key, (0.0, None, ""))
        if planned != exact:
            raise ComputerError(
                f"{plain(ref.key, _MOST_SHOWN)} is not set aside: it was not looked for.",
                "Set it aside again.",
            )
        try:
            self.acting().aside_move(handle)
        except OSError as error:
            raise ComputerError(
                f"{plain(ref.key, _MOST_SHOWN)} was not set aside: {reason_of(error)}.",
                "What was moved until then goes back.",
            ) from error

    def _back(self, note: Note) -> dict[str, int]:
        try:
            done = self.acting().aside_back(note.sha256)
        except OSError as error:
            raise ComputerError(
                f"{plain(note.key, _MOST_SHOWN)} was not put back: {reason_of(error)}.",
                f"What is held stands in {plain(self.folder)}/aside.",
            ) from error
        left = done.get("left")
        return left if isinstance(left, dict) else {}

    def _note_of(self, ref: SettingRef) -> Note:
        note = next((n for n in self.notes() if n.key == ref.key), None)
        if note is None:
            raise ComputerError(
                f"Nothing of {plain(ref.key, _MOST_SHOWN)} is set aside.",
                "`lumtak storage` lists what is.",
            )
        return note

    def doubts(self, ref: SettingRef) -> Doubts:
        """See `Settings.doubts`."""
        note, found = self._note_of(ref), None
        try:
            for part in self.acting().aside_doubts(note.sha256):
                if "ended" in part:
                    found = msgspec.convert(_shown(part["ended"]), Doubts)
        except (OSError, msgspec.ValidationError) as error:
            raise ComputerError(
                f"{plain(ref.key, _MOST_SHOWN)} cannot be looked at again: {reason_of(error)}.",
                "Nothing was deleted.",
            ) from error
        if found is None:
            raise ComputerError(
                f"{plain(ref.key, _MOST_SHOWN)} was not looked at to its end.",
                "Nothing was deleted.",
            )
        return found

    def empty(
        self, ref: SettingRef, on_progress: Callable[[Emptied], None], agreed: Collection[int] = ()
    ) -> Emptied:
        """See `Settings.empty`."""
        note, ended, last = self._note_of(ref), Emptied(files=0, bytes=0), None
        try:
            for part in self.acting().aside_empty(note.sha256, sorted(agreed)):
                ended = msgspec.convert(_shown(part.get("ended", part)), Emptied)
                last = ended if "ended" in part else None
                on_progress(ended)
        except (OSError, msgspec.ValidationError) as error:
            raise ComputerError(
                f"{plain(ref.key, _MOST_SHOWN)} was not emptied whole: {reason_of(error)}.",
                f"{counted(ended.files, 'file')} are deleted until now; what is not can be put"
                " back, or emptied again.",
            ) from error
        if last is None:
            raise ComputerError(
                f"{plain(ref.key, _MOST_SHOWN)} was not emptied to its end.",
                "What is not deleted can be put back, or emptied again.",
            )
        return last


class UserClutters(Clutters):
    """What is the user's own."""

    kinds = (UserAside,)
    whose = "user"
    state = UserAside

    @property
    def folder(self) -> str:
        """See `Clutters.folder`."""
        return self._user.data_home + OWN_NOTES

    def has(self, ref: SettingRef) -> bool:
        """See `Adapter.has`; what a person names by its path is the user's too."""
        named = class_of(ref.key) in {PATH, CHOSEN}
        return super().has(ref) or (ref.area == "storage" and named)

    def acting(self) -> Reach:
        """See `Clutters.acting`."""
        return self._of_user


class SystemClutters(Clutters):
    """What is the system's."""

    kinds = (RootAside,)
    whose = "system"
    state = RootAside
    folder = SWAP_FOLDER

    def acting(self) -> Reach:
        """See `Clutters.acting`."""
        return self._hands.root()


def _shown(said: Any) -> Any:  # noqa: ANN401 - as a hand says it
    """The same with names of files as text."""
    if isinstance(said, str):
        return escaped(said)
    if isinstance(said, list):
        return [_shown(one) for one in said]
    if isinstance(said, dict):
        return {key: _shown(one) for key, one in said.items()}
    return said


def _because(left: Any) -> str:  # noqa: ANN401 - as a hand says it
    """(how many files, for which reason each), as a clause."""
    if not isinstance(left, dict) or not left:
        return ""
    said = [f"{counted(int(n), 'file')} {plain(str(why), 60)}" for why, n in sorted(left.items())]
    return f": {', '.join(said)}"


def _held_item(note: Note) -> Item:
    name = class_of(note.key)
    known = shipped().get(name)
    title = known.title if known else plain(note.key, _MOST_SHOWN)
    title = title_of_chosen(note.files) if name == CHOSEN else title
    pile = msgspec.structs.replace(
        pile_of(known) if known else Pile(clutter=name, disposal="asked", sorts="own"),
        bytes=float(note.bytes),
        files=note.files,
        all_bytes=float(note.bytes),
        held_at=note.at,
    )
    return item_of(note.key, pile, title, ASIDE if note.phase == "held" else PARTLY)
