"""The one table of pages."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from ..app.actions import VIEW_PAGES
from .pages import Page


def _plan() -> type[Page]:
    from .stages.plan.page import PlanStage

    return PlanStage


def _record() -> type[Page]:
    from .stages.record.page import RecordStage

    return RecordStage


def _compare() -> type[Page]:
    from .stages.compare import CompareStage

    return CompareStage


def _calibrate() -> type[Page]:
    from .stages.calibrate.page import CalibrateStage

    return CalibrateStage


def _drift() -> type[Page]:
    from .stages.drift import DriftPage

    return DriftPage


def _track() -> type[Page]:
    from .stages.track import TrackPage

    return TrackPage


def _review() -> type[Page]:
    from .stages.review import ReviewPage

    return ReviewPage


def _importing() -> type[Page]:
    from .stages.importing.page import ImportPage

    return ImportPage


def _view(key: str) -> type[Page]:
    from .stages.views.change import ChangePage
    from .stages.views.hydration import WaterPage
    from .stages.views.redundancy import AlikePage
    from .stages.views.repeatability import ConsistencyPage
    from .stages.views.which_device import ScorePage

    faces: tuple[type[Page], ...] = (ConsistencyPage, ChangePage, WaterPage, AlikePage, ScorePage)
    return faces[VIEW_PAGES.index(key)]


def import_pages() -> None:
    """Import what the pages need, so that the first opening of each is quick; runs on a thread of its own while nothing else does."""
    for page in PAGES.values():
        page()


# a page is built, and what it needs imported, when it is first opened
PAGES: dict[str, Callable[[], type[Page]]] = {
    "plan": _plan,
    "record": _record,
    "review": _review,
    "compare": _compare,
    "drift": _drift,
    "calibrate": _calibrate,
    "track": _track,
    "import": _importing,
    **{key: partial(_view, key) for key in VIEW_PAGES},
}
