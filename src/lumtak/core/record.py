"""The base of every record: frozen, slotted, keyword-only, and readable from JSON and TOML."""

from typing import Any, dataclass_transform

import msgspec


class _KeywordOnly(msgspec.StructMeta):
    """Makes every record keyword-only: msgspec hands `frozen` on to subclasses, but not `kw_only`."""

    def __new__(cls, name: str, bases: tuple[type, ...], namespace: dict[str, Any], **options: Any) -> Any:  # noqa: ANN401
        options.setdefault("kw_only", True)
        return super().__new__(cls, name, bases, namespace, **options)


@dataclass_transform(frozen_default=True, kw_only_default=True, field_specifiers=(msgspec.field,))
class Record(msgspec.Struct, metaclass=_KeywordOnly, frozen=True, forbid_unknown_fields=True, gc=False):
    """A record; equality is by value, change is by msgspec.structs.replace.

    Frozen records make no cycles, so the garbage collector passes them over: with 20,000 findings it would hold keys up otherwise.
    """


class NotMeasured(Record):
    """A figure that could not be had, with the reason: never 0, never a bare None."""

    not_measured: str
    """The reason, as a clause: "this kernel has no pressure files"."""


Figure = float | NotMeasured
"""A number, or why there is none. In JSON: a number or {"not_measured": reason}."""


def known(figure: Figure, otherwise: float = 0.0) -> float:
    """The number, or `otherwise` where there is none: for sums that say elsewhere what they left out."""
    return otherwise if isinstance(figure, NotMeasured) else float(figure)
