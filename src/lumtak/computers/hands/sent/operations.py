"""The table of operations: all that a hand can be asked for, and by whom.

Everything else follows from it: the client (`hands.piped`, `hands.near`, `hands.reach`), what the
wire lets through, what each hand answers to, and the page docs/HANDS.md. Sent with the hand: the
standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

from typing import Any, Dict, FrozenSet, NamedTuple, Tuple

from lumtak.computers.hands.sent.kinds import (
    Bytes,
    Choice,
    Document,
    Either,
    Kind,
    Many,
    Maybe,
    Named,
    Nothing,
    Number,
    Record,
    Row,
    Seconds,
    Switch,
    Text,
    name,
    path,
)

LOOKING, USER, ROOT, SEARCHING, TRYING, UPKEEP = (
    "looking",
    "user",
    "root",
    "searching",
    "trying",
    "upkeep",
)
"""What a hand is there for: it looks at the system; it acts as the user; it changes the system; it
goes through the disk; it tries what the user waits for; it does upkeep beside all other work."""
ROLES = (LOOKING, USER, ROOT, SEARCHING, TRYING, UPKEEP)
REQUIRED = object()
VERSION = 2
MOST_BYTES, MOST_NAMES = 1 << 20, 100_000
_MOST_FILE, _MOST_PRINTED, _MOST_PARTS_OF_SCRIPT = 1 << 26, 1 << 25, 1 << 25
_ANSWER_S, _LONG_S, _LONGER_S = 30.0, 300.0, 3600.0
_SIZE, _COUNT, _FINITE = Number(0, 1 << 62), Number(0, 1 << 40), Seconds(-1e18, 1e18)
_SHA256 = Text(64, r"[0-9a-f]{64}", "SHA-256")
_HANDLE = Text(32, r"[0-9a-f]{32}", "handle that this hand gave")
_PACKAGE = Text(130, r"[a-z0-9][a-z0-9+.-]{1,100}(?::[a-z0-9-]{1,20})?", "name of a package")
_AREA = Choice("services", "apps", "effects", "power", "memory", "storage", "upkeep")
_STATE = Document(1 << 22, "an exact state")
_PART = Document(1 << 26, "how far it is, or what was found")


class Given(NamedTuple):
    """One argument."""

    name: str
    kind: Kind
    default: Any = REQUIRED


_PLACE = Given("folder", path()), Given("name", name())
_KEEP = Given("keep", Switch(), False)


class Operation(NamedTuple):
    """One operation."""

    name: str
    given: Tuple[Given, ...]
    answer: Kind
    who: FrozenSet[str]
    """The roles of hands that answer to it."""
    says: str
    """What it does, a sentence."""
    changes: bool = False
    parts: bool = False
    """Whether the answer comes in parts, each of this kind."""
    within_s: float = _ANSWER_S
    """How long the answer, or the next part of it, may take."""
    like: str = ""
    """The argument that bounds the answer: a list that it is as long as, or a number of bytes."""
    waits: str = ""
    """The argument that says how much longer the answer may take."""


def _of(*who: str) -> FrozenSet[str]:
    return frozenset(who)


_ALL, _BOTH = _of(*ROLES), _of(LOOKING, USER)
_LOOKERS = (
    Operation(
        "about", (), Named(Number(0, 1 << 40), 10), _ALL,
        "Version, user, process, and the units in which the kernel counts.",
    ),
    Operation(
        "read", (Given("path", path()), Given("most", Number(0, _MOST_FILE), MOST_BYTES)),
        Bytes(_MOST_FILE), _BOTH, "The first bytes of an ordinary file, or of one that the kernel"
        " makes; nothing else is opened.", like="most",
    ),
    Operation(
        "read_many",
        (Given("paths", Many(path(), 200_000)), Given("most", Number(0, _MOST_FILE), MOST_BYTES)),
        Many(Maybe(Bytes(_MOST_FILE)), 200_000), _BOTH,
        "The same of many files; nothing for each that cannot be read.", like="paths",
    ),
    Operation(
        "names", (Given("path", path()),), Many(name(), MOST_NAMES), _BOTH,
        "What a folder holds, sorted; refused where that is too much.",
    ),
    Operation(
        "listing", (Given("path", path()),),
        Record(names=Many(name(), MOST_NAMES), whole=_COUNT), _BOTH,
        "What a folder holds, as far as it is listed, and how many names that are.",
    ),
    Operation(
        "link", (Given("path", path()),), Maybe(Text(5000)), _BOTH,
        "Where a link leads; nothing where there is none.",
    ),
    Operation(
        "exists", (Given("path", path()),), Switch(), _BOTH,
        "Whether something is there, links followed.",
    ),
    Operation(
        "look", (Given("folder", path()), Given("name", name())),
        Either(
            Record(kind=Choice("absent", "other")),
            Record(kind=Choice("link"), target=Text(5000, r".+", "target of a link")),
            Record(
                kind=Choice("file"), mode=Number(0, 0o7777),
                bytes=Text(2 * MOST_BYTES, r"[A-Za-z0-9+/=]*", "base64"),
            ),
        ), _BOTH, "What stands there itself: absent, file, link, other.",
    ),
    Operation(
        "missing", (Given("path", path()),), Number(0, 999), _BOTH,
        "How many folders, counted from this one upwards, are not there.",
    ),
    Operation(
        "space", (Given("path", path()),), Many(_SIZE, 3, 3), _of(LOOKING, USER, SEARCHING),
        "Bytes of the volume, bytes that are free to an ordinary user, and bytes that are kept back"
        " for root.",
    ),
    Operation(
        "inodes", (Given("path", path()),), _SIZE, _of(LOOKING, USER, SEARCHING),
        "How many files and folders the volume holds.",
    ),
    Operation(
        "walk", (Given("path", path()), Given("most", Number(0, 10_000_000), 1_000_000)),
        Many(Row(Text(1 << 16), _SIZE, _SIZE, Number(-(1 << 62), 1 << 62)), 1000), _BOTH,
        "Every file below a folder on the same volume: path, mode, bytes, changed at.", parts=True,
    ),
    Operation(
        "counters", (), Named(Bytes(4096), 4_194_304, Text(7, r"[0-9]+", "number")), _BOTH,
        "The state of every process, by its number: one pass.",
    ),
    Operation(
        "owners", (Given("paths", Many(path(), 100_000)),),
        Many(Maybe(Many(Number(-(1 << 62), 1 << 62), 4, 4)), 100_000), _BOTH,
        "User, mode, bytes and time of the last change of each, links not followed.", like="paths",
    ),
    Operation(
        "beside", (Given("paths", Many(path(), 200_000)),), _PART, _of(USER),
        "Where else on its volume the same content stands as that of what a person named.",
        parts=True, within_s=_LONG_S,
    ),
    Operation(
        "marks", (Given("paths", Many(Row(path(), Number(0, 2)), 200_000)),),
        Many(Maybe(Row(Text(400), _SIZE, Number(-(1 << 40), 1 << 40))), 200_000), _of(USER),
        "By what each is told from another of its name, with bytes and the last change.",
    ),
    Operation(
        "times_of", (Given("paths", Many(path(), 200_000)),),
        Many(Maybe(Many(_FINITE, 3, 3)), 200_000), _BOTH,
        "When each was last read, came here, and was last changed.", like="paths",
    ),
    Operation(
        "touched", (Given("name", Text(100)), Given("authority", path(empty=True))),
        Seconds(-1, 1e12), _of(LOOKING, USER, TRYING),
        "Seconds since somebody touched a terminal, or a display of this hand's user.",
    ),
    Operation(
        "not_started", (Given("path", Text(32_768)),), Text(5000), _of(LOOKING, USER),
        "Why a program is not started to see how long that takes.",
    ),
    Operation(
        "tool_holds", (Given("name", Text(60)),), Document(1 << 16, "places"),
        _of(LOOKING, USER, SEARCHING),
        "What a class of clutter holds that a program of the system owns.", within_s=_LONGER_S,
    ),
    Operation(
        "survey", (Given("path", path()), Given("own", Many(path(), 10_000))), _PART,
        _of(LOOKING, USER, SEARCHING), "A volume looked through.", parts=True, within_s=_LONGER_S,
    ),
    Operation(
        "integrity", (Given("after", path(empty=True)),), _PART, _of(LOOKING, UPKEEP),
        "The system's files held against what the package database recorded.", parts=True,
        within_s=_LONGER_S,
    ),
    Operation(
        "scanner", (), Record(place=path(empty=True), version=Text(5000), why=Text(5000)),
        _of(LOOKING, USER, UPKEEP), "Which scanner runs, and what it says of itself.",
        within_s=_LONG_S,
    ),
    Operation(
        "run",
        (
            Given("arguments", Many(Text(1 << 20), 10_000, 1)),
            Given("timeout_s", Seconds(0, 600), 20.0), Given("partly", Switch(), False),
            Given("bus", Text(1 << 16), ""),
        ), Bytes(_MOST_PRINTED), _of(LOOKING, USER, TRYING, UPKEEP),
        "What a program of the list of programs prints; on the bus of this hand's user, where that"
        " is asked for.", waits="timeout_s",
    ),
)  # fmt: skip
_OF_THE_USER = (
    Operation(
        "display", (Given("name", Text(100)), Given("authority", path(empty=True))),
        Record(
            composed=Switch(), managed=Switch(), settings=Named(Either(Text(1 << 18),
            Number(-(1 << 40), 1 << 40)), 1000), **{"passed on": Switch()},
        ), _of(USER), "What a display of this hand's user says is in force.",
    ),
    Operation(
        "copies",
        (
            Given("path", path()), Given("least", Number(0, 1 << 62)),
            Given("passed", Many(path(), 10_000)),
        ), _PART, _of(USER), "Files of which there are several.", parts=True, within_s=_LONGER_S,
    ),
    Operation(
        "only_copies", (Given("paths", Many(path(), 200_000)),), _PART, _of(USER),
        "What may be the only copy of something.", within_s=_LONGER_S,
    ),
    Operation(
        "scan", (Given("top", path()), Given("after", path(empty=True)), Given("place", path())),
        _PART, _of(USER, UPKEEP), "Files shown to a scanner, one after another.", parts=True,
        within_s=_LONGER_S,
    ),
    Operation(
        "fragments", (Given("top", path()), Given("after", path(empty=True))), _PART,
        _of(USER, UPKEEP), "In how many pieces files lie.", parts=True, within_s=_LONGER_S,
    ),
    Operation(
        "gather", (Given("path", path()),), Many(_SIZE, 2, 2), _of(USER),
        "A file of the user's is put together on the disk.", changes=True, within_s=_LONGER_S,
    ),
    Operation(
        "feel", (Given("folder", path()), Given("program", Text(32_768))),
        Named(Either(Seconds(0, _LONG_S), Text(5000)), 20), _of(TRYING),
        "What the user waits for, tried once.", within_s=_LONG_S,
    ),
    Operation(
        "put",
        (*_PLACE, Given("data", Bytes(_MOST_FILE)), Given("mode", Number(0, 0o7777)), _KEEP),
        Nothing(), _of(USER), "A file of the user's has these bytes and this mode; what it replaces"
        " is kept where that is asked for, and goes back itself.", changes=True,
    ),
    Operation(
        "put_link", (*_PLACE, Given("target", Text(4096, r".+")), _KEEP), Nothing(), _of(USER),
        "A link of the user's leads there.", changes=True,
    ),
    Operation(
        "remove", (*_PLACE, Given("folders", Number(0, 1000), 0), _KEEP), Nothing(), _of(USER),
        "A file or link of the user's is gone, and so many folders that are empty.", changes=True,
    ),
    Operation(
        "end",
        (
            Given("pid", Number(1, 1 << 22)), Given("started", Number(0, 1 << 62)),
            Given("force", Switch()), Given("wait_s", Seconds(0, 600)),
        ), Choice("gone", "runs", "another"), _BOTH,
        "A process is asked to end, or forced to, by a descriptor of it.", changes=True,
        waits="wait_s",
    ),
)  # fmt: skip
_OF_ROOT = (
    Operation(
        "change",
        (
            Given("area", _AREA), Given("key", Text(1000)), Given("before", _STATE),
            Given("wanted", _STATE), Given("way", Choice("forth", "back", "believed")),
        ), Record(stands=Switch()), _of(ROOT),
        "A setting that takes root is brought to a state: by root's receipt where there is one,"
        " else from what stands there, of which a receipt is written first.", changes=True,
        within_s=700.0,
    ),
    Operation(
        "vouched", (Given("area", _AREA), Given("key", Text(1000)), Given("wanted", _STATE)),
        Switch(), _of(ROOT), "Whether root has a receipt that a setting was in this state.",
    ),
    Operation(
        "leave_script",
        (
            Given("tag", Text(16, r"[0-9a-f]{8}(?:-[0-9]{1,6})?", "tag of a journal")),
            Given("parts", Text(_MOST_PARTS_OF_SCRIPT)),
        ), Nothing(), _of(ROOT), "The script that puts back what takes root stands: of these"
        " settings what root has receipts of.", changes=True,
    ),
    Operation(
        "remove_packages", (Given("names", Many(_PACKAGE, 1000, 1)),), Many(_PACKAGE, 1000),
        _of(ROOT), "Packages are removed; their configuration stays.", changes=True,
        within_s=_LONGER_S,
    ),
    Operation(
        "reinstall_packages", (Given("names", Many(_PACKAGE, 1000, 1)),), Many(_PACKAGE, 1000),
        _of(ROOT), "Packages are unpacked once more from the archives that are there.",
        changes=True, within_s=_LONGER_S,
    ),
    Operation(
        "superblock", (Given("place", path()),), Bytes(MOST_BYTES), _of(ROOT, LOOKING),
        "The superblock of an ext file system that is mounted there.",
    ),
    Operation(
        "trim", (Given("path", path()),), _SIZE, _of(ROOT),
        "A disk is told what is free on the volume that is mounted there.", changes=True,
        within_s=_LONGER_S,
    ),
)  # fmt: skip
_ASIDE = (
    Operation(
        "aside_look",
        (
            Given("name", Text(60)), Given("key", Text(30_000)),
            Given("paths", Many(path(), 200_000)),
            Given("copies", Many(Row(path(), Many(path(), 1000)), 200_000)),
            Given("marks", Many(Row(path(), Text(400)), 200_000)),
        ),
        Record(
            bytes=_SIZE, files=_SIZE, pieces=_SIZE, all_bytes=_SIZE, all_files=_SIZE, oldest=_SIZE,
            left=Named(_SIZE, 100), sha256=Text(64, r"|[0-9a-f]{64}"),
            handle=Text(32, r"|[0-9a-f]{32}"),
        ), _of(USER, ROOT, SEARCHING, LOOKING),
        "What may be set aside of a class, or of what a person named; root's hand knows the classes"
        " of the system only, and where they stand.", within_s=_LONGER_S,
    ),
    Operation(
        "aside_move", (Given("handle", _HANDLE),), Document(1 << 16, "what was moved and left"),
        _of(USER, ROOT), "What this hand looked for is set aside; what it looked for longer than"
        " ten seconds ago it looks at again.", changes=True, within_s=_LONGER_S,
    ),
    Operation(
        "aside_back", (Given("sha256", Text(64, r"|[0-9a-f]{64}")),),
        Document(1 << 16, "what went back"), _of(USER, ROOT),
        "What was set aside under this list goes back.", changes=True, within_s=_LONGER_S,
    ),
    Operation(
        "aside_doubts", (Given("sha256", _SHA256),), _PART, _of(USER, ROOT),
        "What emptying this list would delete now, and what speaks against it.", parts=True,
        within_s=_LONGER_S,
    ),
    Operation(
        "aside_empty", (Given("sha256", _SHA256), Given("agreed", Many(_SIZE, 200_000))), _PART,
        _of(USER, ROOT),
        "What was set aside under this list is looked at again and deleted, piece by piece; what"
        " fails, or speaks against it, stays.", changes=True, parts=True, within_s=_LONGER_S,
    ),
)  # fmt: skip
OPERATIONS: Dict[str, Operation] = {
    o.name: o for o in (*_LOOKERS, *_OF_THE_USER, *_OF_ROOT, *_ASIDE)
}
"""Every operation by its name."""


def of_role(*roles: str) -> FrozenSet[str]:
    """The operations that a hand of these roles answers to."""
    return frozenset(n for n, o in OPERATIONS.items() if o.who & set(roles))


def misfit(operation: Operation, given: Any) -> str:
    """Why these are no arguments of an operation, as a clause; empty where they are."""
    if not isinstance(given, (list, tuple)) or len(given) != len(operation.given):
        return "%s takes %d arguments" % (operation.name, len(operation.given))
    for one, value in zip(operation.given, given):
        why = one.kind.why_not(value)
        if why:
            return "%s of %s %s" % (one.name, operation.name, why)
    return ""


def no_answer(operation: Operation, given: Any, value: Any) -> str:
    """Why this is no answer to what was asked, as a clause; empty where it is one."""
    why = operation.answer.why_not(value)
    if why or not operation.like or value is None:
        return why
    bound = next(v for g, v in zip(operation.given, given) if g.name == operation.like)
    if isinstance(bound, (list, tuple)):
        return "" if len(value) == len(bound) else "is not as long as what was asked for"
    if isinstance(value, bytes) and type(bound) is int and len(value) > bound:
        return "is longer than was asked for"
    return ""
