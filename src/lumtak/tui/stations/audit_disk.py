"""What the audit does about the disk: looks it through, and empties what was set aside."""

from functools import partial
from typing import ClassVar

from textual.binding import BindingType

from lumtak.core.clutter import Looked
from lumtak.core.units import ram
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.keys import binding
from lumtak.tui.stations.audit_asks import AskingStation
from lumtak.work.audit import make_audit
from lumtak.work.owned import lost_on
from lumtak.work.rights import asking
from lumtak.work.storage import Held, empty_for, held_by, look_through

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
            look_through(open_job.data_folder, open_job.computer, self._tell, self.desk.stop)
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
        held = ready or later
        lines = [f"{h.title}: {ram(h.bytes)}, since {h.since:%Y-%m-%d}" for h in held[:_NAMED]]
        if len(held) > _NAMED:
            lines.append(f"and {len(held) - _NAMED} more")
        if lost := lost_on(self.desk.open_job.data_folder, self.desk.open_job.computer, held):
            lines.append(lost)
        lines.append("What is emptied is deleted for good: nothing can put it back.")
        if not ready:
            lines.append(f"The owner was to have until {min(h.due for h in later):%Y-%m-%d}.")
        self.app.push_screen(
            ConfirmScreen(
                f"Delete {ram(sum(h.bytes for h in held))} that is set aside?",
                "\n".join(lines),
                yes="Delete it" if ready else "Delete it early",
                no="Leave it set aside",
            ),
            partial(self._empty, held),
        )

    def _empty(self, held: list[Held], yes: bool | None) -> None:  # noqa: FBT001
        open_job = self.desk.open_job

        def work() -> float:
            free = empty_for(open_job, held)
            make_audit(open_job)
            return free

        if yes:
            self.desk.begin(
                "emptying what is set aside",
                work,
                self._emptied,
                asks=asking(open_job.computer, [h.ref for h in held]),
            )

    def _emptied(self, free_bytes: float) -> None:
        self.desk.notify(f"Emptied: {ram(free_bytes)} are free now.", markup=False)
        self.say(self.Changed())
