"""Words to owners for what has a name inside: complaints, waits, what came of it."""

from lumtak.core.felt import Complaint
from lumtak.core.record import Record
from lumtak.report.sheet.record import Kind

CAME: dict[Complaint, str] = {
    "": "",
    "start": "It takes long to start.",
    "programs": "Programs take long to open.",
    "many-open": "It hangs when much is open.",
    "heat": "Its fan is loud and it gets hot.",
    "everything": "Everything on it is slow.",
}
TITLES: dict[Kind, str] = {
    "better": "Your computer is better, and this is how we know.",
    "partly": "Your computer is better, but its main trouble stays.",
    "not better": "We measured, and it is not better than before.",
    "worse": "We measured, and it is worse than before.",
    "nothing to gain": "Your computer is in order; no setting would make it quicker.",
    "unchanged": "We looked at your computer and changed nothing.",
    "put back": "Your computer is as it came: everything was put back.",
    "open": "Your computer was changed, and is not measured yet.",
}


class Waiting(Record):
    """Words for one thing that an owner waits for."""

    title: str
    """Under a picture."""
    says: str
    """A sentence with {before} and {after}."""


FELT: dict[str, Waiting] = {
    "program_start": Waiting(
        title="Opening a small program",
        says="Opening a small program took {before}; now it takes {after}.",
    ),
    "large_program": Waiting(
        title="Opening a large program",
        says="Opening a large program took {before}; now it takes {after}.",
    ),
    "usable": Waiting(
        title="Login until you can work",
        says="From logging in until you could work it took {before}; now it takes {after}.",
    ),
    "login_screen": Waiting(
        title="Switching on until login",
        says="From switching on to the login it took {before}; now it takes {after}.",
    ),
    "file_read": Waiting(
        title="Reading from the disk",
        says="Reading a piece from the disk took {before}; now it takes {after}.",
    ),
    "wake": Waiting(
        title="A waiting program answers",
        says="A program that waits answered after {before}; now after {after}.",
    ),
    "temperature": Waiting(
        title="Temperature",
        says="The computer settled at {before}; now it settles at {after}.",
    ),
}
