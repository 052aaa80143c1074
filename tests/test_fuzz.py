"""Hostile input of every kind ends in a sentence, and in nothing else.

`make fuzz` tries more of it.
"""

import os

import pytest
from fuzz import tried
from fuzzing.kinds import KINDS, TAKE_ROOT

INPUTS = 2000


@pytest.mark.long
@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.timeout(600)
def test_hostile_input_ends_in_a_sentence(kind):
    if kind in TAKE_ROOT and os.geteuid() != 0:
        pytest.skip("only root can try that")
    tally = tried(kind, INPUTS, seed=15)
    assert not tally.faults, "\n".join(tally.faults)
    assert tally.inputs >= INPUTS
