"""Numbers as people read them."""

MIB = 1024 * 1024
GIB = 1024 * MIB


_SIZES: dict[str, tuple[tuple[float, str], tuple[float, str]]] = {
    "binary": ((GIB, "GiB"), (MIB, "MiB")),
    "decimal": ((1e9, "GB"), (1e6, "MB")),
}
_written = ["binary"]


def write_sizes(how: str) -> None:
    """From now on sizes are written in GiB and MiB (“binary”), or in GB and MB (“decimal”).

    Of the whole process, as a language is; files keep bytes.
    """
    _written[0] = how if how in _SIZES else "binary"


def large() -> tuple[float, str]:
    """(bytes, name) of the large unit of size, for columns and axes."""
    return _SIZES[_written[0]][0]


def ram(size_bytes: float) -> str:
    """A size with its unit: "612 MiB", "5.1 GiB"; a minus sign that is one character wide."""
    sign = "\u2212" if size_bytes < 0 else ""
    size = abs(size_bytes)
    (big, big_name), (small, small_name) = _SIZES[_written[0]]
    if size >= big:
        return f"{sign}{size / big:.1f} {big_name}"
    if size >= 10 * small or size == 0:
        return f"{sign}{size / small:.0f} {small_name}"
    return f"{sign}{size / small:.1f} {small_name}"


def percent(value: float) -> str:
    """A percentage with one decimal: "9.1 %"."""
    return f"{signed(value, plus=False)} %"


def counted(number: int, one: str, many: str = "") -> str:
    """How many of something: "1 change", "3 changes"; `many` where an s alone does not make it."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def all_of(number: int, one: str, many: str = "") -> str:
    """All of something, with the verb: "The one change is", "All 3 changes are"."""
    return f"The one {one} is" if number == 1 else f"All {counted(number, one, many)} are"


def signed(value: float, decimals: int = 1, *, plus: bool = True) -> str:
    """A number with its sign: minus 3.1, +0.4; what rounds to nothing has no sign."""
    text = f"{abs(value):.{decimals}f}"
    if float(text) == 0:
        return text
    if value < 0:
        return "\u2212" + text
    return ("+" if plus else "") + text


def span(seconds: float) -> str:
    """A length of time: "45 s", "2 min 5 s", "3 h 10 min"."""
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    minutes, rest = divmod(whole, 60)
    if minutes < 60:
        return f"{minutes} min {rest} s" if rest else f"{minutes} min"
    hours, rest = divmod(minutes, 60)
    return f"{hours} h {rest} min" if rest else f"{hours} h"


def took(seconds: float) -> str:
    """A time of any length, with three digits: "38.2 s", "412 ms", "60 µs"."""
    if seconds >= 1:
        return f"{seconds:.1f} s"
    return f"{seconds * 1e3:.3g} ms" if seconds >= 1e-3 else f"{seconds * 1e6:.3g} µs"
