"""Lumtak's data folder, with its journal, casebook, profiles and computers."""

from functools import cached_property
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from lumtak.errors import UsageError
from lumtak.reserve import see_to_reserve
from lumtak.storage import copied_to_look, only_looked_at, sweep
from lumtak.work.knowledge import Knowledge

if TYPE_CHECKING:  # the opening screen waits for none of them
    from lumtak.casebook import Heading
    from lumtak.casebook.store import Casebook
    from lumtak.computers.protocol import Computer
    from lumtak.core.actions import Action
    from lumtak.core.advice import Advice
    from lumtak.core.audit import Answer
    from lumtak.core.clutter import Survey
    from lumtak.core.facts import Facts
    from lumtak.core.reading import Reading
    from lumtak.core.record import Record
    from lumtak.journal import Journal
    from lumtak.work.sampling import OnSample


class DataFolder(Knowledge):
    """Everything kept under one home folder; stores are opened when they are first needed.

    Args:
        home: the data folder; made when something is first written.

    Raises:
        StorageError: it is root's Lumtak, and others decide where the folder is or what stands in
            it.
    """

    def __init__(self, home: Path) -> None:
        super().__init__(home)
        self._copy = copied_to_look(home)
        self._only_look = home if self._copy else None
        self._told = False
        self.to_tell: list[str] = []
        """What became of something before anybody looked, to be told with the notices."""
        if self._copy:
            self.home = Path(self._copy.name)
        else:
            see_to_reserve(home)
        many = (f for name in ("before", "upkeep") for f in (self.home / name).glob("*"))
        for folder in (self.home, self.home / "simulated", *many):
            sweep(folder)

    @property
    def only_looks(self) -> bool:
        """Whether nothing can be kept in it."""
        return self._only_look is not None

    @cached_property
    def journal(self) -> "Journal":
        """The journal of changes."""
        from lumtak.journal import Journal

        return Journal(self.home, only_look=self._only_look)

    @cached_property
    def casebook(self) -> "Casebook":
        """The jobs."""
        from lumtak.casebook.store import Casebook

        return Casebook(self.home, only_look=self._only_look)

    def jobs(self) -> "list[Heading]":
        """What tells all jobs apart, the one worked on last first; where nobody ever began one,
        nothing is made to say so.
        """
        return self.casebook.jobs() if (self.home / "casebook.db").exists() else []

    def newest_job(self, identity: str) -> "Heading | None":
        """Of a computer: the one that was worked on last; None where there is none."""
        return next((j for j in self.jobs() if j.identity == identity), None)

    @cached_property
    def advice(self) -> "tuple[Advice, ...]":
        """Common advice, graded."""
        from lumtak.core.advice import load_advice

        shipped = files("lumtak") / "data" / "advice.toml"
        return load_advice(shipped.read_text(encoding="utf-8"), shipped.name)

    def look(
        self,
        name: str,
        *,
        user: str | None = None,
        seconds: float = 0.0,
        on_sample: "OnSample | None" = None,
    ) -> "tuple[Facts, Reading | None]":
        """Facts, and a reading where one is asked for, of a computer by its address, or of a
        capture by its file's name.

        Raises:
            UnknownNameError: there is no such computer; BadFileError: the file is no capture.
        """
        if is_capture(name):
            from lumtak.formats.capture import load_capture

            captured = load_capture(Path(name))
            return captured.facts, captured.reading
        computer = self.computer(name, user=user)
        try:
            reading = None
            if seconds:
                from lumtak.work.sampling import take_reading

                reading = take_reading(computer, seconds=seconds, on_sample=on_sample, watched=None)
            return computer.about.facts(), reading
        finally:
            computer.close()

    def opened(self, name: str, *, user: str | None = None) -> "tuple[Facts, Computer | None]":
        """Facts, and the computer where it is one and no capture; to be closed.

        Raises:
            UnknownNameError: there is no such computer; BadFileError: the file is no capture.
        """
        if is_capture(name):
            from lumtak.formats.capture import load_capture

            return load_capture(Path(name)).facts, None
        computer = self.computer(name, user=user)
        return computer.about.facts(), computer

    def answers(self, identity: str) -> "dict[str, Answer]":
        """What the owner of this computer said, by address."""
        return self.casebook.answers(identity)

    def computer(
        self, address: str, *, user: str | None = None, seed: int | None = None, pace: float = 0.0
    ) -> "Computer":
        """The computer at an address; see `open_computer`."""
        from lumtak.computers.addresses import open_computer
        from lumtak.work.quiet import known_at

        computer = open_computer(
            address,
            folder=self.home / "simulated",
            catalogue=self.catalogue,
            user=user,
            seed=seed,
            pace=pace,
        )
        if self._only_look is None:
            known_at(computer.identity, self.home)
        return computer

    @property
    def surveys(self) -> Path:
        """The folder of looks through disks."""
        return self.home / "surveys"

    def keep_survey(self, survey: "Survey") -> None:
        """A look through a disk stands in a file of its own."""
        from lumtak.formats.surveys import keep

        self.writable()
        keep(self.surveys, survey)

    def keep_document(self, place: Path, document: "Record") -> None:
        """A document of Lumtak's own stands in this file below the data folder."""
        from lumtak.core.record import json_document
        from lumtak.storage import make_folder, write_whole

        self.writable()
        make_folder(place.parent)
        write_whole(place, json_document(document), private=True)

    def writable(self) -> None:
        """Check that something can be kept.

        Raises:
            StorageError: it can only be looked at.
        """
        if self._only_look is not None:
            raise only_looked_at(self._only_look)

    def _keep(self, path: Path, data: bytes) -> None:
        self.writable()
        super()._keep(path, data)

    def record_action(self, identity: str, action: "Action", job_id: str | None = None) -> str:
        """Keep an action with a job: the one named, else the newest on that computer.

        Gives its name, empty where there is none.

        Raises:
            UnknownNameError: there is no such job; UsageError: it belongs to another computer.
        """
        newest = self.newest_job(identity)
        here = job_id or (newest.id if newest else None)
        if here is None:
            return ""
        job = self.casebook.job(here)
        if job.identity != identity:
            raise UsageError(
                f"The job {job.id} belongs to another computer.", "Name a job of this one."
            )
        self.casebook.save(msgspec.structs.replace(job, actions=(*job.actions, action)))
        return job.id

    def notices(self) -> list[str]:
        """What the person has to be told about Lumtak's own data, such as a store that had to be
        mended; each once.
        """
        told, self.to_tell = self.to_tell, []
        if self._only_look is not None and not self._told:
            told.append(
                f"{self._only_look} cannot be written: it can be looked at, and nothing is kept."
            )
            self._told = True
        if self.unread:
            told.append(f"{self.unread} Until then Lumtak works as if nothing were set.")
            self.unread = ""
        for name in ("journal", "casebook"):
            if name in self.__dict__:
                notices: list[str] = self.__dict__[name].notices
                told += notices
                notices.clear()
        return told

    def close(self) -> None:
        """Let the stores go."""
        for store in ("journal", "casebook"):
            if store in self.__dict__:
                self.__dict__[store].close()
        if self._copy is not None:
            self._copy.cleanup()
        else:
            see_to_reserve(self.home)


def is_capture(name: str) -> bool:
    """Whether this names a file: no computer's address is written so."""
    return "/" in name or name.endswith(".json")
