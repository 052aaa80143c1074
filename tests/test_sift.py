"""The words of a search: what they let through."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import CATALOGUE, facts, item, profile, reading
from lumtak.core.audit import audit
from lumtak.core.setting import parse_ref
from lumtak.core.sift import sift
from lumtak.errors import UsageError

ITEMS = (
    item("services", "fax", title="Fax bridge", role="fax", origin="vendor"),
    item("services", "screen", title="Display keeper", role="graphics", origin="system"),
    item("services", "odd", title="Odd one", origin="user"),
    item("apps", "chat", title="Chat horn", role="chat", origin="vendor"),
    item("effects", "glass", title="Glass panels"),
)
READ = reading(
    costs=[("services:fax", 3.0, 300), ("services:odd", 0.5, 2000), ("apps:chat", 1.5, 80)]
)
FOUND = audit(facts(*ITEMS), profile(), CATALOGUE, READ)


def keys(words, **marks):
    return {f.key for f in sift(FOUND, words, **marks)}


@pytest.mark.parametrize(
    ("words", "wanted"),
    [
        ("", {"fax", "screen", "odd", "chat", "glass"}),
        ("services", {"fax", "screen", "odd"}),
        ("services apps", {"fax", "screen", "odd", "chat"}),
        ("guarded ask", {"screen", "odd"}),
        ("services ease", {"fax"}),
        ("cpu>1", {"fax", "chat"}),
        ("cpu>1 ram>100", {"fax"}),
        ("ram>1.5g", {"odd"}),
        ("disk>1g", set()),
        ("ram<0.1g cpu>1", {"chat"}),
        ("from:vendor", {"fax", "chat"}),
        ("from:vendor -apps", {"fax"}),
        ("-services -effects", {"chat"}),
        ("KEEPER", {"screen"}),
        ("chat horn", {"chat"}),
        ("-one", {"fax", "screen", "chat", "glass"}),
        ("no such thing", set()),
    ],
)
def test_words(words, wanted):
    assert keys(words) == wanted


def test_what_is_chosen_or_changed():
    marks = {"chosen": {parse_ref("services:fax")}, "changed": {parse_ref("apps:chat")}}
    assert keys("chosen", **marks) == {"fax"}
    assert keys("changed", **marks) == {"chat"}
    assert keys("-chosen from:vendor", **marks) == {"chat"}


@pytest.mark.parametrize("words", ["cpu>", "ram<x", "from:mars"])
def test_what_is_half_typed_says_what_comes_next(words):
    with pytest.raises(UsageError, match="After"):
        sift(FOUND, words)


@given(st.text())
def test_any_text_gives_a_part_or_a_sentence(words):
    try:
        left = sift(FOUND, words)
    except UsageError:
        return
    assert [f for f in FOUND.findings if f in left] == left
