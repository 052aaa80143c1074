"""How the bench draws jobs, computers, and what is asked before a job begins."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Literal, get_args

from rich.text import Text

from lumtak.casebook import Heading
from lumtak.computers.addresses import known_addresses
from lumtak.core.felt import COMPLAINTS, Complaint, measures_of
from lumtak.core.profile import Profile
from lumtak.core.text import plain
from lumtak.storage import in_short
from lumtak.tui.theme import Palette
from lumtak.tui.widgets.lines import Line, fit
from lumtak.tui.widgets.mini import glance_line

if TYPE_CHECKING:
    from lumtak.work.changes import StandingChanges

PLAIN_PROFILE = "writing-and-web"
"""The one to begin with where nothing is known."""
_ABOUT = {"local": ("this computer", "the Linux computer that Lumtak runs on")}
Order = Literal["worked on last", "what is due first", "by computer", "newest first"]
ORDERS: tuple[Order, ...] = get_args(Order)


def head(home: Path | None, palette: Palette) -> Text:
    """Whose data folder this is; None is the demo's."""
    text = Text()
    text.append(" Lumtak", style=f"bold {palette.accent}")
    where = in_short(home) if home else "demo: made-up computers, nothing stays"
    text.append(f"  {where}", style=palette.soft)
    return text


def about(address: str) -> tuple[str, str]:
    """(name, what it is) of a computer."""
    if address in _ABOUT:
        return _ABOUT[address]
    from lumtak.computers.simulated.heads import head_of

    head = head_of(address.removeprefix("sim:"))
    return head.title.lower(), head.about


def came_with(address: str) -> tuple[Complaint, str]:
    """(the complaint that the owner of a made-up computer comes with, in their words)."""
    if address in _ABOUT:
        return "", ""
    from lumtak.computers.simulated.heads import head_of

    head = head_of(address.removeprefix("sim:"))
    return head.complaint, head.told


def due_of(job: Heading, standing: "Mapping[str, StandingChanges]") -> str:
    """What a job waits for, in few words; empty where nothing is due."""
    stands = standing.get(job.address.partition("?")[0])
    if stands is None:
        return ""
    drifted = f"{stands.drifted} drifted" if stands.drifted else ""
    words = ", ".join(filter(None, (stands.owed, drifted)))
    if words:
        return words
    waits = job.after is None and job.station in {"plan", "proof"} and stands.changes
    return "after reading due" if waits else stands.due


def words_of(job: Heading, standing: "Mapping[str, StandingChanges]") -> str:
    """What a job is found by."""
    words = (job.id, job.computer_name, job.user, job.station, job.profile.title, job.verdict)
    return f"{' '.join(words)} {due_of(job, standing)}"


def ordered(
    jobs: Iterable[Heading], order: Order, standing: "Mapping[str, StandingChanges]"
) -> list[Heading]:
    """The jobs in this order; those alike stay in the order in which they were worked on."""
    found = list(jobs)
    if order == "what is due first":
        found.sort(key=lambda j: not due_of(j, standing))
    elif order == "by computer":
        found.sort(key=lambda j: (j.computer_name.lower(), -j.visit))
    elif order == "newest first":
        found.sort(key=lambda j: j.begun_at, reverse=True)
    return found


def about_jobs(order: Order, archived: int, *, shown: bool) -> str:
    """The order, where it is another, and how many are put away."""
    put_away = f"{archived} archived, {'shown' if shown else 'not shown'} ({{archived}})"
    return "; ".join(
        filter(None, (order if order != ORDERS[0] else "", put_away if archived else ""))
    )


def job_lines(
    job: Heading,
    standing: "Mapping[str, StandingChanges]",
    palette: Palette,
    *,
    wide: bool,
    two: bool,
) -> list[Line]:
    """Where it stands, the last load against the ceilings; what is due, the last verdict, for what.

    Args:
        job: what is drawn.
        standing: what stands changed, by address.
        palette: colours.
        wide: whether there is room for whole words.
        two: whether there is room for two lines.
    """
    text = Text()
    text.append(f"   {fit(job.computer_name, 20 if wide else 14)} ", style="bold")
    text.append(f"visit {job.visit:<3} ")
    text.append(f"{job.station:<10}", style=palette.accent)
    text.append_text(glance_line(job.last, palette, (26 if two else 16) if wide else 6))
    more = Text("     ") if two else text
    if due := due_of(job, standing):
        more.append(f"{due}  ", style=f"bold {palette.warning}")
    if job.verdict:
        more.append(f"{plain(job.verdict, 60)}  ", style=palette.ink)
    put_away = "archived, " if job.archived else ""
    more.append(
        f"{put_away}{plain(job.profile.title.lower(), 28)}, {job.begun_at[:10]}", style=palette.soft
    )
    key = f"job {job.id}"
    return [Line(text, key), Line(more, of=key)] if two else [Line(text, key)]


def computers(seen: Iterable[str]) -> dict[str, list[str]]:
    """Addresses by heading: those that have a job first."""
    had = {address.partition("?")[0] for address in seen}
    known = list(known_addresses())
    before, others = [a for a in known if a in had], [a for a in known if a not in had]
    if before and others:
        return {"Computers seen before": before, "Other computers": others}
    return {"Computers": known}


def computer_line(address: str, stands: "StandingChanges | None", palette: Palette) -> Text:
    """Its name, address, what stands changed on it, what it is."""
    name, what = about(address)
    text = Text()
    text.append(f"   {name:<16}", style="bold")
    text.append(f"{address:<19}", style=palette.soft)
    if stands:
        colour = palette.warning if stands.drifted else palette.accent
        text.append(stands.in_words(), style=colour)
    else:
        text.append(what)
    return text


def computer_lines(
    groups: Mapping[str, Sequence[str]],
    wanted: Callable[[str], bool],
    standing: "Mapping[str, StandingChanges]",
    palette: Palette,
) -> list[Line]:
    """Those of each group of which the words are wanted, under its heading."""
    lines = []
    for title, addresses in groups.items():
        mine = [a for a in addresses if wanted(f"{a} {' '.join(about(a))}")]
        if mine:
            lines += [Line(Text()), heading(title, palette)]
        lines += [Line(computer_line(a, standing.get(a), palette), f"computer {a}") for a in mine]
    return lines


def heading(title: str, palette: Palette, more: str = "") -> Line:
    """A heading, and what is to be said beside it."""
    text = Text(f" {title}", style=f"bold {palette.soft}")
    if more:
        text.append(f"   {more}", style=f"not bold {palette.soft}")
    return Line(text)


def _suits(address: str) -> str:
    """The profile that was made for this computer; empty where none was."""
    if address in _ABOUT:
        return PLAIN_PROFILE
    from lumtak.computers.simulated.heads import head_of

    return head_of(address.removeprefix("sim:")).profile


def profile_lines(address: str, profiles: Iterable[Profile], palette: Palette) -> list[Line]:
    """What the computer may be used for; what was made for it first."""
    name, _ = about(address)
    asked = "What is this computer used for?"
    if address != "local":
        asked = f"What is the {name} used for?"
    lines = [Line(Text()), heading(asked, palette)]
    suits = _suits(address)
    for profile in sorted(profiles, key=lambda p: p.name != suits):
        text = Text()
        text.append(f"   {plain(profile.title, 26):<28}", style="bold")
        text.append(plain(profile.about))
        if profile.name == suits and suits != PLAIN_PROFILE:
            text.append("   made for it", style=palette.accent)
        lines.append(Line(text, f"profile {profile.name}"))
    return lines


def complaint_lines(address: str, palette: Palette) -> list[Line]:
    """What its owner may complain of; what this one came with first."""
    name, _ = about(address)
    suits, told = came_with(address)
    whose = name if address == "local" else f"the {name}"
    lines = [Line(Text()), heading(f"What does the owner of {whose} complain of?", palette)]
    if told:
        lines.append(Line(Text(f"   “{told}”", style=palette.accent)))
    for complaint in sorted(COMPLAINTS, key=lambda c: c != suits):
        text = Text()
        text.append(f"   {COMPLAINTS[complaint]:<28}", style="bold")
        text.append(measures_of(complaint), style=palette.soft)
        lines.append(Line(text, f"complaint {complaint}"))
    text = Text(f"   {'nothing':<28}", style="bold")
    text.append("it is only looked at", style=palette.soft)
    return [*lines, Line(text, "complaint none")]
