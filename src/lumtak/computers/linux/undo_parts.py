"""Parts of the undo script for what is no file of the user's: unit links, kernel values, power plans, desktop settings."""

import base64
from collections.abc import Callable, Iterable, Sequence

from lumtak.computers.linux.memory_settings import FILE, LIVE
from lumtak.computers.linux.shell import prints, quoted
from lumtak.computers.linux.units import is_switch, unpacked
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
kept_as() { [ -f "$root$1" ] && cmp -s - "$root$1"; }
not_kept() { [ ! -e "$root$1" ]; }
keep_as() { as_root tee "$root$1" >/dev/null; }
"""
_PLAN = """
plan_is() { [ -n "$root" ] || [ "$(busctl --system get-property "$1" "$2" "$1" ActiveProfile)" = "s \\"$3\\"" ]; }
plan() { [ -n "$root" ] || as_root busctl --system set-property "$1" "$2" "$1" ActiveProfile s "$3"; }
"""
_DESKTOP = """
desktop_is() { [ -n "$root" ] || [ "$(dconf read "$1")" = "$2" ]; }
"""
_HEADS = {"links": (_ROOT, _LINKS), "sysctl": (_ROOT, _KERNEL), "property": (_ROOT, _PLAN), "gsettings": (_DESKTOP,)}


def head_of(kinds: Iterable[str]) -> str:
    """The functions that parts of these kinds call, each once, and no others."""
    return "".join(dict.fromkeys(text for kind in _HEADS for text in _HEADS[kind] if kind in set(kinds)))


def links_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """(tests of the accepted states, test of the restored one, what brings it): every link of a unit, then whether it runs."""
    del name, functions
    paths = sorted({p for s in (*accepted, restore) for p in unpacked(s.exact or {})})

    def is_as(path: bytes, target: str | None) -> bytes:
        return b"link_gone %s" % path if target is None else b"link_is %s %s" % (path, quoted(target))

    def test(*states: State) -> bytes:
        """Each link is as in one of these states: so what was interrupted half-way is known too."""
        tests = []
        for path in paths:
            ways = [is_as(quoted(path), unpacked(s.exact or {}).get(path)) for s in states]
            kept = list(dict.fromkeys(ways))
            tests.append(kept[0] if len(kept) == 1 else b"{ %s; }" % b" || ".join(kept))
        return b"{ %s; }" % (b" && ".join(tests) or b"true")

    then = unpacked(restore.exact or {})
    acts = []
    for path in paths:
        if path in then:
            acts.append(b"put_link %s %s" % (quoted(path), quoted(then[path])))
        else:
            acts.append((b"drop_switch %s" if is_switch(path) else b"drop %s") % quoted(path))
    verb = b"start" if restore.around.get("active") == "yes" else b"stop"
    acts += [b"units daemon-reload", b"units %s %s" % (verb, quoted(restore.around.get("unit", "")))]
    return [test(*accepted, restore)] if accepted else [], test(restore), b" && ".join(acts)


def sysctl_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """The kernel's value, and the file that keeps it over a restart."""

    def live(state: State) -> bytes:
        exact = state.exact or {}
        return b"kernel_is %s %s" % (quoted(exact["kernel"]), quoted(exact[LIVE]))

    def file(state: State, function: str) -> bytes:
        exact = state.exact or {}
        if not exact[FILE]:
            return b"not_kept %s" % quoted(exact["file"])
        functions.append(prints(function, base64.b64decode(exact[FILE])))
        return b"{ %s | kept_as %s; }" % (function.encode(), quoted(exact["file"]))

    exact = restore.exact or {}
    files = [file(restore, f"before_{name}"), *(file(s, f"written_{name}_{n}") for n, s in enumerate(accepted, 1))]
    lives = [live(s) for s in (restore, *accepted)]
    half = b"{ %s; } && { %s; }" % (b" || ".join(dict.fromkeys(lives)), b" || ".join(dict.fromkeys(files)))
    bring = (
        b"before_%s | keep_as %s" % (name.encode(), quoted(exact["file"]))
        if exact[FILE]
        else b"drop %s" % quoted(exact["file"])
    )
    bring += b" && kernel %s %s" % (quoted(exact["kernel"]), quoted(exact[LIVE]))
    return [b"{ %s; }" % half] if accepted else [], b"{ %s && %s; }" % (lives[0], files[0]), bring


def property_part(
    accepted: Sequence[State], restore: State, name: str, functions: list[bytes]
) -> tuple[list[bytes], bytes, bytes]:
    """A power plan of the profile service."""
    del name, functions

    def words(state: State) -> bytes:
        exact = state.exact or {}
        return b"%s %s %s" % (quoted(exact["bus"]), quoted(exact["path"]), quoted(exact["value"]))

    return [b"plan_is %s" % words(s) for s in accepted], b"plan_is %s" % words(restore), b"plan %s" % words(restore)


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


Part = Callable[[Sequence[State], State, str, list[bytes]], tuple[list[bytes], bytes, bytes]]
PARTS: dict[str, Part] = {
    "links": links_part,
    "sysctl": sysctl_part,
    "property": property_part,
    "gsettings": gsettings_part,
}
"""By the kind of a state's exact form."""
