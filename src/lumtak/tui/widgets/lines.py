"""A list of lines, drawn line by line, so that its length does not matter."""

import re
import textwrap
from bisect import bisect_left
from collections.abc import Callable, Iterable, Sequence
from typing import ClassVar

from rich.style import Style
from rich.text import Text
from textual import events
from textual.binding import Binding, BindingType
from textual.geometry import Region, Size
from textual.message import Message
from textual.reactive import reactive
from textual.scroll_view import ScrollView
from textual.strip import Strip

from lumtak.core.text import plain
from lumtak.tui.theme import Palette

_REMEMBERED = 1000


class Line:
    """One line: its text, and the key by which it can be selected.

    Lines without a key are passed over.

    Args:
        text: the line, or what draws it from its key: called each time the line is seen, so that
            only lines on the screen cost anything.
        key: None passes it over.
        of: the key of the line to which it belongs: a click on it is one on that.
    """

    __slots__ = ("_text", "key", "of")

    def __init__(
        self, text: Text | Callable[[str], Text], key: str | None = None, *, of: str | None = None
    ) -> None:
        self._text = text
        self.key, self.of = key, of

    @property
    def text(self) -> Text:
        """As it is to be seen now."""
        return self._text if isinstance(self._text, Text) else self._text(self.key or "")


def fit(words: str, width: int) -> str:
    """The words in exactly so many cells."""
    shown = Text(plain(words))
    shown.truncate(width, overflow="ellipsis", pad=True)
    return shown.plain


def column(words: str, width: int) -> str:
    """The words in exactly so many cells, of which the last stays empty.

    What follows never runs into them.
    """
    return fit(words, width - 1) + " "


def wrapped(words: str, width: int) -> list[str]:
    """Prose in lines of at most so many cells."""
    return textwrap.wrap(words, max(1, width)) or [""]


def whole_sentences(words: str, width: int) -> str:
    """As many whole sentences as fit, at least the first."""
    sentences = re.split(r"(?<=[.;]) ", words)
    shown = sentences[0]
    for sentence in sentences[1:]:
        if Text(f"{shown} {sentence}").cell_len > width:
            break
        shown = f"{shown} {sentence}"
    return f"{shown[:-1]}." if shown.endswith(";") else shown


class LineList(ScrollView, can_focus=True):
    """Lines, of which those with a key can be selected by keyboard or mouse."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("up,k", "move(-1)", "Up", show=False),
        Binding("down,j", "move(1)", "Down", show=False),
        Binding("pageup", "move(-10)", "Page up", show=False),
        Binding("pagedown", "move(10)", "Page down", show=False),
        Binding("home", "move(-100000)", "First", show=False),
        Binding("end", "move(100000)", "Last", show=False),
        Binding("enter", "open", "Open", show=False),
        Binding("space", "mark", "Choose", show=False),
    ]

    cursor: reactive[int] = reactive(-1, repaint=False)

    class Selected(Message):
        """The cursor stands on another line."""

        def __init__(self, sender: "LineList", key: str) -> None:
            super().__init__()
            self.sender, self.key = sender, key

        @property
        def control(self) -> "LineList":
            """Whose."""
            return self.sender

    class Opened(Selected):
        """Enter, or a click on the line that is selected already."""

    class Marked(Selected):
        """Space."""

    def __init__(
        self,
        *,
        id: str | None = None,  # noqa: A002 - Textual's name
        classes: str | None = None,
        one_click: bool = False,
    ) -> None:
        super().__init__(id=id, classes=classes)
        self._one_click = one_click
        """Whether a click opens at once, where nothing can be chosen."""
        self._lines: Sequence[Line] = ()
        self._selectable: list[int] = []
        self._by_key: dict[str, int] | None = None
        """The place of each key, once it is asked for."""
        self.at_once: Callable[[str], bool] | None = None
        """Does what a key means, and says whether it does: for what the next key depends on."""
        self.follow: Callable[[str], None] | None = None
        """Told of the line under the cursor before the next picture is drawn."""
        self._told: str | None = None
        """Whose line was last said to be selected."""
        self._drawn: dict[tuple[object, ...], Strip] = {}
        """Lines as they were drawn, so that scrolling and searching draw only what is new."""

    def show(self, lines: Sequence[Line], key: str | None = None) -> None:
        """Show these lines.

        The cursor stays on its key, or goes to `key`, or to the first line that has one.
        """
        wanted = key or self.selected
        self._lines = lines
        self._selectable = [i for i, line in enumerate(lines) if line.key is not None]
        self.virtual_size = Size(self.size.width, len(lines))
        self._by_key = None
        first = self._selectable[0] if self._selectable else -1
        # Setting the cursor tells by itself where it moved.
        before = self._told
        self.cursor = next((i for i in self._selectable if lines[i].key == wanted), first)
        if self._told == before:
            self._tell()  # another line may stand where the cursor was
        if len(self._drawn) > _REMEMBERED:
            self._drawn.clear()
        self.refresh()
        self._reveal()

    def renew(self, keys: Iterable[str] | None = None) -> None:
        """Draw these lines again, or all of them."""
        self._drawn.clear()
        if keys is None:
            self.refresh()
            return
        for key in keys:
            if key in self._places:
                self.refresh_line(self._places[key] - self.scroll_offset.y)

    @property
    def _places(self) -> dict[str, int]:
        if self._by_key is None:
            lines = self._lines
            self._by_key = {key: i for i in self._selectable if (key := lines[i].key) is not None}
        return self._by_key

    @property
    def selected(self) -> str | None:
        """The key of the line under the cursor."""
        return self._lines[self.cursor].key if 0 <= self.cursor < len(self._lines) else None

    def watch_cursor(self, before: int, after: int) -> None:
        """Repaint both lines, and tell."""
        for place in (before, after):
            self.refresh_line(place - self.scroll_offset.y)
        self._tell()

    def _tell(self) -> None:
        if self.selected is not None and self.selected != self._told and self.is_mounted:
            self._told = self.selected
            if self.follow is not None:
                self.follow(self.selected)
            self.post_message(self.Selected(self, self.selected))

    def action_move(self, steps: int) -> None:
        """Move the cursor over the lines that can be selected."""
        if not self._selectable:
            return
        near = bisect_left(self._selectable, self.cursor) + steps
        # Beyond either end the cursor stays on the last line, as people expect of a list.
        near = max(0, min(len(self._selectable) - 1, near))
        self.cursor = self._selectable[near]
        if near == 0:
            self.scroll_to(y=0, animate=False)  # the heading above the first line shows too
        self._reveal()

    def go_to(self, key: str) -> None:
        """The cursor goes to that line, a third from the top, so that what stands under it shows
        too.
        """
        place = self._places.get(key)
        if place is not None:
            self.cursor = place
            self.scroll_to(y=max(0, place - self.size.height // 3), animate=False)

    def _reveal(self) -> None:
        if self.cursor >= 0:
            self.scroll_to_region(Region(0, self.cursor, 1, 1), animate=False)

    def reveal_under(self, count: int) -> None:
        """So many lines under the cursor show too, as far as there is room."""
        self.scroll_to_region(
            Region(0, self.cursor, 1, min(count + 1, self.size.height)), animate=False
        )

    def action_open(self) -> None:
        """Tell that the line is opened."""
        if self.selected is not None:
            self.post_message(self.Opened(self, self.selected))

    def action_mark(self) -> None:
        """Tell that the line is chosen."""
        if self.selected is not None:
            self.post_message(self.Marked(self, self.selected))

    def on_click(self, event: events.Click) -> None:
        """A click selects; on the selected line it opens, at its left edge it chooses."""
        place = event.y + self.scroll_offset.y
        if not 0 <= place < len(self._lines):
            return
        place = self._places.get(self._lines[place].of or "", place)
        if self._lines[place].key is None:
            return
        if self._one_click:
            self.cursor = place
            self.action_open()
        elif event.x <= 3:
            self.cursor = place
            self.action_mark()
        elif place == self.cursor:
            self.action_open()
        else:
            self.cursor = place

    def render_line(self, y: int) -> Strip:
        """One line of the window."""
        place = y + self.scroll_offset.y
        here = self.has_focus if place == self.cursor else None
        line = self._lines[place] if 0 <= place < len(self._lines) else None
        seen = (line, here, self.size.width, self.app.theme)
        if seen not in self._drawn:
            self._drawn[seen] = self._draw(place)
        return self._drawn[seen]

    def _draw(self, place: int) -> Strip:
        width = self.size.width
        ground = self.rich_style
        if not 0 <= place < len(self._lines):
            return Strip.blank(width, ground)
        text = self._lines[place].text
        room = self.scrollable_content_region.width
        if text.cell_len > room:
            text = text.copy()
            text.truncate(room, overflow="ellipsis")
        style = ground
        if place == self.cursor:
            palette = Palette(self.app)
            style = ground + (
                Style(bgcolor=palette.cursor, bold=True)
                if self.has_focus
                else Style(bgcolor=palette.cursor)
            )
        segments = text.render(self.app.console)
        return Strip(segments).apply_style(style).adjust_cell_length(width, style)

    def on_key(self, event: events.Key) -> None:
        """What has to be done before the next key is looked at; and that key, where something else
        has the keys by then: a letter typed right after that of a search is part of the search.
        """
        here = self.screen.focused
        if here is self:
            if self.at_once is not None and self.at_once(event.key):
                event.stop()
                event.prevent_default()
        elif here is not None and event.is_printable:
            event.stop()
            event.prevent_default()
            here.post_message(events.Key(event.key, event.character))

    def on_focus(self) -> None:
        """The cursor is bold while the list listens."""
        self.refresh()

    def on_blur(self) -> None:
        """And not while it does not."""
        self.refresh()
