"""The base of every record: frozen, slotted, keyword-only, and readable from JSON and TOML."""

from typing import Annotated, Any, dataclass_transform

import msgspec

from lumtak.core.text import harmless_json

UNREADABLE = (msgspec.MsgspecError, UnicodeError, RecursionError)
"""What decoding raises where a document is none, is cut short, is no text, or is nested without
end."""
MOST_MEASURED = 1e18
"""Bytes, seconds, percentages: more than any of them."""
PREPARED: list[type] = []
"""Every record, in the order in which they were defined; all of them are ready to be read by
several threads at once."""


class _Prepared(msgspec.StructMeta):
    """Makes every record keyword-only, and ready to be read by threads.

    msgspec hands `frozen` on to subclasses, but not `kw_only`. And it works out how to read a
    record when one is read for the first time: two threads that do so at once end the process
    (segmentation fault). So that is done here, while a module is still being imported; it takes a
    fifteenth of a millisecond a record, and no record can be forgotten.
    """

    def __new__(
        cls,
        name: str,
        bases: tuple[type, ...],
        namespace: dict[str, Any],
        **options: Any,  # noqa: ANN401
    ) -> Any:  # noqa: ANN401
        options.setdefault("kw_only", True)
        made = super().__new__(cls, name, bases, namespace, **options)
        msgspec.json.Decoder(made)
        PREPARED.append(made)
        return made


@dataclass_transform(frozen_default=True, kw_only_default=True, field_specifiers=(msgspec.field,))
class Record(
    msgspec.Struct, metaclass=_Prepared, frozen=True, forbid_unknown_fields=True, gc=False
):
    """A record; equality is by value, change is by msgspec.structs.replace.

    Frozen records make no cycles, so the garbage collector passes them over: with 20,000 findings
    it would hold keys up otherwise.
    """


class NotMeasured(Record):
    """A figure that could not be had, with the reason: never 0, never a bare None."""

    not_measured: str
    """The reason, as a clause: "this kernel has no pressure files"."""


AtLeastOne = Annotated[int, msgspec.Meta(ge=1)]
Positive = Annotated[float, msgspec.Meta(gt=0)]
"""What is divided by; a document that says otherwise is refused as it is read."""
FileName = Annotated[str, msgspec.Meta(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$")]
"""What files are named after: it leads nowhere else."""
Figure = float | NotMeasured
"""A number, or why there is none. In JSON: a number or {"not_measured": reason}."""


def known(figure: Figure, otherwise: float = 0.0) -> float:
    """The number, or `otherwise` where there is none.

    For sums that say elsewhere what they left out.
    """
    return otherwise if isinstance(figure, NotMeasured) else float(figure)


def known_word(word: str | NotMeasured) -> str:
    """The word; empty where there is none to be had."""
    return "" if isinstance(word, NotMeasured) else word


def immeasurable(document: object) -> float | None:
    """The first number in a document that nothing measured can be.

    Sums and squares of such have no end. None where all can.
    """
    todo = [document]
    while todo:
        match todo.pop():
            case dict() as table:
                todo += table.values()
            case list() | tuple() as values:
                todo += values
            case int() | float() as number if not -MOST_MEASURED <= number <= MOST_MEASURED:
                return number
    return None


def json_document(value: object, indent: int = 1) -> bytes:
    """A record, or a dictionary of them, as a JSON document for people and programs.

    Indented, harmless, with a line end.
    """
    return harmless_json(msgspec.json.format(msgspec.json.encode(value), indent=indent)) + b"\n"
