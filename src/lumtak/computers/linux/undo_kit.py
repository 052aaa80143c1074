"""The undo script for files of a user.

Plain POSIX shell that compares before it writes (POSIX.1-2017, Shell & Utilities).

Beyond POSIX it uses readlink, which every Linux system has, and only where a link is to be
compared.
"""

import contextlib
import hashlib
import json
import posixpath
import re
from collections.abc import Iterable, Sequence
from typing import Any

from lumtak.computers.hands.sent.files.atomic import temporary_name
from lumtak.computers.hands.sent.files.words import escaped
from lumtak.computers.hands.sent.root.back import is_told, script_path
from lumtak.computers.hands.sent.script.files_shell import FILES
from lumtak.computers.hands.sent.script.shell import at, quoted, ways_back
from lumtak.computers.hands.sent.script.shell_words import COUNTERS, WORDS
from lumtak.computers.hands.sent.states.states import Exact
from lumtak.computers.hands.whose import Hands, User
from lumtak.computers.kit import Script, Way
from lumtak.computers.linux.adapter import check_fits, unfit
from lumtak.computers.linux.folder import UserFolder
from lumtak.computers.linux.put_back import BY_NUMBER, PUT_BACK, in_home
from lumtak.core.setting import SettingRef, State
from lumtak.core.text import plain
from lumtak.errors import ComputerError

_OWN = 1
"""The folder of the scripts is nobody else's: it goes with the last, whoever made it."""
_IS_SCRIPT = re.compile(r"undo-[0-9a-z-]+\.sh")

_HEAD = """\
#!/bin/sh
# Puts back what Lumtak changed on {computer} for {user}.
# It needs nothing but a shell; run it as {user}.
#
# It looks before it writes: what somebody changed since is left alone, and said. Running it again
# does no harm. When everything is as it was, it removes itself. If this computer's disk is mounted
# elsewhere, name the folder, for example: sh {name} /mnt
#
# What it puts back:
{contents}

numbers='{numbers}' of_root='{of_root}'
set -u
umask 077
LC_ALL=C
export LC_ALL
{words}
if [ -z "$look" ] && [ "$(id -u)" != {uid} ]; then
    echo 'Run this as the user whose settings it puts back: {user} (number {uid}).' >&2
    exit 2
fi
"""

_TAIL = """
[ -z "$list" ] || {{
    [ ! -r "$root"{by_root} ] || sh "$root"{by_root} list ${{root:+"$root"}}
    exit 0
}}
sync 2>/dev/null || :
[ -z "$wanted" ] || {{
    [ "$failed" = 0 ] || exit 1
    for number in $wanted; do
        case " $of_root " in *" $number "*)
            left=1
            printf 'Change %s takes root. Type: %s %s\\n' "$number" {command} "$number"
            ;;
        esac
    done
    [ "$left" = 0 ] || exit 3
    exit 0
}}
printf '%s as before, %s left alone, %s failed\\n' "$back" "$left" "$failed"
[ -z "$look" ] || exit 0
[ "$failed" = 0 ] || exit 1
if [ -e "$root"{by_root} ] || [ -e "$root"{before} ]; then
    echo 'What takes root is put back by another script, which root owns:' >&2
    for script in {by_root} {before}; do
        [ ! -e "$root$script" ] || printf '    sudo sh %s\\n' "$script" >&2
    done
    exit 3
fi
[ "$left" = 0 ] || exit 3
{here}
rm -f "$file"
set -- "$folder"/undo-*.sh
[ -e "$1" ] || rm -f "$folder/{put_back}" "$folder/"{begun}
shed {made}
exit 0
"""


class FileUndoKit:
    """Scripts for one user of a Linux computer.

    One of the user's, and one that root owns for what takes root.

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
        self._heads = [COUNTERS, FILES]
        self._numbers: list[int] = []
        self._of_root: list[dict[str, Any]] = []

    # -- the text ----------------------------------------------------------------------------------

    def missing(self) -> int:
        """See `UndoKit.missing`."""
        return self._folder.missing()

    def part(self, ref: SettingRef, title: str, ways: Sequence[Way]) -> bytes:
        """The part for one setting in the user's script.

        What takes root is kept for the other script, and gives none.

        Raises:
            ComputerError: a state is not known exactly, or is none that this setting can have had.
        """
        self._count += 1
        known = [_known(ref, way) for way in ways]
        if not any(restore.root for _, _, restore, *_ in known):
            for number, _, restore, *_ in known:
                self._heads += restore.heads
                self._numbers.append(number)
            return ways_back(str(self._count), plain(title), known)
        said = [
            {
                "number": number,
                "word": word,
                "restore": restore.said(),
                "accepted": [state.said() for state in accepted],
            }
            for number, word, restore, accepted, _ in known
        ]
        part = {"area": ref.area, "key": ref.key, "title": plain(title), "ways": said}
        self._of_root.append(part)
        return b""

    def script(
        self, tag: str, *, computer: str, contents: Sequence[str], parts: Sequence[bytes], made: int
    ) -> bytes:
        """The script of all parts."""
        name = _file_name(tag)
        user = "".join(c for c in self._user.name if c.isalnum() or c in "._-") or "its owner"
        head = _HEAD.format(
            computer=computer,
            user=user,
            uid=self._user.uid,
            name=name,
            words=WORDS,
            numbers=_in_a_row(self._numbers),
            of_root=_in_a_row(way["number"] for part in self._of_root for way in part["ways"]),
            contents="\n".join(f"#   {line}" for line in contents),
        )
        by_root = script_path(tag)
        tail = _TAIL.format(
            here=at(self._folder.path, name).decode("utf-8", "surrogateescape"),
            made=max(_OWN, made),
            by_root=quoted(by_root).decode(),
            before=quoted(script_path(tag, before=True)).decode(),
            command=quoted(f"sudo sh {by_root}").decode(),
            put_back=PUT_BACK,
            begun=quoted(temporary_name(PUT_BACK)).decode(),
        )
        return (
            (head + "".join(dict.fromkeys(self._heads))).encode("utf-8", "replace")
            + b"".join(parts)
            + tail.encode("utf-8", "surrogateescape")
        )

    # -- the files ---------------------------------------------------------------------------------

    def leave(self, tag: str, script: bytes) -> str:
        """The scripts stand on the computer.

        The user's with mode 0700, and root's where something takes root; gives the first one's
        path.

        Root's is written only where it is not as it should be already, so that nothing is asked for
        in vain.

        Raises:
            ComputerError: one cannot be written.
        """
        self._by_root(tag)
        name = _file_name(tag)
        self._folder.put(name, script, 0o700)
        self._folder.put(PUT_BACK, BY_NUMBER, 0o700)
        return escaped(f"{self._folder.path}/{name}")

    def _by_root(self, tag: str) -> None:
        path = script_path(tag)
        try:
            stands = self._hands.own.read(path)
        except OSError:
            stands = b""
        if self._of_root:
            if is_told(stands, self._of_root):
                return
        elif not stands and not self._is_begun(path):
            return
        try:
            self._hands.root().leave_script(tag, json.dumps(self._of_root))
        except OSError as error:
            raise ComputerError(
                f"{path}: {plain(error.strerror or str(error), 300)}.", "Mend that, then try again."
            ) from error

    def _is_begun(self, path: str) -> bool:
        """Whether a write of root's script was interrupted, and left its folder or half of it."""
        folder, name = posixpath.split(path)
        try:
            names = self._hands.own.names(folder)
        except OSError:
            return False
        return not names or temporary_name(name) in names

    def left(self, tag: str) -> list[Script]:
        """The scripts that stand there."""
        name = _file_name(tag)
        found = []
        if name in self._folder.names():
            data = self._folder.content(name) or b""
            found.append(
                Script(
                    command=f"sh {escaped(f'{self._folder.path}/{name}')}",
                    sha256=hashlib.sha256(data).hexdigest(),
                )
            )
        for path in (script_path(tag), script_path(tag, before=True)):
            with contextlib.suppress(OSError):
                data = self._hands.own.read(path)
                sha256 = hashlib.sha256(data).hexdigest()
                found.append(Script(command=f"sudo sh {path}", sha256=sha256))
        return found

    def by_number(self, tag: str) -> str:
        """See `UndoKit.by_number`."""
        if not {_file_name(tag), PUT_BACK} <= set(self._folder.names()):
            return ""
        return f"sh {in_home(f'{self._folder.path}/{PUT_BACK}', self._user.home)}"

    def remove(self, tag: str, made: int) -> None:
        """The scripts are gone, with the folders that were made for the user's.

        Raises:
            ComputerError: one cannot be removed.
        """
        self._of_root = []
        self._by_root(tag)
        try:
            names = self._folder.names()
        except OSError:  # no folder stands there, so that nothing is in it
            names = []
        if not any(_IS_SCRIPT.fullmatch(n) for n in names if n != _file_name(tag)):
            self._folder.remove(PUT_BACK, 0)
        self._folder.remove(_file_name(tag), max(_OWN, made))


def _known(ref: SettingRef, way: Way) -> tuple[int, str, Exact, list[Exact], bytes]:
    """A way back as a script has it, once each state is known to be one of this setting."""
    exact, *others = [_checked(ref, state) for state in (way.restore, *way.accepted)]
    if other := next((o for o in others if not exact.alike(o)), None):
        raise unfit(ref, f"it was recorded as {exact.kind} and as {other.kind}")
    different = [o for n, o in enumerate(others) if o not in (exact, *others[:n])]
    return way.number, plain(way.restore.word, 100), exact, different, b""


def _in_a_row(numbers: Iterable[int]) -> str:
    return " ".join(map(str, sorted(numbers)))


def _checked(ref: SettingRef, state: State) -> Exact:
    if not isinstance(state.exact, Exact):
        raise ComputerError(
            f"{plain(str(ref))} cannot be put back by a script.", "Put it back with Lumtak."
        )
    check_fits(ref, state.exact)
    return state.exact


def _file_name(tag: str) -> str:
    return f"undo-{tag}.sh"
