"""Hostile requests to a hand of root, in a throwaway root with traps in it."""

import contextlib
import json
import random
import re
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

from fuzzing.spoil import NASTY_NUMBERS, NASTY_TEXT, json_of
from fuzzing.world import Said, Tried, World
from roots_reach import (
    FINE,
    REACHED,
    UNITS,
    RootsHand,
    asked,
    build,
    crash,
    inside,
    look_at_processes_once,
    plant,
    requests,
    seen,
    touched,
)

AT_ONCE = 4000
"""Requests in one throwaway root: to make one takes longer than many requests."""
HANDS = 100
"""How many requests one hand is asked, before another one starts."""
_MORE = re.compile(
    r"var/lib/lumtak/(receipts/[0-9]{6}\.json|put-back-[0-9a-f]{8}\.sh|aside(/.*)?|aside-[0-9a-f]{16}\.json)"
    r"|etc/systemd/system/multi-user\.target\.wants/(tide|quay)\.service"
    r"|var/crash/([0-9]\.crash|deep(/.*)?|mounted)|(tmp|var/tmp)(/.*)?|home/u(/.*)?"
)
"""Besides `REACHED`: receipts and scripts of any number, what is set aside, and what is the
owner's own, where the traps are planted."""
_STARTS = {f"start -- {unit}.service" for unit in FINE}


def roots_hand(world: World, chance: random.Random) -> Iterator[Tried]:
    """What somebody with the owner's account sends to a hand of root: fair requests in any order,
    spoiled ones, parts of several put together, and what earlier answers gave away, while they
    plant traps in places of their own.
    """
    fair = dict[str, list]()
    for name, given in requests():
        fair.setdefault(name, []).append(given)
    while True:
        tree = build(world.folder / "root")
        tree.chmod(0o755)
        before, seed = seen(tree), chance.getrandbits(64)
        came = inside(tree, lambda seed=seed: _ask(random.Random(seed), fair))
        found = came.get("found", {"told": [], "slowest": 0.0, "silent": ""})
        wrong = [came.get("error", "")]
        wrong += [f"changed {n}" for n in sorted(touched(tree, before) - REACHED) if not _may(n)]
        wrong += [f"root's: {n}" for n in _roots(tree)]
        wrong += [f"told {t}" for t in sorted({*found["told"]} - UNITS - _STARTS)]
        wrong += [f"no sentence: {found['silent']}" if found["silent"] else ""]
        shutil.rmtree(tree)
        text = "\n".join(w for w in wrong if w)[-2000:]
        words, code = ("root's hand", str(seed)), 9 if text else 0
        said = Said(words, code, b"", text.encode(), found["slowest"], "")
        yield Tried(AT_ONCE, said, (0,))


def _may(name: str) -> bool:
    return bool(_MORE.fullmatch(name))


def _roots(tree: Path) -> Iterator[str]:
    """What root made in the owner's own places, and what it left of theirs for everybody."""
    for top in ("home/u", "tmp"):
        for path in (tree / top).rglob("*"):
            if path.lstat().st_uid == 0:
                yield str(path.relative_to(tree))


def _ask(chance: random.Random, fair: dict[str, list]) -> dict:
    """Ask so many; what the service manager was told, the slowest in seconds of processor time,
    and the first that got no sentence.
    """
    look_at_processes_once()
    told, slowest, silent = set[str](), 0.0, ""
    hand, known = RootsHand(), {"handle": ["0"], "sha256": ["0" * 64]}
    for number in range(AT_ONCE):
        if number % HANDS == 0:
            told |= {*hand.told}
            crash(Path("/"))
            hand, known = RootsHand(), {**known, "handle": ["0"]}
        if chance.random() < 0.2:
            plant(chance)
        name, given = _request(chance, fair, known)
        began = time.process_time()
        said = asked(hand, name, given, known)
        slowest = max(slowest, time.process_time() - began)
        silent = silent or ("" if said.strip() else f"{name} {given!r}"[:300])
    return {"told": sorted(told | {*hand.told}), "slowest": slowest, "silent": silent}


def _request(
    chance: random.Random, fair: dict[str, list], known: dict[str, list[str]]
) -> tuple[object, object]:
    name = "change" if chance.random() < 0.4 else chance.choice([*fair])
    given = chance.choice(fair[name])
    if name == "aside_look" and chance.random() < 0.5:
        return name, [*[chance.choice(("crash-dumps", "temp-system", "old-logs"))] * 2, [], [], []]
    if name.startswith("aside_") and chance.random() < 0.7:
        part = "handle" if name == "aside_move" else "sha256"
        more = [[]] if name == "aside_empty" else []
        return name, [chance.choice(known[part][-2:]), *more]
    match chance.randrange(6):
        case 0 | 1:
            return name, given
        case 2:
            other = chance.choice((name, *fair))
            return chance.choice((name, other)), [*given[:2], *chance.choice(fair[other])[2:]]
        case 3:
            name = chance.choice((name, *NASTY_TEXT, *NASTY_NUMBERS, "put", "read", "_place"))
            return name, given
    data = json_of(chance, json.dumps(given).encode())
    with contextlib.suppress(ValueError, RecursionError):
        return name, json.loads(data.decode("utf-8", "surrogatepass"))
    return name, given
