"""What a screen is for, in the words of the work."""

from typing import ClassVar

from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Static

from lumtak.tui.keys import binding, with_keys

_STRIPS = (
    "At the top stands the ledger: a strip for RAM and one for CPU. A strip is the whole of it, cut"
    " into what takes it: the system and what is guarded, what the profile needs, what only the"
    " owner can know, what is to be eased; then cache, which is no load, and what is free. The tick"
    " is the ceiling that the profile allows. What you choose becomes hollow, what is changed is"
    " hatched until a new reading has measured it.\n\n"
)
_KEYS = (
    "\n\nArrows move, left and right between buttons or along the frontier, Enter presses or"
    " explains, Space chooses, Tab goes to the next part. 1 to 6 go along the route; Escape closes"
    " what is open, then goes back. {piece-before} and {piece-next} go along the strips, {chart}"
    " saves a chart, {this-visit} puts back what this visit changed, {everything} shows everything"
    " changed on this computer, {end-process} ends a process. {palette} finds every command,"
    " {theme} changes between dark and light, {quit} closes; every job opens where it was."
)
TEXTS = {
    "bench": (
        "The bench shows every job: where it stands, its last load with the profile's ceiling as a"
        " tick, what is due, and its last verdict. Below it stand the computers on which one can"
        " begin, those seen before first. Choose a computer, what its owner uses it for, and what"
        " they complain of: the job begins, and nothing on the computer is touched. {look} takes a"
        " quick look without a job. {search-bench} searches, {sort} changes the order, {archive}"
        " puts a job into the archive and {archived} shows it, {settings} opens the settings."
        + _KEYS
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
        + "The audit lists everything that runs or is set, the heaviest first in each area. Above"
        " it stand three lines: what holds the computer back, what is over its ceiling, what to"
        " do first. Each item has a stance: keep (the profile needs it), ease (better switched"
        " off or started on demand), set (better set to another value), ask (only the owner can"
        " know), guarded (never touched). Enter opens the reason, what stops with it, and what"
        " it should save; Space chooses it for the plan; {choose-all} chooses all that is to be"
        " eased or set, and once more takes it back. What is guarded or needed cannot be"
        " chosen, and says why. In an explanation, lines with an arrow lead to another item;"
        " Backspace comes back to the line."
        "\n\n{search} searches as you type. Words narrow the list: any text; an area (services,"
        " apps, effects, power, memory, storage); a stance; from:vendor, from:user,"
        " from:package, from:system; cpu>1, ram>100, ram>1.5g, disk>1g; chosen, changed; a"
        " minus before a word turns it round. A click on a stance does the same. {interview}"
        " asks the owner's questions, the heaviest first and five at a time. {teach} says what"
        " an unknown item is for, to the whole shop; {wrong} keeps that a judgement was wrong."
        "\n\nStorage: {disk} looks through the disk. What may go is set aside, which moves it"
        " and frees nothing; it can be put back until it is emptied. {empty-aside} empties it,"
        " for good, after a question. Files of the owner's own are never chosen." + _KEYS
    ),
    "plan": (
        _STRIPS
        + "The plan is one list, from what is proposed to what is done and read back. Above it"
        " stands the frontier: each step to the right disrupts the owner more, and CPU and RAM fall"
        " towards their ceilings; ◆ marks the least plan that reaches both, or comes nearest."
        " {least} chooses it; left and right in the list, or {less} and {more}, walk along. Beside"
        " the list stands what the owner will notice of the selected change, what stops, when it"
        " shows, and how it is put back; Enter opens it in the audit. Space takes a change out."
        " Where nobody can say what a change is worth here, {trial} tries it, on and off in random"
        " order, and {screening} tries all that is chosen in the same blocks."
        " Nothing is changed before the question is answered. Each change is written down with its"
        " value before it is made, and read back after. If one fails, the rest is not tried, and"
        " what was done before it can be kept or put back. Pause holds the next change back; stop"
        " ends after the change that is being made." + _KEYS
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
        + "The handover says what came of the job, what stops working or works otherwise, what is"
        " still open, and how each change is put back: here, and without Lumtak. It writes the"
        " report for the owner. Enter on a change explains it." + _KEYS
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
    "deciding": (
        "The owner's files, one at a time, for two in front of the screen: the largest, those of"
        " which there are several, folders with nothing in them, grouped by folder and kind. The"
        " owner says of each whether it stays, goes, or is for later; nothing is chosen for them."
        " What goes is set aside at the end, after a question, and can be put back until it is"
        " emptied. Of files of the same content one always stays. What may be the only copy of"
        " something (mail, keys, passwords, virtual disks, databases, repositories, wallets) takes"
        " a yes of its own. {rule} types a rule, and the answer then counts for all it means;"
        " Backspace takes the last answer back; {export} writes the list to take home. Escape"
        " ends: everything said is kept with the job, and it goes on where it was." + _KEYS
    ),
    "trial": (
        "A trial switches one change on and off in pairs of blocks; which of a pair comes first is"
        " drawn by lot. What is judged was fixed before, by the owner's complaint. Each line is a"
        " pair: the difference with the change, as a bar to the left where it is less. Chance is"
        " counted by all orders that could have been drawn, so no load of the computer's own can"
        " be taken for an effect. It ends early once that is clear. Several changes are screened in"
        " the same blocks, each on in half of them: a line a change with its 95 % interval, and"
        " below it the blocks. What is found so is expected; a trial of its own proves it here."
        " {hold} pauses, which restores what was, and goes on; {leave-on} leaves a change on at"
        " the end, and {put-trial-back} puts it back. Leaving the screen ends it, and what was"
        " before is restored." + _KEYS
    ),
    "upkeep": (
        "Tasks of upkeep find out what takes long: whether disks fail, whether the system's"
        " files are as the packages brought them, what starts from odd places, what a scanner"
        " says of the owner's files, which updates wait, in how many pieces files lie, what"
        " holds up a shutdown, whether settings are as they were left, whether enough is free."
        " All of them only read, at the lowest priority, and wait while a reading is taken."
        " Space begins one, pauses it, and goes on where it was; leave the screen, and it goes"
        " on. {cancel-task} ends one and forgets what it found. Enter shows what was found, and"
        " on one of those asks whether the owner knows what it is for. {all-due} does all that"
        " the profile's rhythm has made due. {trim} tells solid-state disks what is free, which"
        " is the one thing here that acts. Nothing that"
        " a scanner finds is deleted: the owner decides, and it is set aside. {watch} lets the"
        " computer take a short look by itself, by a timer of the user's own." + _KEYS
    ),
    "programs": (
        "Programs are listed with what they hold, with what only they need, when they were last"
        " used and how that is known, and what of them starts by itself. Enter says what removing"
        " one would do, and asks. Nothing else goes along; configuration and the owner's files"
        " stay. Lumtak cannot put it back: the job keeps the list that installs it again. What the"
        " system, its desktop or the profile needs cannot be removed." + _KEYS
    ),
    "settings": (
        "Settings are kept as soon as they are set, in the file that is named above. The shop's "
        "name and address are printed on reports. Every command can have another key: a letter, "
        "a sign, Ctrl with a letter, or F1 to F12; where a key would mean two things in one "
        "place, both are named and nothing is changed. Arrows, Enter, Space, Tab, Escape, "
        "Backspace and the digits of the route mean the same everywhere." + _KEYS
    ),
}


class HelpScreen(ModalScreen[None]):
    """One text; any of the usual keys closes it."""

    CSS_PATH = "help.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,enter", "dismiss", "Close", show=False),
        binding("help", "dismiss"),
        binding("quit", "dismiss"),
    ]

    def __init__(self, topic: str) -> None:
        super().__init__()
        self._topic = topic

    def compose(self) -> ComposeResult:
        """The text."""
        with VerticalScroll(id="paper"):
            yield Static(
                with_keys(self.app, TEXTS[self._topic] + "\n\nEscape closes this."), markup=False
            )
