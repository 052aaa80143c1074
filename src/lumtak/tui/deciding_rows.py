"""What the screen for deciding together draws: the disk, the thing in large, lines of things."""

from collections.abc import Mapping, Sequence
from itertools import groupby

from rich.text import Text

from lumtak.core.clutter import age_in_words
from lumtak.core.deciding import (
    CHANGED_SINCE,
    IN_WORDS,
    Decided,
    Decision,
    Elsewhere,
    Thing,
    may_be_alone,
)
from lumtak.core.text import plain
from lumtak.core.units import counted, large, ram
from lumtak.tui.theme import FILLS, HOLLOW, Palette
from lumtak.tui.widgets.lines import Line, column
from lumtak.work.sitting import Sitting

_LABEL = 5
_MARKS: dict[Decision, str] = {"keep": "stays", "aside": "goes", "later": "later"}
_NAMED, _HIGH, _FREE = 3, 5, 31
_FIGURES = {
    "0": ("###", "# #", "# #", "# #", "###"),
    "1": (" # ", "## ", " # ", " # ", "###"),
    "2": ("###", "  #", "###", "#  ", "###"),
    "3": ("###", "  #", "###", "  #", "###"),
    "4": ("# #", "# #", "###", "  #", "  #"),
    "5": ("###", "#  ", "###", "  #", "###"),
    "6": ("###", "#  ", "###", "# #", "###"),
    "7": ("###", "  #", "  #", " # ", " # "),
    "8": ("###", "# #", "###", "# #", "###"),
    "9": ("###", "# #", "###", "  #", "###"),
    ".": (" ", " ", " ", " ", "#"),
}
ELSEWHERE: tuple[tuple[Elsewhere, str, str], ...] = (
    ("yes", "Yes, all of it", "there is a copy elsewhere"),
    ("no", "No", "it is kept with what is set aside: think before it is emptied"),
    ("not known", "Nobody knows", "kept likewise"),
)
"""Answers to whether what goes exists anywhere else: key, words, what follows."""


def disk_lines(sitting: Sitting, going: float, width: int, palette: Palette) -> Text:
    """The disk as a strip: what stays, what is to go (hollow), free; the floor as its tick."""
    total = max(sitting.total_bytes, 1.0)
    cells = max(10, width - _LABEL - _FREE)
    used = sitting.total_bytes - sitting.free_bytes
    stay = round(cells * (used - going) / total)
    hollow = max(1 if going else 0, round(cells * going / total))
    tick = min(cells - 1, int(cells * (1 - sitting.floor_bytes / total)))
    text = Text(no_wrap=True)
    text.append("DISK".ljust(_LABEL), style=f"bold {palette.ink}")
    for cell in range(cells):
        if cell == tick:
            text.append("┃", style=f"bold {palette.lit}")
        elif cell < stay:
            text.append(FILLS["keep"], style=palette.kinds["keep"])
        elif cell < stay + hollow:
            text.append(HOLLOW, style=palette.kinds["ease"])
        else:
            text.append(FILLS["free"], style=palette.kinds["free"])
    unit, name = large()
    then = sitting.free_bytes + going
    word = "free then" if going else "free"
    text.append(
        f"  {then / unit:.1f} of {total / unit:.0f} {name} {word}", style=f"bold {palette.ink}"
    )
    under = sitting.floor_bytes - then
    words = f"{ram(sitting.free_bytes)} are free now"
    words += f", {ram(going)} are to go and are free once emptied" if going else ""
    words += f"; {ram(under)} are missing of the floor ┃" if under > 0 else "; the floor ┃ is kept"
    text.append(f"\n{' ' * _LABEL}{words}.", style=palette.soft)
    return text


def figures(size: float) -> str:
    """A size in figures five lines high, to be read from two steps away; its unit stands beside."""
    number = ram(size).rpartition(" ")[0]
    rows = [[_FIGURES[char][y] for char in number if char in _FIGURES] for y in range(_HIGH)]
    return "\n".join(
        "  ".join("".join("██" if dot == "#" else "  " for dot in part) for part in row)
        for row in rows
    )


def _heading(group: tuple[str, str], mine: Sequence[Thing], palette: Palette) -> Text:
    """Above what stands in one folder and is of one kind."""
    folder, kind = group
    text = Text(f" {plain(folder, 90)}", style=f"bold {palette.ink}")
    size = ram(sum(t.bytes for t in mine))
    text.append(f"   {kind}   {counted(len(mine), 'thing')}, {size}", style=palette.soft)
    return text


def about(meant: Sequence[Thing], rule: str, sitting: Sitting, palette: Palette) -> Text:
    """What lies before the owner, in words that they read from two steps away."""
    if rule:
        return _by_rule(meant, rule, palette)
    text = Text()
    for thing in meant[:1]:
        unit = ram(thing.bytes).rpartition(" ")[2]
        name = plain(thing.path.rpartition("/")[2], 90)
        text.append(f"{unit}   ", style=f"bold {palette.lit}")
        text.append(f"{name}\n", style=f"bold {palette.lit}")
        text.append(f"{_what(thing)}", style=f"bold {palette.ink}")
        text.append(f"   {_age(thing, sitting.now) or 'age not known'}", style=palette.ink)
        opened = f"last opened {thing.opened}" if thing.opened else "last opened: not known"
        text.append(f"   {opened}\n", style=palette.ink)
        text.append(f"in {plain(thing.folder, 120)}\n", style=palette.ink)
        if thing.copies:
            where = ", ".join(plain(p, 80) for p in thing.copies[:_NAMED])
            words = counted(thing.others, "other copy", "other copies")
            text.append(f"{words}: {where}\n", style=palette.kinds["ask"])
        if alone := sitting.alone.get(thing.path):
            text.append(
                f"It {may_be_alone(alone, thing.path)}\n", style=f"bold {palette.kinds['ease']}"
            )
    return text


def _age(thing: Thing, now: float) -> str:
    """By its last change; empty where that is not known."""
    words = age_in_words(thing.changed_at, now).removeprefix("up to ")
    return words or ("of today" if thing.changed_at else "")


def _what(thing: Thing) -> str:
    if thing.kind != "folder":
        return thing.kind if thing.kind != "other" else "file of no known kind"
    return f"folder with {counted(thing.files, 'file')} in it" if thing.files else "empty folder"


def _by_rule(meant: Sequence[Thing], rule: str, palette: Palette) -> Text:
    whole = ram(sum(t.bytes for t in meant))
    text = Text.assemble((f"{whole.rpartition(' ')[2]}   ", palette.soft))
    text.append(f"{counted(len(meant), 'thing')} by the rule  ", style=palette.ink)
    text.append(f"{plain(rule, 80)}\n", style=f"bold {palette.lit}")
    text.append("The answer counts for all of them; Escape leaves the rule.", style=palette.soft)
    return text


def ended_words(made: Mapping[Decision, Sequence[float]], palette: Palette) -> Text:
    """At the end: what was said."""
    text = Text("Everything is decided.\n", style=f"bold {palette.lit}")
    parts = [f"{IN_WORDS[d]} {len(sizes)} ({ram(sum(sizes))})" for d, sizes in made.items()]
    text.append(f"{', '.join(parts)}.\n" if parts else "There is nothing.\n", style=palette.ink)
    return text


def lines_of(
    found: Sequence[Thing],
    decided: Mapping[str, Decided],
    sitting: Sitting,
    wide: bool,  # noqa: FBT001 - in the order of what is drawn
    here: str,
    palette: Palette,
) -> list[Line]:
    """All of these by folder and kind; what lies before the owner is marked."""
    by_path = {thing.path: thing for thing in found}

    def drawn(path: str) -> Text:
        text = Text(" ▶ " if path == here else "   ", style=palette.accent)
        return text.append_text(_row(by_path[path], decided.get(path), sitting, palette, wide=wide))

    lines: list[Line] = []
    for group, mine in groupby(found, key=lambda t: t.group):
        things = list(mine)
        lines += [Line(Text()), Line(_heading(group, things, palette))]
        lines += [Line(drawn, thing.path) for thing in things]  # drawn when they are seen
    return lines[1:]


def _row(
    thing: Thing, said: Decided | None, sitting: Sitting, palette: Palette, *, wide: bool
) -> Text:
    """A line of the list."""
    text = Text()
    other = said is not None and not said.is_of(thing)
    mark = _MARKS[said.decision] if said and not other else ""
    colour = palette.kinds["ease"] if mark == "goes" else palette.soft
    text.append(f"{mark:<7}", style=colour)
    style = palette.soft if mark else palette.ink
    text.append(f"{ram(thing.bytes):>10}  ", style=style)
    text.append(column(thing.path.rpartition("/")[2], 48 if wide else 26), style=style)
    text.append(column(_age(thing, sitting.now), 16), style=palette.soft)
    notes = [CHANGED_SINCE] if other else []
    if thing.copies:
        notes.append(counted(thing.others, "other copy", "other copies"))
    notes += [what for what, _ in sitting.alone.get(thing.path, ())[:1]]
    text.append(", ".join(notes), style=palette.kinds["ask"])
    return text
