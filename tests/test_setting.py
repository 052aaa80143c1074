"""Addresses of settings, and states."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from helpers import Once, Parts
from lumtak.computers.hands.sent.states.states import Absent, File, KernelValue, SwapAreas
from lumtak.core.facts import Setting
from lumtak.core.setting import AREAS, Change, SettingRef, State, parse_change, parse_ref
from lumtak.errors import UnknownNameError, UsageError

KEYS = st.text(st.characters(exclude_categories=["Cs"]), min_size=1, max_size=30)
VALUES = KEYS.filter(lambda v: "=" not in v and v != "unset")


@given(st.sampled_from(AREAS), KEYS, VALUES)
def test_every_change_survives_being_written_and_read(area, key, value):
    change = Change(ref=SettingRef(area=area, key=key), value=value)
    assert parse_change(str(change)) == change


@given(st.sampled_from(AREAS), KEYS)
def test_unset_is_a_value_of_its_own(area, key):
    change = Change(ref=SettingRef(area=area, key=key), value=None)
    assert parse_change(str(change)) == change


def test_split_at_the_first_colon_and_the_last_equals_sign():
    change = parse_change("apps:a:b=c=off")
    assert (change.ref.area, change.ref.key, change.value) == ("apps", "a:b=c", "off")


@pytest.mark.parametrize("text", ["", "apps", "apps:", ":x", "apps:x", "apps:x=", "=", "apps=off"])
def test_what_is_no_change_says_how_one_looks(text):
    with pytest.raises(UsageError, match="AREA:KEY"):
        parse_change(text)


def test_a_wrong_area_names_the_nearest():
    with pytest.raises(UnknownNameError, match="Did you mean services") as caught:
        parse_ref("servces:x")
    assert caught.value.exit_code == 2


def test_states_are_the_same_only_when_exactly_so():
    off = State(value="off", exact=File("/home/u", "a", 1, 0o600, b"a"))
    assert off.same_as(State(value="off", exact=File("/home/u", "a", 0, 0o600, b"a")))
    for exact in (
        File("/home/u", "a", 1, 0o600, b"b"),
        File("/home/u", "a", 1, 0o644, b"a"),
        Absent("/home/u", "a", 1),
    ):
        assert not off.same_as(State(value="off", exact=exact))
    assert not off.same_as(State(value=None, exact=off.exact))
    assert off.same_as(State(value="off"))
    assert State(value=None).word == "unset"


@pytest.mark.parametrize(
    ("value", "good"),
    [
        ("0", True),
        ("200", True),
        ("201", False),
        ("-1", False),
        ("x", False),
        ("1.5", False),
        (None, True),
    ],
)
def test_whole_numbers_keep_their_bounds(value, good):
    assert (Setting(lowest=0, highest=200).problem_with(value) is None) is good


def test_words_keep_to_their_list():
    assert "on, off" in Setting(values=("on", "off")).problem_with("auto")


@pytest.mark.parametrize(
    ("now", "one", "other", "expected"),
    [
        (
            Parts({"a": "1", "b": "2"}),
            Parts({"a": "1", "b": "1"}),
            Parts({"a": "2", "b": "2"}),
            True,
        ),
        (
            Parts({"a": "3", "b": "2"}),
            Parts({"a": "1", "b": "1"}),
            Parts({"a": "2", "b": "2"}),
            False,
        ),
        (Parts({"a": "1"}, "x"), Parts({"a": "1"}), Parts({"a": "1"}), False),
        (Parts({"a": "1"}), Parts({"a": "1"}, "x"), Parts({"a": "1"}), False),
        (Parts({"a": "1"}), Parts({"a": "1"}), Parts({"a": "1"}, "x"), False),
        (Parts({"a": "1", "b": "1"}), Parts({"a": "1"}), Parts({"a": "1"}), False),
        (Parts({}), Parts({"a": "1"}), Parts({}), True),
        (Parts({}), Parts({}), Parts({}), False),
        (Parts({}), Parts({}), Parts({"a": "1"}), True),
        (Once({"a": "1"}), Once({"a": "1"}), Once({"a": "1"}), False),
        (Once({"a": "1"}), Parts({"a": "1"}), Parts({"a": "1"}), False),
        (Parts({"a": "1"}), Once({"a": "1"}), Parts({"a": "1"}), False),
        (Parts({"a": "1"}), Parts({"a": "1"}), Once({"a": "1"}), False),
        (None, Parts({"a": "1"}), Parts({"a": "1"}), False),
        (Parts({"a": "1"}), None, Parts({"a": "1"}), False),
        (Parts({"a": "1"}), Parts({"a": "1"}), None, False),
        (
            SwapAreas((5,), (), (), ()),
            SwapAreas((), (), (), ("x",)),
            SwapAreas((5,), (5,), ("x",), ()),
            True,
        ),
        (
            SwapAreas((5,), (), (), ("x",)),
            SwapAreas((), (), (), ()),
            SwapAreas((5,), (5,), (), ()),
            False,
        ),
        (
            KernelValue("a", "1", b"2"),
            KernelValue("a", "1", None),
            KernelValue("a", "2", b"2"),
            True,
        ),
        (
            KernelValue("b", "1", b"2"),
            KernelValue("a", "1", None),
            KernelValue("a", "2", b"2"),
            False,
        ),
    ],
)
def test_half_way_is_every_part_as_in_one_of_both_and_all_else_equal(now, one, other, expected):
    states = [State(value="x", exact=exact) for exact in (now, one, other)]
    assert states[0].between(states[1], states[2]) is expected
