"""The views of Compare, declared once.

Key, label, command, request, and how the result is worded and written as JSON.

The window's pages of them stand in ``ui.page_table`` under the same keys.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from ..stats.near_days import NEAR_DAYS

if TYPE_CHECKING:
    from ..analysis.agreement.agreement import CompareResult
    from ..analysis.agreement.change import ChangeResult
    from ..analysis.agreement.hydration import HydrationResult
    from ..analysis.agreement.redundancy import RedundancyResult
    from ..analysis.agreement.repeatability import RepeatabilityResult
    from ..analysis.offsets.which_device import WhichDeviceResult
    from ..analysis.time.drift import DriftResult
    from ..domain.events import CheckWeight, Event
    from ..domain.lens import Lens
    from ..domain.snapshot import Snapshot
    from ..wording.statistics import Line

R = TypeVar("R")


@dataclass(frozen=True, slots=True)
class Ask:
    """Inputs of a request.

    Study, lens, instrument (empty for all), scan SD, events, weights, and the days up to which
    neighbouring visits count as variation from day to day.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str = ""
    reference_sd: float | None = None
    events: tuple[Event, ...] = ()
    weights: tuple[CheckWeight, ...] = ()
    near_days: int = NEAR_DAYS


@dataclass(frozen=True, slots=True)
class Answer(Generic[R]):
    """How one kind of question is answered.

    Attributes
    ----------
    ask : callable
        Makes the computation; it yields progress and returns one result an instrument.
    headline, lines : callables
        The first sentence of a result, and its figures.
    as_json : callable, optional
        The object that a command prints; None where no command asks this.
    metrics : tuple of str
        The metrics that are needed, where it is not that of the lens alone.
    """

    ask: Callable[[Ask], Generator[float, None, Sequence[R]]]
    headline: Callable[[R], str]
    lines: Callable[[R], Sequence[Line]]
    as_json: Callable[[R], dict[str, Any]] | None = None
    metrics: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class View(Generic[R]):
    """One view: key, label and purpose on the screen, its command with help, and its request.

    The request is loaded when it is first needed.
    """

    key: str
    label: str
    purpose: str
    answer: Callable[[], Answer[R]]
    command: str = ""
    help: str = ""


def _agreement() -> Answer[CompareResult]:
    from ..analysis.agreement.agreement import CompareRequest, LadderRequest
    from ..exchange.results_json import compare_json
    from ..wording.sentences import headline
    from ..wording.views import agreement_lines

    def ask(q: Ask) -> Generator[float, None, Sequence[CompareResult]]:
        if q.instrument:
            return (
                (
                    yield from CompareRequest(
                        q.snapshot, q.lens, q.instrument, reference_sd=q.reference_sd
                    ).run()
                ),
            )
        return (yield from LadderRequest(q.snapshot, q.lens).run())

    return Answer(ask, headline, agreement_lines, compare_json)


def _repeatability() -> Answer[RepeatabilityResult]:
    from ..analysis.agreement.repeatability import RepeatabilityRequest
    from ..exchange.views_json import repeatability_json
    from ..wording.views import repeatability_headline, repeatability_lines

    return Answer(
        lambda q: RepeatabilityRequest(q.snapshot, q.lens, q.instrument, q.near_days).run(),
        repeatability_headline,
        repeatability_lines,
        repeatability_json,
    )


def _change() -> Answer[ChangeResult]:
    from ..analysis.agreement.change import ChangeRequest
    from ..exchange.views_json import change_json
    from ..wording.views import change_headline, change_lines

    return Answer(
        lambda q: ChangeRequest(q.snapshot, q.lens, q.instrument, q.reference_sd).run(),
        change_headline,
        change_lines,
        change_json,
    )


def _hydration() -> Answer[HydrationResult]:
    from ..analysis.agreement.hydration import FAT, WATER, HydrationRequest
    from ..exchange.views_json import hydration_json
    from ..wording.views import hydration_headline, hydration_lines

    return Answer(
        lambda q: HydrationRequest(q.snapshot, q.lens, q.instrument).run(),
        hydration_headline,
        hydration_lines,
        hydration_json,
        (FAT, WATER),
    )


def _redundancy() -> Answer[RedundancyResult]:
    from ..analysis.agreement.redundancy import RedundancyRequest
    from ..wording.views import redundancy_headline, redundancy_lines

    def ask(q: Ask) -> Generator[float, None, Sequence[RedundancyResult]]:
        return ((yield from RedundancyRequest(q.snapshot, q.lens).run()),)

    return Answer(ask, redundancy_headline, redundancy_lines)


def _which_device() -> Answer[WhichDeviceResult]:
    from ..analysis.offsets.which_device import WhichDeviceRequest
    from ..wording.which_device import which_device_headline

    def ask(q: Ask) -> Generator[float, None, Sequence[WhichDeviceResult]]:
        return ((yield from WhichDeviceRequest(q.snapshot, q.lens).run()),)

    return Answer(ask, which_device_headline, lambda _: ())


def _drift() -> Answer[DriftResult]:
    from ..analysis.time.drift import DriftRequest
    from ..exchange.drift_json import drift_json
    from ..wording.drift import drift_headline, drift_lines

    return Answer(
        lambda q: DriftRequest(q.snapshot, q.lens, q.instrument, q.events, q.weights).run(),
        drift_headline,
        drift_lines,
        drift_json,
    )


VIEWS: tuple[View[Any], ...] = (
    View(
        "compare",
        "Agreement",
        "Bias and limits of agreement of each device",
        _agreement,
        "compare",
        "bias, limits of agreement and more for one instrument",
    ),
    View(
        "consistency",
        "Repeatability",
        "Variation of repeats, minutes and days apart",
        _repeatability,
        "repeatability",
        "how repeats of one instrument differ, minutes apart and days apart",
    ),
    View(
        "change",
        "Change",
        "Whether the device responds to change",
        _change,
        "change",
        "whether an instrument responds to change between two scans",
    ),
    View(
        "water",
        "Hydration",
        "Whether body water affects the fat shown",
        _hydration,
        "hydration",
        "whether fat varies with water within clients, and whether both come from one measurement",
    ),
    View(
        "alike",
        "Similar devices",
        "Devices that behave alike, and values computed from others",
        _redundancy,
    ),
    View(
        "score",
        "Which device?",
        "Which device to choose for level, change and daily use",
        _which_device,
    ),
)
VIEW = {v.key: v for v in VIEWS}
DRIFT: View[Any] = View(
    "drift",
    "Drift",
    "Drift and step changes of devices",
    _drift,
    "drift",
    "drift of an instrument: slope, steps, and what more data would show",
)
