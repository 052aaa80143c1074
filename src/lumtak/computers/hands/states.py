"""Exact states: what a setting is at one moment, typed, exact enough to be brought back to the
byte.

Each kind of state is a record that says all there is to say of it: its parts, what it looks like
where its setting can have had it, which of its parts are written on their own, and its part of the
undo script. Nobody else takes one apart or puts one together from texts. One file of the standard
library, in the language of Python 3.8, for it is sent with the hand; docs/FORMATS.md has the
records in JSON.
"""

from __future__ import annotations

import base64
import binascii
import re
from abc import ABC, abstractmethod
from dataclasses import dataclass, field, fields, replace
from typing import Any, Callable, ClassVar, Dict, List, Mapping, Optional, Tuple, Type

from lumtak.computers.hands.desktops import FAMILIES
from lumtak.computers.hands.shell import (
    CLOCK,
    DESKTOP,
    DROP,
    FILES,
    KEPT,
    LINKS,
    PERMISSIONS,
    PLAN,
    SWAP,
    VALUE,
    ScriptPart,
    at,
    beside,
    quoted,
)
from lumtak.computers.hands.table import (
    KERNEL,
    NOWHERE,
    POLICIES,
    POWER_FILE,
    POWER_SWITCH,
    PROFILE_BUSES,
    PROFILES,
    UNITS,
    is_own_content,
    is_switch,
    kernel_value_fits,
    swap_file,
    swap_unit,
    swap_unit_text,
    sysctl_file,
    unit_of,
    why_no_link,
)
from lumtak.computers.hands.words import unescaped

STATE_KINDS: Dict[str, Type[Exact]] = {}
"""Every kind of state by its name; defining one adds it."""
_LONGEST = 1 << 16


@dataclass(frozen=True)
class Exact(ABC):
    """An exact state.

    Two are the same where their fields are, those that only go along (`compare=False`) left out.
    """

    kind: str = field(default="", init=False, repr=False)
    areas: ClassVar[Tuple[str, ...]] = ()
    """Whose settings can be in such a state."""
    root: ClassVar[bool] = False
    """Whether it takes root to bring it back."""
    apart: ClassVar[Tuple[str, ...]] = ()
    """Fields whose parts are written on their own, one after the other; all else is written at
    once."""
    heads: ClassVar[Tuple[str, ...]] = ()
    """What its part of the undo script calls."""

    def __init_subclass__(cls, kind: str = "") -> None:
        cls.kind = kind
        if kind:
            STATE_KINDS[kind] = cls

    def __post_init__(self) -> None:
        object.__setattr__(self, "kind", type(self).kind)

    # -- what it looks like ------------------------------------------------------------------------

    def problem(self, area: str, key: str) -> str:
        """Why this setting cannot have been in this state, as a clause; empty where it can."""
        if area not in self.areas:
            return "“%s” is no kind of state that %s have" % (self.kind, area)
        return self._problem(key)

    @abstractmethod
    def _problem(self, key: str) -> str:
        """The same, in an area of its own."""

    def by_hand(self) -> str:
        """What a person can type to bring it back, where Lumtak would not write it.

        Empty where nothing short does.
        """
        return ""

    # -- comparison --------------------------------------------------------------------------------

    def parts(self) -> Dict[Tuple[str, str], object]:
        """What is written on its own, by field and name."""
        found: Dict[Tuple[str, str], object] = {}
        for name in self.apart:
            held = getattr(self, name)
            if isinstance(held, Mapping):
                found.update({(name, key): value for key, value in held.items()})
            elif isinstance(held, tuple):
                found.update({(name, str(one)): True for one in held})
            else:
                found[name, ""] = held
        return found

    def _rest(self) -> List[object]:
        return [
            getattr(self, f.name) for f in fields(self) if f.compare and f.name not in self.apart
        ]

    def between(self, one: Exact, other: Exact) -> bool:
        """Whether a write from the one to the other was interrupted half-way.

        Each part is as in one of them, and all else is equal.
        """
        if (
            not type(self) is type(one) is type(other)
            or not self._rest() == one._rest() == other._rest()
        ):
            return False
        mine, first, second = self.parts(), one.parts(), other.parts()
        names = {*mine, *first, *second}
        return bool(names) and all(mine.get(n) in (first.get(n), second.get(n)) for n in names)

    def alike(self, other: Exact) -> bool:
        """Whether one script can tell the two from each other."""
        return type(self) is type(other)

    # -- its part of the undo script ---------------------------------------------------------------

    def places(self) -> List[str]:
        """Files and links of the system that a write of it touches."""
        return []

    def preface(self, part: ScriptPart) -> List[bytes]:
        """What stands before the tests: what an interrupted write left beside its places goes."""
        found = sorted({place for state in part.among for place in state.places()})
        return [
            (b"drop_switch %s" if is_switch(p) else b"drop %s") % quoted(beside(p)) for p in found
        ]

    @abstractmethod
    def tests(self, part: ScriptPart) -> List[bytes]:
        """The shell conditions that this state is there, one a part, in the same order for each of
        these states.

        Args:
            part: knows all states that it tells apart, this one included, and keeps the functions
                that its lines call.
        """

    @abstractmethod
    def bring(self, part: ScriptPart) -> List[bytes]:
        """The commands that bring this state back, each only where the one before succeeded."""

    def tidy(self) -> bytes:
        """What is cleared away afterwards, and where it is there already.

        Empty where nothing is.
        """
        return b""


# -- files of the user -----------------------------------------------------------------------------


@dataclass(frozen=True)
class InFolder(Exact):
    """What stands at a place in a folder of the user.

    Where that is goes along: the setting says it too.
    """

    areas = ("apps", "effects")
    heads = (FILES,)
    folder: str = field(compare=False)
    """Absolute; as in `words.escaped`, as is everything that names a file."""
    name: str = field(compare=False)
    missing: int = field(compare=False)
    """How many folders were not there before, from the folder upwards."""

    def problem(self, area: str, key: str) -> str:
        """See `Exact.problem`."""
        name = unescaped(self.name)
        if (
            not self.folder.startswith("/")
            or "\0" in unescaped(self.folder)
            or "/" in name
            or "\0" in name
        ):
            return "it does not say in which file it stood"
        if name in {"", ".", ".."} or not 0 <= self.missing < 1000:
            return "it does not say in which file it stood"
        return super().problem(area, key)

    def _problem(self, key: str) -> str:
        return ""

    def alike(self, other: Exact) -> bool:
        """See `Exact.alike`."""
        return isinstance(other, InFolder)

    def preface(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.preface`."""
        return [at(unescaped(self.folder), unescaped(self.name))]


@dataclass(frozen=True)
class Absent(InFolder, kind="absent"):
    """Nothing stands there."""

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"absent"]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b'rm -f "$file"']

    def tidy(self) -> bytes:
        """See `Exact.tidy`."""
        return b"shed %d" % self.missing if self.missing else b""


@dataclass(frozen=True)
class File(InFolder, kind="file"):
    """A file."""

    mode: int
    data: bytes

    def _problem(self, key: str) -> str:
        return "" if 0 <= self.mode <= 0o7777 else "its mode is none"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"{ %s | holds %04o; }" % (part.printing(self.data), self.mode)]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"%s | replace %04o" % (part.printing(self.data), self.mode)]


@dataclass(frozen=True)
class Link(InFolder, kind="link"):
    """A link, wherever it leads."""

    target: str

    def _problem(self, key: str) -> str:
        return "" if self.target and "\0" not in unescaped(self.target) else "it leads nowhere"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"points_to %s" % quoted(unescaped(self.target))]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"relink %s" % quoted(unescaped(self.target))]


# -- what the user's desktop and programs store ----------------------------------------------------


@dataclass(frozen=True)
class DesktopKey(Exact, kind="gsettings"):
    """A setting of the user's desktop, as GVariant text.

    Empty where it is unset, which is a value of its own.
    """

    areas = ("effects",)
    heads = (DESKTOP,)
    schema: str
    key: str
    path: str
    """Its place in dconf."""
    raw: str

    def _problem(self, key: str) -> str:
        known = (k for family in FAMILIES for k in family if k.effect == key)
        if not any((k.schema, k.key, k.path) == (self.schema, self.key, self.path) for k in known):
            return "no desktop that Lumtak knows keeps it there"
        fits = len(self.raw) <= _LONGEST and self.raw.isprintable() and not self.raw.startswith("-")
        return "" if fits else "its text cannot be stored"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"desktop_is %s %s" % (quoted(self.path), quoted(self.raw))]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        where = b"%s %s" % (quoted(self.schema), quoted(self.key))
        return [
            (
                b"gsettings set %s %s" % (where, quoted(self.raw))
                if self.raw
                else b"gsettings reset %s" % where
            )
        ]


@dataclass(frozen=True)
class Permission(Exact, kind="sandbox"):
    """Whether a program in a sandbox may run in the background: yes, no, ask.

    Empty where nobody was asked yet.
    """

    areas = ("apps",)
    heads = (PERMISSIONS,)
    app: str
    raw: str

    def _problem(self, key: str) -> str:
        fits = key == "sandbox/%s" % self.app and self.raw in {"", "yes", "no", "ask"}
        return "" if fits else "it is a permission of another program, or none"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"may_run_is %s %s" % (quoted(self.app), quoted(self.raw))]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"may_run %s %s" % (quoted(self.app), quoted(self.raw))]


# -- what takes root -------------------------------------------------------------------------------


def unit_name(key: str) -> str:
    """The unit of a service or timer by its key; empty where no unit can be called so."""
    if "/" in key or "\0" in key or not key:
        return ""
    return key if key.endswith(".timer") else key + ".service"


@dataclass(frozen=True)
class UnitLinks(Exact, kind="links"):
    """Every link in the administrator's folder that switches a unit on, names or masks it.

    And, going along, whether it runs.
    """

    areas = ("services",)
    root = True
    apart = ("links",)
    heads = (DROP, LINKS)
    unit: str
    links: Mapping[str, str]
    """Target by path."""
    active: Optional[bool] = field(compare=False)
    """None where that is not known; then it is left running or not, as it is."""

    def _problem(self, key: str) -> str:
        if not self.unit or self.unit != unit_name(key):
            return "it is the state of another unit"
        for path, target in self.links.items():
            why = why_no_link(path, target)
            if why:
                return why
            if unit_of(path, target) != self.unit:
                return "%s is a link of another unit" % path
        return ""

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        made = [
            "sudo ln -sfT %s %s" % (_word(target), _word(path))
            for path, target in self.links.items()
        ]
        return "; ".join([*made, "sudo systemctl daemon-reload"]) if made else ""

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [*self.links]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [_link(path, self.links.get(path)) for path in self._paths(part)]

    @staticmethod
    def _paths(part: ScriptPart) -> List[str]:
        return sorted({path for state in part.among for path in state.links})

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        acts = []
        for path in self._paths(part):
            if path in self.links:
                acts.append(b"put_link %s %s" % (quoted(path), quoted(self.links[path])))
            else:
                acts.append((b"drop_switch %s" if is_switch(path) else b"drop %s") % quoted(path))
        acts.append(b"units daemon-reload")
        if self.active is not None:
            acts.append(
                b"units %s -- %s" % (b"start" if self.active else b"stop", quoted(self.unit))
            )
        return acts


@dataclass(frozen=True)
class KernelValue(Exact, kind="sysctl"):
    """A value of the kernel below /proc/sys/vm, and Lumtak's own file that keeps one over a
    restart.
    """

    areas = ("memory",)
    root = True
    apart = ("live", "kept")
    heads = (VALUE, DROP, KEPT)
    name: str
    live: str
    kept: Optional[bytes]
    """What the file holds; None where there is none."""

    @property
    def file(self) -> str:
        """Where it is kept."""
        return sysctl_file(self.name)

    @property
    def place(self) -> str:
        """Where the kernel has it."""
        return "/proc/sys/vm/%s" % self.name

    def _problem(self, key: str) -> str:
        if key not in KERNEL or self.name != key:
            return "it is a value of another setting"
        if not kernel_value_fits(key, self.live):
            return "%s is no value that Lumtak sets there" % self.live
        return _own_file(self.file, self.kept)

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        text = (self.kept or b"").decode("utf-8", "replace")
        keep = (
            "printf %%s %s | sudo tee %s; " % (_word(text), _word(self.file)) if self.kept else ""
        )
        return keep + "sudo sysctl %s" % _word("vm.%s=%s" % (self.name, self.live))

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [self.file]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [
            b"kernel_is %s %s" % (quoted(self.place), quoted(self.live)),
            part.kept(self.file, self.kept),
        ]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [
            part.keep(self.file, self.kept),
            b"kernel %s %s" % (quoted(self.place), quoted(self.live)),
        ]


_NO_PREFERENCE = "performance"
"""The governor under which no energy preference counts."""


@dataclass(frozen=True)
class ClockPolicies(Exact, kind="clock"):
    """What each policy of the processors' clock holds, and Lumtak's own unit that keeps a plan over
    a restart.
    """

    areas = ("power",)
    root = True
    apart = ("policies", "kept", "link")
    heads = (DROP, LINKS, KEPT, CLOCK)
    policies: Mapping[str, str]
    """Governor/preference by policy."""
    kept: Optional[bytes]
    """What the unit's file holds; None where there is none."""
    link: Optional[str]
    """Where the link leads that switches the unit on; None where there is none."""

    def _problem(self, key: str) -> str:
        for policy, words in self.policies.items():
            governor, slash, preference = words.partition("/")
            if not (
                slash
                and re.fullmatch(r"[a-z0-9_]+", governor)
                and re.fullmatch(r"[a-z0-9_]*", preference)
            ):
                return "what a policy of the clock held cannot be read"
            if not re.fullmatch(r"policy[0-9]+", policy):
                return "%s is no policy of the clock" % policy
        return _own_file(POWER_FILE, self.kept) or (
            "" if self.link in {None, POWER_FILE} else "its link leads elsewhere"
        )

    def between(self, one: Exact, other: Exact) -> bool:
        """Half-way from a governor under which no preference counts, a policy has the new governor
        with whatever preference came before.
        """
        ends = [end for end in (one, other) if isinstance(end, ClockPolicies)]
        policies = dict(self.policies)
        for policy, words in self.policies.items():
            held = {
                end.policies.get(policy, "").partition("/")[0]: end.policies.get(policy, "")
                for end in ends
            }
            if _NO_PREFERENCE in held:
                policies[policy] = held.get(words.partition("/")[0], words)
        return super().between(one, other) or Exact.between(
            replace(self, policies=policies), one, other
        )

    def places(self) -> List[str]:
        """See `Exact.places`."""
        return [POWER_FILE, POWER_SWITCH]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        names = sorted({policy for state in part.among for policy in state.policies})
        held = [b"clock_is " + self._words(p) if p in self.policies else b"true" for p in names]
        return [*held, part.kept(POWER_FILE, self.kept), _link(POWER_SWITCH, self.link)]

    def _words(self, policy: str) -> bytes:
        governor, _, preference = self.policies[policy].partition("/")
        return b"%s %s %s" % (
            quoted("%s/%s" % (POLICIES, policy)),
            quoted(governor),
            quoted(preference),
        )

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        switch = quoted(POWER_SWITCH)
        return [
            (
                b"put_link %s %s" % (switch, quoted(self.link))
                if self.link
                else b"drop_switch %s" % switch
            ),
            part.keep(POWER_FILE, self.kept),
            b"units daemon-reload",
            *(b"clock " + self._words(policy) for policy in self.policies),
        ]


@dataclass(frozen=True)
class Profile(Exact, kind="property"):
    """The plan of the profile service on the system bus."""

    areas = ("power",)
    root = True
    heads = (PLAN,)
    bus: str
    plan: str

    def _problem(self, key: str) -> str:
        ours = self.bus in PROFILE_BUSES and self.plan in PROFILES
        return "" if ours else "the plan %s is none that Lumtak sets" % self.plan

    def by_hand(self) -> str:
        """See `Exact.by_hand`."""
        bus, path = _word(self.bus), _word(PROFILE_BUSES.get(self.bus, "/"))
        return "sudo busctl --system set-property %s %s %s ActiveProfile s %s" % (
            bus,
            path,
            bus,
            _word(self.plan),
        )

    def _words(self) -> bytes:
        return b" ".join(quoted(word) for word in (self.bus, PROFILE_BUSES[self.bus], self.plan))

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        return [b"plan_is " + self._words()]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`."""
        return [b"plan " + self._words()]


@dataclass(frozen=True)
class SwapAreas(Exact, kind="swap"):
    """Swap files of Lumtak's own by their size in MiB, and what stood before by its unit.

    Each in order.
    """

    areas = ("memory",)
    root = True
    apart = ("kept", "on", "masked", "used")
    heads = (DROP, LINKS, KEPT, SWAP)
    kept: Tuple[int, ...]
    """Sizes of those that start with the system."""
    on: Tuple[int, ...]
    """Sizes of those that are in use."""
    masked: Tuple[str, ...]
    """Units of what stood before that are masked."""
    used: Tuple[str, ...]
    """Units of what stood before that are in use."""

    @property
    def own(self) -> List[int]:
        """Sizes of all its files, in order."""
        return sorted({*self.kept, *self.on})

    @property
    def old(self) -> List[str]:
        """Units of all that stood before, in order."""
        return sorted({*self.masked, *self.used})

    def _problem(self, key: str) -> str:
        if key != "swap_mib":
            return "it is a value of another setting"
        for sizes in (self.kept, self.on):
            if list(sizes) != sorted({*sizes}) or not all(0 < mib < 10_000_000 for mib in sizes):
                return "its sizes are none"
        for units in (self.masked, self.used):
            if list(units) != sorted({*units}) or not all(
                re.fullmatch(r"[A-Za-z0-9:_.\\@-]+\.swap", u) for u in units
            ):
                return "its units are none"
        return ""

    def places(self) -> List[str]:
        """See `Exact.places`."""
        own = [
            place
            for mib in self.own
            for place in ("%s/%s" % (UNITS, swap_unit(mib)), swap_switch(mib))
        ]
        return own + ["%s/%s" % (UNITS, unit) for unit in self.old]

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`."""
        found = []
        for mib in sorted({m for state in part.among for m in state.own}):
            unit, file = "%s/%s" % (UNITS, swap_unit(mib)), quoted(swap_file(mib))
            found.append(part.kept(unit, swap_unit_text(mib) if mib in self.kept else None))
            found.append(_link(swap_switch(mib), unit if mib in self.kept else None))
            found.append((b"swap_made %s" if mib in self.own else b"swap_gone %s") % file)
            found.append((b"swap_is %s" if mib in self.on else b"swap_not %s") % file)
        for unit in sorted({unit for state in part.among for unit in state.old}):
            found.append(_link("%s/%s" % (UNITS, unit), NOWHERE if unit in self.masked else None))
            found.append((b"unit_up %s" if unit in self.used else b"unit_down %s") % quoted(unit))
        return found

    def bring(self, part: ScriptPart) -> List[bytes]:
        """New before old, and old only where memory is free for what it holds."""
        units = sorted({unit for state in part.among for unit in state.old})
        acts = [
            b"drop %s" % quoted("%s/%s" % (UNITS, u))
            for u in units
            if u in self.used or u not in self.masked
        ]
        for mib in self.own:
            unit = "%s/%s" % (UNITS, swap_unit(mib))
            acts.append(b"make_swap %d %s" % (mib, quoted(swap_file(mib))))
            acts.append(part.keep(unit, swap_unit_text(mib)))
            acts.append(b"put_link %s %s" % (quoted(swap_switch(mib)), quoted(unit)))
        acts.append(b"units daemon-reload")
        acts += [
            b"units start -- %s" % quoted(u)
            for u in (*(swap_unit(m) for m in self.own), *self.used)
        ]
        acts += [
            b"put_link %s %s" % (quoted("%s/%s" % (UNITS, u)), quoted(NOWHERE)) for u in self.masked
        ]
        acts += [b"units stop -- %s" % quoted(u) for u in units if u not in self.used]
        for mib in sorted({m for state in part.among for m in state.own} - {*self.own}):
            file, own_unit = quoted(swap_file(mib)), quoted("%s/%s" % (UNITS, swap_unit(mib)))
            acts.append(b"room_for %s && swap_off %s %s" % (file, file, quoted(swap_unit(mib))))
            acts.append(
                b"drop_switch %s && drop %s && drop_swap %s"
                % (quoted(swap_switch(mib)), own_unit, file)
            )
        return [*acts, b"units daemon-reload"]


def swap_switch(mib: int) -> str:
    """The link that starts a swap file of Lumtak's own with the system."""
    return "%s/swap.target.wants/%s" % (UNITS, swap_unit(mib))


# -- records that are none -------------------------------------------------------------------------


@dataclass(frozen=True)
class Unknown(Exact, kind="unknown"):
    """A record that is no state of a known kind.

    Damaged, of a newer Lumtak, or written by somebody else. It is kept, shown, and refused.
    """

    said: Any

    def problem(self, area: str, key: str) -> str:
        """See `Exact.problem`."""
        return self._problem(key)

    def _problem(self, key: str) -> str:
        return "its kind is not known, or a part of it is missing or cannot be read"

    def tests(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.tests`; it is refused before."""
        return [b"false"]

    def bring(self, part: ScriptPart) -> List[bytes]:
        """See `Exact.bring`; it is refused before."""
        return [b"false"]


def state_of(said: Any) -> Exact:
    """The state that a document describes, as `msgspec.to_builtins` gives it.

    Raises:
        ValueError: it is none of a known kind.
    """
    kind = said.get("kind") if isinstance(said, dict) else None
    if not isinstance(kind, str) or kind not in STATE_KINDS:
        raise ValueError("its kind is not known")
    forms = {
        f.name: getattr(f.type, "__name__", f.type) for f in fields(STATE_KINDS[kind]) if f.init
    }
    odd = sorted(map(str, said.keys() ^ {"kind", *forms}))
    if odd:
        raise ValueError("its part %s is missing or unknown" % odd[0])
    return STATE_KINDS[kind](
        **{name: _read(str(form), said[name], name) for name, form in forms.items()}
    )


def _read(form: str, value: Any, name: str) -> Any:
    if form.startswith("Optional["):
        return None if value is None else _read(form[len("Optional[") : -1], value, name)
    if not _FORMS[form](value):
        raise ValueError("its part %s cannot be read" % name)
    if form == "bytes":
        try:
            return base64.b64decode(value, validate=True)
        except (binascii.Error, ValueError):
            raise ValueError("its part %s cannot be read" % name) from None
    return tuple(value) if form.startswith("Tuple") else value


def _is_text(value: Any) -> bool:
    return isinstance(value, str)


def _is_number(value: Any) -> bool:
    return type(value) is int


_FORMS: Dict[str, Callable[[Any], bool]] = {
    "str": _is_text,
    "bytes": _is_text,
    "int": _is_number,
    "bool": lambda value: isinstance(value, bool),
    "Mapping[str, str]": (
        lambda value: isinstance(value, dict) and all(map(_is_text, [*value, *value.values()]))
    ),
    "Tuple[str, ...]": lambda value: isinstance(value, (list, tuple)) and all(map(_is_text, value)),
    "Tuple[int, ...]": (
        lambda value: isinstance(value, (list, tuple)) and all(map(_is_number, value))
    ),
    "Any": bool,
}
"""What stands in JSON for a field of this form."""


# -- small helpers ---------------------------------------------------------------------------------


def _own_file(path: str, data: Optional[bytes]) -> str:
    fits = data is None or is_own_content(path, data)
    return "" if fits else "%s holds something else than what Lumtak writes there" % path


def _link(path: str, target: Optional[str]) -> bytes:
    return (
        b"link_is %s %s" % (quoted(path), quoted(target))
        if target
        else b"link_gone %s" % quoted(path)
    )


def _word(text: str) -> str:
    return quoted(text).decode("utf-8", "replace")
