"""Shared fixtures: the offscreen platform, a demo study, a small study."""

import os
import subprocess
import sys
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
os.environ["TZ"] = "UTC"  # moments without a zone mean the same on every machine

import pytest
from hypothesis import settings

from anchor_tally.app.demo import demo_session
from places import CLOCK, DATA

settings.register_profile(
    "ci", derandomize=True
)  # the same draws each time where nobody is there to look at a new one
if os.environ.get("CI"):
    settings.load_profile("ci")


@pytest.fixture
def demo(tmp_path):
    """A fresh demo study, closed afterwards."""
    session = demo_session(tmp_path, clock=CLOCK)
    yield session
    session.close()


@pytest.fixture
def survey_csv(tmp_path):
    """The survey table as tidy CSV, made by the kept script."""
    target = tmp_path / "survey.csv"
    script = Path(__file__).parent.parent / "scripts" / "nhanes_to_tidy.py"
    subprocess.run(
        [sys.executable, script, DATA / "nhanes_2017_2018_women.csv", target], check=True
    )
    return target
