"""The program: one plain sentence for whatever goes wrong, and the exit codes 0 done, 1 failed, 2
usage, 3 conflict or partly done.
"""

import gc
import os
import sys

_OTHERWISE = (
    "Start it as yourself: it asks sudo for each plan that takes root. Or install it where only"
    " root can write."
)


def main() -> None:
    """Run the command line; never ends in a traceback."""
    # What is made while starting is kept: to look for garbage in it takes a sixth of the start.
    gc.set_threshold(50_000, 20, 50)
    from lumtak.roots import why_not_as_root

    if why := why_not_as_root(os.environ):  # before anything else is imported
        _say(f"Lumtak does not work as root here, since {why}. {_OTHERWISE}")
        sys.exit(1)
    import click

    from lumtak.cli import cli
    from lumtak.commands.terminal import in_plain_words, make_harmless
    from lumtak.errors import LumtakError

    make_harmless()
    try:
        code = cli.main(prog_name="lumtak", standalone_mode=False)
        sys.stdout.flush()
    except LumtakError as error:
        _say(str(error))
        code = error.exit_code
    except click.ClickException as error:
        _say(
            f"{in_plain_words(error.format_message()).rstrip('.')}. `lumtak --help` shows what"
            " there is."
        )
        code = 2
    except (click.Abort, KeyboardInterrupt):
        _say("Stopped. What was changed so far is in the journal.")
        code = 1
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    except Exception as error:  # noqa: BLE001 - the last resort, so that nobody is shown a traceback
        code = _unexpected(error)
    sys.exit(code if isinstance(code, int) else 0)


def _say(sentence: str) -> None:
    sentence = "".join(char if char.isprintable() else "\ufffd" for char in sentence)
    print(f"lumtak: {sentence}", file=sys.stderr)  # noqa: T201 - the one place that speaks before click does


def _unexpected(error: Exception) -> int:
    import logging

    from lumtak.core.text import plain

    logging.getLogger("lumtak").error("unexpected", exc_info=error)
    if isinstance(error, OSError):
        where = f"{error.filename}: " if error.filename else ""
        _say(f"{where}{(error.strerror or str(error)).lower()}. Mend that, then try again.")
    else:
        _say(
            f"This should not have happened ({plain(type(error).__name__)}: {plain(str(error))})."
            " Please report it with the log."
        )
    return 1


if __name__ == "__main__":
    main()
