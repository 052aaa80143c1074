"""Where Lumtak's data stand: apart from all else, since `--version` and completion say it."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

if TYPE_CHECKING:
    from pathlib import Path

_F = TypeVar("_F", bound=Callable[..., Any])


def default_home() -> "Path":
    """Where data are kept unless --home says otherwise (XDG Base Directory Specification)."""
    from pathlib import Path

    import platformdirs

    return Path(platformdirs.user_data_dir("lumtak", appauthor=False))


def home_option(function: _F) -> _F:
    """`--home DIR`, before or after the command's name; the nearer one counts."""

    def keep(context: click.Context, _: click.Parameter, value: str | None) -> None:
        if value is not None:
            from pathlib import Path

            context.find_root().meta["lumtak.home"] = Path(value).expanduser().absolute()

    return click.option(
        "--home",
        type=click.Path(file_okay=False),
        expose_value=False,
        is_eager=True,
        callback=keep,
        metavar="DIR",
        help="Keep Lumtak's data in DIR instead of the XDG data folder.",
    )(function)
