"""Whether root should run this Lumtak.

Asked before anything else of Lumtak is imported but what looks at places.
"""

import os
import sys
from collections.abc import Iterable, Mapping

from lumtak.computers.hands.sent.files.owned import why_not_roots


def why_not_as_root(environment: Mapping[str, str]) -> str:
    """Why root should not run this Lumtak on somebody's behalf, as a clause.

    Empty where it may, or where nobody asks it to.

    The interpreter, every folder that modules come from, and those that are loaded already have to
    be root's. This is a hint to whoever set Lumtak up so, and no guard: code of somebody else's has
    run by now, if there is any.
    """
    if os.geteuid() != 0 or not any(
        environment.get(name) for name in ("SUDO_USER", "PKEXEC_UID", "DOAS_USER")
    ):
        return ""
    places = [sys.executable, *_folders(sys.path), *sorted(_loaded_from())]
    return next((why for place in dict.fromkeys(places) if (why := why_not_roots(place))), "")


def _folders(path: Iterable[str]) -> list[str]:
    return [entry or "." for entry in path if os.path.exists(entry or ".")]


def _loaded_from() -> set[str]:
    files = (getattr(module, "__file__", None) for module in list(sys.modules.values()))
    return {os.path.dirname(file) for file in files if isinstance(file, str)}
