"""The undo script for files of a user: plain POSIX shell that compares before it writes (POSIX.1-2017, Shell & Utilities).

Beyond POSIX it uses readlink, which every Linux system has, and only where a link is to be compared.
"""

import base64
from collections.abc import Sequence

from lumtak.computers.hands.hand import temporary_name
from lumtak.computers.hands.whose import User
from lumtak.computers.linux.escapes import escaped, unescaped
from lumtak.computers.linux.folder import UserFolder
from lumtak.computers.linux.known_states import FILES, check_state, missing_folders, unfit
from lumtak.computers.linux.shell import prints, quoted
from lumtak.computers.linux.undo_parts import PARTS, Part, head_of
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
[ "$left" = 0 ] || exit 3
at "$root"{here} {new} 'this script'
rm -f "$file"
shed {made}
exit 0
"""


class FileUndoKit:
    """Scripts for one user of a Linux computer.

    Args:
        user: whose files are put back, and who owns the script.
        folder: where the script is left.
    """

    def __init__(self, user: User, folder: UserFolder) -> None:
        self._user = user
        self._folder = folder
        self._count = 0
        self._kinds: set[str] = set()

    # -- the text -----------------------------------------------------------------------------------------------------

    def part(self, ref: SettingRef, title: str, accepted: Sequence[State], restore: State) -> bytes:
        """The part for one setting.

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
        if kind in PARTS:
            self._kinds.add(kind)
            return self._other_part(title, accepted, restore, PARTS[kind])
        folder, name = unescaped(restore.around["folder"]), unescaped(restore.around["file"])
        functions: list[bytes] = []
        before = self._test(restore, f"before_{self._count}", functions)
        others = [
            self._test(state, f"written_{self._count}_{number}", functions)
            for number, state in enumerate(_different(accepted, restore), start=1)
        ]
        missing = missing_folders(restore)
        match restore.exact:
            case {"kind": "file", "mode": mode}:
                bring = b"before_%d | replace %s" % (self._count, _word(mode))
            case {"kind": "link", "target": target}:
                bring = b"relink %s" % quoted(unescaped(target))
            case _:  # absent: there are no other kinds of files
                bring = b'rm -f "$file"'
        tidy = b"    shed %d\n" % missing if kind == "absent" and missing else b""
        lines = [
            b"",
            b"# " + plain(f"{title}: {restore.word} before").encode(),
            *functions,
            b'at "$root"%s %s %s' % (quoted(f"{folder}/{name}"), quoted(temporary_name(name)), quoted(plain(title))),
            b"if %s; then\n%s    already" % (before, tidy),
        ]
        if others:
            lines.append(b"elif %s; then" % b" || ".join(others))
            lines.append(b"    %s\n%s    if %s; then done_now; else failed; fi" % (bring, tidy, before))
        lines.append(b"else\n    leave\nfi\n")
        return b"\n".join(lines)

    def _other_part(self, title: str, accepted: Sequence[State], restore: State, part: Part) -> bytes:
        """What is no file of the user's: tested and brought back by the functions of the head."""
        functions: list[bytes] = []
        different = _different(accepted, restore)
        others, before, bring = part(different, restore, str(self._count), functions)
        lines = [
            b"",
            b"# " + plain(f"{title}: {restore.word} before").encode(),
            *functions,
            b"title=%s" % quoted(plain(title)),
            b"if %s; then\n    already" % before,
        ]
        if others:
            lines.append(b"elif %s; then" % b" || ".join(others))
            lines.append(b"    %s\n    if %s; then done_now; else failed; fi" % (bring, before))
        lines.append(b"else\n    leave\nfi\n")
        return b"\n".join(lines)

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
        tail = _TAIL.format(here=here, new=quoted(temporary_name(name)).decode(), made=_made(around))
        return (
            (head + head_of(self._kinds)).encode("utf-8", "replace")
            + b"".join(parts)
            + tail.encode("utf-8", "surrogateescape")
        )

    # -- the file -----------------------------------------------------------------------------------------------------

    def leave(self, tag: str, script: bytes) -> str:
        """The script stands on the computer, mode 0700; gives its path.

        Raises:
            ComputerError: it cannot be written.
        """
        name = _file_name(tag)
        self._folder.put(name, script, 0o700)
        return escaped(f"{self._folder.path}/{name}")

    def place(self, tag: str) -> str:
        """Where the script stands; empty when there is none."""
        name = _file_name(tag)
        return escaped(f"{self._folder.path}/{name}") if name in self._folder.names() else ""

    def remove(self, tag: str, around: Sequence[dict[str, str]]) -> None:
        """The script is gone, with the folders that were made for it.

        Raises:
            ComputerError: it cannot be removed.
        """
        self._folder.remove(_file_name(tag), _made(around))


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
