"""Put back: everything ever changed on a computer, by visit, with drift and conflicts."""

from typing import ClassVar, NamedTuple

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal
from textual.widgets import Button, Static

from lumtak.computers.protocol import Computer
from lumtak.core.setting import SHOWS_WORDS
from lumtak.core.text import plain
from lumtak.core.units import counted
from lumtak.errors import LumtakError
from lumtak.journal import UNSEEN, Drift, Entry, Outcome, put_back, recorded, warnings
from lumtak.journal.entry import ENDED_WORDS
from lumtak.tui.background import WorkingScreen
from lumtak.tui.command import Command
from lumtak.tui.confirm import ConfirmScreen
from lumtak.tui.help import HelpScreen
from lumtak.tui.keys import binding, with_keys
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.buttons import BESIDE, Beside
from lumtak.tui.widgets.lines import Line, LineList, column
from lumtak.work.changes import Changes, changes_of, in_words
from lumtak.work.data_folder import DataFolder
from lumtak.work.rights import asking

_NARROW = 100


class _Question(NamedTuple):
    """Something that is asked before changes are put back."""

    entries: list[Entry]
    asks: str
    lines: list[str]
    yes: str
    no: str
    overwrite: bool = False
    seen: bool = False
    """Whether it shows all that records would write which the computer does not vouch for."""


class PutBackScreen(Beside, WorkingScreen):
    """One list; marked changes, or all, go back.

    Args:
        data_folder: has the journal.
        computer: whose changes they are.
        keep: whether somebody else closes the computer.
    """

    CSS_PATH = "aside.tcss"
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "back", "Back", show=False),
        Binding("up,down", "list", "Into the list", show=False),
        *BESIDE,
        binding("mark-all", "mark_all"),
        binding("look-again", "look_again"),
        binding("help", "help"),
    ]

    def __init__(self, data_folder: DataFolder, computer: Computer, *, keep: bool) -> None:
        super().__init__()
        self.add_class("aside")
        self._data_folder, self._computer, self._keep = data_folder, computer, keep
        self._changes: Changes | None = None
        self._marked: set[int] = set()
        self._opened: set[int] = set()

    def compose(self) -> ComposeResult:
        """Head, sentence, list, acts."""
        yield Static(id="head", markup=False)
        yield Static(id="say", classes="big", markup=False)
        yield LineList(id="list")
        with Horizontal(classes="acts"):
            yield Button("Put everything back…", id="all", compact=True)
            yield Button("Put the marked back…", id="marked", compact=True)
            yield Button("Look again", id="again", compact=True)
        yield Static(id="hint", markup=False)

    def on_mount(self) -> None:
        """Look at the computer."""
        self.action_look_again()
        self.set_focus(self.query_one(LineList))

    def on_resize(self) -> None:
        """Lines depend on the width."""
        self.update_all()

    # -- what is shown -----------------------------------------------------------------------------

    def look(self) -> object:
        """All changes, held against the computer."""
        return changes_of(self._data_folder, self._computer)

    def take(self, found: object) -> None:
        """Show them from now on."""
        if isinstance(found, Changes):
            self._changes = found
            self._marked &= {e.id for e in found.open}

    def begun(self) -> None:
        """The head says what is under way."""
        self.update_all()

    def hold_on(self) -> None:
        """What is being written is finished first."""
        self.query_one("#hint", Static).update("Finishing what is being written…")

    def update_all(self) -> None:
        """As it is now."""
        palette = Palette(self.app)
        self.draw_head(self._computer.name, f"put back · {plain(self._computer.user_name, 20)}")
        changes = self._changes
        self.query_one("#say", Static).update(self._sentence())
        everything, marked = self.query_one("#all", Button), self.query_one("#marked", Button)
        left = changes.open if changes else []
        everything.label = f"Put all {len(left)} back…" if len(left) > 1 else "Put it back…"
        everything.display, everything.disabled = bool(left), bool(self.busy)
        marked.label = f"Put {len(self._marked)} marked back…"
        marked.display, marked.disabled = bool(self._marked), bool(self.busy)
        self.query_one("#again", Button).disabled = bool(self.busy)
        self.query_one(LineList).show(self._lines(changes, palette) if changes else [])
        self.query_one("#hint", Static).update(
            with_keys(
                self.app,
                "Space marks, Enter explains, {mark-all} marks all that is in place, {look-again}"
                " looks again; Escape goes back, {help} explains.",
            )
        )

    def _sentence(self) -> str:
        changes = self._changes
        if changes is None:
            return "Looking at the computer…"
        return in_words(changes)

    def _lines(self, changes: Changes, palette: Palette) -> list[Line]:
        lines: list[Line] = []
        for visit in changes.visits:
            if lines:
                lines.append(Line(Text()))
            standing = sum(e.is_open for e in visit.entries)
            text = Text(f" {visit.heading}", style=f"bold {palette.ink}")
            text.append(f"   {standing} of {len(visit.entries)} still in place", style=palette.soft)
            text.append(" " + "─" * max(0, self.size.width - text.cell_len - 3), style=palette.rule)
            lines.append(Line(text))
            for entry in reversed(visit.entries):
                lines.append(Line(self._row(changes, entry, palette), f"change {entry.id}"))
                if entry.id in self._opened:
                    lines += [Line(row) for row in self._explanation(changes, entry, palette)]
        return lines

    def _row(self, changes: Changes, entry: Entry, palette: Palette) -> Text:
        found = changes.standing.get(entry.id)
        word, style = _standing(entry, found.standing if found else "", palette)
        if found is not None and found.standing in {"drifted", "back as before"}:
            word = f"{word}: now {found.now}"
        narrow = self.size.width < _NARROW
        title, values, standing = (20, 16, 26) if narrow else (28, 22, 30)
        loud = palette.ink if entry.is_open else palette.soft
        text = Text()
        text.append(" ◉ " if entry.id in self._marked else "   ", style=f"bold {palette.lit}")
        text.append(f"{_glyph(entry, changes)} ", style=style)
        text.append(f"{entry.number:>3}  ", style=palette.soft)
        text.append(column(entry.title, title), style=f"bold {loud}" if entry.is_open else loud)
        text.append(column(f"{entry.restore.word} → {entry.word}", values), style=loud)
        text.append(column(word, standing), style=style)
        if not narrow:
            text.append_text(_last_seen(entry, found, palette))
        return text

    def _explanation(self, changes: Changes, entry: Entry, palette: Palette) -> list[Text]:
        found = changes.standing.get(entry.id)
        rows = [
            ("setting", plain(str(entry.ref), 120)),
            ("was", entry.restore.word),
            ("made", f"{entry.word}, {_short(entry.begun_at)}"),
        ]
        if found is not None:
            rows.append(("now", found.now))
            if found.last_right:
                rows.append(("last right", _short(found.last_right)))
        if note := (found.note if found else entry.note):
            rows.append(("note", plain(note, 300)))
        if entry.is_open:
            rows += [("mind", w) for w in warnings(changes.facts, changes.entries, [entry.id])]
            rows.append(("if put back", f"{entry.restore.word}; {SHOWS_WORDS[entry.shows]}"))
        texts = []
        for name, value in rows:
            text = Text("        │ ", style=palette.accent)
            text.append(f"{name:<13}", style=palette.soft)
            text.append(plain(value, 300), style=palette.ink)
            texts.append(text)
        return texts

    # -- keys and buttons --------------------------------------------------------------------------

    def action_list(self) -> None:
        """Into the list, from anywhere."""
        self.set_focus(self.query_one(LineList))

    def commands(self) -> tuple[Command, ...]:
        """For the palette."""
        return (
            Command("Look again", self.action_look_again, "at the computer", "look-again"),
            Command("Mark all", self.action_mark_all, "that is in place", "mark-all"),
            Command("Back", self.action_back, "to the screen before", "Escape"),
            Command("Explain this screen", self.action_help, "in the words of the work", "help"),
        )  # fmt: skip

    def action_look_again(self) -> None:
        """Hold the journal against the computer once more."""
        self.begin("looking at the computer", lambda: None, lambda _: None)

    def action_mark_all(self) -> None:
        """Mark everything that stands, or nothing."""
        if self._changes:
            every = {e.id for e in self._changes.open}
            self._marked = set() if self._marked == every else every
            self.update_all()

    def action_help(self) -> None:
        """Explain the screen."""
        self.app.push_screen(HelpScreen("put back"))

    def let_go(self) -> None:
        """The computer, where it is this screen's own."""
        if not self._keep:
            try:
                self._computer.close()
            except LumtakError as error:
                self.app.call_from_thread(self.tell, str(error))

    def on_line_list_opened(self, message: LineList.Opened) -> None:
        """Open or close the explanation."""
        self._opened ^= {int(message.key.split()[1])}
        self.update_all()

    def on_line_list_marked(self, message: LineList.Marked) -> None:
        """Mark a change, or take the mark away."""
        number = int(message.key.split()[1])
        if self._changes is None:
            return
        entry = next(e for e in self._changes.entries if e.id == number)
        if entry.is_open:
            self._marked ^= {number}
            self.update_all()
        else:
            self.tell(f"{entry.title} is not changed any more: {entry.stage}.")

    def on_button_pressed(self, event: Button.Pressed) -> None:
        """Ask, or look again."""
        changes = self._changes
        if event.button.id == "again":
            self.action_look_again()
        elif changes is not None:
            everything = event.button.id == "all"
            self._ask([e for e in changes.open if everything or e.id in self._marked], changes)

    def _ask(self, entries: list[Entry], changes: Changes) -> None:
        """One question for what nobody else changed, one for what somebody did; what has to be
        looked at first is asked about after these.
        """
        disputed = [e for e in entries if changes.conflict(e)]
        clear = [e for e in entries if e not in disputed]
        questions = [self._of_clear(clear, changes, len(disputed))] if clear else []
        questions += [self._of_disputed(disputed, changes)] if disputed else []
        self._ask_next(questions)

    def _ask_next(self, questions: list[_Question], *, by_itself: bool = False) -> None:
        if not questions:
            return
        question, *rest = questions

        def answered(yes: bool | None) -> None:  # noqa: FBT001 - Textual calls it so
            if yes:
                self._put_back(question, rest)
            else:
                self._ask_next(rest, by_itself=True)

        self.app.push_screen(
            ConfirmScreen(
                question.asks,
                "\n".join(question.lines),
                yes=question.yes,
                no=question.no,
                by_itself=by_itself,
            ),
            answered,
        )

    def _of_clear(self, entries: list[Entry], changes: Changes, disputed: int) -> _Question:
        numbers = [e.id for e in entries]
        lines = [plain(f"{e.title}: {e.word} → {e.restore.word}", 160) for e in reversed(entries)]
        lines += ["", *(f"Warning: {w}" for w in warnings(changes.facts, changes.entries, numbers))]
        lines += [
            "What was changed has its load again as before. It can be changed again in the audit."
        ]
        if disputed:
            lines.append(f"{disputed} that somebody changed since are asked about afterwards.")
        asks = f"Put {counted(len(entries), 'change')} of {plain(self._computer.name)} back?"
        return _Question(entries, asks, lines, "Put back", "Leave it changed")

    @staticmethod
    def _of_disputed(entries: list[Entry], changes: Changes) -> _Question:
        lines = []
        for entry in entries:
            now = changes.standing[entry.id].now
            lines.append(
                plain(
                    f"{entry.title}: was {entry.restore.word}, Lumtak made it {entry.word}, now it"
                    f" is {now}",
                    160,
                )
            )
        lines += [
            "",
            (
                "Somebody or something changed this since. Overwriting restores what was before"
                " Lumtak; what is there now is lost."
            ),
        ]
        asks = f"Overwrite {counted(len(entries), 'setting')} that somebody changed since?"
        return _Question(entries, asks, lines, "Overwrite", "Leave as it is now", overwrite=True)

    @staticmethod
    def _of_unseen(entries: list[Entry], *, overwrite: bool) -> _Question:
        lines = [UNSEEN]
        for entry in entries:
            lines += ["", f"Change {entry.number}, {plain(entry.title, 60)}", *recorded(entry)]
        asks = f"Is this what stood there before {counted(len(entries), 'change')}?"
        yes, no = "Yes, put it back", "Leave it as it is now"
        return _Question(entries, asks, lines, yes, no, overwrite=overwrite, seen=True)

    def _put_back(self, question: _Question, rest: list[_Question]) -> None:
        numbers = [e.id for e in question.entries]

        def job() -> list[Outcome]:
            return put_back(
                self._data_folder.journal,
                self._computer,
                numbers,
                overwrite=question.overwrite,
                shown=numbers if question.seen else (),
                stop=self.stop,
            )

        def done(outcomes: list[Outcome]) -> None:
            self._marked -= set(numbers)
            self.tell_put_back(outcomes)
            unseen = {o.id for o in outcomes if o.unseen}
            waiting = [e for e in question.entries if e.id in unseen]
            last = [q for q in rest if q.seen]
            if waiting:  # one question a visit, after all others
                before = [e for q in last for e in q.entries]
                overwrite = question.overwrite or any(q.overwrite for q in last)
                last = [self._of_unseen([*before, *waiting], overwrite=overwrite)]
            self._ask_next([*(q for q in rest if not q.seen), *last], by_itself=True)

        asks = asking(self._computer, (e.ref for e in question.entries))
        self.begin("putting back", job, done, asks=asks)


def _short(moment: str) -> str:
    """A time to the minute."""
    return moment[:16].replace("T", " ")


def _glyph(entry: Entry, changes: Changes) -> str:
    found = changes.standing.get(entry.id)
    if found is not None and (found.is_drift or found.standing == "cannot be read"):
        return "≠" if found.is_drift else "?"
    return "◆" if entry.is_open else "·"


def _last_seen(entry: Entry, found: Drift | None, palette: Palette) -> Text:
    """When a change was put back, or seen as it was left for the last time."""
    wrong = found is not None and found.standing != "as left"
    seen = ""
    if entry.stage == "undone":
        seen = _short(entry.stage_at)
    elif found is not None and wrong and found.last_right:
        seen = f"last seen right {_short(found.last_right)}"
    return Text(seen, style=palette.warning if wrong else palette.soft)


def _standing(entry: Entry, standing: str, palette: Palette) -> tuple[str, str]:
    if not entry.is_open:
        return ENDED_WORDS[entry.stage], palette.soft
    if standing in {"as left", ""}:
        return ("as left" if standing else "there is a newer change of it"), palette.accent
    return standing, palette.warning
