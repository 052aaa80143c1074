"""Why an after reading does not count, and what is said of it."""

from typing import Literal

Provisional = Literal["", "restart", "login", "put back", "changed"]
"""restart, login: what was changed did not show yet when it was taken. put back, changed: the
computer is another one since. Empty: it counts."""

PROVISIONAL_WORDS: dict[Provisional, str] = {
    "restart": "a restart was still needed when it was taken",
    "login": "a new login was still needed when it was taken",
    "put back": "changes were put back since it was taken",
    "changed": "settings were changed since it was taken",
}
