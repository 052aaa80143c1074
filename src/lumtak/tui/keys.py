"""Every key that means a command: one list, for bindings, hints, help, palette and settings.

Arrows, Enter, Space, Tab, Escape, Backspace and the digits of the route are fixed: they mean the
same everywhere.
"""

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Literal, NamedTuple

from lumtak.core.text import plain

if TYPE_CHECKING:
    from textual.app import App
    from textual.binding import Binding

Where = Literal[
    "everywhere", "bench", "job", "audit", "plan", "handover", "put back", "looking", "deciding",
    "upkeep", "trial",
]  # fmt: skip
_INSIDE: dict[Where, frozenset[Where]] = {
    "everywhere": frozenset(
        {
            "bench",
            "job",
            "audit",
            "plan",
            "handover",
            "put back",
            "looking",
            "deciding",
            "upkeep",
            "trial",
        }
    ),
    "looking": frozenset({"upkeep"}),
    "job": frozenset({"audit", "plan", "handover"}),
}
"""Where keys of a place count too."""
FIXED = frozenset(
    {
        "left", "right", "up", "down", "enter", "space", "tab", "shift+tab", "escape", "backspace",
        "home", "end", "pageup", "pagedown", "delete", "n", "j", "k", "1", "2", "3", "4", "5", "6",
    }
)  # fmt: skip


class Key(NamedTuple):
    """A command that has a key."""

    name: str
    """As the settings file has it."""
    key: str
    """Unless the settings say otherwise."""
    where: Where
    words: str


KEYS = (
    Key("palette", "ctrl+p", "everywhere", "every command of the screen"),
    Key("theme", "ctrl+t", "everywhere", "dark or light"),
    Key("help", "question_mark", "everywhere", "explain the screen"),
    Key("quit", "q", "everywhere", "close Lumtak"),
    Key("look", "l", "bench", "a quick look at the computer"),
    Key("sort", "o", "bench", "another order of the jobs"),
    Key("archive", "x", "bench", "put a job into the archive, or take it out"),
    Key("archived", "v", "bench", "show the archive, or hide it"),
    Key("search-bench", "slash", "bench", "search jobs and computers"),
    Key("settings", "s", "bench", "the settings"),
    Key("everything-bench", "b", "bench", "everything changed on that computer"),
    Key("everything", "b", "job", "everything changed on this computer"),
    Key("this-visit", "u", "job", "put back what this visit changed"),
    Key("end-process", "e", "job", "end a process"),
    Key("look-job", "l", "job", "a quick look at the computer"),
    Key("files", "f", "job", "decide about the owner's files together"),
    Key("programs", "m", "job", "the programs, to remove one"),
    Key("upkeep", "r", "job", "the tasks of upkeep"),
    Key("chart", "c", "job", "save a chart"),
    Key("piece-before", "left_square_bracket", "job", "the piece before in the strips"),
    Key("piece-next", "right_square_bracket", "job", "the next piece in the strips"),
    Key("search", "slash", "audit", "search the audit"),
    Key("choose-all", "a", "audit", "choose all that is to be eased or set"),
    Key("interview", "i", "audit", "the owner's questions"),
    Key("teach", "t", "audit", "say what an unknown item is for"),
    Key("disk", "d", "audit", "look through the disk"),
    Key("empty-aside", "x", "audit", "delete what was set aside, for good"),
    Key("wrong", "w", "audit", "keep that a judgement was wrong"),
    Key("least", "p", "plan", "choose the least plan"),
    Key("less", "comma", "plan", "a step towards less disruption"),
    Key("more", "full_stop", "plan", "a step towards more disruption"),
    Key("trial", "t", "plan", "try the change under the cursor"),
    Key("screening", "g", "plan", "try all that is chosen together"),
    Key("print-sheet", "p", "handover", "print the owner's sheet"),
    Key("save-sheet", "s", "handover", "save the owner's sheet"),
    Key("open-sheet", "o", "handover", "save the owner's sheet and open it"),
    Key("hold", "p", "trial", "pause, and go on"),
    Key("leave-on", "x", "trial", "leave it changed at the end, or not"),
    Key("put-trial-back", "u", "trial", "put back what the trial left"),
    Key("stays", "h", "deciding", "it stays here"),
    Key("goes", "g", "deciding", "it goes: set aside"),
    Key("put-off", "z", "deciding", "later"),
    Key("rule", "slash", "deciding", "type a rule"),
    Key("export", "o", "deciding", "write the list to take home"),
    Key("mark-all", "a", "put back", "mark all that is in place"),
    Key("look-again", "r", "looking", "look again"),
    Key("all-due", "a", "upkeep", "do all that is due"),
    Key("cancel-task", "x", "upkeep", "end a task and forget what it found"),
    Key("trim", "t", "upkeep", "tell solid-state disks what is free"),
    Key("watch", "w", "upkeep", "a short look that it takes by itself"),
)
BY_NAME = {key.name: key for key in KEYS}
_SHOWN = {
    "question_mark": "?",
    "slash": "/",
    "comma": ",",
    "full_stop": ".",
    "left_square_bracket": "[",
    "right_square_bracket": "]",
    "minus": "-",
    "plus": "+",
    "semicolon": ";",
    "colon": ":",
    "apostrophe": "'",
    "equals_sign": "=",
}
_TYPED = {shown: key for key, shown in _SHOWN.items()}
_LETTER = re.compile(r"[a-z0-9]|[A-Z]|(?:ctrl\+|alt\+)[a-z]|f(?:[1-9]|1[0-2])")
_TAKEN = {"ctrl+c": "the terminal", "ctrl+z": "the terminal", "ctrl+q": "closing Lumtak"}
_NAMED = re.compile(r"\{([a-z-]+)\}")


def binding(name: str, action: str) -> "Binding":
    """The binding of a command, which the settings may give another key."""
    from textual.binding import Binding

    key = BY_NAME[name]
    return Binding(key.key, action, key.words.capitalize(), show=False, id=name)


def shown(key: str) -> str:
    """A key as people know it."""
    if key in _SHOWN:
        return _SHOWN[key]
    *held, last = key.split("+")
    if held:
        last = last.upper()
    return "+".join((*(h.capitalize() for h in held), last if len(last) < 3 else last.capitalize()))


def typed(words: str) -> str:
    """A key as a settings file may name it, as the bindings have it."""
    bare = words.strip()
    return _TYPED.get(bare, bare.lower() if len(bare) > 1 else bare)


def mapped(chosen: Mapping[str, str]) -> tuple[dict[str, str], tuple[str, ...]]:
    """(the key of each command, what is wrong with those chosen).

    A key that cannot be had, or that means two things in one place, leaves both as they were.
    """
    wrong: list[str] = []
    keys = {key.name: key.key for key in KEYS}
    for name, words in chosen.items():
        key = typed(words)
        if name not in BY_NAME:
            wrong.append(f"There is no command “{plain(name, 40)}” to give a key.")
        elif key in FIXED or key in _TAKEN:
            why = f"it is for {_TAKEN[key]}" if key in _TAKEN else "it means the same everywhere"
            wrong.append(f"“{shown(key)}” cannot be the key of {name}: {why}.")
        elif not (_LETTER.fullmatch(key) or key in _SHOWN):
            wrong.append(
                f"“{plain(words, 20)}” is no key for {name}: a letter, a sign such as /, ctrl+ and"
                " a letter, or f1 to f12."
            )
        else:
            keys[name] = key
    for one, other in _clashes(keys):
        wrong.append(
            f"{shown(keys[one])} is the key of both {one} ({BY_NAME[one].words}) and {other}"
            f" ({BY_NAME[other].words}): they keep {shown(BY_NAME[one].key)} and"
            f" {shown(BY_NAME[other].key)}."
        )
        keys[one], keys[other] = BY_NAME[one].key, BY_NAME[other].key
    if _clashes(keys):  # one that went back to its own key met another that had taken it
        wrong.append("So all keys stay as they are without the settings.")
        keys = {key.name: key.key for key in KEYS}
    return keys, tuple(wrong)


def _clashes(keys: Mapping[str, str]) -> list[tuple[str, str]]:
    """Commands that would have one key in one place."""
    found = []
    for place, one in enumerate(KEYS):
        for other in KEYS[place + 1 :]:
            together = (
                one.where == other.where
                or other.where in _INSIDE.get(one.where, ())
                or one.where in _INSIDE.get(other.where, ())
            )
            if together and keys[one.name] == keys[other.name]:
                found.append((one.name, other.name))
    return found


def pressed_for(app: "App[object]", name: str) -> str:
    """The key of a command as it is now, as bindings have it."""
    keys: Mapping[str, str] = getattr(app, "keys_in_force", {})
    return keys.get(name, BY_NAME[name].key)


def key_of(app: "App[object]", name: str) -> str:
    """The key of a command as it is now, as people know it."""
    return shown(pressed_for(app, name))


def with_keys(app: "App[object]", words: str) -> str:
    """Prose in which `{name}` stands for the key of a command."""
    return _NAMED.sub(lambda found: key_of(app, found[1]), words)
