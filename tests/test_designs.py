"""Any small study gives results with reasons: no warning, no NaN, no traceback."""

import json
from datetime import datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from anchor_tally.analysis.agreement.agreement import CompareRequest
from anchor_tally.analysis.offsets.adopt import record_of
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.offsets.record import correct
from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.lens import Lens
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.readings_csv import HEADER
from anchor_tally.exchange.results_json import calibrate_json, compare_json
from anchor_tally.study import open_file
from anchor_tally.study.edits.imports import ImportReadings
from anchor_tally.wording import offsets, sentences, statistics
from anchor_tally.wording.board import board
from places import parse_text

VALUES = st.one_of(
    st.just(20.0), st.integers(15, 25).map(float), st.floats(10, 40).map(lambda v: round(v, 1))
)
STATUS = st.sampled_from(["ok", "ok", "ok", "failed", "excluded"])
OCCASION = st.tuples(
    st.lists(VALUES, max_size=2),
    st.lists(st.tuples(VALUES, STATUS, st.sampled_from(["", "a"])), max_size=3),
)


@settings(max_examples=25, deadline=None)
@given(st.lists(st.lists(OCCASION, max_size=3), min_size=1, max_size=5))
def test_any_design_gives_results_or_reasons(clients):
    """Compare, calibrate, words and JSON hold for whatever was measured, however little."""
    lines = [",".join(HEADER)]
    for c, occasions in enumerate(clients):
        for o, (scans, readings) in enumerate(occasions):
            start = f"C{c},,,,2026-0{o + 1}-10T0"
            lines += [
                f"{start}8:0{k},Scan,reference,,body_fat_percent,{v},percent,{k + 1},ok,"
                for k, v in enumerate(scans)
            ]
            for k, (v, status, setting) in enumerate(readings):
                value = "" if status == "failed" else v
                lines.append(
                    f"{start}7:0{k},Fir,device,{setting},body_fat_percent,{value},percent,{k + 1},{status},x"
                )
    rows, refused = parse_text("\n".join(lines) + "\n")
    assert not refused
    session = Session(open_file.create_in_memory("x"), None)
    kinds = {row.kind for row in rows}
    session.do(ImportReadings(tuple(rows), "x"))
    snapshot = session.snapshot()
    session.close()
    if kinds != {"reference", "device"}:
        with pytest.raises(
            UserError, match=r'no scan with|no instrument is called "Fir"|has no readings'
        ):
            finish(CompareRequest(snapshot, Lens(), "Fir").run())
        return
    result = finish(CompareRequest(snapshot, Lens(), "Fir").run())
    text = (
        json.dumps(compare_json(result), allow_nan=False)
        + sentences.headline(result)
        + str(statistics.rows(result))
    )
    calibrations = finish(CalibrateRequest(snapshot, Lens()).run())
    text += (
        str(board(calibrations).cells)
        + "".join(map(offsets.calibration_sentence, calibrations))
        + "".join(map(offsets.error_sentence, calibrations))
    )
    assert "nan" not in text
    if result.limits is None:
        assert result.notes
    for c in calibrations:
        json.dumps(calibrate_json(c), allow_nan=False)
        if c.offer and c.valid_until:
            record = record_of(c, snapshot.catalogue, datetime(2026, 9, 1), "a reason")
            for client in ("C0", "another"):
                done = correct(record, client, 20.0, "2026-09-02", record.made_of.settings[0])
                served = client in record.clients or record.pooled is not None
                assert (done.value is not None) == served
                assert done.value is None or done.interval.low <= done.value <= done.interval.high
