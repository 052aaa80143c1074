"""The undo scripts in POSIX shell.

Words and bytes as it takes them, the functions that scripts call, and the part for one setting.

Source: POSIX.1-2017, Shell Command Language. One file of the standard library, in the language of
Python 3.8, for it is sent with the hand.
"""

from __future__ import annotations

import posixpath
import re
from typing import Any, Dict, List, Optional, Sequence

from lumtak.computers.hands.sent.files.atomic import temporary_name
from lumtak.computers.hands.sent.table import (
    CHANNELS as KEEPER,
)
from lumtak.computers.hands.sent.table import (
    CHANNELS_PATH,
    STORE,
    STORE_PATH,
    STORE_TABLE,
)


def quoted(text: str) -> bytes:
    """One shell word, whatever it holds."""
    return b"'" + text.encode("utf-8", "surrogateescape").replace(b"'", b"'\\''") + b"'"


def prints(name: str, data: bytes) -> bytes:
    """A shell function that prints exactly these bytes, a line of them each time."""
    lines = [
        b"    printf '%s'" % _format(line) for line in re.findall(rb"[^\n]*\n|[^\n]+", data)
    ] or [b"    :"]
    return b"%s() {\n%s\n}" % (name.encode(), b"\n".join(lines))


def _format(data: bytes) -> bytes:
    """Bytes as a printf format: printable ASCII stands for itself, the rest in octal."""
    out = bytearray()
    for place, byte in enumerate(data):
        char = bytes([byte])
        if char == b"\n":
            out += b"\\n"
        elif char in b"%\\":
            out += char * 2
        elif char in b"'$`" or not 0x20 <= byte < 0x7F or (char == b"-" and place == 0):
            out += b"\\%03o" % byte
        else:
            out += char
    return bytes(out)


# -- what the parts of an undo script call ---------------------------------------------------------

DROP = """
drop() { [ -n "$look" ] || rm -f "$root$1"; }
"""
WATCH = """
user_units() {
    [ -n "$root" ] || {
        systemctl --user stop lumtak-watch.timer
        systemctl --user daemon-reload
    } 2>/dev/null || :
}
"""
DESKTOP = """
# What the user set, and not what the administrator did for everybody.
own=
desktop_is() {
    [ -n "$root" ] || {
        [ -n "$own" ] || {
            own=$(mktemp) && trap 'rm -f "$own"' EXIT
            grep -m 1 -e '^user-db:' -e '^service-db:' /etc/dconf/profile/user >"$own" \\
                2>/dev/null || echo user-db:user >"$own"
        }
        [ "$(DCONF_PROFILE=$own dconf read "$1")" = "$2" ]
    }
}
"""
CHANNELS = """
keeper() { busctl --user --auto-start=no call {bus} {path} {bus} "$@" 2>/dev/null; }
as_kept() { # LETTER TEXT, as the keeper says it
    case $1 in s) printf 'v s "%s"' "$2" ;; *) printf 'v %s %s' "$1" "$2" ;; esac
}
channel_is() { # FILE CHANNEL PROPERTY LEAF LETTER TEXT
    [ -n "$root" ] && return 0
    if keeper ListChannels >/dev/null; then
        if [ -n "$6" ]; then
            [ "$(keeper GetProperty ss "$2" "$3")" = "$(as_kept "$5" "$6")" ]
        else
            ! grep -q "name=\\"$4\\"[^>]*value=" "$1" 2>/dev/null
        fi
    else
        said="s/.*name=\\"$4\\"[^>]*value=\\"\\([^\\"]*\\)\\".*/\\1/p"
        [ "$(sed -n "$said" "$1" 2>/dev/null)" = "$6" ]
    fi
}
channel() { # FILE CHANNEL PROPERTY LEAF LETTER TEXT
    [ -n "$root" ] && return 0
    if ! keeper ListChannels >/dev/null; then
        echo 'The desktop keeps this: log in there, then run this again.'
        return 1
    elif [ -n "$6" ]; then
        keeper SetProperty ssv "$2" "$3" "$5" "$6" >/dev/null
    else
        keeper ResetProperty ssb "$2" "$3" false >/dev/null
    fi && {
        count=50 # the keeper writes its file a while later
        until channel_is "$@" || [ "$count" -eq 0 ]; do
            sleep 0.1
            count=$((count - 1))
        done
    }
}
""".replace("{bus}", KEEPER).replace("{path}", CHANNELS_PATH)
PERMISSIONS = (
    """
store() { busctl --user call {bus} {path} {bus} "$@"; }
may_run_is() {
    [ -n "$root" ] && return 0
    found=$(store GetPermission sss {table} {table} "$1" 2>/dev/null) || found=
    if [ -n "$2" ]; then
        [ "$found" = "as 1 \\"$2\\"" ]
    else
        [ -z "$found" ] || [ "$found" = 'as 0' ]
    fi
}
may_run() {
    [ -n "$root" ] && return 0
    if [ -n "$2" ]; then
        store SetPermission sbssas {table} true {table} "$1" 1 "$2" >/dev/null
    else
        store DeletePermission sss {table} {table} "$1" >/dev/null
    fi
}
""".replace("{bus}", STORE)
    .replace("{path}", STORE_PATH)
    .replace("{table}", STORE_TABLE)
)
LINKS = """
link_is() { [ -L "$root$1" ] && [ "$(readlink "$root$1" && printf x)" = "$2${newline}x" ]; }
link_gone() { [ ! -e "$root$1" ] && [ ! -L "$root$1" ]; }
put_link() {
    mkdir -p "$root${1%/*}" && rm -f "$root$1.lumtak" && ln -s "$2" "$root$1.lumtak" &&
        mv -f "$root$1.lumtak" "$root$1"
}
drop_switch() {
    [ -z "$look" ] || return 0
    drop "$1" && { rmdir "$root${1%/*}" 2>/dev/null || :; }
}
units() { [ -n "$root" ] || systemctl "$@"; }
"""
VALUE = """
kernel_is() { [ -n "$root" ] || [ "$(cat "$1")" = "$2" ]; }
kernel() { [ -n "$root" ] || printf '%s' "$2" >"$1"; }
"""
KEPT = """
kept_as() { [ -f "$root$1" ] && cmp -s - "$root$1"; }
not_kept() { [ ! -e "$root$1" ]; }
keep_as() { mkdir -p "$root${1%/*}" && cat >"$root$1"; }
"""
CLOCK = """
clock_holds() { # a policy's governor and energy preference, which does not count under performance
    governor=$(cat "$1/scaling_governor") preference=
    [ "$governor" = performance ] ||
        preference=$(cat "$1/energy_performance_preference" 2>/dev/null || :)
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
SWAP = """
swaps_to() { # FILE is in use; what it holds is in $held then, in KiB
    while read -r place _ _ held _; do
        [ "$place" != "$1" ] || return 0
    done </proc/swaps
    return 1
}
unit_up() { [ -n "$root" ] || systemctl --quiet is-active -- "$1"; }
unit_down() { [ -n "$root" ] || ! systemctl --quiet is-active -- "$1"; }
swap_made() { [ -n "$root" ] || [ -f "$1" ]; }
swap_gone() { [ ! -e "$root$1" ]; }
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
        [ "$held" -lt $((free * 4 / 5)) ] ||
            {
                echo 'Memory is not free for what is in swap; close programs, then run this again.'
                false
            }
    }
}
swap_off() { [ -n "$root" ] || ! swaps_to "$1" || units stop "$2"; }
drop_swap() { drop "$1" && { rmdir "$root${1%/*}" 2>/dev/null || :; }; }
"""
PLAN = """
plan_is() {
    [ -n "$root" ] ||
        [ "$(busctl --system get-property "$1" "$2" "$1" ActiveProfile)" = "s \\"$3\\"" ]
}
plan() { [ -n "$root" ] || busctl --system set-property "$1" "$2" "$1" ActiveProfile s "$3"; }
"""


UNCHANGED = """
unchanged() { # SHA256 FILE ...: what a unit is and runs is as it was when that was recorded
    while [ "$#" -gt 1 ]; do
        [ "$(sha256sum <"$root$2" 2>/dev/null | cut -c 1-64)" = "$1" ] || return 1
        shift 2
    done
}
"""


def unchanged(sums: Dict[str, str]) -> bytes:
    """The condition that these files are as they were recorded; empty for none."""
    words = [b"%s %s" % (quoted(made), quoted(path)) for path, made in sorted(sums.items()) if made]
    return b" ".join([b"unchanged", *words]) if words else b""


def beside(path: str) -> str:
    """Where what takes the place of this file or link is written first."""
    folder, name = posixpath.split(path)
    return posixpath.join(folder, temporary_name(name))


def at(folder: str, name: str) -> bytes:
    """The place that FILES looks at from here on.

    A file of a user's, and the one that is whole before it takes its place.
    """
    return b'at "$root"%s %s' % (quoted("%s/%s" % (folder, name)), quoted(temporary_name(name)))


class ScriptPart:
    """One part of an undo script.

    The states that it tells apart, and the functions that its lines call.

    Args:
        number: tells it from the other parts.
        among: the state that it restores, and all from which it does so.
    """

    def __init__(self, number: str, among: Sequence[Any]) -> None:
        self.number = number
        self.among = among
        self.functions: List[bytes] = []
        self._named: Dict[bytes, bytes] = {}

    def printing(self, data: bytes) -> bytes:
        """The name of the function that prints these bytes, made once."""
        if data not in self._named:
            name = "print_%s_%d" % (self.number, len(self._named) + 1)
            self.functions.append(prints(name, data))
            self._named[data] = name.encode()
        return self._named[data]

    def kept(self, path: str, data: Optional[bytes]) -> bytes:
        """The condition that a file of Lumtak's own holds these bytes.

        Is not there where they are None.
        """
        place = quoted(path)
        return (
            b"not_kept %s" % place
            if data is None
            else b"{ %s | kept_as %s; }" % (self.printing(data), place)
        )

    def keep(self, path: str, data: Optional[bytes]) -> bytes:
        """The command by which that file gets these bytes, or goes."""
        place = quoted(path)
        return (
            b"drop %s" % place
            if data is None
            else b"%s | keep_as %s" % (self.printing(data), place)
        )


def ways_back(part: str, title: str, ways: Sequence[Any]) -> bytes:
    """The part for one setting that was changed once or several times.

    Args:
        part: tells it from the other parts.
        title: for the person who runs the script.
        ways: (number of the change, word of what it restores, the state, those from which it is
            brought back, a condition besides or nothing), the oldest change first; each takes along
            the newer ones.
    """
    numbers = [str(number) for number, *_ in ways]
    lines = [b"", b"title=%s" % quoted(title)]
    for place, (_, word, restore, accepted, also) in enumerate(ways):
        newer = ", ".join(numbers[place + 1 :])
        words = b" ".join([numbers[place].encode(), quoted(word), quoted(newer)])
        lines.append(b"%s way %s; then" % (b"elif" if place else b"if", words))
        lines.append(choice("%s_%d" % (part, place + 1), restore, accepted, also))
    return b"\n".join([*lines, b"fi\n"])


def choice(number: str, restore: Any, accepted: Sequence[Any], also: bytes = b"") -> bytes:
    """One way back of a setting.

    As it was already, brought back from a state that is known, or left alone.

    Each part of a state may be as in any that is known, so that what was interrupted half-way is
    brought back too.

    Args:
        number: tells it from the other parts.
        restore: the state that is brought back.
        accepted: those from which it is, that one left out.
        also: has to hold too before anything is brought back; empty for nothing.
    """
    part = ScriptPart(number, [restore, *accepted])
    known = [state.tests(part) for state in (restore, *accepted)]
    before, bring, tidy = (
        b" && ".join(known[0]) or b"true",
        b" && ".join(restore.bring(part)),
        restore.tidy(),
    )
    tidy = b'    [ -n "$look" ] || %s\n' % tidy if tidy else b""
    lines = [*part.functions, *restore.preface(part)]
    lines.append(b"if %s; then\n%s    already" % (before, tidy))
    if accepted:
        held = b" && ".join([*map(_any, zip(*known)), *([also] if also else [])])
        lines.append(b"elif %s; then" % (held or b"true"))
        lines.append(b'    if [ -n "$look" ]; then stands; else')
        lines.append(b"    %s\n%s    if %s; then done_now; else failed; fi" % (bring, tidy, before))
        lines.append(b"    fi")
    return b"\n".join([*lines, b"else\n    leave\nfi"])


def _any(ways: Sequence[bytes]) -> bytes:
    kept = list(dict.fromkeys(ways))
    return kept[0] if len(kept) == 1 else b"{ %s; }" % b" || ".join(kept)
