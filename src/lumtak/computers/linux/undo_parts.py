"""Parts of the user's undo script for what is no file of the user's: settings of the desktop, permissions of programs in sandboxes."""

from collections.abc import Callable, Iterable, Sequence

from lumtak.computers.hands.shell import quoted
from lumtak.computers.linux import sandboxes
from lumtak.core.setting import State

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
_HEADS = {"gsettings": _DESKTOP, "sandbox": _SANDBOX}


def head_of(kinds: Iterable[str]) -> str:
    """The functions that parts of these kinds call, each once, and no others."""
    return "".join(_HEADS[kind] for kind in _HEADS if kind in set(kinds))


Part = Callable[[Sequence[State], State], tuple[list[bytes], bytes, bytes]]
"""(tests of the accepted states, test of the restored one, what brings it)."""


def gsettings_part(accepted: Sequence[State], restore: State) -> tuple[list[bytes], bytes, bytes]:
    """A setting of the user's desktop; unset is unset again."""

    def test(state: State) -> bytes:
        exact = state.exact or {}
        return b"desktop_is %s %s" % (quoted(exact["path"]), quoted(exact["raw"]))

    exact = restore.exact or {}
    where = b"%s %s" % (quoted(exact["schema"]), quoted(exact["key"]))
    bring = b"gsettings set %s %s" % (where, quoted(exact["raw"])) if exact["raw"] else b"gsettings reset %s" % where
    return [test(s) for s in accepted], test(restore), bring


def sandbox_part(accepted: Sequence[State], restore: State) -> tuple[list[bytes], bytes, bytes]:
    """A permission, or none."""

    def words(state: State) -> bytes:
        exact = state.exact or {}
        return b"%s %s" % (quoted(exact["app"]), quoted(exact["raw"]))

    tests = [b"may_run_is " + words(s) for s in (*accepted, restore)]
    return tests[:-1], tests[-1], b"may_run " + words(restore)


PARTS: dict[str, Part] = {"gsettings": gsettings_part, "sandbox": sandbox_part}
"""By the kind of a state's exact form."""
