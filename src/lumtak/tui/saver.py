"""Keeps a job in the background, so that no key press waits for the disk."""

import logging
import threading
from collections.abc import Callable

from lumtak.casebook.job import Job
from lumtak.casebook.store import Casebook
from lumtak.errors import LumtakError


class Saver:
    """Saves the newest state of a job in a thread of its own.

    States that were overtaken are skipped.

    Args:
        casebook: keeps it.
        on_error: told a sentence, from that thread, when it could not be kept.
    """

    def __init__(self, casebook: Casebook, on_error: Callable[[str], None]) -> None:
        self._casebook = casebook
        self._on_error = on_error
        self._wake = threading.Condition()
        self._waiting: Job | None = None
        self._closed = False
        self._thread = threading.Thread(target=self._run, name="saver", daemon=True)
        self._thread.start()

    def __call__(self, job: Job) -> None:
        """Keep this state, soon."""
        with self._wake:
            self._waiting = job
            self._wake.notify_all()

    def close(self) -> None:
        """Returns when everything is kept."""
        with self._wake:
            self._closed = True
            self._wake.notify_all()
        self._thread.join()

    def _run(self) -> None:
        while True:
            with self._wake:
                while self._waiting is None and not self._closed:
                    self._wake.wait()
                job, self._waiting = self._waiting, None
                if job is None:
                    return
            try:
                self._casebook.save(job)
            except LumtakError as error:
                logging.getLogger(__name__).exception("the job was not kept")
                self._on_error(str(error))
