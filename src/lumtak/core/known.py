"""What is known of an item by its name and package alone, without any computer."""

from lumtak.core.catalogue import CLASS_WORDS, Catalogue, Role, Serves
from lumtak.core.profile import Profile
from lumtak.core.record import Record
from lumtak.core.ruling import Ruling, by_role, guarded_for, needed_for, never_by, question_of
from lumtak.core.setting import SettingRef
from lumtak.core.stance import Stance


class Known(Record):
    """An item as the pocket reference has it."""

    format: int = 1
    item: str
    package: str
    profile: str
    """Empty where none was named: what is said then goes for a profile that needs nothing."""
    role: str
    title: str
    stance: Stance
    serves: Serves
    consequence: str
    """What stops working without it; empty where nothing is known."""
    question: str
    reasons: tuple[str, ...]


def known(ref: SettingRef, package: str, profile: Profile, catalogue: Catalogue) -> Known:
    """What is known of an item that is on.

    Args:
        ref: names it, as on the computer where it was seen.
        package: that brought it; empty where that is not known.
        profile: what the computer is used for.
        catalogue: what is known of roles.
    """
    role = catalogue.find(catalogue.role_for(ref.area, ref.key, package=package))
    ruling = _ruling(role, str(ref), profile)
    asked = ruling.stance == "ask"
    return Known(
        item=str(ref),
        package=package,
        profile=profile.name,
        role=role.name if role else "",
        title=role.title if role else "",
        stance=ruling.stance,
        serves=role.serves if role else "person",
        consequence=role.stops if role else "",
        question=question_of(role, ref.key, "") if asked else "",
        reasons=(ruling.reason, *_evidence(role, package)),
    )


def _ruling(role: Role | None, consumer: str, profile: Profile) -> Ruling:
    """The stance; see `judging.Judge.ruling`, which knows the computer as well."""
    if role and role.guarded:
        return guarded_for(role)
    if (role and role.name in profile.never.roles) or consumer in profile.never.items:
        return never_by(profile)
    if role and role.name in profile.needs.roles:
        return needed_for(role.title)
    return by_role(role, "auto", "off")


def _evidence(role: Role | None, package: str) -> list[str]:
    """What bears out the ruling."""
    if role is None:
        return []
    found = [role.does]
    if package and package in role.packages:
        found.append(f"The package {package} is known.")
    if role.serves == "others":
        found.append("It serves others in the network.")
    if role.loses:
        found.append(f"Without it {CLASS_WORDS[role.loses]} may be lost: never by one “no”.")
    if role.likely:
        found.append("Only its name says so.")
    return found
