"""The undo script for files of a user: plain POSIX shell that compares before it writes (POSIX.1-2017, Shell & Utilities).

Beyond POSIX it uses readlink, which every Linux system has, and only where a link is to be compared.
"""

import base64
import hashlib
import json
from collections.abc import Sequence

from lumtak.computers.hands.back import root_script, script_path
from lumtak.computers.hands.hand import temporary_name
from lumtak.computers.hands.shell import prints, quoted
from lumtak.computers.hands.states import KINDS as OF_ROOT
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.linux.escapes import escaped, unescaped
from lumtak.computers.linux.folder import UserFolder
from lumtak.computers.linux.known_states import FILES, check_state, missing_folders, unfit
from lumtak.computers.linux.undo_parts import PARTS, head_of
from lumtak.computers.protocol import Script
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_HEAD = """\
#!/bin/sh
# Puts back what Lumtak changed on {computer} for {user}. It needs nothing but a shell; run it as {user}.
#
# It looks before it writes: what somebody changed since is left alone, and said. Running it again does no harm.
# When everything is as it was, it removes itself. If this computer's disk is mounted elsewhere, name the folder,
# for example: sh {name} /mnt
#
# What it puts back:
{contents}

set -u
umask 077
LC_ALL=C
export LC_ALL
root=${{1-}}
newline='
'
if [ "$(id -u)" != {uid} ]; then
    echo 'Run this as the user whose settings it puts back: {user} (number {uid}).' >&2
    exit 2
fi
back=0 left=0 failed=0

# What stands at $file, compared with what is asked for.
absent() {{ [ ! -e "$file" ] && [ ! -L "$file" ]; }}
holds() {{ # MODE, and the bytes on standard input
    [ -f "$file" ] && [ ! -L "$file" ] && [ -n "$(find "$file" -prune -perm "$1")" ] && cmp -s - "$file"
}}
points_to() {{ [ -L "$file" ] && [ "$(readlink "$file" && printf x)" = "$1${{newline}}x" ]; }}

# Ways to bring $file back; the new file is whole before it takes the old one's place.
replace() {{ # MODE, and the bytes on standard input
    mkdir -p "$folder" && rm -f "$new" && (set -C && cat >"$new") && chmod "$1" "$new" && mv -f "$new" "$file"
}}
relink() {{ mkdir -p "$folder" && rm -f "$new" && ln -s "$1" "$new" && mv -f "$new" "$file"; }}
shed() {{ # COUNT folders that were not there before, from $folder upwards, as far as they are empty
    count=$1 empty=$folder
    while [ "$count" -gt 0 ] && rmdir "$empty" 2>/dev/null; do
        empty=${{empty%/*}} count=$((count - 1))
    done
}}
at() {{
    file=$1 folder=${{1%/*}} new=${{1%/*}}/$2 title=$3
    rm -f "$new"
}}
already() {{ back=$((back + 1)); printf 'as it was already: %s\\n' "$title"; }}
done_now() {{ back=$((back + 1)); printf 'put back: %s\\n' "$title"; }}
leave() {{ left=$((left + 1)); printf 'left alone, somebody changed it since: %s\\n' "$title"; }}
failed() {{ failed=$((failed + 1)); printf 'FAILED: %s\\n' "$title"; }}
"""

_TAIL = """
sync 2>/dev/null || :
printf '%s as before, %s left alone, %s failed\\n' "$back" "$left" "$failed"
[ "$failed" = 0 ] || exit 1
if [ -e "$root"{by_root} ]; then
    echo 'What takes root is put back by another script, which root owns:' >&2
    echo {command} >&2
    exit 3
fi
[ "$left" = 0 ] || exit 3
at "$root"{here} {new} 'this script'
rm -f "$file"
shed {made}
exit 0
"""


class FileUndoKit:
    """Scripts for one user of a Linux computer: one of the user's, and one that root owns for what takes root.

    Args:
        user: whose files are put back, and who owns the first.
        folder: where that is left.
        hands: of the computer.
    """

    def __init__(self, user: User, folder: UserFolder, hands: Hands) -> None:
        self._user = user
        self._folder = folder
        self._hands = hands
        self._count = 0
        self._kinds: set[str] = set()
        self._of_root: list[dict[str, object]] = []

    # -- the text -----------------------------------------------------------------------------------------------------

    def part(self, ref: SettingRef, title: str, accepted: Sequence[State], restore: State) -> bytes:
        """The part for one setting in the user's script; what takes root is kept for the other script, and gives none.

        Raises:
            ComputerError: a state is not known exactly, or is none that this setting can have had.
        """
        self._count += 1
        for state in (restore, *accepted):
            if state.exact is None:
                raise ComputerError(f"{plain(str(ref))} cannot be put back by a script.", "Put it back with Lumtak.")
            check_state(ref, state)
        kind = (restore.exact or {})["kind"]
        group = FILES if kind in FILES else (kind,)
        if other := next((k for s in accepted if (k := (s.exact or {})["kind"]) not in group), ""):
            raise unfit(ref, f"it was recorded as {kind} and as {other}")
        different = _different(accepted, restore)
        if kind in OF_ROOT:
            self._of_root.append(
                {
                    "area": ref.area,
                    "key": ref.key,
                    "title": plain(title),
                    "accepted": [_plainly(s) for s in different],
                    "restore": _plainly(restore),
                }
            )
            return b""
        head = b"\n# " + plain(f"{title}: {restore.word} before").encode()
        if kind in FILES:
            return b"\n".join([head, *self._file_part(title, different, restore)])
        self._kinds.add(kind)
        tests, before, bring = PARTS[kind](different, restore)
        return b"\n".join([head, b"title=%s" % quoted(plain(title)), *_choice(before, tests, bring, b"")])

    def _file_part(self, title: str, accepted: Sequence[State], restore: State) -> list[bytes]:
        """What stands in a file of the user's."""
        folder, name = unescaped(restore.around["folder"]), unescaped(restore.around["file"])
        functions: list[bytes] = []
        before = self._test(restore, f"before_{self._count}", functions)
        others = [
            self._test(state, f"written_{self._count}_{number}", functions)
            for number, state in enumerate(accepted, start=1)
        ]
        missing = missing_folders(restore)
        tidy = b""
        match restore.exact:
            case {"kind": "file", "mode": mode}:
                bring = b"before_%d | replace %s" % (self._count, _word(mode))
            case {"kind": "link", "target": target}:
                bring = b"relink %s" % quoted(unescaped(target))
            case _:  # absent: there are no other kinds of files
                bring = b'rm -f "$file"'
                tidy = b"    shed %d\n" % missing if missing else b""
        at = b'at "$root"%s %s %s' % (
            quoted(f"{folder}/{name}"),
            quoted(temporary_name(name)),
            quoted(plain(title)),
        )
        return [*functions, at, *_choice(before, others, bring, tidy)]

    @staticmethod
    def _test(state: State, name: str, functions: list[bytes]) -> bytes:
        """The shell condition that the state stands there; its bytes become a function."""
        match state.exact:
            case {"kind": "file", "mode": mode, "bytes": data}:
                functions.append(prints(name, base64.b64decode(data)))
                return b"{ %s | holds %s; }" % (name.encode(), _word(mode))
            case {"kind": "link", "target": target}:
                return b"points_to %s" % quoted(unescaped(target))
            case _:  # absent: there are no other kinds of files
                return b"absent"

    def script(
        self,
        tag: str,
        *,
        computer: str,
        contents: Sequence[str],
        parts: Sequence[bytes],
        around: Sequence[dict[str, str]],
    ) -> bytes:
        """The script of all parts; `around` are what was kept with the before values."""
        name = _file_name(tag)
        user = "".join(c for c in self._user.name if c.isalnum() or c in "._-") or "its owner"
        head = _HEAD.format(
            computer=computer,
            user=user,
            uid=self._user.uid,
            name=name,
            contents="\n".join(f"#   {line}" for line in contents),
        )
        here = quoted(f"{self._folder.path}/{name}").decode("utf-8", "surrogateescape")
        by_root = script_path(tag)
        tail = _TAIL.format(
            here=here,
            new=quoted(temporary_name(name)).decode(),
            made=_made(around),
            by_root=quoted(by_root).decode(),
            command=quoted(f"    sudo sh {by_root}").decode(),
        )
        return (
            (head + head_of(self._kinds)).encode("utf-8", "replace")
            + b"".join(parts)
            + tail.encode("utf-8", "surrogateescape")
        )

    # -- the files ----------------------------------------------------------------------------------------------------

    def leave(self, tag: str, script: bytes) -> str:
        """The scripts stand on the computer: the user's with mode 0700, and root's where something takes root; gives the first one's path.

        Root's is written only where it is not as it should be already, so that nothing is asked for in vain.

        Raises:
            ComputerError: one cannot be written.
        """
        self._by_root(tag)
        name = _file_name(tag)
        self._folder.put(name, script, 0o700)
        return escaped(f"{self._folder.path}/{name}")

    def _by_root(self, tag: str) -> None:
        path = script_path(tag)
        wanted = root_script(tag, self._of_root) if self._of_root else b""
        try:
            stands = self._hands.own.read(path)
        except OSError:
            stands = b""
        if stands == wanted:
            return
        try:
            self._hands.root().leave_script(tag, json.dumps(self._of_root))
        except OSError as error:
            raise ComputerError(
                f"{path}: {plain(error.strerror or str(error), 300)}.", "Mend that, then try again."
            ) from error

    def left(self, tag: str) -> list[Script]:
        """The scripts that stand there."""
        name = _file_name(tag)
        found = []
        if name in self._folder.names():
            data = self._folder.content(name) or b""
            found.append(
                Script(command=f"sh {escaped(f'{self._folder.path}/{name}')}", sha256=hashlib.sha256(data).hexdigest())
            )
        try:
            data = self._hands.own.read(script_path(tag))
        except OSError:
            return found
        return [*found, Script(command=f"sudo sh {script_path(tag)}", sha256=hashlib.sha256(data).hexdigest())]

    def remove(self, tag: str, around: Sequence[dict[str, str]]) -> None:
        """The scripts are gone, with the folders that were made for the user's.

        Raises:
            ComputerError: one cannot be removed.
        """
        self._of_root = []
        self._by_root(tag)
        self._folder.remove(_file_name(tag), _made(around))


def _plainly(state: State) -> dict[str, dict[str, str]]:
    return {"exact": dict(state.exact or {}), "around": dict(state.around)}


def _choice(before: bytes, others: Sequence[bytes], bring: bytes, tidy: bytes) -> list[bytes]:
    """As it was already; brought back from a state that is known; or left alone."""
    lines = [b"if %s; then\n%s    already" % (before, tidy)]
    if others:
        lines.append(b"elif %s; then" % b" || ".join(others))
        lines.append(b"    %s\n%s    if %s; then done_now; else failed; fi" % (bring, tidy, before))
    return [*lines, b"else\n    leave\nfi\n"]


def _file_name(tag: str) -> str:
    return f"undo-{tag}.sh"


def _made(around: Sequence[dict[str, str]]) -> int:
    """How many folders were not there before the first script."""
    said = [a.get("undo_missing", "0") for a in around]
    return max((int(s) for s in said if s.isdecimal() and len(s) < 4), default=0)


def _different(states: Sequence[State], from_: State) -> list[State]:
    kept: list[State] = []
    for state in states:
        if all(state.exact != other.exact for other in (from_, *kept)):
            kept.append(state)
    return kept


def _word(mode: str) -> bytes:
    return b"%04o" % int(mode, 8)
