"""The programs that a command line runs, and those behind them. Source: systemd.service(5), COMMAND
LINES; Desktop Entry Specification 1.5; POSIX.1-2017, Shell Command Language.

Sent with the hand: the standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import posixpath
import re
import shlex
from typing import Iterator, List

from lumtak.computers.hands.sent.files.words import escaped

_RUN_OTHERS = {
    "sh", "bash", "dash", "zsh", "ksh", "python", "perl", "ruby", "node", "env", "nice", "ionice",
    "setsid", "nohup", "timeout", "flock", "sudo", "su", "runuser", "chroot", "exec", "command",
    "run-parts", "anacron", "chronic", "start-stop-daemon", "time",
}  # fmt: skip
"""What is given to them to run counts as well."""
_SHELL_WORDS = {"if", "then", "else", "fi", "do", "done", "while", "until", "!", "{", "}", "("}
_BETWEEN = {";", "&", "|", "&&", "||", ";;", "|&"}
_ASIDE = re.compile(r"-|\w+=|[0-9.]+[smhd]?\Z")
"""Begins what is no program: options, assignments, numbers."""
_MOST_WORDS = 400


def programs_in(command: str, home: str) -> List[str]:
    """Whole paths of the programs that a command runs: its first word, what an interpreter or a
    wrapper is given to run, and the commands in a text that a shell is given.
    """
    return list(dict.fromkeys(_programs(command, home, 0)))


def _programs(command: str, home: str, depth: int) -> Iterator[str]:
    runs, done = False, False
    for word in _words(command)[:_MOST_WORDS]:
        if word in _BETWEEN:
            runs = done = False
        elif done or word in _SHELL_WORDS or _ASIDE.match(word):
            continue
        elif " " in word and runs and depth < 3:
            yield from _programs(word, home, depth + 1)
            done = True
        else:
            path = _whole(word, home)
            if path:
                yield path
            runs = posixpath.basename(word).rstrip("0123456789.") in _RUN_OTHERS
            done = not runs


def _words(command: str) -> List[str]:
    reader = shlex.shlex(command.replace("\n", ";"), posix=True, punctuation_chars=";&|")
    reader.whitespace_split, reader.commenters = True, ""
    try:
        return list(reader)
    except ValueError:
        return command.split()


def _whole(word: str, home: str) -> str:
    """A word as a whole path; empty where it is none."""
    for begin in ("~/", "$HOME/", "${HOME}/", "%h/"):
        if word.startswith(begin):
            word = "%s/%s" % (home, word[len(begin) :])
    return escaped(posixpath.normpath(word)) if word.startswith("/") and len(word) > 1 else ""
