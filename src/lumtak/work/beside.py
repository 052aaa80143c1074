"""Upkeep beside a job: one task after the other, in a thread of its own, while the work goes on."""

import logging
import threading
from collections.abc import Callable

from lumtak.computers.protocol import Computer
from lumtak.core.profile import Profile
from lumtak.core.upkeep.tasks import TASKS, Partial, Result, TaskName
from lumtak.errors import LumtakError, StoppedError
from lumtak.work.data_folder import DataFolder
from lumtak.work.upkeep import give_up, run_task

_ENDS_S = 5.0


class Beside:
    """The tasks that wait and the one that runs.

    Args:
        data_folder: keeps what they find.
        computer: whose upkeep.
        profile: gives the one that counts when a task begins.
        run: does one; see `upkeep.run_task`.
    """

    def __init__(
        self,
        data_folder: DataFolder,
        computer: Computer,
        profile: Callable[[], Profile],
        run: Callable[..., Result] = run_task,
    ) -> None:
        self._data_folder, self._computer = data_folder, computer
        self._profile, self._run = profile, run
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self.waiting: tuple[TaskName, ...] = ()
        self.running: TaskName | None = None
        self.partial: Partial | None = None
        """How far the one that runs is."""
        self.waits: str = ""
        """What it waits for; empty where it is at work."""
        self.problems: dict[TaskName, str] = {}
        """Why a task could not be brought to its end, when it was tried last."""
        self.ended = 0
        """How many ended; tells whether there is something new to look at."""
        self._forgotten = False

    @property
    def words(self) -> str:
        """What goes on, in few words; empty where nothing does."""
        task, partial = self.running, self.partial
        if task is None:
            return ""
        far = self.waits or (partial.in_words() if partial and partial.files else "")
        return f"{TASKS[task].title.lower()}: {far}" if far else TASKS[task].title.lower()

    def begin(self, task: TaskName) -> None:
        """It runs now, or after those that wait; one that was paused goes on."""
        with self._lock:
            if task == self.running or task in self.waiting:
                return
            self.problems.pop(task, None)
            self.waiting = (*self.waiting, task)
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name="upkeep", daemon=True)
                self._thread.start()

    def pause(self, task: TaskName) -> None:
        """It stops, and goes on later where it is; one that waits does not begin."""
        with self._lock:
            self.waiting = tuple(t for t in self.waiting if t != task)
            if task == self.running:
                self._stop.set()

    def cancel(self, task: TaskName) -> None:
        """It stops, and what it found so far is forgotten."""
        self.pause(task)
        with self._lock:
            running = task == self.running
            self._forgotten = running
        if not running:
            give_up(self._data_folder, self._computer.identity, task)

    def close(self) -> None:
        """Whatever runs is paused."""
        with self._lock:
            self.waiting = ()
            self._stop.set()
            thread = self._thread
        if thread is not None:
            thread.join(_ENDS_S)

    def _work(self) -> None:
        while True:
            with self._lock:
                if not self.waiting:
                    self.running, self._thread = None, None
                    return
                self.running, *rest = self.waiting
                self.waiting = tuple(rest)
                self.partial, self.waits, self._forgotten = None, "", False
                self._stop.clear()
                task = self.running
            self._do(task)
            self.ended += 1

    def _do(self, task: TaskName) -> None:
        try:
            self._run(
                self._data_folder,
                self._computer,
                task,
                profile=self._profile(),
                on_progress=self._tell,
                stop=self._stop,
            )
        except StoppedError:
            pass
        except LumtakError as error:
            self.problems[task] = str(error)
        except Exception as error:  # the thread goes on, the log has the rest
            logging.getLogger(__name__).exception("upkeep")
            self.problems[task] = f"This should not have happened: {type(error).__name__}."
        if self._forgotten:
            give_up(self._data_folder, self._computer.identity, task)

    def _tell(self, partial: Partial, waits: str) -> None:
        self.partial, self.waits = partial, waits
