"""Parts of the undo script for what is no file of the user's: unit links, kernel values, power plans, desktop settings."""

import base64
from collections.abc import Callable, Iterable, Sequence

from lumtak.computers.hands.table import NOWHERE, POLICIES, UNITS, is_switch, swap_file, swap_unit, swap_unit_text
from lumtak.computers.linux import clock, sandboxes
from lumtak.computers.linux.memory_settings import FILE, LIVE
from lumtak.computers.linux.shell import prints, quoted
from lumtak.computers.linux.swap import old_of, own_of, switch
from lumtak.computers.linux.units import unpacked
from lumtak.core.setting import State

_ROOT = """
# What takes root asks for it by sudo; kernel, bus and running services are left alone on a disk that is mounted elsewhere.
as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo -- "$@"; fi; }
drop() { as_root rm -f "$root$1"; }
"""
_LINKS = """
link_is() { [ -L "$root$1" ] && [ "$(readlink "$root$1" && printf x)" = "$2${newline}x" ]; }
link_gone() { [ ! -e "$root$1" ] && [ ! -L "$root$1" ]; }
put_link() {
    as_root mkdir -p "$root${1%/*}" && as_root ln -s -f -T "$2" "$root$1.lumtak" && as_root mv -f -T "$root$1.lumtak" "$root$1"
}
drop_switch() { drop "$1" && { as_root rmdir "$root${1%/*}" 2>/dev/null || :; }; }
units() { [ -n "$root" ] || as_root systemctl "$@"; }
"""
_KERNEL = """
kernel_is() { [ -n "$root" ] || [ "$(cat "$1")" = "$2" ]; }
kernel() { [ -n "$root" ] || printf '%s' "$2" | as_root tee "$1" >/dev/null; }
"""
_KEPT = """
kept_as() { [ -f "$root$1" ] && cmp -s - "$root$1"; }
not_kept() { [ ! -e "$root$1" ]; }
keep_as() { as_root tee "$root$1" >/dev/null; }
"""
_CLOCK = """
clock_holds() { # a policy's governor and energy preference, which does not count under performance
    governor=$(cat "$1/scaling_governor") preference=
    [ "$governor" = performance ] || preference=$(cat "$1/energy_performance_preference" 2>/dev/null || :)
    [ "$governor/$preference" = "$2/$3" ]
}
clock_is() { [ -n "$root" ] || clock_holds "$@"; }
clock() {
    [ -n "$root" ] || {
        printf '%s' "$2" | as_root tee "$1/scaling_governor" >/dev/null
        [ -z "$3" ] || printf '%s' "$3" | as_root tee "$1/energy_performance_preference" >/dev/null
    }
}
"""
_SWAP = """
swaps_to() { # FILE is in use; what it holds is in $held then, in KiB
    while read -r place _ _ held _; do
        [ "$place" != "$1" ] || return 0
    done </proc/swaps
    return 1
}
swap_is() { [ -n "$root" ] || swaps_to "$1"; }
swap_not() { [ -n "$root" ] || ! swaps_to "$1"; }
make_swap() { # MIB FILE, unless it is in use
    [ -n "$root" ] || swaps_to "$2" || {
        as_root mkdir -p -m 0755 "${2%/*}" && as_root rm -f "$2" && as_root install -m 0600 /dev/null "$2" &&
            as_root fallocate -l "$1MiB" "$2" && as_root mkswap "$2" >/dev/null
    }
}
room_for() { # what FILE holds
    [ -n "$root" ] || ! swaps_to "$1" || {
        while read -r name free _; do
            [ "$name" != MemAvailable: ] || break
        done </proc/meminfo
        [ "$held" -lt $((free * 4 / 5)) ] || { echo 'Memory is not free for what is in swap; close programs, then run this again.' && false; }
    }
}
swap_off() { [ -n "$root" ] || ! swaps_to "$1" || units stop "$2"; }
drop_swap() { drop "$1" && { as_root rmdir "$root${1%/*}" 2>/dev/null || :; }; }
"""
_PLAN = """
plan_is() { [ -n "$root" ] || [ "$(busctl --system get-property "$1" "$2" "$1" ActiveProfile)" = "s \\"$3\\"" ]; }
plan() { [ -n "$root" ] || as_root busctl --system set-property "$1" "$2" "$1" ActiveProfile s "$3"; }
"""
_DESKTOP = """
desktop_is() { [ -n "$root" ] || [ "$(dconf read "$1")" = "$2" ]; }
"""
_SANDBOX = (
    """
store() { busctl --user call {bus} {path} {bus} "$@"; }
may_run_is() {
    [ -n "$root" ] && return 0
    found=$(store GetPermission sss {table} {table} "$1" 2>/dev/null) || found=
    if [ -n "$2" ]; then [ "$found" = "as 1 \\"$2\\"" ]; else [ -z "$found" ] || [ "$found" = 'as 0' ]; fi
}
may_run() {
    [ -n "$root" ] && return 0
    if [ -n "$2" ]; then
        store SetPermission sbssas {table} true {table} "$1" 1 "$2" >/dev/null
    else
        store DeletePermission sss {table} {table} "$1" >/dev/null
    fi
}
""".replace("{bus}", sandboxes.BUS)
    .replace("{path}", sandboxes.PATH)
    .replace("{table}", sandboxes.TABLE)
)
_HEADS = {
    "links": (_ROOT, _LINKS),
    "sysctl": (_ROOT, _KERNEL, _KEPT),
    "clock": (_ROOT, _LINKS, _KEPT, _CLOCK),
    "swap": (_ROOT, _LINKS, _KEPT, _SWAP),
    "property": (_ROOT, _PLAN),
    "gsettings": (_DESKTOP,),
    "sandbox": (_SANDBOX,),
}


def head_of(kinds: Iterable[str]) -> str:
    """The functions that parts of these kinds call, each once, and no others."""
    return "".join(dict.fromkeys(text for kind in _HEADS for text in _HEADS[kind] if kind in set(kinds)))


Tests = Callable[[State], list[bytes]]
Part = Callable[[Sequence[State], State, str, list[bytes]], tuple[list[bytes], bytes, bytes]]


def _each(states: Sequence[State], tests: Tests) -> bytes:
    """The shell condition that each part is as in one of these states: so what was interrupted half-way is known too."""
    found = []
    for ways in zip(*(tests(s) for s in states), strict=True):
        kept = list(dict.fromkeys(ways))
        found.append(kept[0] if len(kept) == 1 else b"{ %s; }" % b" || ".join(kept))
    return b"{ %s; }" % (b" && ".join(found) or b"true")


def _tested(accepted: Sequence[State], restore: State, tests: Tests) -> tuple[list[bytes], bytes]:
    """(test of what is accepted, test of the restored state)."""
    return [_each([*accepted, restore], tests)] if accepted else [], _each([restore], tests)


def _link(path: str, target: str | None) -> bytes:
    return b"link_is %s %s" % (quoted(path), quoted(target)) if target else b"link_gone %s" % quoted(path)


def links_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """(tests of the accepted states, test of the restored one, what brings it): every link of a unit, then whether it runs."""
    del name, functions
    paths = sorted({p for s in (*accepted, restore) for p in unpacked(s.exact or {})})

    def tests(state: State) -> list[bytes]:
        there = unpacked(state.exact or {})
        return [_link(path, there.get(path)) for path in paths]

    then = unpacked(restore.exact or {})
    acts = []
    for path in paths:
        if path in then:
            acts.append(b"put_link %s %s" % (quoted(path), quoted(then[path])))
        else:
            acts.append((b"drop_switch %s" if is_switch(path) else b"drop %s") % quoted(path))
    verb = b"start" if restore.around.get("active") == "yes" else b"stop"
    acts += [b"units daemon-reload", b"units %s %s" % (verb, quoted(restore.around.get("unit", "")))]
    return *_tested(accepted, restore, tests), b" && ".join(acts)


def sysctl_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """The kernel's value, and the file that keeps it over a restart."""
    exact = restore.exact or {}
    kept = _Kept(exact["file"], name, functions)

    def tests(state: State) -> list[bytes]:
        held = state.exact or {}
        return [b"kernel_is %s %s" % (quoted(held["kernel"]), quoted(held[LIVE])), kept.test(held[FILE])]

    bring = b"%s && kernel %s %s" % (kept.bring(exact[FILE]), quoted(exact["kernel"]), quoted(exact[LIVE]))
    return *_tested(accepted, restore, tests), bring


class _Kept:
    """A file of Lumtak's own in a folder of the system: the test that it holds these bytes, and what brings them."""

    def __init__(self, path: str, name: str, functions: list[bytes]) -> None:
        self._path, self._name, self._functions = quoted(path), name, functions
        self._named: dict[str, bytes] = {}

    def _prints(self, data: str) -> bytes:
        """The function that prints these bytes (base64), made once."""
        if data not in self._named:
            function = f"kept_{self._name}_{len(self._named)}"
            self._functions.append(prints(function, base64.b64decode(data)))
            self._named[data] = function.encode()
        return self._named[data]

    def test(self, data: str) -> bytes:
        """The file holds these bytes; is not there where they are none."""
        return b"{ %s | kept_as %s; }" % (self._prints(data), self._path) if data else b"not_kept %s" % self._path

    def bring(self, data: str) -> bytes:
        """The file gets these bytes, or goes."""
        return b"%s | keep_as %s" % (self._prints(data), self._path) if data else b"drop %s" % self._path


def clock_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """Clock policies, and the unit that keeps them over a restart."""
    exact = restore.exact or {}
    kept = _Kept(clock.UNIT_FILE, name, functions)
    names = sorted({p for s in (*accepted, restore) for p in clock.policies_of(s.exact or {})})

    def words(policy: str, held: str) -> bytes:
        governor, _, preference = held.partition("/")
        return b"%s %s %s" % (quoted(f"{POLICIES}/{policy}"), quoted(governor), quoted(preference))

    def tests(state: State) -> list[bytes]:
        held = state.exact or {}
        policies = clock.policies_of(held)
        found = [b"clock_is " + words(p, policies[p]) if p in policies else b"true" for p in names]
        return [*found, kept.test(held[clock.FILE]), _link(clock.SWITCH, held[clock.LINK])]

    target = exact[clock.LINK]
    acts = [
        b"put_link %s %s" % (quoted(clock.SWITCH), quoted(target))
        if target
        else b"drop_switch %s" % quoted(clock.SWITCH),
        kept.bring(exact[clock.FILE]),
        b"units daemon-reload",
        *(b"clock " + words(p, held) for p, held in clock.policies_of(exact).items()),
    ]
    return *_tested(accepted, restore, tests), b" && ".join(acts)


def swap_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """Swap files of Lumtak's own, and what stood before: new before old, and old only where memory is free for what it holds."""
    every = (*accepted, restore)
    sizes = sorted({m for s in every for m in own_of(s.exact or {})})
    units = sorted({u for s in every for u in old_of(s.exact or {})})

    def tests(state: State) -> list[bytes]:
        own, old = own_of(state.exact or {}), old_of(state.exact or {})
        found = []
        for mib in sizes:
            target = f"{UNITS}/{swap_unit(mib)}" if "kept" in own.get(mib, "") else None
            found.append(_link(switch(mib), target))
            found.append((b"swap_is %s" if "on" in own.get(mib, "") else b"swap_not %s") % quoted(swap_file(mib)))
        return found + [_link(f"{UNITS}/{u}", NOWHERE if old.get(u) == "masked" else None) for u in units]

    own, old = own_of(restore.exact or {}), old_of(restore.exact or {})
    on, masked = ([u for u in units if (old.get(u) == "masked") == yes] for yes in (False, True))
    acts = [b"drop %s" % quoted(f"{UNITS}/{u}") for u in on]
    for mib in own:
        functions.append(prints(f"swap_unit_{name}_{mib}", swap_unit_text(mib)))
        unit = quoted(f"{UNITS}/{swap_unit(mib)}")
        acts.append(b"make_swap %d %s" % (mib, quoted(swap_file(mib))))
        acts.append(
            b"swap_unit_%s_%d | keep_as %s && put_link %s %s" % (name.encode(), mib, unit, quoted(switch(mib)), unit)
        )
    acts.append(b"units daemon-reload")
    acts += [b"units start %s" % quoted(u) for u in (*(swap_unit(m) for m in own), *on)]
    for name_masked in masked:
        acts.append(
            b"put_link %s %s && units stop %s"
            % (quoted(f"{UNITS}/{name_masked}"), quoted(NOWHERE), quoted(name_masked))
        )
    for mib in sizes:
        if mib not in own:
            file, own_unit = quoted(swap_file(mib)), quoted(f"{UNITS}/{swap_unit(mib)}")
            acts.append(b"room_for %s && swap_off %s %s" % (file, file, quoted(swap_unit(mib))))
            acts.append(b"drop_switch %s && drop %s && drop_swap %s" % (quoted(switch(mib)), own_unit, file))
    acts.append(b"units daemon-reload")
    return *_tested(accepted, restore, tests), b" && ".join(acts)


def _at_once(kind: bytes, names: tuple[str, ...]) -> Part:
    """A part for what is written at once: `KIND_is` and `KIND` of the head take these values of the exact form."""

    def part(
        accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
    ) -> tuple[list[bytes], bytes, bytes]:
        del name, functions

        def words(state: State) -> bytes:
            return b" ".join(quoted((state.exact or {})[n]) for n in names)

        tests = [b"%s_is %s" % (kind, words(s)) for s in (*accepted, restore)]
        return tests[:-1], tests[-1], b"%s %s" % (kind, words(restore))

    return part


def gsettings_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """A setting of the user's desktop; unset is unset again."""
    del name, functions

    def test(state: State) -> bytes:
        exact = state.exact or {}
        return b"desktop_is %s %s" % (quoted(exact["path"]), quoted(exact["raw"]))

    exact = restore.exact or {}
    where = b"%s %s" % (quoted(exact["schema"]), quoted(exact["key"]))
    bring = b"gsettings set %s %s" % (where, quoted(exact["raw"])) if exact["raw"] else b"gsettings reset %s" % where
    return [test(s) for s in accepted], test(restore), bring


PARTS: dict[str, Part] = {
    "links": links_part,
    "sysctl": sysctl_part,
    "clock": clock_part,
    "swap": swap_part,
    "property": _at_once(b"plan", ("bus", "path", "value")),
    "gsettings": gsettings_part,
    "sandbox": _at_once(b"may_run", ("app", "raw")),
}
"""By the kind of a state's exact form."""
