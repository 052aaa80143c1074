"""Computers by the address that people type."""

import os
from pathlib import Path
from typing import TYPE_CHECKING

from lumtak.errors import UnknownNameError, UsageError

if TYPE_CHECKING:  # the opening screen lists addresses, and opens none
    from lumtak.computers.protocol import Computer
    from lumtak.core.catalogue import Catalogue


def known_addresses() -> tuple[str, ...]:
    """Every address that can be opened here."""
    from lumtak.computers.simulated.heads import fleet

    return (*(f"sim:{name}" for name in fleet()), "local")


def open_computer(
    address: str,
    *,
    folder: Path,
    catalogue: "Catalogue",
    user: str | None = None,
    seed: int | None = None,
    pace: float = 0.0,
) -> "Computer":
    """The computer at an address.

    Args:
        address: "sim:NAME", "sim:NAME?fault=KIND" or "local".
        folder: where states of simulated computers are kept.
        catalogue: knows roles.
        user: of a real computer; default: who called, also through sudo.
        seed: of a simulated computer that is switched on for the first time.
        pace: of a simulated computer; 0 is as fast as it can.

    Raises:
        UnknownNameError: there is none at this address, or no such user.
    """
    from lumtak.computers.simulated.faults import split_address

    plain_address, faults = split_address(address)
    if plain_address not in known_addresses():
        raise UnknownNameError(
            "computer",
            plain_address,
            known_addresses(),
            f"There are {', '.join(known_addresses())}.",
        )
    if address == "local":
        from lumtak.computers.hands.whose import chosen_user, local_hands
        from lumtak.computers.linux.computer import LinuxComputer

        chosen = chosen_user(user, os.environ)
        return LinuxComputer(local_hands(chosen), chosen, catalogue)
    from lumtak.computers.simulated.computer import SimulatedComputer

    name = plain_address.removeprefix("sim:")
    computer = SimulatedComputer(name, folder, seed=seed, pace=pace, faults=faults, address=address)
    if user not in {None, computer.user_name}:
        raise UsageError(
            f"{computer.name} has no user {user}.", f"Its user is {computer.user_name}."
        )
    return computer
