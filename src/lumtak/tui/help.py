"""What a screen is for, in the words of the work."""

from typing import ClassVar

from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Static

_STRIPS = (
    "At the top stands the ledger: a strip for RAM and one for CPU. A strip is the whole of it, cut"
    " into what takes it: the system and what is guarded, what the profile needs, what only the"
    " owner can know, what is not needed; then cache, which is no load, and what is free. The tick"
    " is the ceiling that the profile allows. What you choose becomes hollow, what is changed is"
    " hatched until a new reading has measured it.\n\n"
)
_KEYS = (
    "\n\nArrows move, Enter opens, Space chooses, Tab goes to the next part. 1 to 7, or left and"
    " right, go along the route; [ and ] go along the strips, c saves a chart, b shows everything"
    " changed on this computer, e ends a process. Ctrl+P finds every command, Ctrl+T changes"
    " between dark and light, Escape or a click on the top line goes back to the bench, q closes;"
    " every job opens where it was."
)
TEXTS = {
    "bench": (
        "The bench shows every job with where it stands, and the computers on which one can begin."
        " Choose a computer, what its owner uses it for, and what they complain of: the job begins,"
        " and nothing on the computer is touched. l takes a quick look without a job. The small"
        " strips show the last load that was read, with the profile's ceiling as a tick." + _KEYS
    ),
    "look": (
        "A quick look reads for twenty seconds and says what weighs just now. Nothing is kept and"
        " nothing is touched. Whether any of it is needed takes a job with a workload profile."
        + _KEYS
    ),
    "intake": (
        _STRIPS
        + "Intake notes what the owner complains of: its measures lead the proof and the report. A"
        " large program of a package can be named, whose start is timed while readings are taken,"
        " once you agree. Then it says what the computer is used for, by which its items are"
        " judged, and which computer it is." + _KEYS
    ),
    "baseline": (
        _STRIPS
        + "The baseline is the load before anything is changed: restart the computer, open nothing,"
        " and read. The first part, while the load still settles, is left out, and the reading"
        " says how much that was." + _KEYS
    ),
    "audit": (
        _STRIPS
        + "The audit lists everything that runs or is set, the heaviest first in each area. Its"
        " stance says whether the profile needs it. Enter opens the reason, what stops with it,"
        " and what it should save; Space chooses it for the plan; a chooses all that is not"
        " needed, and once more takes it back. What is guarded or needed cannot be chosen, and"
        " says why. In an explanation, lines with an arrow lead to another item; Backspace comes"
        " back.\n\n/ searches as you type. Words narrow the list: any text; an area (services,"
        " apps, effects, power, memory); a stance (ease, ask, keep, guarded); from:vendor,"
        " from:user, from:package, from:system; cpu>1, ram>100, ram>1.5g; chosen, changed; a"
        " minus before a word turns it round. A click on a stance does the same. i asks the"
        " owner's questions, the heaviest first and five at a time. t says what an unknown item is"
        " for, to the whole shop; w keeps that a judgement was wrong." + _KEYS
    ),
    "plan": (
        _STRIPS
        + "The plan lists what is chosen in the order in which it is applied, what it should save,"
        " and whether a restart or login is needed. Nothing is changed yet. p chooses the least"
        " plan that reaches both ceilings, or the one that comes nearest; comma and full stop walk"
        " along the frontier, from nothing to everything that may go. Space takes an item out."
        + _KEYS
    ),
    "apply": (
        _STRIPS
        + "Each change is written down with its value before it is made, and read back after. If"
        " one fails, the rest is not tried, and what was done before it can be kept or put back."
        " Pause holds the next change back; stop ends after the change that is being made." + _KEYS
    ),
    "proof": (
        _STRIPS
        + "The proof holds the reading before against the one after: what the owner complains of"
        " first, then the load, the ceilings, and what holds the computer back now. Some changes"
        " show only after a restart or a new login; until then it is provisional. The sentence"
        " follows from the interval, not from the means: when the interval holds zero, no clear"
        " difference was found." + _KEYS
    ),
    "handover": (
        _STRIPS
        + "The handover writes the report for the owner and puts changes back, one or all, in any"
        " order." + _KEYS
    ),
    "put back": (
        "Put back lists everything that Lumtak ever changed on this computer, by visit, the newest"
        " first, and how it stands now: as left, drifted (somebody or something changed it since),"
        " or back as before. Space marks, Enter explains with all three values. What nobody else"
        " changed goes back after one question; overwriting what somebody changed is a question of"
        " its own. Any order will do: putting an older change back leaves the newer one in force,"
        " and that one then restores what was before both." + _KEYS
    ),
    "end": (
        "Ending a process is an action: it cannot be put back. It is asked to end first; only when"
        " it does not is forcing it offered. What is guarded, and what Lumtak itself runs in, is"
        " never ended. Look at what starts it: it may come back." + _KEYS
    ),
}


class HelpScreen(ModalScreen[None]):
    """One text; any of the usual keys closes it."""

    CSS_PATH = "help.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,question_mark,enter,q", "dismiss", "Close", show=False)
    ]

    def __init__(self, topic: str) -> None:
        super().__init__()
        self._topic = topic

    def compose(self) -> ComposeResult:
        """The text."""
        with VerticalScroll(id="paper"):
            yield Static(TEXTS[self._topic] + "\n\nEscape closes this.", markup=False)
