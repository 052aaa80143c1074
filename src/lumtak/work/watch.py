"""A watch on the computer of a job, switched on or put back."""

from lumtak.core.plan import check_changes, guards
from lumtak.core.setting import Change, SettingRef
from lumtak.journal import Outcome, apply_changes, put_back
from lumtak.work.open_job import OpenJob


def watch(open_job: OpenJob, every: str) -> list[Outcome]:
    """The watch is switched on with this rhythm, or put back where it is empty."""
    data_folder, computer, job = open_job.data_folder, open_job.computer, open_job.job
    ref = SettingRef(area="upkeep", key="watch")
    if not every:
        mine = [
            e.id for e in data_folder.journal.entries_of(computer) if e.is_open and e.ref == ref
        ]
        return put_back(data_folder.journal, computer, mine)
    facts = computer.about.facts()
    wanted = [Change(ref=ref, value=every)]
    ordered = check_changes(facts, wanted, guards(facts, data_folder.catalogue))
    return apply_changes(data_folder.journal, computer, facts, ordered, job=job.id)
