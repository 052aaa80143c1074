"""What every command shares: the data folder, the log, output for people and for scripts."""

import contextlib
import os
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import update_wrapper
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from lumtak.commands.terminal import begin_line
from lumtak.core.record import json_document
from lumtak.core.setting import SettingRef
from lumtak.core.text import plain
from lumtak.core.units import write_sizes
from lumtak.errors import ComputerError, UsageError
from lumtak.reserve import IN_OTHER_HOME, other_home
from lumtak.storage import make_folder
from lumtak.where import default_home, home_option

if TYPE_CHECKING:
    from logging import LogRecord

    from lumtak.computers.protocol import Computer
    from lumtak.core.settings import Settings
    from lumtak.report.charts import ChartFormat
    from lumtak.report.tongue import Tongue
    from lumtak.work.data_folder import DataFolder

_F = TypeVar("_F", bound=Callable[..., Any])
_LOG_BYTES = 1 << 20


def home() -> Path:
    """The data folder of this run."""
    meta = click.get_current_context().find_root().meta
    found: Path | None = meta.get("lumtak.home")
    if found is None:
        other = meta["lumtak.other"] = other_home(default_home())
        found = meta["lumtak.home"] = other or default_home()
    return found


def with_data_folder(function: _F) -> _F:
    """The command gets the data folder as its first argument, and lets its stores go at the end."""

    def wrapped(*args: Any, **options: Any) -> Any:  # noqa: ANN401
        from lumtak.work.data_folder import DataFolder

        data_folder = DataFolder(home())
        if click.get_current_context().find_root().meta.get("lumtak.other"):
            data_folder.to_tell.append(IN_OTHER_HOME.format(data_folder.home))
        log_to(data_folder.home)
        write_sizes(data_folder.settings.sizes)
        try:
            end_interrupted(data_folder)
            return function(data_folder, *args, **options)
        finally:
            for notice in data_folder.notices():
                click.echo(notice, err=True)
            data_folder.close()

    # One argument fewer.
    return home_option(update_wrapper(wrapped, function))  # type: ignore[return-value]


def end_interrupted(data_folder: "DataFolder") -> None:
    """Restore what trials that were killed had left switched on; it is told with the notices."""
    if any((data_folder.home / "trials").glob("*/under-way.json")):
        from lumtak.work.trial.under_way import finish_interrupted

        data_folder.to_tell += finish_interrupted(data_folder)


def chart_form(path: Path) -> "ChartFormat":
    """By the ending of a file's name.

    Raises:
        UsageError: it has another.
    """
    forms: dict[str, ChartFormat] = {".svg": "svg", ".pdf": "pdf"}
    form = forms.get(path.suffix.lower())
    if form is None:
        raise UsageError(
            f"{plain(str(path), 200)} is neither .svg nor .pdf.",
            "Name the file with one of these endings.",
        )
    return form


def log_to(folder: Path) -> None:
    """Details go to lumtak.log in the data folder, opened when there is something to say."""
    import logging
    from logging.handlers import RotatingFileHandler

    class Quiet(RotatingFileHandler):
        """A log that cannot be written must not hide the error that was to go there."""

        def handleError(self, record: "LogRecord") -> None:  # noqa: N802 - logging's name
            del record

        def emit(self, record: "LogRecord") -> None:
            with contextlib.suppress(OSError):
                make_folder(folder)
                super().emit(record)

        def _open(self) -> TextIOWrapper:
            flags = os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
            return TextIOWrapper(
                os.fdopen(os.open(self.baseFilename, flags, 0o600), "ab"), encoding="utf-8"
            )

    logger = logging.getLogger("lumtak")
    for old in list(logger.handlers):
        logger.removeHandler(old)
        old.close()
    handler = Quiet(
        folder / "lumtak.log", maxBytes=_LOG_BYTES, backupCount=1, delay=True, encoding="utf-8"
    )
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s %(message)s"))
    logger.addHandler(handler)
    logger.setLevel(logging.INFO)
    logger.propagate = False


def json_option(function: _F) -> _F:
    """`--json`."""
    return click.option("--json", "as_json", is_flag=True, help="Print JSON for scripts.")(function)


def user_option(function: _F) -> _F:
    """`--user`."""
    return click.option(
        "--user",
        metavar="NAME",
        help="Whose settings on a real computer. Default: who called, also through sudo.",
    )(function)


def profile_option(function: _F) -> _F:
    """`--profile`, where a job may say it."""
    return click.option(
        "--profile",
        "profile_name",
        metavar="NAME|FILE",
        help="By which it is judged. Default: that of the newest job on this computer.",
    )(function)


def only_copy_option(function: _F) -> _F:
    """`--only-copy`."""
    return click.option(
        "--only-copy",
        multiple=True,
        metavar="PATH",
        help="The yes of its own that a thing takes which may be the only copy; for scripts.",
    )(function)


def whole(path: str) -> str:
    """A path as a person named it, as the lists of files have it."""
    from lumtak.computers.hands.sent.files.words import escaped

    # The name itself, no link of it followed: pathlib would have none of that.
    return escaped(os.path.abspath(os.path.expanduser(path)))  # noqa: PTH100, PTH111


def ask_first(address: "Computer", refs: Iterable[SettingRef]) -> None:
    """Let sudo ask for a password before the first change that takes root, where a person sits at
    the terminal.

    A refusal is an ordinary answer: each change that takes root then tells it.
    """
    from lumtak.work.rights import asking

    ask = asking(address, refs)
    if ask is not None and sys.stdin.isatty():
        with contextlib.suppress(ComputerError):
            ask()


@contextlib.contextmanager
def computer_to_act_on(
    data_folder: "DataFolder", address: str, user: str | None
) -> "Iterator[Computer]":
    """The computer for as long as something is done on it; what rights it got end with it."""
    computer = data_folder.computer(address, user=user)
    try:
        yield computer
    finally:
        computer.settings.give_back_rights()
        computer.close()


def asked_tongue(settings: "Settings", language: str, paper: str | None) -> "Tongue":
    """The language that was asked for, else the one that the shop has set.

    Raises:
        UsageError: there is none of that name.
    """
    from lumtak.report.tongue import languages, tongue_of

    if language and language.partition("_")[0] not in languages():
        raise UsageError(
            f"There are no sheets and reports in “{plain(language, 40)}”.",
            f"There are {', '.join(languages())}.",
        )
    return tongue_of(settings, language, paper or "")


def agree(question: str, done: str) -> None:
    """Ask what --yes answers beforehand.

    Args:
        question: with its mark.
        done: what it then is: "removed".

    Raises:
        UsageError: nobody is there, or they said no.
    """
    if not sys.stdin.isatty():
        raise UsageError("Nobody is there to answer.", f"Say --yes if it is to be {done}.")
    if not click.confirm(question, default=False):
        raise UsageError(f"Nothing was {done}.")


def say_json(value: object) -> None:
    """The value as JSON on standard output."""
    click.echo(json_document(value, indent=2).decode(), nl=False)


def progress(line: str) -> None:
    """One line that is written over, on a terminal only."""
    if sys.stderr.isatty():
        begin_line()
        click.echo(line, err=True, nl=False)


def columns(rows: Sequence[tuple[str, ...]], gap: str = "  ") -> None:
    """Rows as aligned columns, the last one ragged."""
    if not rows:
        return
    widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))]
    for row in rows:
        click.echo(
            gap.join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip()
        )
