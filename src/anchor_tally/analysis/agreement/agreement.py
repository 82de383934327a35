"""Is the instrument close to the reference? Bias, limits, components, trend, agreement."""

from __future__ import annotations

import math
from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ...domain.catalogue import Catalogue
from ...domain.errors import UserError
from ...domain.lens import Lens
from ...domain.metrics import metric_of
from ...domain.records import Instrument
from ...domain.snapshot import Snapshot
from ...domain.steps import scaled
from ...methods.registry import EQUATIONS
from ...stats.agreement import Agreement, Equivalence, agreement, equivalence
from ...stats.components import NestedFit, fit_nested
from ...stats.difference_forms import sloping_limits
from ...stats.estimate import Estimate, Note, note
from ...stats.limits import (
    Limits,
    Trend,
    approximate_limits,
    single_bias,
    single_limits,
    single_trend,
)
from ...stats.regression import Line, deming
from ...stats.repeated import repeated_bias, repeated_limits, repeated_trend
from ...stats.trend import ReferenceTrend
from ...stats.variance_grid import VarianceGrid, occasion_means, variance_grid
from ..ask.content_key import ContentKey, content_key
from ..ask.question import Asked
from ..pairs.comparator import CONSENSUS, CannotCompare, find_comparator, lens_for, others_of
from ..pairs.offset_drift import movement
from ..pairs.pairing import PairSet, pair
from ..pairs.reference_slopes import scan_error, slopes_on_reference
from ..pairs.repeat_spread import outlying_repeats
from .agreement_forms import BMI_EQUATION, AgreementFormsRequest, Forms, forms_of

LEAST_LEVELS = 8  # clients from which on limits by level are given
SHOWN = 0.025  # p of a slope, or of a growing spread, below which limits are given by level


@dataclass(frozen=True, slots=True)
class Components:
    """SDs of the nested design; None where the design cannot separate them."""

    client_sd: float | None
    occasion_sd: float | None
    replicate_sd: float | None


@dataclass(frozen=True, slots=True)
class LevelLimits:
    """Limits of agreement at one level of the mean of both; ``error`` is half the 95 % CI."""

    level: float
    lower: float
    upper: float
    error: float


@dataclass(frozen=True, eq=False)
class CompareResult:
    """Everything about closeness of one instrument to the reference.

    ``asked`` is the question as the user put it; ``lens`` the one used (another instrument's
    setting is not asked of this one); ``forms`` is there where one instrument alone was asked
    about. ``key`` is the fingerprint of all that it depends on.
    """

    asked: Asked
    lens: Lens
    pairs: PairSet
    design: str
    bias: Estimate | None
    sd: float | None
    limits: Limits | None
    approximate: Limits | None
    components: Components
    fit: NestedFit | None
    grid: VarianceGrid | None
    trend: Trend
    reference_trend: ReferenceTrend
    margin: float | None
    agreement: Agreement
    deming: Line | None
    equivalence: Equivalence | None
    notes: tuple[Note, ...]
    forms: Forms | None = None
    key: ContentKey = ()
    by_level: tuple[LevelLimits, ...] = ()


def _by_level(pairs: PairSet, on_reference: ReferenceTrend) -> tuple[LevelLimits, ...]:
    """Limits at the 10th, 50th and 90th percentile, where bias or width is shown to change.

    One pair of limits for all levels would be wrong at both ends then.
    """
    mean = (pairs.x + pairs.y) / 2
    found = sloping_limits(pairs.d, mean, pairs.client)
    between = on_reference.between
    if found is None or pairs.clients < LEAST_LEVELS:
        return ()
    if not ((between is not None and between.p < SHOWN) or found.widens_p < SHOWN):
        return ()
    levels = np.unique(np.round(np.percentile(mean, [10, 50, 90])))
    used = found if found.widens_p < SHOWN else found.even()
    lower, _, upper = used.at(levels)
    columns = (levels, lower, upper, used.error(levels))
    return tuple(LevelLimits(*map(float, x)) for x in zip(*columns, strict=True))


@dataclass(frozen=True, slots=True)
class CompareRequest:
    """One instrument against the reference, through a lens.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    instrument : str
        Name of the instrument, or id of an equation.
    coverage : float
        Share of differences between the limits of agreement.
    reference_sd : float, optional
        SD of one scan, in the metric's unit; by default as stated in the study.
    seed : int
        Seed of resampled intervals.

    Raises
    ------
    CannotCompare
        From ``run``: no such instrument or reference, or no readings of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    instrument: str
    coverage: float = 0.95
    reference_sd: float | None = None
    seed: int = 1

    def run(self) -> Generator[float, None, CompareResult]:
        """Yield progress; return the result."""
        item = self.snapshot.instrument_named(self.instrument)
        if item is None:
            raise CannotCompare(f'no instrument is called "{self.instrument}"')
        reference = find_comparator(self.snapshot, self.lens)
        if item.id == reference.id:
            raise CannotCompare(f"{item.name} is the comparator; choose another instrument")
        pairs = pair(self.snapshot, self.lens, item, reference)
        yield 0.3
        asked = Asked(self.snapshot.revision, self.lens)
        found = compare_pairs(
            asked,
            pairs,
            self.lens,
            self.snapshot.catalogue,
            coverage=self.coverage,
            reference_sd=self.reference_sd,
            seed=self.seed,
        )
        yield 0.6
        scan = found.reference_trend.reference
        forms = forms_of(
            pairs, self.snapshot, found.bias, found.sd, scan, found.fit, found.grid, self.seed
        )
        return replace(found, forms=forms, notes=(*found.notes, *forms.notes))


@dataclass(frozen=True, slots=True)
class LadderRequest:
    """Every instrument that has the metric against the reference.

    Parameters
    ----------
    snapshot : Snapshot
        The study at one revision, with the columns of the lens' metric.
    lens : Lens
        Metric, reference, clients, setting and pairing window.
    seed : int
        Seed of resampled intervals.
    only : frozenset of int, optional
        Numbers of the instruments to compare; by default all.
    kept : tuple of CompareResult
        Earlier results. One whose readings have not changed is not computed again.

    Raises
    ------
    CannotCompare
        From ``run``: no reference, or no readings of the metric.
    """

    snapshot: Snapshot
    lens: Lens
    seed: int = 1
    only: frozenset[int] | None = None
    kept: tuple[CompareResult, ...] = ()

    def run(self) -> Generator[float, None, tuple[CompareResult, ...]]:
        """Yield progress; return one result an instrument, in the study's order."""
        reference = find_comparator(self.snapshot, self.lens)
        items = [
            i
            for i in others_of(self.snapshot, self.lens, reference)
            if self.only is None or i.id in self.only
        ]
        asked = Asked(self.snapshot.revision, self.lens)
        results = []
        for k, item in enumerate(items):
            results.append(
                self._kept_or_new(asked, lens_for(self.snapshot, self.lens, item), item, reference)
            )
            yield (k + 1) / len(items)
        return tuple(results)

    def _kept_or_new(
        self, asked: Asked, lens: Lens, item: Instrument, reference: Instrument
    ) -> CompareResult:
        # a consensus is made of all devices; the equation from body mass index is a baseline of
        # other forms
        devices = [
            i
            for i in self.snapshot.instruments.values()
            if i.kind == "device" and reference.id == CONSENSUS.id
        ]
        baseline = [i for i in self.snapshot.instruments.values() if i.equation == BMI_EQUATION]
        key = content_key(self.snapshot, lens, (item, reference, *devices, *baseline), self.seed)
        before = next((r for r in self.kept if r.key == key), None)
        if before is not None:
            return replace(before, asked=asked)
        pairs = pair(self.snapshot, lens, item, reference)
        return replace(
            compare_pairs(asked, pairs, lens, self.snapshot.catalogue, seed=self.seed), key=key
        )


def _reference_trend(
    pairs: PairSet, catalogue: Catalogue, given: float | None, notes: list[Note]
) -> ReferenceTrend:
    """Slopes on the reference, corrected for its error as far as that is known.

    A note states what is not.
    """
    stated = given if given is not None else catalogue.stated.get((pairs.metric, "reference_sd"))
    error = scan_error(pairs, stated)
    if pairs.n == 0 or pairs.reference.kind != "reference":
        return ReferenceTrend(None, None, error)
    moved = movement(pairs)
    found = slopes_on_reference(pairs, error, moved)  # as Calibrate and Track have it
    if moved is not None and moved.found and found.within is not None:
        notes.append(note("slope_beside_movement"))
    if found.between is None and found.within is None:
        notes.append(note("no_reference_trend"))
    elif error.ends is not None:
        metric = metric_of(pairs.metric)
        low, high = error.ends
        unit = metric.difference_unit
        if found.within is None and pairs.occasions > pairs.clients + 1:
            notes.append(note("scan_error_decides", low=low, high=high, unit=unit))
        else:
            notes.append(note("reference_error_unknown", low=low, high=high, unit=unit))
    elif found.within is None and pairs.occasions > pairs.clients + 1:
        notes.append(note("within_not_separable"))
    return found


def compare_pairs(
    asked: Asked,
    pairs: PairSet,
    lens: Lens,
    catalogue: Catalogue,
    *,
    coverage: float = 0.95,
    reference_sd: float | None = None,
    seed: int = 1,
    offsets_only: bool = False,
) -> CompareResult:
    """Analyse pairs: one pair a client gives the single design, more the repeated design.

    ``reference_sd`` states the SD of one scan (default: as stated in the study); replicate scans
    go before it. ``offsets_only`` leaves out what offsets do not need: limits, correlation and
    lines.
    """
    metric = metric_of(pairs.metric)
    margin = catalogue.margin(metric)
    d, mean = pairs.d, (pairs.x + pairs.y) / 2
    n, clients = pairs.n, pairs.clients
    notes = list(pairs.notes)
    agree = (
        Agreement(None, None, None, None, ())
        if offsets_only
        else agreement(pairs.x, pairs.y, pairs.client)
    )
    notes += agree.notes
    fit: NestedFit | None = None
    grid: VarianceGrid | None = None
    limits: Limits | None = None
    approximate: Limits | None = None
    components = Components(None, None, None)
    equal: Equivalence | None = None
    if n == 0:
        notes.append(note("no_pairs", dropped=pairs.left_out.n))
    if n == clients:
        design = "single"
        bias, sd = single_bias(d)
        limits = single_limits(d, coverage)
        approximate = approximate_limits(d)
        trend = single_trend(d, mean)
        if n >= 1:
            notes.append(note("components_need_repeats"))
        if n == 1:
            notes.append(note("one_pair"))
        if bias is not None and sd is not None and margin is not None:
            equal = equivalence(bias.value, sd / math.sqrt(n), n - 1, margin)
    else:
        design = "repeated"
        fit = fit_nested(d, pairs.client, pairs.occasion)
        if fit is None:
            raise UserError("the pairs could not be analysed")
        bias, df = repeated_bias(fit)
        grid = variance_grid(occasion_means(d, pairs.client, pairs.occasion))
        sd = math.sqrt(fit.total_variance)
        trend = (
            Trend(None, None, None)
            if offsets_only
            else repeated_trend(d, mean, pairs.client, pairs.occasion)
        )
        parts = [
            math.sqrt(v) if ok else None for v, ok in zip(fit.variances, fit.separable, strict=True)
        ]
        components = Components(*parts)
        if clients == 1:
            components = Components(None, parts[1], parts[2])
            notes.append(note("one_client", occasions=pairs.occasions))
            if pairs.occasions == 1:
                bias = Estimate(bias.value, None, n, bias.method)
                sd = float(d.std(ddof=1))
                notes.append(note("one_anchor"))
        else:
            limits = (
                None
                if offsets_only
                else repeated_limits(fit, bias, grid, d, pairs.client, coverage)
            )
            if bias.se is not None and margin is not None:
                equal = equivalence(bias.value, bias.se, df, margin)
        if clients > 1 and pairs.occasions == clients:
            notes.append(note("occasion_in_client"))
        if n == pairs.occasions:
            notes.append(note("replicate_in_occasion"))
    on_reference = _reference_trend(pairs, catalogue, reference_sd, notes)
    by_level = () if offsets_only or n == 0 else _by_level(pairs, on_reference)
    notes += outlying_repeats(pairs, catalogue)
    line = None if offsets_only else deming(pairs.x, pairs.y, pairs.client)
    if trend.slope is None and n and not offsets_only:
        notes.append(note("no_trend"))
    if line is None and n and not offsets_only:
        notes.append(note("no_deming"))
    if 1 < clients < 8 and n:
        notes.append(note("few_clients", clients=clients))
    equation = EQUATIONS.get(pairs.instrument.equation)
    if equation is not None and equation.certainty == "from memory":
        notes.append(note("from_memory", source=equation.source))
    return CompareResult(
        asked=asked,
        lens=lens,
        pairs=pairs,
        design=design,
        bias=bias,
        sd=sd,
        limits=limits,
        approximate=approximate,
        components=components,
        fit=fit,
        grid=grid,
        trend=trend,
        reference_trend=on_reference,
        margin=margin,
        agreement=agree,
        deming=line,
        equivalence=equal,
        by_level=by_level,
        notes=tuple(notes),
    )


def with_forms(
    snapshot: Snapshot, results: Sequence[CompareResult]
) -> Generator[float, None, tuple[CompareResult, ...]]:
    """The results with their other forms, computed where they are missing; yields the share."""
    out = []
    for k, r in enumerate(results):
        if r.forms is None:
            scan = r.reference_trend.reference
            asked = AgreementFormsRequest(snapshot, r.pairs, r.bias, r.sd, scan, r.fit, r.grid)
            forms = yield from scaled(asked.run(), 1 / len(results), k / len(results))
            out.append(replace(r, forms=forms, notes=(*r.notes, *forms.notes)))
        else:
            out.append(r)
    return tuple(out)
