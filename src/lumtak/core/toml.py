"""TOML documents that somebody wrote.

Read within a budget, and every problem is told with its line.
"""

import re
from typing import Any

from lumtak.errors import BadFileError

_LONGEST_LINE = 1000
_LONGEST = 1 << 18
"""Characters. Keys with many dots take time by the square of their length: together these two bound
it to less than a second."""


def read_toml(text: str, path: str) -> dict[str, Any]:
    """The document.

    Args:
        text: as it was written.
        path: its name, for errors.

    Raises:
        BadFileError: it is no TOML, too large, or nested too deeply; with the line.
    """
    import tomllib

    if len(text) > _LONGEST:
        raise BadFileError(path, f"this is larger than such a file ever is ({_LONGEST >> 10} KiB).")
    for number, line in enumerate(text.split("\n"), start=1):
        if len(line) > _LONGEST_LINE:
            problem = f"the line is longer than {_LONGEST_LINE} characters."
            raise BadFileError(path, problem, line=number, next_step="Break it up.")
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"\(at line (\d+), column \d+\)", str(error))
        line_number = int(found[1]) if found else text.count("\n") + 1
        problem = re.sub(r" \(at .*\)$", "", str(error))
        raise BadFileError(
            path,
            f"this is not valid TOML ({problem}).",
            line=line_number,
            next_step="Mend that line.",
        ) from error
    except RecursionError as error:
        raise BadFileError(
            path, "brackets in it are nested too deeply.", next_step="Take some away."
        ) from error
    except (ValueError, OverflowError) as error:
        raise BadFileError(
            path, "a number in it has too many digits.", next_step="Shorten it."
        ) from error
