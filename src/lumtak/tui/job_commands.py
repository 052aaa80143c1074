"""What the palette offers in a job, in the order of the work."""

from typing import Literal, NamedTuple

from lumtak.casebook import Station


class JobCommand(NamedTuple):
    """A command of a job."""

    words: str
    about: str
    key: str
    """The name of its key, or the key itself where it is fixed; empty where it has none."""
    station: Station | Literal[""]
    """Where it is done; empty: anywhere in the job."""
    does: str
    """An action, or `#` and the name of a button; empty only goes to the station."""


JOB_COMMANDS = tuple(
    JobCommand(*row)
    for row in (
        ("Intake", "complaint, use, computer", "1", "intake", ""),
        ("Baseline", "the load before anything is changed", "2", "baseline", ""),
        ("Take the baseline", "restart first, open nothing", "", "baseline", "#take"),
        ("Restart first", "so that the baseline begins with a start", "", "baseline", "#restart"),
        ("Audit", "what uses CPU and memory here", "3", "audit", ""),
        (
            "The owner's questions",
            "the interview, heaviest first",
            "interview",
            "audit",
            "interview",
        ),
        ("Choose the item", "under the cursor; once more takes it back", "Space", "audit", "mark"),
        ("Explain the item", "under the cursor; once more closes it", "Enter", "audit", "open"),
        ("Back to the link", "after a jump", "Backspace", "audit", "back"),
        ("Choose all to ease or set", "once more takes it back", "choose-all", "audit", "all"),
        ("Search the audit", "words, areas, stances, costs", "search", "audit", "search"),
        ("Look through the disk", "where it went, what may go", "disk", "audit", "disk"),
        ("Empty what is set aside", "deletes it for good", "empty-aside", "audit", "empty_aside"),
        ("Say what it is for", "of an unknown item", "teach", "audit", "teach"),
        ("That was wrong", "kept with the job", "wrong", "audit", "wrong"),
        ("Plan", "what is changed, from proposed to done", "4", "plan", ""),
        ("Choose the least plan", "that reaches both ceilings", "least", "plan", "least"),
        ("Less disruption", "a step along the frontier", "less", "plan", "walk(-1)"),
        ("More disruption", "a step along the frontier", "more", "plan", "walk(1)"),
        ("Try the change", "on and off in random order", "trial", "plan", "try"),
        ("Try what is chosen", "all in the same blocks", "screening", "plan", "screen"),
        ("Apply the plan", "asked first", "", "plan", "#apply"),
        ("Proof", "before against after", "5", "proof", ""),
        ("Restart now", "where a change waits for it", "", "proof", "#restart"),
        ("New login now", "where a change waits for it", "", "proof", "#login"),
        ("Take the after reading", "once nothing else is needed", "", "proof", "#take"),
        ("Handover", "verdict, report, undo script", "6", "handover", ""),
        ("Print the sheet", "asked first", "print-sheet", "handover", "print_sheet"),
        ("Save the sheet", "a PDF for the owner", "save-sheet", "handover", "save_sheet"),
        ("Open the sheet", "in the desktop's own program", "open-sheet", "handover", "open_sheet"),
        ("Write the report", "PDF, chart, data", "", "handover", "#write"),
        ("Next piece of the strips", "what takes RAM or CPU", "piece-next", "", "piece(1)"),
        ("Piece before", "what takes RAM or CPU", "piece-before", "", "piece(-1)"),
        ("Save a chart", "SVG or PDF", "chart", "", "chart"),
        ("Put this visit back", "what this visit changed", "this-visit", "", "undo_visit"),
        ("Everything changed here", "by visit, one by one", "everything", "", "put_back"),
        ("End a process", "it cannot be put back", "end-process", "", "end_process"),
        ("The owner's files", "decided about together", "files", "", "files"),
        ("Programs", "what they hold, and removing one", "programs", "", "programs"),
        ("Upkeep", "tasks that run beside the job", "upkeep", "", "upkeep"),
        ("Quick look", "what uses CPU and memory just now", "look-job", "", "look"),
        ("Explain this station", "in the words of the work", "help", "", "help"),
        ("To the bench", "the job stays where it is", "Escape", "", "bench"),
    )
)
