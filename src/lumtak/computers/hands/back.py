"""What takes root, put back without Lumtak: the script that root owns, made by the hand of root from states that it has checked.

A script that somebody hands over is never written: whoever runs it later runs it as root. What is handed over are the states of settings;
each is held against what this setting can have had, and the script is made of them here. One file of the standard library, in the language
of Python 3.8, for it is sent with the hand.
"""

from __future__ import annotations

import base64
import re
from typing import Any, Callable, Mapping, Sequence

from lumtak.computers.hands.shell import prints, quoted
from lumtak.computers.hands.states import (
    FILE,
    LINK,
    LIVE,
    Exact,
    links_of,
    old_of,
    own_of,
    policies_of,
    swap_switch,
    unit_name,
    why_no_state,
)
from lumtak.computers.hands.table import (
    NOWHERE,
    POLICIES,
    POWER_FILE,
    POWER_SWITCH,
    SWAP_FOLDER,
    UNITS,
    is_switch,
    swap_file,
    swap_unit,
    swap_unit_text,
)

_TAG = re.compile(r"[0-9a-f]{8}(?:-[0-9]{1,6})?")

State = Mapping[str, Mapping[str, str]]


def script_path(tag: str) -> str:
    """Where the script stands.

    Raises:
        ValueError: nothing is called so.
    """
    if _TAG.fullmatch(tag) is None:
        raise ValueError("%s tells no script from another" % tag)
    return "%s/undo-%s.sh" % (SWAP_FOLDER, tag)


# -- the script ------------------------------------------------------------------------------------------------------------------------

_HEAD = """\
#!/bin/sh
# Puts back what Lumtak changed of the system itself. It needs nothing but a shell; run it as root:
#     sudo sh {path}
#
# It looks before it writes: what somebody changed since is left alone, and said. Running it again does no harm.
# When everything is as it was, it removes itself. If this computer's disk is mounted elsewhere, name the folder,
# for example: sudo sh undo.sh /mnt; kernel, bus and running services are left alone then.

set -u
umask 022
LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
root=${{1-}}
newline='
'
if [ "$(id -u)" != 0 ]; then
    echo 'This takes root. Run: sudo sh {path}' >&2
    exit 2
fi
back=0 left=0 failed=0
already() {{ back=$((back + 1)); printf 'as it was already: %s\\n' "$title"; }}
done_now() {{ back=$((back + 1)); printf 'put back: %s\\n' "$title"; }}
leave() {{ left=$((left + 1)); printf 'left alone, somebody changed it since: %s\\n' "$title"; }}
failed() {{ failed=$((failed + 1)); printf 'FAILED: %s\\n' "$title"; }}
drop() {{ rm -f "$root$1"; }}
"""
_LINKS = """
link_is() { [ -L "$root$1" ] && [ "$(readlink "$root$1" && printf x)" = "$2${newline}x" ]; }
link_gone() { [ ! -e "$root$1" ] && [ ! -L "$root$1" ]; }
put_link() {
    mkdir -p "$root${1%/*}" && rm -f "$root$1.lumtak" && ln -s "$2" "$root$1.lumtak" && mv -f "$root$1.lumtak" "$root$1"
}
drop_switch() { drop "$1" && { rmdir "$root${1%/*}" 2>/dev/null || :; }; }
units() { [ -n "$root" ] || systemctl "$@"; }
"""
_KERNEL = """
kernel_is() { [ -n "$root" ] || [ "$(cat "$1")" = "$2" ]; }
kernel() { [ -n "$root" ] || printf '%s' "$2" >"$1"; }
"""
_KEPT = """
kept_as() { [ -f "$root$1" ] && cmp -s - "$root$1"; }
not_kept() { [ ! -e "$root$1" ]; }
keep_as() { cat >"$root$1"; }
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
        printf '%s' "$2" >"$1/scaling_governor"
        [ -z "$3" ] || printf '%s' "$3" >"$1/energy_performance_preference"
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
        mkdir -p "${2%/*}" && rm -f "$2" && install -m 0600 /dev/null "$2" &&
            fallocate -l "$1MiB" "$2" && mkswap "$2" >/dev/null
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
drop_swap() { drop "$1" && { rmdir "$root${1%/*}" 2>/dev/null || :; }; }
"""
_PLAN = """
plan_is() { [ -n "$root" ] || [ "$(busctl --system get-property "$1" "$2" "$1" ActiveProfile)" = "s \\"$3\\"" ]; }
plan() { [ -n "$root" ] || busctl --system set-property "$1" "$2" "$1" ActiveProfile s "$3"; }
"""
_HEADS: dict[str, tuple[str, ...]] = {
    "links": (_LINKS,),
    "sysctl": (_KERNEL, _KEPT),
    "clock": (_LINKS, _KEPT, _CLOCK),
    "swap": (_LINKS, _KEPT, _SWAP),
    "property": (_PLAN,),
}
_TAIL = """
sync 2>/dev/null || :
printf '%s as before, %s left alone, %s failed\\n' "$back" "$left" "$failed"
[ "$failed" = 0 ] || exit 1
[ "$left" = 0 ] || exit 3
rm -f "$root"{path}
rmdir "$root"{folder} 2>/dev/null || :
exit 0
"""

Tests = Callable[[Exact], "list[bytes]"]


def root_script(tag: str, parts: Sequence[Any]) -> bytes:
    """The script for these settings.

    Args:
        tag: tells it from scripts of other journals.
        parts: dictionaries of `area`, `key`, `title`, `accepted` (states) and `restore` (a state).

    Raises:
        ValueError: a state is none that its setting can have had, or nothing is called by this tag.
    """
    path = script_path(tag)
    text, kinds = [], []
    for number, part in enumerate(parts, start=1):
        area, key, title = (_text(part[name]) for name in ("area", "key", "title"))
        restore, accepted = _state(part["restore"]), [_state(s) for s in part["accepted"]]
        kind = restore["exact"].get("kind", "")
        for state in (restore, *accepted):
            why = why_no_state(area, key, state["exact"], state["around"])
            if why or state["exact"].get("kind") != kind:
                raise ValueError("%s:%s: %s" % (area, key, why or "it was recorded in two ways"))
        kinds.append(kind)
        text.append(_part(str(number), title, kind, unit_name(key), accepted, restore))
    heads = dict.fromkeys(head for kind in _HEADS if kind in kinds for head in _HEADS[kind])
    head = _HEAD.format(path=path) + "".join(heads)
    tail = _TAIL.format(path=quoted(path).decode(), folder=quoted(SWAP_FOLDER).decode())
    return head.encode() + b"".join(text) + tail.encode()


def _text(value: Any) -> str:
    if not isinstance(value, str) or len(value) > 1000:
        raise ValueError("a name that is none")
    return value


def _state(value: Any) -> dict[str, dict[str, str]]:
    """A state, if it is a dictionary of texts in `exact` and `around`."""
    found: dict[str, dict[str, str]] = {}
    for name in ("exact", "around"):
        held = value.get(name) if isinstance(value, dict) else None
        if not isinstance(held, dict) or not all(isinstance(v, str) and isinstance(k, str) for k, v in held.items()):
            raise ValueError("a state that is none")
        found[name] = held
    return found


def _part(number: str, title: str, kind: str, unit: str, accepted: list[Any], restore: Any) -> bytes:
    functions: list[bytes] = []
    exacts = [s["exact"] for s in accepted if s["exact"] != restore["exact"]]
    if kind == "links":
        others, before, bring = _links_part(exacts, restore, unit)
    else:
        others, before, bring = _PARTS[kind](exacts, restore["exact"], number, functions)
    # A title is what somebody called a program: it is quoted where it is shown, and stands in no comment.
    shown = "".join(c if c.isprintable() and c.isascii() else "?" for c in title)
    lines = [b"", *functions, b"title=%s" % quoted(shown), b"if %s; then\n    already" % before]
    if others:
        lines.append(b"elif %s; then" % others)
        lines.append(b"    %s\n    if %s; then done_now; else failed; fi" % (bring, before))
    lines.append(b"else\n    leave\nfi\n")
    return b"\n".join(lines)


def _each(states: Sequence[Exact], tests: Tests) -> bytes:
    """The shell condition that each part is as in one of these states: so what was interrupted half-way is known too."""
    found = []
    for ways in zip(*(tests(s) for s in states)):
        kept = list(dict.fromkeys(ways))
        found.append(kept[0] if len(kept) == 1 else b"{ %s; }" % b" || ".join(kept))
    return b"{ %s; }" % (b" && ".join(found) or b"true")


def _tested(accepted: Sequence[Exact], restore: Exact, tests: Tests) -> tuple[bytes, bytes]:
    """(test of what is accepted, test of the restored state)."""
    return _each([*accepted, restore], tests) if accepted else b"", _each([restore], tests)


def _link(path: str, target: str | None) -> bytes:
    return b"link_is %s %s" % (quoted(path), quoted(target)) if target else b"link_gone %s" % quoted(path)


def _links_part(accepted: Sequence[Exact], restore: State, unit: str) -> tuple[bytes, bytes, bytes]:
    """Every link of a unit, then whether it runs."""
    then = links_of(restore["exact"])
    paths = sorted({p for e in (*accepted, restore["exact"]) for p in links_of(e)})

    def tests(exact: Exact) -> list[bytes]:
        there = links_of(exact)
        return [_link(path, there.get(path)) for path in paths]

    acts = []
    for path in paths:
        if path in then:
            acts.append(b"put_link %s %s" % (quoted(path), quoted(then[path])))
        else:
            acts.append((b"drop_switch %s" if is_switch(path) else b"drop %s") % quoted(path))
    verb = b"start" if restore["around"].get("active") == "yes" else b"stop"
    acts += [b"units daemon-reload", b"units %s -- %s" % (verb, quoted(unit))]
    others, before = _tested(accepted, restore["exact"], tests)
    return others, before, b" && ".join(acts)


class _Kept:
    """A file of Lumtak's own in a folder of the system: the test that it holds these bytes, and what brings them."""

    def __init__(self, path: str, name: str, functions: list[bytes]) -> None:
        self._path, self._name, self._functions = quoted(path), name, functions
        self._named: dict[str, bytes] = {}

    def _prints(self, data: str) -> bytes:
        """The function that prints these bytes (Base64), made once."""
        if data not in self._named:
            function = "kept_%s_%d" % (self._name, len(self._named))
            self._functions.append(prints(function, base64.b64decode(data)))
            self._named[data] = function.encode()
        return self._named[data]

    def test(self, data: str) -> bytes:
        """The file holds these bytes; is not there where they are none."""
        return b"{ %s | kept_as %s; }" % (self._prints(data), self._path) if data else b"not_kept %s" % self._path

    def bring(self, data: str) -> bytes:
        """The file gets these bytes, or goes."""
        return b"%s | keep_as %s" % (self._prints(data), self._path) if data else b"drop %s" % self._path


def _sysctl_part(
    accepted: Sequence[Exact], restore: Exact, name: str, functions: list[bytes]
) -> tuple[bytes, bytes, bytes]:
    """The kernel's value, and the file that keeps it over a restart."""
    kept = _Kept(restore["file"], name, functions)

    def tests(exact: Exact) -> list[bytes]:
        return [b"kernel_is %s %s" % (quoted(exact["kernel"]), quoted(exact[LIVE])), kept.test(exact[FILE])]

    bring = b"%s && kernel %s %s" % (kept.bring(restore[FILE]), quoted(restore["kernel"]), quoted(restore[LIVE]))
    others, before = _tested(accepted, restore, tests)
    return others, before, bring


def _clock_part(
    accepted: Sequence[Exact], restore: Exact, name: str, functions: list[bytes]
) -> tuple[bytes, bytes, bytes]:
    """Clock policies, and the unit that keeps them over a restart."""
    kept = _Kept(POWER_FILE, name, functions)
    names = sorted({p for e in (*accepted, restore) for p in policies_of(e)})

    def words(policy: str, held: str) -> bytes:
        governor, _, preference = held.partition("/")
        return b"%s %s %s" % (quoted("%s/%s" % (POLICIES, policy)), quoted(governor), quoted(preference))

    def tests(exact: Exact) -> list[bytes]:
        policies = policies_of(exact)
        found = [b"clock_is " + words(p, policies[p]) if p in policies else b"true" for p in names]
        return [*found, kept.test(exact[FILE]), _link(POWER_SWITCH, exact[LINK])]

    target = restore[LINK]
    switch = quoted(POWER_SWITCH)
    acts = [
        b"put_link %s %s" % (switch, quoted(target)) if target else b"drop_switch %s" % switch,
        kept.bring(restore[FILE]),
        b"units daemon-reload",
        *(b"clock " + words(p, held) for p, held in policies_of(restore).items()),
    ]
    others, before = _tested(accepted, restore, tests)
    return others, before, b" && ".join(acts)


def _swap_part(
    accepted: Sequence[Exact], restore: Exact, name: str, functions: list[bytes]
) -> tuple[bytes, bytes, bytes]:
    """Swap files of Lumtak's own, and what stood before: new before old, and old only where memory is free for what it holds."""
    every = (*accepted, restore)
    sizes = sorted({m for e in every for m in own_of(e)})
    units = sorted({u for e in every for u in old_of(e)})

    def tests(exact: Exact) -> list[bytes]:
        own, old = own_of(exact), old_of(exact)
        found = []
        for mib in sizes:
            target = "%s/%s" % (UNITS, swap_unit(mib)) if "kept" in own.get(mib, "") else None
            found.append(_link(swap_switch(mib), target))
            found.append((b"swap_is %s" if "on" in own.get(mib, "") else b"swap_not %s") % quoted(swap_file(mib)))
        return found + [_link("%s/%s" % (UNITS, u), NOWHERE if old.get(u) == "masked" else None) for u in units]

    own, old = own_of(restore), old_of(restore)
    on, masked = ([u for u in units if (old.get(u) == "masked") == yes] for yes in (False, True))
    acts = [b"drop %s" % quoted("%s/%s" % (UNITS, u)) for u in on]
    for mib in own:
        function = "swap_unit_%s_%d" % (name, mib)
        functions.append(prints(function, swap_unit_text(mib)))
        unit = quoted("%s/%s" % (UNITS, swap_unit(mib)))
        acts.append(b"make_swap %d %s" % (mib, quoted(swap_file(mib))))
        acts.append(b"%s | keep_as %s && put_link %s %s" % (function.encode(), unit, quoted(swap_switch(mib)), unit))
    acts.append(b"units daemon-reload")
    acts += [b"units start -- %s" % quoted(u) for u in (*(swap_unit(m) for m in own), *on)]
    for unit_masked in masked:
        place = quoted("%s/%s" % (UNITS, unit_masked))
        acts.append(b"put_link %s %s && units stop -- %s" % (place, quoted(NOWHERE), quoted(unit_masked)))
    for mib in sizes:
        if mib not in own:
            file, own_unit = quoted(swap_file(mib)), quoted("%s/%s" % (UNITS, swap_unit(mib)))
            acts.append(b"room_for %s && swap_off %s %s" % (file, file, quoted(swap_unit(mib))))
            acts.append(b"drop_switch %s && drop %s && drop_swap %s" % (quoted(swap_switch(mib)), own_unit, file))
    acts.append(b"units daemon-reload")
    others, before = _tested(accepted, restore, tests)
    return others, before, b" && ".join(acts)


def _property_part(
    accepted: Sequence[Exact], restore: Exact, name: str, functions: list[bytes]
) -> tuple[bytes, bytes, bytes]:
    """The plan of the profile service."""
    del name, functions

    def words(exact: Exact) -> bytes:
        return b" ".join(quoted(exact[n]) for n in ("bus", "path", "value"))

    others, before = _tested(accepted, restore, lambda exact: [b"plan_is " + words(exact)])
    return others, before, b"plan " + words(restore)


_PARTS: dict[str, Callable[[Sequence[Exact], Exact, str, list[bytes]], tuple[bytes, bytes, bytes]]] = {
    "sysctl": _sysctl_part,
    "clock": _clock_part,
    "swap": _swap_part,
    "property": _property_part,
}
