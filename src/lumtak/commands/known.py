"""The pocket reference: what is known of an item by its name, without any computer."""

import click

from lumtak.commands.common import columns, home, json_option, say_json
from lumtak.core.known import known
from lumtak.core.setting import parse_ref
from lumtak.core.text import plain
from lumtak.where import home_option
from lumtak.work.knowledge import Knowledge


@click.command("known")
@click.argument("item", metavar="AREA:KEY")
@click.option("--package", default="", help="The package that brought it, where that is known.")
@click.option(
    "--profile",
    "profile_name",
    default="writing-and-web",
    show_default=True,
    metavar="NAME|FILE",
    help="The workload profile to judge by.",
)
@json_option
@home_option
def known_command(item: str, package: str, profile_name: str, *, as_json: bool) -> None:
    """What is known of a service or app by its name: what it is for, whether it may go, what is
    lost, what to ask the owner.

    No computer is looked at. Units of the user are written apps:user/NAME.service.

    \b
    lumtak known services:cups-browsed
    lumtak known apps:user/tracker-miner-fs-3.service --profile play --json
    lumtak known services:smbd --package samba
    """
    knowledge = Knowledge(home())
    profile = knowledge.profile(profile_name)
    found = known(parse_ref(item), package, profile, knowledge.catalogue)
    for problem in knowledge.catalogue.problems:
        click.echo(plain(problem, 400), err=True)
    if as_json:
        say_json(found)
        return
    rows = [
        ("item", plain(found.item, 120)),
        ("role", f"{found.title} ({found.role})" if found.role else "not known"),
        ("stance", f"{found.stance}, for {profile.title.lower()}"),
        ("serves", "others in the network too" if found.serves == "others" else "this person"),
        ("without it", found.consequence or "not known"),
        ("ask", found.question),
        *(("because" if n == 0 else "", reason) for n, reason in enumerate(found.reasons)),
    ]
    columns([(name, plain(words, 400)) for name, words in rows if words])
