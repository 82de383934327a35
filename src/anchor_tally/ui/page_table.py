"""The one table of pages."""

from __future__ import annotations

from collections.abc import Callable

from .pages import Page


def _plan() -> type[Page]:
    from .stages.plan.page import PlanStage

    return PlanStage


def _start() -> type[Page]:
    from .stages.start.page import StartPage

    return StartPage


def _record() -> type[Page]:
    from .stages.record.page import RecordStage

    return RecordStage


def _compare() -> type[Page]:
    from .stages.views.agreement import AgreementPage

    return AgreementPage


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


def _repeatability() -> type[Page]:
    from .stages.views.repeatability import RepeatabilityPage

    return RepeatabilityPage


def _change() -> type[Page]:
    from .stages.views.change import ChangePage

    return ChangePage


def _hydration() -> type[Page]:
    from .stages.views.hydration import HydrationPage

    return HydrationPage


def _redundancy() -> type[Page]:
    from .stages.views.redundancy import RedundancyPage

    return RedundancyPage


def _which_device() -> type[Page]:
    from .stages.views.which_device import WhichDevicePage

    return WhichDevicePage


def _report() -> type[Page]:
    from .stages.report.page import ReportStage

    return ReportStage


def import_pages() -> None:
    """Import what the pages need, so that the first opening of each is quick.

    Runs on a thread of its own while nothing else does.
    """
    for page in PAGES.values():
        page()


# the views of Compare under their keys in app.views; a page is built, and what it needs imported,
# when it is first opened
PAGES: dict[str, Callable[[], type[Page]]] = {
    "start": _start,
    "plan": _plan,
    "record": _record,
    "review": _review,
    "compare": _compare,
    "drift": _drift,
    "calibrate": _calibrate,
    "track": _track,
    "report": _report,
    "import": _importing,
    "consistency": _repeatability,
    "change": _change,
    "water": _hydration,
    "alike": _redundancy,
    "score": _which_device,
}
