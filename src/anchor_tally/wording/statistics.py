"""One entry a statistic: label, decimals, its place in the result, formula and source.

The table on the screen, the workbook, the JSON and the evidence drawer are all made from these.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from ..analysis.agreement.agreement import CompareResult
from ..analysis.agreement.agreement_forms import NullDevices
from ..domain.metrics import Metric, metric_of
from ..stats import regression
from ..stats.difference_forms import WithoutReferenceError
from ..stats.estimate import Estimate, Interval
from ..stats.pair_slopes import PassingBablok
from .numbers import number, p_value, signed, span


@dataclass(frozen=True, slots=True)
class Line:
    """One line of a table of figures: what, value, interval.

    Lines that are not ``main`` are under *All statistics*.
    """

    name: str
    value: str
    interval: str
    main: bool = False


Part = TypeVar("Part")
Found = tuple[float | None, Interval | None]


@dataclass(frozen=True, slots=True)
class Explanation:
    """A statistic explained: name, formula, source, and what it does and does not say."""

    name: str
    formula: str
    source: str
    meaning: str = ""

    @property
    def help(self) -> str:
        """What it says, with its source."""
        return f"{self.meaning} Source: {self.source}."


EXPLANATIONS = {
    "pair": Explanation(
        "One pair",
        "Reading of the device minus the mean of the scans of the same day.",
        "Bland & Altman 1986",
        "One reading and the scan it was taken with. It shows how far this reading was off, not how"
        " far the next one will be.",
    ),
    "bias": Explanation(
        "Bias",
        "Mean difference device − reference. With repeated pairs: generalised least squares in the"
        " nested model, t interval.",
        "Bland & Altman 1986; Patterson & Thompson 1971; Satterthwaite degrees of freedom"
        " (Giesbrecht & Burns 1985)",
        "How far the device reads too high (+) or too low (−) on average. A small bias can hide"
        " large errors of single people.",
    ),
    "limits": Explanation(
        "Limits of agreement",
        "Bias ± 1.96 SD of single differences: the range that is expected to hold 95 % of single"
        " readings of new clients.",
        "Bland & Altman 1986; exact interval: Carkeet 2015; repeated pairs: integrated over the"
        " variance ratios (Box & Tiao 1973)",
        "The range that holds most errors of single people. Each limit has its own confidence"
        " interval; with few clients the true range may be much wider.",
    ),
    "components": Explanation(
        "Sources of variation",
        "Variances between clients, between days of a client, and between repeats, by REML.",
        "Patterson & Thompson 1971",
        "How much of the variation lies between people, between days of one person, and between"
        " repeats. More repeats reduce only the last part.",
    ),
    "trend": Explanation(
        "Slope on the mean (classical)",
        "Slope of the difference on the mean of both methods.",
        "Bland & Altman 1999",
        "Whether the difference changes with the mean of both values. It differs from zero whenever"
        " the two vary by different amounts, so alone it proves nothing.",
    ),
    "trend_on_scan": Explanation(
        "Slope on the reference",
        "Slope of the difference on the reference in the mixed model, corrected for the error of"
        " the reference by moments. Within clients, −1 means no response to change.",
        "Patterson & Thompson 1971; Fuller 1987, section 2.2 (from memory)",
        "Whether the error grows with the true level. Within clients it shows whether the device"
        " responds to change.",
    ),
    "concordance": Explanation(
        "Concordance",
        "2·cov/(var + var + bias²): 1 only when all pairs are equal.",
        "Lin 1989, 2000",
        "One number for bias and scatter together. It increases with the range of the sample, so it"
        " does not compare two studies.",
    ),
    "icc": Explanation(
        "Intraclass correlation",
        "Two-way random effects, absolute agreement, single values: ICC(A,1).",
        "McGraw & Wong 1996",
        "Share of the variance of single values that is between people. It increases with the range"
        " of the sample, so it does not compare two studies.",
    ),
    "error": Explanation(
        "Error",
        "Root mean square and mean absolute difference of single readings.",
        "standard definitions",
        "The typical size of one error, bias included. Correction removes the bias, not the"
        " scatter.",
    ),
    "deming": Explanation(
        "Deming regression",
        "Regression of device on reference with errors in both; jackknife intervals over clients.",
        "Linnet 1993",
        "The line between device and reference when both have errors. Slope 1 and intercept 0 mean"
        " agreement on average.",
    ),
    "passing_bablok": Explanation(
        "Passing–Bablok regression",
        "Shifted median of the slopes of all pairs; interval from the variance of Kendall's S;"
        " cusum test of linearity.",
        "Passing & Bablok 1983",
        "A line that single outliers do not change, with errors in both methods. Slope 1 and"
        " intercept 0 mean agreement on average.",
    ),
    "ols": Explanation(
        "Least squares",
        "Line of the device on the reference; the reference is taken as exact.",
        "standard definitions",
        "The line that a spreadsheet draws. It is too flat when the reference has errors.",
    ),
    "theil_sen": Explanation(
        "Theil–Sen slope",
        "Median of the slopes of all pairs.",
        "Sen 1968",
        "A slope that single outliers do not change. Like least squares, it takes the reference as"
        " exact.",
    ),
    "near": Explanation(
        "Without the scan's error",
        "√(SD² − SD of one scan²/scans).",
        "Bland & Altman 1999",
        "The variation that remains without the scan's own error: the device's part.",
    ),
    "null": Explanation(
        "Baselines without a device",
        "Errors at the same scans of the other clients' mean and of an equation from body mass"
        " index.",
        "common practice",
        "Predictions that need no measurement. A device should have a smaller error than these.",
    ),
    "equivalence": Explanation(
        "Equivalence",
        "Two one-sided t tests of the bias against the margin.",
        "Schuirmann 1987",
        "Whether the bias lies within the margin that matters. It needs a margin.",
    ),
}


@dataclass(frozen=True, slots=True)
class Statistic:
    """One figure of a comparison.

    ``explains`` is its entry in EXPLANATIONS; ``label`` may hold {unit}; ``pick`` gives value
    and interval; ``form`` is difference (sign shown), size or p; ``decimals`` are added to the
    metric's, or counted alone when ``alone``. ``path`` is its place in the JSON: group, key, key
    of the interval. ``shown``: whether it is in the table, ``main`` whether at its top.
    """

    explains: str
    label: str
    pick: Callable[[CompareResult], Found]
    path: tuple[str, str, str]
    form: str = "size"
    decimals: int = 0
    alone: bool = False
    shown: bool = True
    main: bool = False

    def texts(self, result: CompareResult, metric: Metric) -> tuple[str, str, str]:
        """Label, value and interval as text."""
        value, interval = self.pick(result)
        unit = metric.difference_unit
        scan = "scan" if result.pairs.reference.kind == "reference" else "comparator"
        label = self.label.format(unit=unit, scan=scan)
        if self.form == "p":
            return label, p_value(value), ""
        k = self.decimals + (0 if self.alone else metric.decimals)
        if self.form == "difference":
            return label, signed(value, k), span(interval, k, sign=True) if self.path[2] else ""
        return label, number(value, k), span(interval, k) if self.path[2] else ""


def _found(x: Estimate | float | None) -> Found:
    return (
        (x.value, x.interval)
        if isinstance(x, Estimate)
        else ((None if x is None else float(x)), None)
    )


def _of(
    pick: Callable[[CompareResult], Estimate | float | None],
) -> Callable[[CompareResult], Found]:
    """A figure that every result has a place for."""
    return lambda result: _found(pick(result))


def _in(
    part: Callable[[CompareResult], Part | None], pick: Callable[[Part], Estimate | float | None]
) -> Callable[[CompareResult], Found]:
    """A figure of a part that a result may lack."""

    def found(result: CompareResult) -> Found:
        there = part(result)
        return (None, None) if there is None else _found(pick(there))

    return found


def _limit(upper: bool) -> Callable[[CompareResult], Found]:
    def pick(result: CompareResult) -> Found:
        lim = result.limits
        if lim is None:
            return None, None
        return (lim.upper, lim.upper_interval) if upper else (lim.lower, lim.lower_interval)

    return pick


def _passing_bablok(r: CompareResult) -> PassingBablok | None:
    return None if r.forms is None else r.forms.passing_bablok


def _ols(r: CompareResult) -> regression.Line | None:
    return None if r.forms is None else r.forms.ols


def _without_scan_error(r: CompareResult) -> WithoutReferenceError | None:
    return None if r.forms is None else r.forms.without_scan_error


def _null_devices(r: CompareResult) -> NullDevices | None:
    return None if r.forms is None else r.forms.null_devices


STATISTICS = (
    Statistic(
        "bias",
        "Bias ({unit})",
        _of(lambda r: r.bias),
        ("bias", "estimate", "ci"),
        "difference",
        main=True,
    ),
    Statistic(
        "limits",
        "Upper limit ({unit})",
        _limit(upper=True),
        ("limits", "upper", "upper_ci"),
        "difference",
        main=True,
    ),
    Statistic(
        "limits",
        "Lower limit ({unit})",
        _limit(upper=False),
        ("limits", "lower", "lower_ci"),
        "difference",
        main=True,
    ),
    Statistic(
        "limits",
        "SD of differences ({unit})",
        _of(lambda r: r.sd),
        ("bias", "sd", ""),
        decimals=1,
        main=True,
    ),
    Statistic(
        "components",
        "  between clients ({unit})",
        _of(lambda r: r.components.client_sd),
        ("components", "client_sd", ""),
        decimals=1,
    ),
    Statistic(
        "components",
        "  between days ({unit})",
        _of(lambda r: r.components.occasion_sd),
        ("components", "occasion_sd", ""),
        decimals=1,
    ),
    Statistic(
        "components",
        "  between repeats ({unit})",
        _of(lambda r: r.components.replicate_sd),
        ("components", "replicate_sd", ""),
        decimals=1,
    ),
    Statistic(
        "trend_on_scan",
        "Slope on {scan}, between clients",
        _in(lambda r: r.reference_trend.between, lambda s: s.slope),
        ("trend_on_reference.between", "slope", "ci"),
        "difference",
        2,
        alone=True,
    ),
    Statistic(
        "trend_on_scan",
        "  p",
        _in(lambda r: r.reference_trend.between, lambda s: s.p),
        ("trend_on_reference.between", "p", ""),
        "p",
        shown=False,
    ),
    Statistic(
        "trend_on_scan",
        "Slope on {scan}, within clients",
        _in(lambda r: r.reference_trend.within, lambda s: s.slope),
        ("trend_on_reference.within", "slope", "ci"),
        "difference",
        2,
        alone=True,
    ),
    Statistic(
        "trend_on_scan",
        "  p",
        _in(lambda r: r.reference_trend.within, lambda s: s.p),
        ("trend_on_reference.within", "p", ""),
        "p",
        shown=False,
    ),
    Statistic(
        "trend_on_scan",
        "SD of one scan ({unit})",
        _of(
            lambda r: r.reference_trend.reference.sd if r.reference_trend.reference.known else None
        ),
        ("trend_on_reference", "reference_sd", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "trend",
        "Slope on the mean (classical)",
        _of(lambda r: r.trend.slope),
        ("proportional", "slope", "ci"),
        "difference",
        2,
        alone=True,
    ),
    Statistic(
        "trend", "  p", _of(lambda r: r.trend.p), ("proportional", "p", ""), "p", shown=False
    ),
    Statistic(
        "concordance",
        "Concordance",
        _of(lambda r: r.agreement.concordance),
        ("concordance", "ccc", "ci"),
        decimals=2,
        alone=True,
    ),
    Statistic(
        "concordance",
        "Correlation (not agreement)",
        _of(lambda r: r.agreement.pearson),
        ("correlation", "pearson", "ci"),
        decimals=2,
        alone=True,
    ),
    Statistic(
        "error",
        "RMSE of readings ({unit})",
        _of(lambda r: r.agreement.rmse),
        ("error", "rmse", ""),
        decimals=1,
    ),
    Statistic(
        "error",
        "MAE ({unit})",
        _of(lambda r: r.agreement.mae),
        ("error", "mae", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "error",
        "Mean absolute percentage error (%)",
        _in(lambda r: r.forms, lambda f: f.percentage_error),
        ("error", "mape_percent", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "icc",
        "ICC(A,1) with the reference",
        _in(lambda r: r.forms, lambda f: f.icc),
        ("icc", "absolute_agreement_single", "ci"),
        decimals=2,
        alone=True,
        shown=False,
    ),
    Statistic(
        "deming",
        "Deming slope",
        _in(lambda r: r.deming, lambda x: x.slope),
        ("deming", "slope", "slope_ci"),
        decimals=2,
        alone=True,
        shown=False,
    ),
    Statistic(
        "deming",
        "Deming intercept",
        _in(lambda r: r.deming, lambda x: x.intercept),
        ("deming", "intercept", "intercept_ci"),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "deming",
        "Ratio of error variances",
        _in(lambda r: r.deming, lambda x: x.ratio),
        ("deming", "ratio", ""),
        decimals=2,
        alone=True,
        shown=False,
    ),
    Statistic(
        "passing_bablok",
        "Passing–Bablok slope",
        _in(_passing_bablok, lambda x: x.line.slope),
        ("passing_bablok", "slope", "slope_ci"),
        decimals=2,
        alone=True,
        shown=False,
    ),
    Statistic(
        "passing_bablok",
        "Passing–Bablok intercept",
        _in(_passing_bablok, lambda x: x.line.intercept),
        ("passing_bablok", "intercept", "intercept_ci"),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "passing_bablok",
        "  p of linearity",
        _in(_passing_bablok, lambda x: x.linearity_p),
        ("passing_bablok", "linearity_p", ""),
        "p",
        shown=False,
    ),
    Statistic(
        "ols",
        "Least-squares slope",
        _in(_ols, lambda x: x.slope),
        ("ols", "slope", "slope_ci"),
        decimals=2,
        alone=True,
        shown=False,
    ),
    Statistic(
        "ols",
        "Least-squares intercept",
        _in(_ols, lambda x: x.intercept),
        ("ols", "intercept", "intercept_ci"),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "theil_sen",
        "Theil–Sen slope",
        _in(lambda r: r.forms, lambda f: f.theil_sen),
        ("theil_sen", "slope", "slope_ci"),
        decimals=2,
        alone=True,
        shown=False,
    ),
    Statistic(
        "near",
        "SD without the scan's error ({unit})",
        _in(_without_scan_error, lambda x: x.sd),
        ("instrument_only", "sd", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "null",
        "RMSE of the previous scan ({unit})",
        _in(_null_devices, lambda x: x.last_scan),
        ("null_devices", "last_scan", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "null",
        "RMSE of the other clients' mean ({unit})",
        _in(_null_devices, lambda x: x.sample_mean),
        ("null_devices", "sample_mean", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "null",
        "RMSE of an equation from BMI ({unit})",
        _in(_null_devices, lambda x: x.bmi_equation),
        ("null_devices", "bmi_equation", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "null",
        "RMSE of the device, same scans ({unit})",
        _in(_null_devices, lambda x: x.instrument),
        ("null_devices", "instrument", ""),
        decimals=1,
        shown=False,
    ),
    Statistic(
        "equivalence",
        "Margin ({unit})",
        _in(lambda r: r.equivalence, lambda x: x.margin),
        ("equivalence", "margin", ""),
        shown=False,
    ),
    Statistic(
        "equivalence",
        "  p of equivalence",
        _in(lambda r: r.equivalence, lambda x: x.p),
        ("equivalence", "p", ""),
        "p",
        shown=False,
    ),
)


def rows(result: CompareResult, *, all_of_them: bool = False) -> list[tuple[str, Line]]:
    """The statistics as text, each with the key of its explanation."""
    metric = metric_of(result.pairs.metric)
    out = [
        (s.explains, Line(*s.texts(result, metric), s.main))
        for s in STATISTICS
        if s.shown or all_of_them
    ]
    return out + [("limits", line) for line in _level_lines(result, metric)]


def _level_lines(result: CompareResult, metric: Metric) -> list[Line]:
    """Limits at each level, where the error depends on it."""
    k, lines = metric.decimals, []
    for x in result.by_level:
        for name, value in (("Upper", x.upper), ("Lower", x.lower)):
            ends = Interval(value - x.error, value + x.error)
            label = f"{name} limit at {number(x.level, 0)} {metric.symbol}"
            label += f" ({metric.difference_unit})"
            lines.append(Line(label, signed(value, k), span(ends, k, sign=True), main=True))
    return lines


# models of calibration, and what needs no device, as they appear in figures and tables
MODEL_LABELS = {
    "none": "not corrected",
    "pooled": "one offset for all",
    "client": "each client's own",
    "line": "a line for all",
    "line_client": "line and client's own",
}
BASELINE_WORDS = {
    "last_scan": "previous scan",
    "other_scans_mean": "mean of the other scans",
    "sample_mean": "mean of other clients",
    "bmi_equation": "from body mass index",
}
