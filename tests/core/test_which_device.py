"""The choice of a device: errors, how certain the best is, and what its error is worth."""

from dataclasses import replace
from datetime import date, timedelta

import numpy as np
import pytest
from scipy import stats

from anchor_tally.analysis.offsets.which_device import Choice, MustHaves, WhichDeviceRequest
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.stats.ranking import rank
from anchor_tally.study.edits.clients import PutClient
from anchor_tally.wording.which_device import job_words, which_device_headline
from places import reading, study_of


def drawn(rng, clients, sds, scans=3, person=0.5):
    """Squared errors and counts by client of devices with these SDs."""
    e = rng.normal(0, person, (clients, sds.size, 1)) + rng.normal(
        0, 1, (clients, sds.size, scans)
    ) * np.sqrt(sds**2 - person**2).reshape(1, -1, 1)
    return np.stack([(e**2).sum(axis=2), np.full(e.shape[:2], scans)], axis=2)


def test_errors_and_shares_equal_their_definitions():
    """RMSE, jackknife interval on the logarithm and shares of resamples, by loops."""
    parts = drawn(np.random.default_rng(4), 9, np.array([1.0, 1.3, 2.5]))
    r = rank(parts, seed=5)
    for k, e in enumerate(r.errors):
        loss, n = parts[:, k, 0], parts[:, k, 1]
        assert e.value == pytest.approx(np.sqrt(loss.sum() / n.sum()))
        left = [np.log(np.delete(loss, c).sum() / np.delete(n, c).sum()) / 2 for c in range(9)]
        half = stats.t.ppf(0.975, 8) * np.sqrt(8 / 9 * np.sum((left - np.mean(left)) ** 2))
        assert (e.interval.low, e.interval.high) == pytest.approx(
            (e.value * np.exp(-half), e.value * np.exp(half))
        )
    assert (r.chosen, sum(r.best)) == (0, pytest.approx(1))
    assert r.best[0] > 0.6 > 0.05 > r.best[2]
    few = rank(parts[:2], seed=5)
    assert (few.chosen, few.best, few.expected) == (None, (None, None, None), None)


@pytest.mark.parametrize("draws", [60, pytest.param(400, marks=pytest.mark.slow)])
def test_the_error_of_the_chosen_device_allows_for_the_choice(draws):
    """Eight equal devices, 14 clients: the best looks better than it is; the stated error does not (within 0.1)."""
    rng = np.random.default_rng(6)
    shown, stated, covered = [], [], 0
    for k in range(draws):
        r = rank(drawn(rng, 14, np.full(8, 1.5)), seed=k)
        shown.append(r.errors[r.chosen].value)
        stated.append(r.expected)
        covered += sum(e.interval.low <= 1.5 <= e.interval.high for e in r.errors)
    assert np.mean(shown) < 1.5 - 0.15
    assert abs(np.mean(stated) - 1.5) < 0.1
    assert 0.90 <= covered / (8 * draws) <= 0.98


def test_what_cannot_be_chosen_says_why(demo):
    """Without a scan, with one scan each, without repeats, and with every device ruled out."""
    mornings = [(c, d) for c in range(4) for d in (2, 3, 4, 5)]
    lines = [
        reading(f"C{c}", f"2026-03-{d:02}T06:00:00+00:00", f"{20 + k + c + d % 3 / 2}", name=name)
        for c, d in mornings
        for k, name in enumerate(("Fir", "Gorse"))
    ]
    lines += [
        reading(f"C{c}", "2026-03-02T07:00:00+00:00", f"{19 + c}", name="Lab", kind="reference")
        for c in range(4)
    ]
    one = study_of(lines)
    r = finish(WhichDeviceRequest(one.snapshot(), Lens()).run())
    assert job_words(r, "change") == ("Not enough data: needs a second scan of at least 3 clients.")
    assert r.choices["level"].name in ("Fir", "Gorse")
    assert which_device_headline(r).endswith(
        "Change: not enough data: needs a second scan of at least 3 clients."
    )
    without = finish(WhichDeviceRequest(demo.snapshot(), Lens(reference="Consensus")).run())
    assert [job_words(without, job) for job in ("level", "change")] == ["Needs a scan."] * 2
    assert without.choices["daily"].name == "Birch"


def test_a_scale_is_ruled_out_for_a_client_with_an_implant(demo):
    """No impedance device for that client, unless a clinician has agreed; a tape is none."""

    def ruled(cautions):
        client = replace(demo.catalogue().client_coded("Auk"), cautions=frozenset(cautions))
        demo.do(PutClient(client))
        request = WhichDeviceRequest(demo.snapshot(), Lens(), MustHaves(for_client="Auk"))
        cards = finish(request.run()).cards
        return {c.instrument.name for c in cards if [n.code for n in c.ruled_out]}, cards

    assert ruled(())[0] == set()
    out, cards = ruled({"implant"})
    assert out == {c.instrument.name for c in cards if c.instrument.is_impedance}
    assert 0 < len(out) < len(cards)
    assert ruled({"implant", "implant_cleared"})[0] == set()


@pytest.mark.parametrize("draws", [60, pytest.param(400, marks=pytest.mark.slow)])
@pytest.mark.parametrize("devices", [2, 4])
def test_of_equal_devices_none_is_named_alone(devices, draws):
    """Ten clients, three scans each: one of equal devices is clear in about 5 %."""
    rng, clear = np.random.default_rng(9), 0
    for k in range(draws):
        r = rank(drawn(rng, 10, np.full(devices, 1.5)), seed=k)
        clear += Choice("level", "x", r.best[r.chosen], among=devices).clear
    assert clear <= 0.09 * draws


def test_a_device_that_shows_little_of_a_change_wins_no_level():
    """30 % of a change with little scatter: its offset repeats the scan, and another responds."""
    rng, lines = np.random.default_rng(4), []
    for c in range(10):
        level, pace, own = rng.uniform(16, 30), rng.normal(-0.12, 0.08), rng.normal(0, 1.5, 2)
        for week in (0, 12, 24):
            at = date(2026, 1, 5) + timedelta(weeks=week)
            moved = pace * week
            for k, (name, shows, sd) in enumerate((("Lag", 0.3, 0.2), ("Fir", 1.0, 0.9))):
                shown = round(level + shows * moved + own[k] + rng.normal(0, sd), 1)
                lines.append(reading(f"C{c}", f"{at}T07:0{k}", shown, name=name))
            scan = round(level + moved + rng.normal(0, 0.3), 1)
            lines.append(reading(f"C{c}", f"{at}T08:00", scan, name="Scan", kind="reference"))
    r = finish(WhichDeviceRequest(study_of(lines).snapshot(), Lens()).run())
    assert r.choices["level"].name == "Fir"
    assert r.choices["change"].name == "Fir"
