"""Profiles: strict, with the line and the nearest key."""

import re
from importlib.resources import files

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtak.core.profile import load_profile
from lumtak.errors import BadFileError, LumtakError

GOOD = (files("lumtak") / "data" / "profiles" / "hull-drafting.toml").read_text(encoding="utf-8")


def wrong(text, line, *words):
    with pytest.raises(BadFileError) as caught:
        load_profile(text, "p.toml")
    said = str(caught.value)
    assert said.startswith("p.toml, line"), said
    assert caught.value.line == line, said
    for word in words:
        assert word in said, said
    assert caught.value.exit_code == 2


def line_of(text, part):
    return next(n for n, line in enumerate(text.splitlines(), 1) if part in line)


def test_shipped_profiles_are_right():
    folder = files("lumtak") / "data" / "profiles"
    names = [
        load_profile(e.read_text(encoding="utf-8"), e.name).name
        for e in folder.iterdir()
        if e.name.endswith(".toml")
    ]
    assert "hull-drafting" in names


def test_a_wrong_key_names_line_and_nearest():
    text = GOOD.replace("cpu_pct = 10", "cpu_pc = 10")
    wrong(
        text, line_of(text, "cpu_pc ="), "[ceilings] has no key “cpu_pc”", "Did you mean “cpu_pct”"
    )


def test_a_wrong_table_names_line_and_nearest():
    text = GOOD.replace("[effects]", "[efects]")
    wrong(text, line_of(text, "[efects]"), "“efects”", "“effects”")


def test_a_wrong_key_at_the_top():
    text = GOOD.replace('title = "Hull', 'titel = "Hull')
    wrong(text, line_of(text, "titel"), "“titel”", "“title”")


def test_a_key_of_another_table_is_not_mistaken_for_it():
    text = GOOD + '\n[power.extra]\nmains = "x"\n'
    wrong(text, line_of(text, "[power.extra]"), "[power] has no key “extra”")


def test_a_missing_key():
    wrong(
        GOOD.replace("ram_pct = 50\n", ""),
        line_of(GOOD, "[ceilings]"),
        "[ceilings] lacks the key “ram_pct”",
    )


def test_a_value_of_the_wrong_kind():
    text = GOOD.replace("swappiness = 60", 'swappiness = "much"')
    wrong(text, line_of(text, "swappiness"), "memory.swappiness", "expected int")


@pytest.mark.parametrize("value", ["0", "-3", "101", "nan"])
def test_a_ceiling_that_is_none(value):
    wrong(
        GOOD.replace("cpu_pct = 10", f"cpu_pct = {value}"),
        line_of(GOOD, "cpu_pct"),
        "ceilings.cpu_pct",
    )


def test_thresholds_have_defaults_and_bounds():
    assert load_profile(GOOD, "p.toml").threshold.cpu_pct == 1.0
    text = GOOD + "\n[threshold]\nram_pct = -1\n"
    wrong(text, line_of(text, "ram_pct = -1"), "threshold.ram_pct")


def test_no_toml():
    text = GOOD.replace("[needs]", "[needs")
    wrong(text, line_of(text, "[needs"), "not valid TOML")


def test_cut_short():
    with pytest.raises(BadFileError):
        load_profile(GOOD[: len(GOOD) // 3], "p.toml")


def test_a_newer_format():
    wrong(
        GOOD.replace("format = 1", "format = 9"),
        line_of(GOOD, "format = 1"),
        "format 9 is not known",
    )


def test_a_name_that_cannot_be_typed():
    wrong(
        GOOD.replace('name = "hull-drafting"', 'name = "Hull drafting"'),
        line_of(GOOD, "name ="),
        "lower-case",
    )


@given(st.data())
def test_any_mutilation_is_one_sentence(data):
    start = data.draw(st.integers(0, len(GOOD) - 1))
    end = data.draw(st.integers(start, min(len(GOOD), start + 60)))
    middle = data.draw(st.text(max_size=8))
    try:
        load_profile(GOOD[:start] + middle + GOOD[end:], "p.toml")
    except LumtakError as error:
        assert re.match(r"p\.toml(, line \d+)?: ", str(error))
