"""What stands on the pages of the window is what was kept: nothing there changes unless it is meant."""

import pytest

from answers import kept
from walks import WALKS, walked


@pytest.mark.parametrize("name", WALKS)
def test_pages_say_what_was_kept(name, window_on, demo):
    """Pages as opened, and what is new after each choice; other tests tell whether it is right."""
    found, before = walked(name, window_on(demo, at="record")), kept("screens", name)
    assert [deed for deed, _ in found] == [deed for deed, _ in before]
    for (deed, now), (_, then) in zip(found, before, strict=True):
        assert now == then, deed
    assert not [x for _, lines in found for x in lines if "· cut off" in x]
