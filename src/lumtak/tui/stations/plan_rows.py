"""How changes are drawn: a line each from proposed to done, and all that is to be said of one."""

from collections.abc import Iterable
from typing import NamedTuple

from rich.text import Text

from lumtak.core.audit import Finding
from lumtak.core.plan import Step
from lumtak.core.planner import LEVEL_WORDS, Level
from lumtak.core.setting import SHOWS_WORDS, Shows, without
from lumtak.core.text import capital, plain
from lumtak.core.units import ram, signed
from lumtak.journal import Entry, Outcome, ReviewLine
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, column, wrapped

_STAGES = {
    "verified": "done, read back",
    "undone": "put back",
    "emptied": "emptied",
    "failed": "failed",
    "not done": "not done",
    "conflict": "needs a look",
    "intent": "being written",
    "written": "not read back",
    "undoing": "being put back",
}
_WHY = {"failed": "refused, as before", "not done": "interrupted before it was written"}
_SHORTLY: dict[Shows, str] = {
    "now": "at once",
    "login": "after new login",
    "restart": "after restart",
}
_TITLE, _CHANGE, _WORD, _NAME = 22, 17, 17, 15


class Look(NamedTuple):
    """A line of the list."""

    mark: str
    title: str
    before: str
    value: str
    saves: tuple[float, float] | None
    """(bytes, percentage points); None where nothing is projected."""
    word: str
    colour: str
    aside_bytes: float = 0.0
    """Of the disk, that it sets aside."""


def row(look: Look, palette: Palette) -> Text:
    """Mark, title, change, what it saves, how far it is."""
    text = Text()
    text.append(f" {look.mark} ", style=look.colour)
    text.append(column(look.title, _TITLE), style=f"bold {palette.ink}")
    text.append(column(f"{look.before} → {look.value}", _CHANGE), style=palette.ink)
    if look.saves and any(look.saves):
        words = f"{ram(-look.saves[0]):>9}{signed(-look.saves[1]) + ' %':>8}  "
        text.append(words, style=palette.kinds["ease"])
    elif look.aside_bytes:
        text.append(f"{ram(look.aside_bytes):>9} of disk  ", style=palette.kinds["ease"])
    else:
        text.append(f"{'':>19}", style=palette.soft)
    text.append(column(look.word, _WORD), style=look.colour)
    return text


def proposed(step: Step, palette: Palette, word: str = "") -> Text:
    """A change that is chosen and not made yet; the word says what becomes of it just now."""
    colour = palette.lit if word else palette.warning if step.shows != "now" else palette.soft
    return row(
        Look(
            "▸" if word else "◇",
            step.title,
            step.before,
            plain(step.change.value or "unset"),
            (step.saves_ram_bytes, step.saves_cpu_pct),
            word or _SHORTLY[step.shows],
            colour,
            aside_bytes=step.aside_bytes,
        ),
        palette,
    )


def made(entry: Entry, step: Step | None, palette: Palette) -> Text:
    """A change in the journal."""
    good = entry.stage == "verified"
    undone = entry.stage in {"undone", "emptied"}
    colour = palette.accent if good else palette.soft if undone else palette.warning
    saves = (step.saves_ram_bytes, step.saves_cpu_pct) if step and entry.is_open else None
    mark = "◆" if good else "·"
    word = _STAGES[entry.stage]
    aside = step.aside_bytes if step and entry.is_open else 0.0
    look = Look(mark, entry.title, entry.before.word, entry.word, saves, word, colour, aside)
    return row(look, palette)


def became(outcome: Outcome, palette: Palette) -> Text:
    """A change of the plan that is being applied."""
    good = outcome.result in {"done", "as it was"}
    colour = palette.accent if good else palette.warning
    value = plain(outcome.change.value or "unset")
    mark = "◆" if good else "·"
    look = Look(mark, outcome.title, outcome.before, value, None, outcome.result, colour)
    return row(look, palette)


def found(line: ReviewLine, palette: Palette) -> Text:
    """What an interruption left of a change."""
    good = line.found == "done"
    odd = line.found == "needs a look"
    colour = palette.accent if good else palette.warning if odd else palette.soft
    value = plain(line.change.value or "unset")
    look = Look("◆" if good else "·", line.title, line.before, value, None, line.found, colour)
    return row(look, palette)


# -- all that is to be said of one change --------------------------------------------------------


def of_step(step: Step, finding: Finding | None, level: Level) -> list[tuple[str, str]]:
    """What the owner will notice, what stops, when it shows, how it is put back."""
    stops = finding.stops if finding else ""
    others = [title for title in step.stops if title != stops]
    saved = step.projected
    if step.saves_ram_bytes or step.saves_cpu_pct:
        saved = (
            f"{ram(-step.saves_ram_bytes)}, {signed(-step.saves_cpu_pct)} ±"
            f" {step.saves_cpu_se_pct:.1f} % CPU ({step.projected})"
        )
    words = LEVEL_WORDS[level]
    back = f"Any time, also after a restart: it is {step.before} again then."
    if step.aside_bytes:
        saved = f"{ram(step.aside_bytes)} of the disk, once it is emptied ({step.projected})"
        back = "Any time until it is emptied."
    return [
        ("", f"{step.title}: {step.before} → {step.change.value or 'unset'}"),
        ("noticed", f"{capital(words)}."),
        _lost(step.change.value, stops),
        ("stops with it", ", ".join(others)),
        ("shows", f"It {SHOWS_WORDS[step.shows]}."),
        ("put back", back),
        ("should save", saved),
        ("why", finding.why if finding else ""),
        ("tried here", finding.tried if finding else ""),
    ]


def of_entry(entry: Entry, finding: Finding | None) -> list[tuple[str, str]]:
    """What it was, what it became, what was read back, what became of it."""
    read = (
        entry.restore.word if entry.stage == "undone" else entry.after.word if entry.after else "?"
    )
    note = entry.note or _WHY.get(entry.stage, "")
    stops = finding.stops if finding and entry.is_open else ""
    return [
        ("", f"{entry.title}: {_STAGES[entry.stage]}"),
        ("note", _sentence(note) if note else ""),
        ("was", entry.before.word),
        ("made", entry.word),
        ("read back", read),
        _lost(entry.value, stops),
        ("shows", f"It {SHOWS_WORDS[entry.shows]}." if entry.is_open else ""),
        ("put back", f"It is {entry.restore.word} again then." if entry.is_open else ""),
    ]


def of_outcome(outcome: Outcome) -> list[tuple[str, str]]:
    """What became of it, and why."""
    return [
        ("", f"{outcome.title}: {outcome.result}"),
        ("note", _sentence(outcome.note) if outcome.note else ""),
        ("was", outcome.before),
        ("read back", outcome.after),
    ]


def of_review(line: ReviewLine) -> list[tuple[str, str]]:
    """What was found of it."""
    return [
        ("", f"{line.title}: {line.found}"),
        ("note", _sentence(line.note) if line.note else ""),
        ("was", line.before),
        ("to become", plain(line.change.value or "unset")),
        ("now", line.now),
    ]


def _lost(value: str | None, stops: str) -> tuple[str, str]:
    """What is lost with a value, as a sentence."""
    label, words = without(value, stops)
    return label, _sentence(words) if words else ""


def _sentence(words: str) -> str:
    return f"{capital(words)}{'' if words.endswith(('.', '?', '!')) else '.'}"


def pane(rows: Iterable[tuple[str, str]], width: int, palette: Palette) -> Text:
    """What is said of a change, wrapped; the first row is its heading."""
    text = Text()
    for name, words in rows:
        if not words:
            continue
        if not name:
            text.append(f"{plain(words, 100)}\n", style=f"bold {palette.ink}")
            continue
        for number, part in enumerate(wrapped(plain(words, 500), max(20, width - _NAME))):
            text.append(f"{name if number == 0 else '':<{_NAME}}", style=palette.soft)
            text.append(f"{part}\n", style=palette.ink)
    return text


def heading(palette: Palette, *, proposed: bool) -> Line:
    """Over the columns."""
    last = "takes effect" if proposed else "state"
    names = f"   {'':<{_TITLE}}{'change':<{_CHANGE}}{'RAM':>9}{'CPU':>8}  {last:<{_WORD}}"
    return Line(Text(names, style=palette.soft))
