"""Promises that hold for the whole program: floors, no Qt on the command line, frozen results, contrast."""

import ast
import dataclasses
import doctest
import importlib
import importlib.util
import json
import pkgutil
import re
import sqlite3
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import get_args

import numpy as np
import pytest

import anchor_tally
from anchor_tally import stats
from anchor_tally.analysis.agreement.agreement import CompareRequest, LadderRequest
from anchor_tally.analysis.offsets.calibrate import CalibrateRequest
from anchor_tally.analysis.pairs import comparator
from anchor_tally.app.actions import ACTIONS, STAGES
from anchor_tally.app.study_cache import PIECES, READ_EACH_TIME
from anchor_tally.app.views import DRIFT, VIEW, VIEWS
from anchor_tally.cli.main import main
from anchor_tally.domain.metrics import METRICS, metric_named
from anchor_tally.domain.steps import finish
from anchor_tally.exchange.results_json import compare_json
from anchor_tally.figures import difference, ladder
from anchor_tally.figures.style import DARK, LIGHT
from anchor_tally.methods.registry import EQUATIONS
from anchor_tally.scenario.squad import TRUTH, squad_rows
from anchor_tally.stats.offsets import client_offsets
from anchor_tally.study import open_file
from anchor_tally.study.facts import NO_FACT, TABLES, Fact
from anchor_tally.ui.page_table import PAGES
from anchor_tally.wording import sentences
from anchor_tally.wording.notes import sentence
from anchor_tally.wording.statistics import EXPLANATIONS, STATISTICS, rows
from modules import COMPUTED, KEPT, modules_of
from places import CLOCK, DATA


def test_help_and_equations_load_no_scipy():
    """What needs no computation starts at once: neither SciPy nor, for the help, NumPy is imported."""
    for call, absent in ((["--help"], ("scipy", "numpy")), (["methods"], ("scipy",))):
        code = (
            "import sys, io, contextlib; from anchor_tally.cli.main import main\nwith"
            " contextlib.redirect_stdout(io.StringIO()), contextlib.suppress(SystemExit):"
            f" main({call})\nprint([m for m in {absent} if m in sys.modules])"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=True
        )
        assert done.stdout.strip() == "[]", call


def test_the_frame_is_painted_before_anything_heavy_is_imported():
    """The window's own modules bring neither NumPy, SciPy nor matplotlib: the first paint does not wait for them."""
    code = (
        "import sys, anchor_tally.ui.application\n"
        "print([m for m in ('numpy', 'scipy', 'matplotlib', 'sqlite3') if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_every_view_has_its_page():
    """One table of views: each has a page under its key, an answer, and commands that print one JSON each."""
    assert [v.key for v in VIEWS] == [k for k in PAGES if k in VIEW]
    for view in (*VIEWS, DRIFT):
        answer = view.answer()
        assert (answer.as_json is not None) == bool(view.command)
        assert len(view.label) > 2
    assert len({v.command for v in (*VIEWS, DRIFT) if v.command}) == 5


def test_command_line_without_qt():
    """Compare runs with PyQt6 and matplotlib made unimportable, and prints the published peak-flow figures."""
    code = (
        "import sys; sys.modules['PyQt6'] = None; sys.modules['matplotlib'] = None; import"
        " anchor_tally.__main__ as m;sys.argv = ['anchor-tally', 'compare',"
        f" {str(DATA / 'peak_flow_1986.csv')!r}, '--instrument', 'large meter','--metric',"
        " 'peak_expiratory_flow', '--json']; sys.exit(m.main())"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    out = json.loads(done.stdout)
    # Bland & Altman 1986: bias -2.1, SD 38.8, limits -79.7 to 75.5 (2 SD, from rounded figures)
    assert (round(out["bias"]["estimate"], 1), round(out["bias"]["sd"], 1)) == (-2.1, 38.8)
    rough = out["limits_approximate_2sd"]
    assert (rough["lower"], rough["upper"]) == pytest.approx((-79.7, 75.5), abs=0.11)
    assert out["limits"]["design"] == "single"
    assert (
        out["limits"]["lower_ci"][0] < rough["lower_ci"][0]
    )  # the exact interval reaches further out
    assert out["components"] == {"client_sd": None, "occasion_sd": None, "replicate_sd": None}
    assert set(out) >= {
        "schema",
        "pairs",
        "proportional",
        "correlation",
        "concordance",
        "error",
        "deming",
        "passing_bablok",
        "equivalence",
        "notes",
    }


def test_compare_errors_are_one_line(capsys):
    """An unknown instrument, metric or missing file: one line, exit code 2."""
    for args in (
        ["nowhere.csv", "--instrument", "X"],
        ["--demo", "--instrument", "Nope"],
        ["--demo", "--instrument", "Alder", "--metric", "soul"],
    ):
        assert main(["compare", *args]) == 2
        error = capsys.readouterr().err
        assert error.startswith("anchor-tally: ")
        assert error.count("\n") == 1


def test_results_are_frozen():
    """Every dataclass of results and edits is frozen; the form of the set-up is filled in."""
    count = 0
    for module in modules_of(*COMPUTED, *KEPT):
        if not module.__name__.endswith(".set_up") or ".edits." in module.__name__:
            for item in vars(module).values():
                if dataclasses.is_dataclass(item) and item.__module__ == module.__name__:
                    count += 1
                    assert item.__dataclass_params__.frozen, item
    assert count > 380


def arrays_in(item, seen):
    """Every array that a result leads to."""
    if id(item) in seen:
        return
    seen[id(item)] = item
    if isinstance(item, np.ndarray):
        yield item
    elif dataclasses.is_dataclass(item):
        for f in dataclasses.fields(item):
            yield from arrays_in(getattr(item, f.name), seen)
        for value in getattr(item, "__dict__", {}).values():  # what was computed once and kept
            yield from arrays_in(value, seen)
    elif isinstance(item, tuple | list | frozenset | set):
        for x in item:
            yield from arrays_in(x, seen)
    elif isinstance(item, Mapping):
        for x in item.values():
            yield from arrays_in(x, seen)


def test_no_result_has_a_writable_array(demo):
    """Snapshots, comparisons, offsets and what figures draw are frozen to the last array."""
    snapshot = demo.snapshot()
    compared = finish(LadderRequest(snapshot, demo.lens).run())
    calibrated = finish(CalibrateRequest(snapshot, demo.lens).run())
    drawn = [difference.info(compared[0]), ladder.info(compared)]
    offsets = [client_offsets(r.fit, r.grid) for r in compared if r.fit is not None]
    found = list(arrays_in((snapshot, compared, calibrated, drawn, offsets, demo.person(1)), {}))
    assert len(found) > 200
    assert [a.shape for a in found if a.flags.writeable] == []
    assert all(r.asked == demo.asked() for r in (*compared, *calibrated))


def test_no_table_of_the_file_is_named_above_the_study():
    """Only ``study`` knows tables and speaks SQL; above it there are records and typed edits."""
    root = Path(anchor_tally.__path__[0])
    with sqlite3.connect(":memory:") as empty:
        tables = [
            name
            for sql in open_file.migrations()
            for name in re.findall(r"CREATE TABLE (\w+)", sql)
        ]
        assert empty.execute("SELECT 1").fetchone() == (1,)
    long_names = {t for t in tables if "_" in t and not t.endswith("_new")}
    assert {"reading_change", "client_height"} <= long_names
    sql = re.compile(r"\b(SELECT|INSERT INTO|UPDATE|DELETE FROM|PRAGMA)\b")
    odd = []
    for path in root.rglob("*.py"):
        if path.is_relative_to(root / "study"):
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            text = (
                node.value if isinstance(node, ast.Constant) and isinstance(node.value, str) else ""
            )
            if sql.search(text) or text in long_names - {
                "check_weight"
            }:  # also a profile of a simulated scale
                odd.append(f"{path.name}: {text[:60]}")
            if (
                isinstance(node, ast.Attribute)
                and node.attr == "_conn"
                and path.name not in ("session.py", "study_cache.py")
            ):
                odd.append(f"{path.name}: _conn")
    assert odd == []


def test_every_table_makes_something_stale():
    """Each table of the schema stands in the table of facts, and each fact makes a kept piece stale or is read each time."""
    conn = open_file.create_in_memory("x")
    there = {
        n
        for (n,) in conn.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'"
        )
    }
    columns = {
        n: {c for (c,) in conn.execute("SELECT name FROM pragma_table_info(?)", (n,))}
        for n in there
    }
    conn.close()
    assert there == TABLES.keys() | NO_FACT
    assert all(f.columns <= columns[table] for table, f in TABLES.items())
    used = set().union(*(p.facts for p in PIECES)) | READ_EACH_TIME
    assert (
        used == {f for t in TABLES.values() for f in (t.fact, t.more) if f} == set(get_args(Fact))
    )


def test_actions_have_words_and_keys():
    """One table of actions: ids and keys are there once, every stage built has its page and its key."""
    assert len({a.id for a in ACTIONS}) == len(ACTIONS)
    keys = [a.keys for a in ACTIONS if a.keys]
    assert len(set(keys)) == len(keys)
    assert all(a.words and a.menu for a in ACTIONS)
    for stage in STAGES:
        assert (f"go_{stage.id}" in {a.id for a in ACTIONS}) == stage.built == (stage.id in PAGES)


def test_one_entry_a_statistic(demo, capsys):
    """Table, JSON, workbook and evidence come from the same entries: each figure of the JSON is the one in the table."""
    result = finish(CompareRequest(demo.snapshot(), demo.lens, "Alder").run())
    out = compare_json(result)
    m = METRICS["body_fat_percent"]
    for s in STATISTICS:
        group, key, ci = s.path
        value, interval = s.pick(result)
        there = out
        for part in group.split("."):
            there = there[part]
        if there is None:  # a figure that cannot be given
            assert value is None
            continue
        assert there[key] == value
        assert not ci or there[ci] == ([interval.low, interval.high] if interval else None)
        assert EXPLANATIONS[s.explains].source
        assert s.texts(result, m)[0]
    assert {key for key, *_ in rows(result)} <= set(EXPLANATIONS)


def test_registries():
    """Metrics have sane bounds; equations name known inputs, outputs and a source."""
    person = {"sex", "age_years", "height"}
    assert all(m.low < m.high and m.definition for m in METRICS.values())
    for e in EQUATIONS.values():
        assert all(k in person or metric_named(k) for k in e.all_inputs), e.id
        assert all(metric_named(k) for k in e.outputs), e.id
        assert all((e.population, e.advice, e.see))
        assert e.source


def test_examples_of_the_statistics_run():
    """Examples in the docstrings of the statistics give what they say."""
    tried = 0
    for found in pkgutil.iter_modules(stats.__path__, "anchor_tally.stats."):
        done = doctest.testmod(importlib.import_module(found.name))
        assert done.failed == 0, found.name
        tried += done.attempted
    assert tried >= 15


def script(name):
    """A script of the repository as a module."""
    spec = importlib.util.spec_from_file_location(
        name, DATA.parent.parent / "scripts" / f"{name}.py"
    )
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_pages_made_from_tables_are_current():
    """docs/equations.md and docs/metrics.md are what the registries say, and the keys of the user guide are those of the table of actions."""
    keys = script("keys_doc")
    for made in (script("equations_doc"), script("metrics_doc")):
        assert made.TARGET.read_text(encoding="utf-8") == made.page()
    guide = keys.TARGET.read_text(encoding="utf-8")
    assert guide == keys.page(guide)


def luminance(colour):
    """Relative luminance (WCAG 2)."""
    v = np.array([int(colour[k : k + 2], 16) for k in (1, 3, 5)]) / 255
    return float(
        np.where(v <= 0.03928, v / 12.92, ((v + 0.055) / 1.055) ** 2.4) @ [0.2126, 0.7152, 0.0722]
    )


@pytest.mark.parametrize("p", [LIGHT, DARK], ids=["light", "dark"])
def test_contrast(p):
    """Text has contrast of 4.5 or more on every ground, marks 3 or more."""
    for ground in (p.paper, p.surface):
        for ink, least in (
            (p.ink, 4.5),
            (p.faint, 4.5),
            (p.warn, 4.5),
            *((c, 3.0) for c in p.inks),
        ):
            a, b = sorted((luminance(ink), luminance(ground)))
            assert (b + 0.05) / (a + 0.05) >= least, (ink, ground)


def test_demo_truths_are_found(demo):
    """The analysis finds what the scenario was made with."""
    assert squad_rows(CLOCK.today()) == squad_rows(CLOCK.today())
    results = {
        r.pairs.instrument.name: r for r in finish(LadderRequest(demo.snapshot(), demo.lens).run())
    }
    alder = results["Alder"]
    c = demo.snapshot()
    odd = next(k.id for k in c.clients.values() if k.code == TRUTH.odd_client)
    assert np.mean(alder.pairs.d[alder.pairs.client == odd]) > alder.bias.value + 3
    assert alder.pairs.d.max() > 15  # the mistyped value
    fixed = alder.bias.interval
    # the odd client adds about 0.4 pp to the mean, the mistyped value 0.16 pp
    assert fixed.low < TRUTH.bias["Alder"] + 0.56 < fixed.high
    birch = {
        s: finish(LadderRequest(c, dataclasses.replace(demo.lens, setting=s)).run())
        for s in ("standard", "athlete")
    }
    step = [
        next(r for r in v if r.pairs.instrument.name == "Birch").bias.value for v in birch.values()
    ]
    assert step[1] - step[0] == pytest.approx(TRUTH.birch_step, abs=0.8)
    assert any(d.why == "failed reading" for d in results["Cedar"].pairs.left_out.listed())


def test_every_note_has_its_sentence(demo):
    """Notes from real results turn into sentences without a gap."""
    for r in finish(LadderRequest(demo.snapshot(), demo.lens).run()):
        for n in r.notes:
            assert "{" not in sentence(n)
        assert sentences.headline(r).endswith(".")
    with pytest.raises(comparator.CannotCompare, match="no instrument"):
        comparator.find_comparator(
            demo.snapshot(), dataclasses.replace(demo.lens, reference="nobody")
        )
