"""What takes root, put back without Lumtak: the script that root owns, made by root's hand.

A script that somebody hands over is never written: whoever runs it later runs it as root. What is
told are settings; of them what root has receipts of is in the script, which is made here. Sent with
the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import hashlib
import json
import re
from typing import Any, List, Optional, Sequence

from lumtak.computers.hands.sent.script.shell import UNCHANGED, beside, quoted, unchanged, ways_back
from lumtak.computers.hands.sent.script.shell_words import COUNTERS, WORDS
from lumtak.computers.hands.sent.states.states import Exact, state_of
from lumtak.computers.hands.sent.table import SWAP_FOLDER

_TAG = re.compile(r"[0-9a-f]{8}(?:-[0-9]{1,6})?")
_TOLD, _MOST_HEAD = re.compile(rb"(?m)^# told ([0-9a-f]{64})$"), 4096
_RECEIPTS = SWAP_FOLDER + "/receipts"


def script_path(tag: str, before: bool = False) -> str:
    """Where the script stands.

    Args:
        tag: tells it from scripts of other journals.
        before: whether that is meant which a Lumtak left that kept no receipts; it stays until
            all that it puts back is.

    Raises:
        ValueError: nothing is called so.
    """
    if _TAG.fullmatch(tag) is None:
        raise ValueError("%s tells no script from another" % tag)
    return "%s/%s-%s.sh" % (SWAP_FOLDER, "undo" if before else "put-back", tag)


def told_sum(parts: Sequence[Any]) -> str:
    """SHA-256 of what a script was to put back, by which it is known whether it still is as it
    should be.
    """
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def is_told(script: bytes, parts: Optional[Sequence[Any]] = None) -> bool:
    """Whether a script says what it was to put back, and that it was these parts."""
    said = _TOLD.search(script[:_MOST_HEAD])
    return said is not None and (parts is None or said[1].decode() == told_sum(parts))


_HEAD = """\
#!/bin/sh
# Puts back what Lumtak changed of the system itself. It needs nothing but a shell; run it as root:
#     sudo sh {path}
#
# It looks before it writes: what somebody changed since is left alone, and said. Running it again
# does no harm. When everything is as it was, it removes itself. If this computer's disk is mounted
# elsewhere, name the folder, for example: sudo sh undo.sh /mnt; kernel, bus and running services
# are left alone then.
# told {told}

set -u
umask 022
LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin
export LC_ALL PATH
numbers='{numbers}' of_root=
{words}
if [ -z "$look" ] && [ "$(id -u)" != 0 ]; then
    echo 'This takes root. Run: sudo sh {path}' >&2
    exit 2
fi
"""
_TAIL = """
[ -z "$list" ] || exit 0
sync 2>/dev/null || :
[ -z "$wanted" ] || {{
    [ "$failed" = 0 ] || exit 1
    [ "$left" = 0 ] || exit 3
    exit 0
}}
printf '%s as before, %s left alone, %s failed\\n' "$back" "$left" "$failed"
[ -z "$look" ] || exit 0
[ "$failed" = 0 ] || exit 1
[ "$left" = 0 ] || exit 3
rm -f "$root"{path} "$root"{begun}{receipts} "$root"{noted}/.lumtak-*
rmdir "$root"{noted} 2>/dev/null
rmdir "$root"{folder} 2>/dev/null || :
exit 0
"""


def root_script(tag: str, parts: Sequence[Any], told: Optional[Sequence[Any]] = None) -> bytes:
    """The script for these settings.

    Args:
        tag: tells it from scripts of other journals.
        parts: dictionaries of `area`, `key`, `title` and `ways`: for each change, the oldest first,
            its `number`, what it restores as a `word` and as an exact state (`restore`), and those
            from which it is brought back (`accepted`); what a unit is and runs, as SHA-256 by path
            (`sums`), and the number of root's receipt (`receipt`), where there is one.
        told: what it was to put back, where not all of that is in it.

    Raises:
        ValueError: a state is none that its setting can have had, or nothing is called by this tag.
    """
    path = script_path(tag)
    text: List[bytes] = []
    heads: List[str] = [COUNTERS]
    numbers: List[str] = []
    receipts: List[bytes] = []
    for place, part in enumerate(parts, start=1):
        area, key, title = (_text(part[name]) for name in ("area", "key", "title"))
        ways = []
        for way in part["ways"]:
            restore, *accepted = [state_of(said) for said in (way["restore"], *way["accepted"])]
            for state in (restore, *accepted):
                _check(area, key, state, restore)
            heads += restore.heads
            number = _number(way["number"])
            others = [state for state in accepted if state != restore]
            also = unchanged(way.get("sums", {}))
            heads += [UNCHANGED] if also else []
            if way.get("receipt"):
                receipts.append(quoted("%s/%06d.json" % (_RECEIPTS, _number(way["receipt"]))))
            ways.append((number, _shown(_text(way["word"])), restore, others, also))
            numbers.append(str(number))
        text.append(ways_back(str(place), _shown(title), ways))
    head = _HEAD.format(
        path=path,
        words=WORDS,
        numbers=" ".join(numbers),
        told=told_sum(parts if told is None else told),
    )
    head += "".join(dict.fromkeys(heads))
    tail = _TAIL.format(
        path=quoted(path).decode(),
        begun=quoted(beside(path)).decode(),
        folder=quoted(SWAP_FOLDER).decode(),
        noted=quoted(_RECEIPTS).decode(),
        receipts="".join(' "$root"%s' % place.decode() for place in dict.fromkeys(receipts)),
    )
    return head.encode() + b"".join(text) + tail.encode()


def _text(value: Any) -> str:
    if not isinstance(value, str) or len(value) > 1000:
        raise ValueError("a name that is none")
    return value


def _shown(text: str) -> str:
    return "".join(c if c.isprintable() and c.isascii() else "?" for c in text)


def _number(value: Any) -> int:
    if type(value) is not int or not 0 < value < 1_000_000:
        raise ValueError("a number that is none")
    return value


def _check(area: str, key: str, state: Exact, restore: Exact) -> None:
    why = state.problem(area, key)
    if not why and not state.root:
        why = "it does not take root"
    if not why and not restore.alike(state):
        why = "it was recorded in two ways"
    if why:
        raise ValueError("%s:%s: %s" % (area, key, why))
