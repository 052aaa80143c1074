"""Workload profiles: listed, checked, shown, and proposed for a computer."""

from pathlib import Path

import click
import msgspec

from lumtak.commands.common import columns, json_option, say_json, user_option, with_data_folder
from lumtak.core.suggest import suggest
from lumtak.core.text import plain
from lumtak.work.data_folder import DataFolder
from lumtak.work.knowledge import read_profile


@click.group("profile")
def profile_group() -> None:
    """Workload profiles: what a computer's owner does on it."""


@profile_group.command("list")
@json_option
@with_data_folder
def profile_list(data_folder: DataFolder, *, as_json: bool) -> None:
    """All profiles, name first; your own stand in HOME/profiles/NAME.toml."""
    profiles = data_folder.profiles()
    if as_json:
        say_json(list(profiles.values()))
        return
    columns([(name, plain(p.title), plain(p.about)) for name, p in profiles.items()])


@profile_group.command("check")
@click.argument("file", type=click.Path(path_type=Path))
@with_data_folder
def profile_check(data_folder: DataFolder, file: Path) -> None:
    """Say whether FILE is a profile, and what is wrong with it if not."""
    del data_folder
    profile = read_profile(file)
    click.echo(f"{file}: the profile {profile.name} is right.")


@profile_group.command("show")
@click.argument("name", metavar="NAME|FILE")
@json_option
@with_data_folder
def profile_show(data_folder: DataFolder, name: str, *, as_json: bool) -> None:
    """What a profile asks for.

    \b
    lumtak profile show tide-logging
    """
    profile = data_folder.profile(name)
    if as_json:
        say_json(profile)
        return

    def titles(roles: tuple[str, ...]) -> str:
        return (
            ", ".join(known.title if (known := data_folder.catalogue.find(r)) else r for r in roles)
            or "nothing in particular"
        )

    limits, power, memory, upkeep = profile.ceilings, profile.power, profile.memory, profile.upkeep
    rows = [
        ("profile", f"{profile.title} ({profile.name})"),
        ("about", plain(profile.about, 300)),
        ("needs", titles(profile.needs.roles)),
        (
            "never touched",
            titles(profile.never.roles) + "".join(f", {plain(i, 80)}" for i in profile.never.items),
        ),
        ("ceilings", f"CPU {limits.cpu_pct:g} %, RAM {limits.ram_pct:g} % at idle"),
        ("effects kept", ", ".join(profile.effects.keep) or "none"),
        (
            "power plan",
            f"on mains {power.mains or 'left alone'}, on battery {power.battery or 'left alone'}",
        ),
        (
            "readiness to swap",
            "left alone" if memory.swappiness is None else str(memory.swappiness),
        ),
        ("size of swap", f"by the rule {memory.swap}" if memory.swap else "left alone"),
        (
            "free space",
            (
                "5 % of the volume"
                if profile.storage.free_gib is None
                else f"{profile.storage.free_gib:g} GiB"
            ),
        ),
        (
            "upkeep",
            ", ".join(f"{n} {r}" for n, r in msgspec.structs.asdict(upkeep).items() if r)
            or "no reminders",
        ),
    ]
    columns(rows)


@profile_group.command("suggest")
@click.argument("address", metavar="COMPUTER")
@user_option
@json_option
@with_data_folder
def profile_suggest(
    data_folder: DataFolder, address: str, user: str | None, *, as_json: bool
) -> None:
    """Propose a profile for COMPUTER from what it runs, with reasons.

    \b
    lumtak profile suggest local
    """
    facts, _ = data_folder.look(address, user=user)
    found = suggest(facts, data_folder.profiles().values(), data_folder.catalogue)
    best = found[0]
    if as_json:
        say_json(
            {
                "format": 1,
                "computer": facts.address,
                "profile": best.profile,
                "reasons": best.reasons,
                "all": found,
            }
        )
        return
    click.echo(f"{best.profile}: {best.title}")
    for reason in best.reasons:
        click.echo(f"  {plain(reason, 160)}")
    if best.missing:
        click.echo(f"  not found here: {', '.join(best.missing)}")
    others = [s for s in found[1:4] if s.score > 0]
    if others:
        click.echo(
            "next: "
            + ", ".join(f"{s.profile} ({s.score:g} against {best.score:g})" for s in others)
        )
