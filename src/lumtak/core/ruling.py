"""What becomes of an item, and what its role alone says about that."""

from typing import NamedTuple

from lumtak.core.catalogue import CLASS_WORDS, Role
from lumtak.core.profile import Profile
from lumtak.core.stance import Stance


class Ruling(NamedTuple):
    """What becomes of an item."""

    stance: Stance
    reason: str
    """One sentence."""
    proposal: str | None = None
    """The value that would ease it."""


def is_never_silent(role: Role) -> bool:
    """Whether it is never switched off without its owner being asked.

    It serves others, what is lost without it is never lost unsaid, or its name alone tells of it.
    """
    return role.serves == "others" or bool(role.loses) or role.likely


def guarded_for(role: Role) -> Ruling:
    """It fills a guarded role."""
    why = f"it is for {role.title}; never touched, since without it {role.stops}."
    return Ruling("guarded", why)


def never_by(profile: Profile) -> Ruling:
    """The profile names it as never to be touched."""
    return Ruling("guarded", f"the profile {profile.name} says never to touch it.")


def needed_for(title: str) -> Ruling:
    """The profile needs the role that it fills."""
    return Ruling("keep", f"the profile needs it for {title}.")


def by_role(role: Role | None, value: str | None, proposal: str | None) -> Ruling:
    """What the catalogue says, where neither profile nor owner has said anything."""
    if role is None:
        return Ruling("ask", "its purpose is unknown; ask the owner.", proposal)
    use = f"it is for {role.title}"
    if role.likely:
        about = f"{role.does[:1].lower()}{role.does[1:].rstrip('.')}"
        return Ruling(
            "ask", f"only its name tells what it is for; {about}: {role.stops}.", proposal
        )
    if role.better == "keep":
        return Ruling("keep", f"{use}; it is worth what it costs.")
    if role.ask or is_never_silent(role):
        unsure = "only the owner knows whether it is used"
        return Ruling("ask", f"{use}; {unsure}, and without it {role.stops}.", proposal)
    if value == role.better == "demand":
        best = "it starts only when it is asked for, which is best for it."
        return Ruling("keep", f"{use}; {best}")
    return Ruling("ease", f"{use}, which the profile does not need.", proposal)


def asked_as_server(title: str, note: str) -> str:
    """What to ask of a server of which nothing else is known."""
    return f"Does any other computer use “{title}” of this one?{_of_itself(title, note)}"


def question_of(role: Role | None, title: str, note: str) -> str:
    """What to ask the owner, in plain words."""
    if role and role.ask:
        return role.ask
    if role and role.loses:
        return f"May this computer do without {CLASS_WORDS[role.loses]}, or is that done otherwise?"
    return f"Does anybody here use “{title}”?{_of_itself(title, note)}"


def _of_itself(title: str, note: str) -> str:
    """A sentence to follow a question; empty where the note says no more than the title."""
    said = note.rstrip(".") if note != title else ""
    return f" It says of itself: {said}." if said else ""
