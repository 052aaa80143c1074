"""Addresses of settings, and states."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

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
    off = State(value="off", exact={"bytes": "a"}, around={"missing": "1"})
    assert off.same_as(State(value="off", exact={"bytes": "a"}, around={"missing": "0"}))
    assert not off.same_as(State(value="off", exact={"bytes": "b"}))
    assert not off.same_as(State(value=None, exact={"bytes": "a"}))
    assert off.same_as(State(value="off"))
    assert State(value=None).word == "unset"


@pytest.mark.parametrize(
    ("value", "good"),
    [("0", True), ("200", True), ("201", False), ("-1", False), ("x", False), ("1.5", False), (None, True)],
)
def test_whole_numbers_keep_their_bounds(value, good):
    assert (Setting(lowest=0, highest=200).problem_with(value) is None) is good


def test_words_keep_to_their_list():
    assert "on, off" in Setting(values=("on", "off")).problem_with("auto")


@pytest.mark.parametrize(
    ("now", "one", "other", "expected"),
    [
        ({"part:a": "1", "part:b": "2"}, {"part:a": "1", "part:b": "1"}, {"part:a": "2", "part:b": "2"}, True),
        ({"part:a": "3", "part:b": "2"}, {"part:a": "1", "part:b": "1"}, {"part:a": "2", "part:b": "2"}, False),
        ({"part:a": "1", "kind": "x"}, {"part:a": "1"}, {"part:a": "1"}, False),
        ({"part:a": "1"}, {"part:a": "1", "kind": "x"}, {"part:a": "1"}, False),
        ({"part:a": "1"}, {"part:a": "1"}, {"part:a": "1", "kind": "x"}, False),
        ({"part:a": "1", "part:b": "1"}, {"part:a": "1"}, {"part:a": "1"}, False),
        ({"kind": "x"}, {"kind": "x"}, {"kind": "x"}, False),
        (None, {"part:a": "1"}, {"part:a": "1"}, False),
        ({"part:a": "1"}, None, {"part:a": "1"}, False),
        ({"part:a": "1"}, {"part:a": "1"}, None, False),
    ],
)
def test_half_way_is_every_part_as_in_one_of_both_and_all_else_equal(now, one, other, expected):
    states = [State(value="x", exact=exact) for exact in (now, one, other)]
    assert states[0].between(states[1], states[2]) is expected
