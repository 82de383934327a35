"""Walks through every page of the window: each field, button, key and action, with wrong and right text."""

import pytest

from walks import WALKS, walked

# walks through pages that tests of their own drive as well
LONG = ("tables", "planner", "calendar", "saved", "documents", "report", "views", "more views")


@pytest.mark.parametrize(
    "name", [pytest.param(x, marks=pytest.mark.slow) if x in LONG else x for x in WALKS]
)
def test_every_deed_is_answered_and_nothing_is_cut_off(name, window_on, demo):
    """Each deed runs without a message of Qt, most show something new, and no text is cut off."""
    found = walked(name, window_on(demo, at="record"))
    assert sum(bool(lines) for _, lines in found) >= len(found) / 3
    assert not [x for _, lines in found for x in lines if "· cut off" in x]
