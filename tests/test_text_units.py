"""Hostile names, and numbers as people read them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtak.core.text import plain
from lumtak.core.units import GIB, MIB, large, percent, ram, signed, span, write_sizes


@given(st.text(max_size=400))
def test_no_name_can_command_a_terminal(name):
    shown = plain(name)
    assert len(shown) <= 200
    assert not any(ord(c) < 0x20 or 0x7F <= ord(c) < 0xA0 for c in shown)
    assert not any(
        0x202A <= ord(c) <= 0x202E or 0x2066 <= ord(c) <= 0x2069 or 0xD800 <= ord(c) <= 0xDFFF
        for c in shown
    )
    assert plain(shown) == shown
    shown.encode()


def test_what_was_there_stays_visible():
    assert plain("a\x1b[31mb\nc") == "a␛[31mb␊c"
    assert plain("[bold]x[/bold]") == "[bold]x[/bold]"
    assert plain("\u202egnp.exe") == "\ufffdgnp.exe"
    assert plain("دليل קובץ 図面") == "دليل קובץ 図面"


@pytest.mark.parametrize(
    ("size", "text"),
    [
        (0, "0 MiB"),
        (612 * MIB, "612 MiB"),
        (1.5 * MIB, "1.5 MiB"),
        (5.12 * GIB, "5.1 GiB"),
        (-800 * MIB, "\u2212800 MiB"),
        (GIB, "1.0 GiB"),
    ],
)
def test_sizes(size, text):
    assert ram(size) == text


def test_signs():
    assert [signed(x) for x in (-3.14, 3.14, 0.04, -0.04)] == ["\u22123.1", "+3.1", "0.0", "0.0"]
    assert percent(9.06) == "9.1 %"


@pytest.mark.parametrize(
    ("seconds", "text"),
    [
        (0, "0 s"),
        (59.4, "59 s"),
        (60, "1 min"),
        (125, "2 min 5 s"),
        (3600, "1 h"),
        (11400, "3 h 10 min"),
    ],
)
def test_spans(seconds, text):
    assert span(seconds) == text


def test_sizes_are_written_as_they_are_set():
    assert (ram(5 << 30), large()) == ("5.0 GiB", (float(1 << 30), "GiB"))
    write_sizes("decimal")
    try:
        assert (ram(5 << 30), ram(-612e6), large()) == ("5.4 GB", "\u2212612 MB", (1e9, "GB"))
    finally:
        write_sizes("binary")
