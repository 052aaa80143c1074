"""What only the owner can know, in as few questions as will do.

Items of one question are asked about together; the heaviest questions come first, and no more than
a handful of them at a time, since nobody has patience for thirty.
"""

from lumtak.core.audit.records import Audit, Finding
from lumtak.core.record import Record

AT_A_TIME = 5


class Question(Record):
    """One question, and the items that its answer decides, the heaviest first."""

    words: str
    about: tuple[Finding, ...]

    @property
    def heft(self) -> float:
        """What easing all of them would take off; for the order."""
        return sum(f.weight.heft for f in self.about)

    @property
    def answer(self) -> str:
        """What the owner said of all of them alike; empty where they did not."""
        said = {f.answer for f in self.about}
        return said.pop() if len(said) == 1 else ""


def questions(found: Audit) -> tuple[tuple[Question, ...], tuple[Question, ...]]:
    """(what is asked now, what is left alone until that is answered).

    What was answered already stands at the end of what is asked now, so that it can be answered
    otherwise.
    """
    by_words: dict[str, list[Finding]] = {}
    for finding in found.findings:
        if finding.question:
            by_words.setdefault(finding.question, []).append(finding)
    every = [
        Question(words=words, about=tuple(sorted(fs, key=lambda f: (-f.weight.heft, f.key))))
        for words, fs in by_words.items()
    ]
    every.sort(key=lambda q: (-q.heft, q.about[0].key))
    open_ones = [q for q in every if not q.answer]
    answered = [q for q in every if q.answer]
    return (*open_ones[:AT_A_TIME], *answered), tuple(open_ones[AT_A_TIME:])
