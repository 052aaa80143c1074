"""The arithmetic of the strip."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import CATALOGUE, facts, item, profile, reading
from lumtak.core.audit import audit
from lumtak.core.profile import Ceilings
from lumtak.core.setting import parse_ref
from lumtak.core.strip import PIECE_KINDS, Piece, Strip, cells, marked, strips

ITEMS = (
    item("services", "screen", role="graphics"),
    item("services", "plotter", role="plotting"),
    item("services", "fax", role="fax"),
    item("apps", "x"),
)
COSTS = [
    ("services:screen", 2.0, 100),
    ("services:plotter", 3.0, 200),
    ("services:fax", 4.0, 300),
    ("apps:x", 1.0, 50),
    ("system:desktop", 5.0, 400),
]


def found():
    return audit(facts(*ITEMS), profile(), CATALOGUE, None)


def test_pieces_stand_by_stance_and_sum_to_the_whole():
    for strip in strips(reading(costs=COSTS), found()):
        assert sum(p.share for p in strip.pieces) == pytest.approx(1.0)
        order = [PIECE_KINDS.index(p.kind) for p in strip.pieces]
        assert order == sorted(order)
    kinds = {p.key: p.kind for p in strip.pieces}
    assert kinds["services:fax"] == "ease"
    assert kinds["apps:x"] == "ask"
    assert kinds["system:desktop"] == kinds["unattributed"] == "guarded"


def test_chosen_is_hollow_and_applied_is_hatched():
    _, plain = strips(reading(costs=COSTS), found())
    strip = marked(plain, chosen=[parse_ref("services:fax")], applied=[parse_ref("apps:x")])
    marks = {p.key: p.mark for p in strip.pieces}
    assert (marks["services:fax"], marks["apps:x"], marks["services:plotter"]) == (
        "chosen",
        "applied",
        "plain",
    )


def test_parts_above_the_whole_are_scaled_down_to_it():
    _, strip = strips(reading(values=[5.0] * 30, costs=COSTS), found())
    assert strip.load == pytest.approx(0.05)
    assert sum(p.share for p in strip.pieces if p.kind != "free") == pytest.approx(0.05)


def test_ceiling_and_baseline():
    strip, _ = strips(
        reading(costs=COSTS),
        found(),
        ceilings=Ceilings(cpu_pct=10, ram_pct=40.0),
        baseline=reading(),
    )
    assert (strip.ceiling, strip.baseline) == (0.4, 0.5)


@given(st.lists(st.floats(0, 1), min_size=1, max_size=30), st.integers(1, 300))
def test_cells_follow_the_pieces_at_any_width(shares, width):
    whole = sum(shares) or 1.0
    pieces = tuple(Piece(key=str(i), kind="ask", share=s / whole) for i, s in enumerate(shares))
    row = cells(Strip(pieces=pieces, load=1.0), width)
    assert len(row) == width
    assert row == sorted(row)
    for i, piece in enumerate(pieces):
        assert abs(row.count(i) - piece.share * width) <= 1.0001 or i == len(pieces) - 1
