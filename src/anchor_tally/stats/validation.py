"""Does correcting help, and does the device know anything that the last scan did not?

Errors on left-out occasions.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from .estimate import Estimate, Floats, FrozenArrays, Ints
from .shares import wilson

MODELS = ("none", "pooled", "client", "line", "line_client")  # the simpler one first


@dataclass(frozen=True, slots=True)
class Baselines:
    """RMSE of what needs no device, on the same left-out occasions; None where it cannot be had.

    ``last_scan`` carries over the client's scan before (for the first one, the scan after);
    ``other_scans_mean`` is the mean of the client's other scans, ``sample_mean`` that of the
    other clients, ``bmi_equation`` an equation from body mass index.
    """

    last_scan: float | None
    other_scans_mean: float | None
    sample_mean: float | None
    bmi_equation: float | None = None


@dataclass(frozen=True, eq=False)
class Foretold(FrozenArrays):
    """Predictions of left-out occasion means by a model, shape (M,).

    With half of the stated 95 % interval (None without one).
    """

    value: Floats
    half: Floats | None


@dataclass(frozen=True, slots=True)
class ModelError:
    """RMSE of a model on left-out occasion means, and the coverage of its stated interval.

    The coverage is None for a model without an interval.
    """

    model: str
    rmse: float
    covered: Estimate | None


@dataclass(frozen=True, eq=False)
class CrossValidation(FrozenArrays):
    """RMSE of left-out occasion means, before and after correction, and beside the baselines.

    ``model`` is the simplest within one standard error of the best; ``after`` is its RMSE.
    ``models`` holds every model that was tried, the simpler one first. ``beats_scans`` tells
    whether it is closer than the last scan carried over and than the mean of the other scans, by
    more than one standard error of the difference. ``beats_people``: the same beside the sample
    mean and the BMI equation. None where there is nothing to beat. ``loss`` and ``client`` are the
    squared errors of the chosen model on the occasions used, and their clients.
    """

    model: str
    before: float
    after: float
    models: tuple[ModelError, ...]
    baselines: Baselines
    beats_scans: bool | None
    beats_people: bool | None
    occasions: int
    scheme: str
    loss: Floats
    client: Ints

    def of(self, model: str) -> ModelError | None:
        """What a model comes to; None where it was not tried."""
        return next((m for m in self.models if m.model == model), None)


def _rmse(loss: Floats | None) -> float | None:
    return None if loss is None or loss.size == 0 else math.sqrt(float(loss.mean()))


def gain(worse: Floats, better: Floats, client: Ints) -> tuple[float, float]:
    """Mean gain of one prediction over another.

    Parameters
    ----------
    worse, better : ndarray, shape (m,)
        Squared errors of both predictions.
    client : ndarray of int, shape (m,)
        Client of each.

    Returns
    -------
    mean, se : float
        Mean of ``worse − better``, and its standard error over clients (infinite for one client).
    """
    difference = worse - better
    mean = float(difference.mean())
    _, k = np.unique(client, return_inverse=True)
    parts = np.bincount(k, difference - mean)
    clients = parts.size
    if clients < 2:
        return mean, math.inf
    return mean, math.sqrt(float(parts @ parts) * clients / (clients - 1)) / difference.size


def _beats(loss: Floats, others: list[Floats], client: Ints) -> bool | None:
    if not others or loss.size == 0:
        return None
    found = [gain(other, loss, client) for other in others]
    return all(mean > error for mean, error in found)


def cross_validate(
    d: Floats,
    x: Floats,
    client: Ints,
    instant: Floats,
    foretold: Mapping[str, Foretold],
    equation: Floats | None = None,
) -> CrossValidation:
    """Judge corrections by their errors on left-out scans.

    Parameters
    ----------
    d, x : ndarray, shape (M,)
        Mean difference of each occasion, and its scan.
    client : ndarray of int, shape (M,)
        Client of each occasion, in increasing order.
    instant : ndarray, shape (M,)
        Time of each occasion.
    foretold : mapping of str to Foretold
        What each model except *none* predicts without the client (pooled part) and without the
        occasion (client's part).
    equation : ndarray, shape (M,), optional
        Value of an equation that needs body mass index only; NaN where there is none.

    Returns
    -------
    CrossValidation
        Error of each model and of the baselines, and the chosen model.

    Notes
    -----
    Without a client's part, a pooled offset is chosen when it beats no correction by more than one
    standard error. With it, the simplest model within one standard error of the best is chosen.
    """
    known = {"none": Foretold(np.zeros(d.size), None), **foretold}
    losses = {m: (d - known[m].value) ** 2 for m in MODELS if m in known}
    every = np.ones(d.size, dtype=bool)
    _, k, count = np.unique(client, return_inverse=True, return_counts=True)
    several = count[k] > 1
    has_own = "client" in losses
    if len(losses) > 2:
        # the simpler model that is within one standard error of the best (Hastie, Tibshirani &
        # Friedman 2009, section 7.10)
        best = min(losses, key=lambda key: float(losses[key].mean()))
        model = next(m for m in losses if _not_worse(losses[m], losses[best], client))
    else:
        mean, error = gain(losses["none"], losses["pooled"], client)
        model = "pooled" if mean > error else "none"
    use = several if has_own and several.sum() * 2 >= d.size else every
    last, others = other_scans(x, k, instant)
    sums, sizes = np.bincount(k, x), count.astype(float)
    person = sums / sizes
    sample = ((person.sum() - person) / (person.size - 1))[k] if person.size > 1 else None
    carried = [] if use is every else [(x - last)[use] ** 2, (x - others)[use] ** 2]
    people = [] if sample is None else [(x - sample)[use] ** 2]
    by_equation = None
    if equation is not None and not np.isnan(equation[use]).any():
        by_equation = (x - equation)[use] ** 2
        people.append(by_equation)
    after = losses[model][use]
    return CrossValidation(
        model=model,
        before=_rmse(losses["none"][use]) or 0.0,
        after=_rmse(after) or 0.0,
        models=tuple(
            ModelError(
                m, _rmse(losses[m][use]) or 0.0, _covered(losses[m][use], known[m].half, use)
            )
            for m in losses
        ),
        baselines=Baselines(
            last_scan=_rmse(carried[0]) if carried else None,
            other_scans_mean=_rmse(carried[1]) if carried else None,
            sample_mean=_rmse(people[0]) if people else None,
            bmi_equation=_rmse(by_equation),
        ),
        beats_scans=_beats(after, carried, client[use]),
        beats_people=_beats(after, people, client[use]),
        occasions=int(use.sum()),
        scheme=(
            "leave out whole clients (pooled) and single occasions (client), variances refitted;"
            " one-standard-error rule"
        ),
        loss=after,
        client=np.asarray(client[use], dtype=np.int64),
    )


def _covered(loss: Floats, half: Floats | None, use: npt.NDArray[np.bool_]) -> Estimate | None:
    return None if half is None else wilson(int((np.sqrt(loss) <= half[use]).sum()), loss.size)


def _not_worse(loss: Floats, best: Floats, client: Ints) -> bool:
    mean, error = gain(loss, best, client)
    return mean <= error


def other_scans(x: Floats, k: Ints, instant: Floats) -> tuple[Floats, Floats]:
    """Predict each scan from the client's other scans.

    Parameters
    ----------
    x : ndarray, shape (M,)
        Scans.
    k : ndarray of int, shape (M,)
        Client of each scan.
    instant : ndarray, shape (M,)
        Time of each scan.

    Returns
    -------
    previous : ndarray, shape (M,)
        The client's scan before each one (for the first scan the next one).
    others : ndarray, shape (M,)
        Mean of the client's other scans; the scan itself when it is the only one.
    """
    order = np.lexsort((instant, k))
    first: npt.NDArray[np.bool_] = np.r_[True, np.diff(k[order]) > 0]
    place = np.arange(x.size)
    neighbour = np.where(first, np.minimum(place + 1, x.size - 1), place - 1)
    neighbour = np.where(k[order][neighbour] == k[order], neighbour, place)
    last = np.empty(x.size)
    last[order] = x[order][neighbour]
    count = np.bincount(k)[k]
    others = np.where(count > 1, (np.bincount(k, x)[k] - x) / np.maximum(count - 1, 1), x)
    return last, others
