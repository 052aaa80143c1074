"""What the audit does about the disk: looks it through, and empties what was set aside."""

from functools import partial
from typing import ClassVar

from textual.binding import BindingType

from lumtak.core.actions import Action
from lumtak.core.clutter import Looked
from lumtak.core.emptying import LAST_COPY, Doubts, total
from lumtak.core.setting import SettingRef
from lumtak.core.text import plain
from lumtak.core.units import counted, ram
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.keys import binding
from lumtak.tui.stations.audit_asks import AskingStation
from lumtak.work.audit import make_audit
from lumtak.work.owned import lost_on
from lumtak.work.rights import asking
from lumtak.work.storage import Held, doubts_of, empty_for, held_by
from lumtak.work.surveys import look_through_all

_NAMED = 6


class DiskStation(AskingStation):
    """Keys that are about the disk."""

    BINDINGS: ClassVar[list[BindingType]] = [
        binding("disk", "disk"),
        binding("empty-aside", "empty_aside"),
    ]

    def action_disk(self) -> None:
        """Look the disk through in the background, then judge anew."""
        if self._working():
            return
        open_job = self.desk.open_job

        def work() -> None:
            look_through_all(open_job.data_folder, open_job.computer, self._tell, self.desk.stop)
            make_audit(open_job)

        self.desk.begin("looking through the disk", work, lambda _: self.say(self.Changed()))

    def _tell(self, looked: Looked) -> None:
        """From the worker, about four times a second."""
        share = f"{100 * looked.done / looked.whole:.0f} %" if looked.whole else f"{looked.done}"
        self.app.call_from_thread(self._told, f"looking through the disk, {share}")

    def _told(self, words: str) -> None:
        if self.desk.busy:
            self.desk.busy = words
            self.say(self.Advanced())

    def action_empty_aside(self) -> None:
        """Delete what was set aside, after a question."""
        if self._working() or not self.desk.free():
            return
        open_job = self.desk.open_job
        self.desk.begin(
            "looking at what is set aside", lambda: held_by(open_job), self._ask_to_empty
        )

    def _ask_to_empty(self, found: tuple[list[Held], list[Held]]) -> None:
        ready, later = found
        if not ready and not later:
            self.desk.tell("Nothing is set aside on this computer.")
            return
        held, open_job = ready or later, self.desk.open_job
        self.desk.begin(
            "looking once more at what would be deleted",
            lambda: doubts_of(open_job, held),
            partial(self._ask_to_delete, early=not ready),
            asks=asking(open_job.computer, [h.ref for h in held]),
        )

    def _ask_to_delete(self, found: list[tuple[Held, Doubts]], *, early: bool) -> None:
        held, whole = [h for h, _ in found], total(d for _, d in found)
        lines = [f"{h.title}: {ram(d.bytes)}, since {h.since:%Y-%m-%d}" for h, d in found[:_NAMED]]
        if len(held) > _NAMED:
            lines.append(f"and {len(held) - _NAMED} more")
        lines += whole.in_words()
        if lost := lost_on(self.desk.open_job.data_folder, self.desk.open_job.computer, held):
            lines.append(lost)
        if whole.last:
            more = len(whole.last) + whole.more_last
            lines.append(f"Of {counted(more, 'file')} {LAST_COPY}: you are asked about each.")
        lines.append("What is emptied is deleted for good: nothing can put it back.")
        if early:
            lines.append(f"The owner was to have until {min(h.due for h in held):%Y-%m-%d}.")
        self.app.push_screen(
            ConfirmScreen(
                f"Delete {ram(whole.bytes)} that is set aside?",
                "\n".join(lines),
                yes="Delete it early" if early else "Delete it",
                no="Leave it set aside",
            ),
            partial(
                self._ask_of_last, held, [(h.ref, *one) for h, d in found for one in d.last], {}
            ),
        )

    def _ask_of_last(
        self,
        held: list[Held],
        last: list[tuple[SettingRef, int, str]],
        agreed: dict[SettingRef, set[int]],
        yes: bool | None,  # noqa: FBT001 - the answer of a dialog
    ) -> None:
        """Each last copy is asked about by itself; without a yes it stays."""
        if not yes:
            give_back = self.desk.open_job.computer.settings.give_back_rights
            self.desk.begin("leaving it set aside", give_back, lambda _: None)
            return
        if not last:
            self._empty(held, agreed)
            return
        (ref, number, path), *rest = last

        def answered(too: bool | None) -> None:  # noqa: FBT001 - the answer of a dialog
            more = {**agreed, ref: agreed.get(ref, set()) | {number}} if too else agreed
            self._ask_of_last(held, rest, more, yes=True)

        self.app.push_screen(
            ConfirmScreen(
                "Delete the last copy too?",
                f"{plain(path, 200)}\n{LAST_COPY.capitalize()}.",
                yes="Delete the last copy",
                no="It stays set aside",
            ),
            answered,
        )

    def _empty(self, held: list[Held], agreed: dict[SettingRef, set[int]]) -> None:
        open_job = self.desk.open_job

        def work() -> list[Action]:
            done = empty_for(open_job, held, agreed)
            make_audit(open_job)
            return done

        self.desk.begin(
            "emptying what is set aside",
            work,
            self._emptied,
            asks=asking(open_job.computer, [h.ref for h in held]),
        )

    def _emptied(self, done: list[Action]) -> None:
        free = f"Emptied: {ram(sum(a.bytes for a in done))} are free now."
        self.desk.notify(free, markup=False)
        if stays := [a.in_words() for a in done if a.note]:
            self.desk.tell("\n".join(stays))
        self.say(self.Changed())
