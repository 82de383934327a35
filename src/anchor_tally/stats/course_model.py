"""The model of all clients: courses of the level, turns, and what clients have in common."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from .best_estimate import Filtered, Observations, Spreads, filter_clients
from .estimate import Floats, FrozenArrays, Ints
from .mixture import Mixture, mixture_of
from .source_spreads import Known
from .turns import (
    Beside,
    Hypotheses,
    Knots,
    Posterior,
    checked_until,
    hypotheses,
    knots_of,
    posterior,
)

ROUNDS = 3  # in which clients and what they have in common are weighed by turns
OWN_WEIGHT = 4.0  # clients that the even prior of the courses counts for


@dataclass(frozen=True, eq=False)
class Model(FrozenArrays):
    """What all clients tell together.

    Attributes
    ----------
    tried : tuple of Spreads
        Courses of the level.
    courses : ndarray, shape (k,)
        Their probabilities for a client of this study.
    precision, told : ndarray, shapes (p, p) and (p,)
        Precision of the common figures, and that times their mean.
    own, own_told : ndarray, shapes (c, p, p) and (c, p)
        The part of both that each of ``clients`` has told.
    clients : ndarray of int, shape (c,)
        Numbers of the clients that the model is made from, in increasing order.
    origin : int
        Day from which drifts count.
    level_df, change_df : float
        Degrees of freedom of intervals of a level and of a change.
    shifts : bool
        Whether shifts of all devices are looked for.
    found, days : Filtered, tuple of ndarray
        What the filter gave, with the days of change and value that it was asked for.
    """

    tried: tuple[Spreads, ...]
    courses: Floats
    precision: Floats
    told: Floats
    own: Floats
    own_told: Floats
    clients: Ints
    origin: int
    level_df: float
    change_df: float
    shifts: bool
    found: Filtered
    days: tuple[Ints, Ints, Ints]

    @property
    def hypotheses(self) -> Hypotheses:
        """What may have happened to a client."""
        return hypotheses(self.tried[0].start_trend, shifts=self.shifts)

    def beside(self, clients: Ints) -> Beside:
        """What the others tell each of some clients of the common figures."""
        at = np.minimum(np.searchsorted(self.clients, clients), self.clients.size - 1)
        part = (self.clients[at] == clients)[:, None]
        return Beside(
            self.precision - np.where(part[..., None], self.own[at], 0.0),
            self.told - np.where(part, self.own_told[at], 0.0),
        )


@dataclass(frozen=True, eq=False)
class Levels(FrozenArrays):
    """Level and change of c clients.

    ``shifted`` (c,) is the probability that all devices of a client have shifted.
    """

    level: Mixture
    change: Mixture
    shifted: Floats


def spans(data: Observations, clients: int) -> tuple[Ints, Ints]:
    """First and last day of the readings of each client, (c,) each."""
    last = np.zeros(clients, dtype=np.int64)
    np.maximum.at(last, data.client, data.day)
    first = np.full(clients, np.iinfo(np.int64).max)
    np.minimum.at(first, data.client, data.day)
    return first, last


def courses_of(known: Known, wander: Sequence[float]) -> tuple[Spreads, ...]:
    """The SDs with each course of the level, whose part in the shared error is taken out."""
    s = known.spreads
    left = [max(s.morning**2 - x**2 * known.gap / 2, 0.0) for x in wander]
    return tuple(
        replace(s, level=x, morning=float(np.sqrt(v))) for x, v in zip(wander, left, strict=True)
    )


def _filtered(
    data: Observations,
    tried: tuple[Spreads, ...],
    days: tuple[Ints, Ints, Ints],
    knots: Knots,
    origin: int,
) -> Filtered:
    own = own_regressors(data, tried[0], knots)
    since, until, now = days
    ahead = (knots.ahead(now), knots.ahead(until) - knots.ahead(since))
    return filter_clients(data, tried, since, until, now, origin, own, ahead)


def own_regressors(data: Observations, s: Spreads, knots: Knots) -> Floats:
    """What turns and shifts of each client add to its readings, (n, g)."""
    shifts = s.shifts[data.source] * 1.0
    return knots.regressors(data.client, data.day, s.slope[data.source], shifts)


def fit_model(
    data: Observations,
    known: Known,
    wander: Sequence[float],
    clients: Ints,
    days: tuple[Ints, Ints, Ints],
    origin: int,
    dfs: tuple[float, float],
) -> Model:
    """Weigh courses and turns of each client, and add up what they tell of the common figures.

    Parameters
    ----------
    data : Observations
        Readings of the clients that the model is made from, numbered from 0.
    known : Known
        The SDs but for the level's own course.
    wander : sequence of float
        SDs that the level may gain in a week.
    clients : ndarray of int, shape (c,)
        Numbers of these clients in the study.
    days : tuple of ndarray, each of shape (c,)
        The two days of each client's change, and the day of the value.
    origin : int
        Day from which drifts count.
    dfs : tuple of float
        Degrees of freedom of intervals of a level and of a change.

    Notes
    -----
    Each client has its own weights of the courses. Their prior is the mean of those of all
    clients, with an even one that counts for OWN_WEIGHT clients, so that stable clients make a
    restless one rare, but not impossible. Each client is weighed beside what the others tell of
    biases and drifts.
    """
    tried = courses_of(known, wander)
    s = tried[0]
    first, last = spans(data, clients.size)
    checked = checked_until(data, s, clients.size)
    shifts = not np.isnan(checked).all()
    knots = knots_of(first, last, checked)
    found = _filtered(data, tried, days, knots, origin)
    hyp = hypotheses(s.start_trend, shifts=shifts)
    prior = s.prior_precision()
    p = s.common
    courses = np.full(len(tried), 1 / len(tried))
    own = found.products[..., 1 : 1 + p, 1 : 1 + p].mean(axis=0)
    own_told = found.products[..., 1 : 1 + p, 0].mean(axis=0)
    for _ in range(ROUNDS):
        precision = np.diag(prior) + own.sum(axis=0)
        told = own_told.sum(axis=0)
        beside = Beside(precision - own, told - own_told)
        each = posterior(found, beside, hyp, knots.prior, courses, s.slope_sd, contrasts=False)
        own, own_told = each.information, each.told
        share = each.weight.sum(axis=(1, 2))
        courses = (OWN_WEIGHT / len(tried) + share) / (OWN_WEIGHT + share.sum())
    return Model(
        tried=tried,
        courses=courses,
        precision=np.diag(prior) + own.sum(axis=0),
        told=own_told.sum(axis=0),
        own=own,
        own_told=own_told,
        clients=clients,
        origin=origin,
        level_df=dfs[0],
        change_df=dfs[1],
        shifts=shifts,
        found=found,
        days=days,
    )


def levels_of(
    data: Observations, model: Model, clients: Ints, since: Ints, until: Ints, now: Ints
) -> Levels:
    """Level and change of clients under a model.

    Parameters
    ----------
    data : Observations
        Readings of these clients, numbered from 0.
    model : Model
        What all clients tell.
    clients : ndarray of int, shape (c,)
        Their numbers in the study.
    since, until, now : ndarray of int, shape (c,)
        The two days of the change, and the day of the value.
    """
    first, last = spans(data, clients.size)
    knots = knots_of(first, last, checked_until(data, model.tried[0], clients.size))
    days = (since, until, now)
    known = np.array_equal(clients, model.clients) and all(
        np.array_equal(a, b) for a, b in zip(days, model.days, strict=True)
    )
    found = model.found if known else _filtered(data, model.tried, days, knots, model.origin)
    hyp = model.hypotheses
    each = posterior(
        found, model.beside(clients), hyp, knots.prior, model.courses, model.tried[0].slope_sd
    )
    return Levels(
        _mixed(each, each.level, model.level_df),
        _mixed(each, each.change, model.change_df),
        shifted(each.weight, hyp),
    )


def shifted(weight: Floats, hyp: Hypotheses) -> Floats:
    """Probability that all devices of a client have shifted, (c,)."""
    return np.asarray(weight[..., hyp.shifts].sum(axis=(0, 2)))


def _mixed(each: Posterior, told: tuple[Floats, Floats], df: float) -> Mixture:
    """Mixture over courses and hypotheses, a column a client."""
    k, c, h = each.weight.shape
    weight, mean, variance = (np.moveaxis(x, 1, 2).reshape(k * h, c) for x in (each.weight, *told))
    return mixture_of(weight, mean, variance, df)
