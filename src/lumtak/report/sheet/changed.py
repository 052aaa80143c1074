"""What was changed, as far as the owner would notice, and what was kept."""

from collections.abc import Iterable, Sequence
from itertools import groupby

from lumtak.core.text import plain
from lumtak.report.content import ChangeLine, Content
from lumtak.report.sheet.record import Line, Part, lines_of
from lumtak.report.tongue import Tongue

TITLE_MOST = 44
_KEPT, _NAMED = 4, 3
_ORDER = ("copies", "function", "convenience", "slower", "nothing")


def different(content: Content, tongue: Tongue, most: int) -> Part:
    """What the owner would notice, the most missed first, and the numbers of all the rest."""
    standing = [line for line in content.changes if line.stands]
    aside = [c for c in standing if c.bytes]
    noticed = [c for c in standing if _is_noticed(c)]
    noticed.sort(key=lambda c: (_ORDER.index(c.missed), c.notice, c.number))
    lines = [*_aside(aside, content, tongue), *_in_groups(noticed, tongue)]
    told = {c.id for c in (*aside, *noticed)}
    rest = [c for c in standing if c.id not in told]
    left = len(lines) - most
    return Part(
        head=tongue.say("What is different now"),
        lines=(*lines[:most], *_rest(rest, tongue, alone=not lines)),
        left_out=tongue.say("and {count} more, in the report", count=left) if left > 0 else "",
    )


def _in_groups(noticed: Sequence[ChangeLine], tongue: Tongue) -> list[Line]:
    """A line for what means the same to the owner."""
    groups = [list(group) for _, group in groupby(noticed, key=lambda c: c.notice)]
    return [
        Line(words=_notice(group, tongue), numbers=_numbers(c.number for c in group))
        for group in groups
    ]


def _rest(rest: Sequence[ChangeLine], tongue: Tongue, *, alone: bool) -> tuple[Line, ...]:
    """What the owner will not notice, by name where it is little."""
    if not rest:
        return ()
    words = tongue.say("Changes that you will not notice.")
    if not alone:
        words = tongue.say("Other changes, which you will not notice.")
    if len(rest) <= _NAMED:
        words = f"{words} ({_named(rest, tongue)})"
    return (Line(words=words, numbers=_numbers(c.number for c in rest)),)


def _is_noticed(line: ChangeLine) -> bool:
    return bool(line.notice) and (line.missed != "nothing" or _is_set(line))


def _is_set(line: ChangeLine) -> bool:
    """Whether nothing was switched off, so that nothing is missed, and it shows all the same."""
    return line.address.partition(":")[0] in {"power", "upkeep"}


def _notice(group: Sequence[ChangeLine], tongue: Tongue) -> str:
    named = _named(group, tongue)
    words = group[0].notice
    if "{title}" in words:
        return tongue.say(words, title=named)
    return tongue.say(words) if _is_set(group[0]) else f"{tongue.say(words)} ({named})"


def _named(group: Sequence[ChangeLine], tongue: Tongue) -> str:
    """The things that were changed, by name."""
    titles = list(dict.fromkeys(plain(c.title, TITLE_MOST) for c in group))
    shown = [tongue.quoted(title) for title in titles[:_NAMED]]
    return tongue.listed([*shown, *(["…"] if len(titles) > _NAMED else [])])


def _aside(aside: Sequence[ChangeLine], content: Content, tongue: Tongue) -> list[Line]:
    """What lies aside, and until when; nothing where nothing does."""
    if not aside:
        return []
    words = tongue.say(
        "{size} of old copies and leftovers lie aside. From {date} on they may be deleted; until"
        " then they can be had back.",
        size=tongue.size(sum(c.bytes for c in aside)),
        date=tongue.date(content.empty_on) if content.empty_on else "…",
    )
    return [Line(words=words, numbers=_numbers(c.number for c in aside))]


def _numbers(numbers: Iterable[int]) -> str:
    """Numbers as people write them, runs of them by their ends."""
    runs: list[list[int]] = []
    for number in sorted(numbers):
        if runs and runs[-1][-1] == number - 1:
            runs[-1].append(number)
        else:
            runs.append([number])
    pairs = [(run[0], run[-1]) for run in runs]
    return ", ".join(
        f"{a}" if a == b else f"{a}, {b}" if b == a + 1 else f"{a}\u2013{b}" for a, b in pairs
    )


def kept(content: Content, tongue: Tongue) -> Part:
    """What weighs something and stays, since it is needed."""
    audit = content.audit
    found = [f for f in audit.findings if f.stance == "keep" and f.weight.heft] if audit else []
    found = [f for f in found if f.area in {"services", "apps"}]
    found.sort(key=lambda f: -f.weight.heft)
    names = [tongue.quoted(plain(f.title, TITLE_MOST)) for f in found[:_KEPT]]
    lines = []
    if names:
        lines.append(
            tongue.say(
                "{names}: they weigh something, and you need them for your work.",
                names=tongue.listed(names),
            )
        )
    if content.audit is not None:
        lines.append(
            tongue.say("Logging in, network, sound, screen and security are never touched.")
        )
    return Part(head=tongue.say("What we kept on purpose"), lines=lines_of(lines))
