"""A setting that takes root is brought to a state: looked at, let, noted, written, looked at again.

Root believes nobody: it finds the state before by itself and keeps a receipt of it, goes back by
its own receipts, and holds every unit against what it is (`units.policy`). Sent with the hand: the
standard library only, in the language of Python 3.8.
"""

from __future__ import annotations

import contextlib
import json
import os
import posixpath
import time
from typing import Any, Dict, List, Optional, Tuple

from lumtak.computers.hands.sent.clutter.aside_list import note_name
from lumtak.computers.hands.sent.files.atomic import forget, put, shed, temporary_name
from lumtak.computers.hands.sent.files.places import RefusalError
from lumtak.computers.hands.sent.root.back import root_script, script_path
from lumtak.computers.hands.sent.root.receipts import FOLDER, Receipt, Receipts
from lumtak.computers.hands.sent.root.writing import Writing
from lumtak.computers.hands.sent.states.aside_states import KeptFile, RootAside
from lumtak.computers.hands.sent.states.exact import Exact, OfRoot
from lumtak.computers.hands.sent.states.states import state_of
from lumtak.computers.hands.sent.system.owners import Owners
from lumtak.computers.hands.sent.table import OTHER_WAYS, SWAP_FOLDER, upkeep_file, upkeep_value
from lumtak.computers.hands.sent.units.policy import Policy

Told = Dict[str, Any]


class RootHand(Writing):
    """A hand that can act as root: what a hand of anybody else is not even sent."""

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self._owners = Owners(self, self.live)
        self._parts: Dict[str, List[Told]] = {}
        """What the scripts of a tag are to put back, as it was told."""

    # -- a change, forth or back -------------------------------------------------------------------

    def change(self, area: str, key: str, before: Told, wanted: Told, way: str) -> Dict[str, bool]:
        """A setting is brought to an exact state; {"stands": whether it is there now}.

        Back where root has a receipt of that state, it goes by it. Else what stands has to be what
        the caller says it is, and a receipt of it is written first.

        Args:
            area: of the setting.
            key: of the setting.
            before: the exact state that stands, as the caller saw it.
            wanted: the exact state that it is brought to.
            way: "forth", which is always noted anew; "back"; or "believed", where a person was
                shown all of it and wants it without a receipt: what is never done is not done then.

        Raises:
            OSError: it is not done, or failed half-way.
        """
        self._of_root()
        was, goal = self._state(area, key, before), self._state(area, key, wanted)
        known = self._receipts().of(area, key)
        believed = way == "believed"
        mine = None if way == "forth" else self._newest(known, goal)
        if mine is not None:
            goal = self._state(area, key, mine.before)
        found = goal.there(self, was)
        policy = self._policy()
        why = self._why_not(policy, goal, found, mine, believed)
        if why:
            raise RefusalError(why)
        if mine is None and not believed and (was != goal or found != was):
            return {"stands": self._forth(policy, (area, key), was, goal, known)}
        goal.write(self, was)
        stands = goal.seen(self) is not None
        if stands and mine is not None:
            self._drop([r.number for r in known if r.number >= mine.number])
        return {"stands": stands}

    def _forth(
        self, policy: Policy, of: Tuple[str, str], was: OfRoot, goal: OfRoot, known: List[Receipt]
    ) -> bool:
        """A change for which there is no receipt yet: it is noted, then made; whether it stands."""
        receipt = self._noted(policy, of, was, goal, known)
        try:
            goal.write(self, was)
        except OSError:
            if was.seen(self) is not None:  # nothing came of it
                self._drop([receipt.number])
            raise
        return goal.seen(self) is not None

    def vouched(self, area: str, key: str, wanted: Told) -> bool:
        """Whether root has a receipt that this setting was in this state."""
        self._of_root()
        goal = _read(wanted)
        if isinstance(goal, RootAside):
            return not goal.sha256 or self._holds_aside(goal)
        return any(_is(r.before, area, key, goal) for r in self._receipts().of(area, key))

    def _of_root(self) -> None:
        if not self.rules:
            raise RefusalError("this hand is not root's")

    def _state(self, area: str, key: str, said: Told) -> OfRoot:
        state = _read(said)
        if not isinstance(state, OfRoot):
            raise RefusalError("%s is no state that root brings about so" % state.kind)
        why = state.problem(area, key)
        if why:
            raise RefusalError(why)
        return state

    @staticmethod
    def _newest(receipts: List[Receipt], goal: Exact) -> Optional[Receipt]:
        """The newest receipt that this state stood there."""
        return next((r for r in reversed(receipts) if _is(r.before, r.area, r.key, goal)), None)

    def _policy(self) -> Policy:
        """Of what stands now: it reads each unit once, so it serves one request."""
        return Policy(self, self.root, self._owners.package_of)

    def _why_not(
        self,
        policy: Policy,
        goal: OfRoot,
        was: OfRoot,
        mine: Optional[Receipt],
        believed: bool = False,
    ) -> str:
        """Why root does not go from the one to the other, as a clause; empty where it does."""
        why = self._why_no_updates(goal) if mine is None else ""
        if why:
            return why
        sums = mine.sums if mine else None
        fresh = mine is None and not believed
        for place, switched in enumerate(goal.switches(was)):
            why = policy.why_not(switched, place == 0, fresh, sums)
            if why:
                return why
        return ""

    def _why_no_updates(self, goal: OfRoot) -> str:
        """One working way to get security updates always stays."""
        file = upkeep_file("automatic_updates")
        off = isinstance(goal, KeptFile) and goal.file == file and goal.kept is not None
        if not off or upkeep_value("automatic_updates", goal.kept or b"") != "0":  # type: ignore[attr-defined]
            return ""
        return (
            ""
            if any(self.exists(path) for path in OTHER_WAYS)
            else "updates that install themselves are the only way by which this computer gets them"
        )

    def _noted(
        self, policy: Policy, of: Tuple[str, str], was: OfRoot, goal: OfRoot, known: List[Receipt]
    ) -> Receipt:
        """A receipt of what stands now is on the disk, and in the script."""
        area, key = of
        found = was.seen(self)
        if found is None:
            raise RefusalError("it is not as it was when this was asked for: look again")
        # What stands is what stood before an older change: nothing of that is left to put back.
        back = next((r for r in known if _is(r.before, area, key, found)), None)
        self._drop([r.number for r in known if back and r.number >= back.number])
        sums: Dict[str, str] = {}
        for unit, _, _ in goal.switches(was)[:1]:
            sums = policy.sums(unit)
        kept = self._receipts()
        at = int(time.time())
        made = Receipt(kept.new_number(), area, key, found.said(), goal.said(), sums, at)
        # The script first: what it says of this change is true from the receipt on.
        self._write_scripts(made)
        try:
            kept.write(made)
        except OSError:
            self._drop([made.number])
            raise
        return made

    def _aside_begun(self) -> None:
        """The scripts know it before it is moved."""
        self._write_scripts()

    # -- receipts ----------------------------------------------------------------------------------

    def _receipts(self) -> Receipts:
        return Receipts(
            lambda: self.system_folder(FOLDER, 0o700), lambda: os.path.isdir(self._place(FOLDER))
        )

    def _drop(self, numbers: List[int]) -> None:
        self._receipts().drop(numbers)
        if numbers and shed(self._place(FOLDER)):
            shed(self._place(SWAP_FOLDER))

    def _holds_aside(self, state: RootAside) -> bool:
        return self.exists("%s/%s" % (SWAP_FOLDER, note_name(state.sha256)))

    # -- the script --------------------------------------------------------------------------------

    def leave_script(self, tag: str, parts: str) -> None:
        """The script that puts back what takes root stands: of these settings (JSON) what root has
        receipts of. With none of them it goes.
        """
        self._of_root()
        path = script_path(tag)
        try:
            found = json.loads(parts)
        except (ValueError, RecursionError) as error:
            raise RefusalError("these are no states") from error
        if not isinstance(found, list) or not all(isinstance(p, dict) for p in found):
            raise RefusalError("these are no states")
        self._parts[tag] = found
        if found:
            self._write_script(tag)
            return
        del self._parts[tag]
        folder = posixpath.dirname(path)
        if os.path.isdir(self._place(folder)):
            with self.system_folder(folder) as descriptor:
                for place in (path, script_path(tag, before=True)):
                    forget(temporary_name(posixpath.basename(place)), descriptor)
                    forget(posixpath.basename(place), descriptor)
                os.fsync(descriptor)
        self._receipts().sweep()
        if shed(self._place(FOLDER)):
            shed(self._place(folder))

    def _write_scripts(self, new: Optional[Receipt] = None) -> None:
        for tag in self._parts:
            self._write_script(tag, new)

    def _write_script(self, tag: str, new: Optional[Receipt] = None) -> None:
        path = script_path(tag)
        folder, name = posixpath.split(path)
        told = self._parts[tag]
        kept, policy = [*self._receipts().all(), *([new] if new else [])], self._policy()
        try:
            parts = [p for one in told for p in [self._part(policy, one, kept)] if p["ways"]]
            script = root_script(tag, parts, told)
        except (ValueError, KeyError, TypeError) as error:
            raise RefusalError("no script is made of this: %s" % error) from error
        with self.system_folder(folder) as descriptor:
            put(descriptor, name, script, 0o755)

    def _part(self, policy: Policy, told: Told, kept: List[Receipt]) -> Told:
        """Of one setting what root knows by itself."""
        area, key = str(told["area"]), str(told["key"])
        mine = [r for r in kept if (r.area, r.key) == (area, key)]
        ways = []
        for way in told["ways"]:
            restore = state_of(way["restore"])
            if isinstance(restore, RootAside):
                ways += [way] if self._holds_all(way["accepted"]) else []
            elif isinstance(restore, OfRoot):
                own = self._newest(mine, restore)
                ways += self._own_way(policy, way, own, mine) if own else []
        return {"area": area, "key": key, "title": told["title"], "ways": ways}

    def _holds_all(self, accepted: List[Told]) -> bool:
        states = [state_of(said) for said in accepted]
        asides = [s for s in states if isinstance(s, RootAside) and s.sha256]
        return all(map(self._holds_aside, asides))

    def _own_way(self, policy: Policy, way: Told, own: Receipt, mine: List[Receipt]) -> List[Told]:
        """A way back as root's receipts have it; none where root would not go it."""
        vouched = [said for r in mine for said in (r.before, r.after)]
        states = [state_of(said) for said in way["accepted"]]
        accepted = [s for s in states if any(_is(v, own.area, own.key, s) for v in vouched)]
        goal = self._state(own.area, own.key, own.before)
        was = next((s for s in accepted if isinstance(s, OfRoot)), goal)
        if self._why_not(policy, goal, was, own):
            return []
        said = {"restore": own.before, "accepted": [s.said() for s in accepted]}
        return [{**way, **said, "sums": own.sums, "receipt": own.number}]


def _is(said: Told, area: str, key: str, goal: Exact) -> bool:
    """Whether a document is this state of this setting."""
    with contextlib.suppress(ValueError):
        state = state_of(said)
        return state == goal and not state.problem(area, key)
    return False


def _read(said: Any) -> Exact:
    try:
        return state_of(said)
    except ValueError as error:
        raise RefusalError("this is no state: %s" % error) from error
