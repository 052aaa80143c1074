"""Words of the report for what has a name inside; catalogues of languages translate them."""

STAGES = {
    "verified": "done, read back",
    "undone": "put back",
    "emptied": "emptied",
    "failed": "refused, as before",
    "not done": "not done",
    "conflict": "needs a look",
    "intent": "interrupted",
    "written": "interrupted",
    "undoing": "interrupted",
}
VALUES = {
    "auto": "starts with the system",
    "demand": "when asked for",
    "manual": "by hand",
    "off": "off",
    "on": "on",
    "unset": "not set",
    "aside": "set aside",
    "kept": "in place",
    "mains": "mains",
    "battery": "battery",
    "saving": "saving power",
    "balanced": "balanced",
    "full": "full power",
}
ENDED = {
    "complete": "after the time that was asked for",
    "precise": "once the means were sure enough",
    "stopped": "stopped by somebody",
}
EVERY = {
    "weekly": "weekly",
    "monthly": "monthly",
    "quarterly": "quarterly",
    "half-yearly": "half-yearly",
}
