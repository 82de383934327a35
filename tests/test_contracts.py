"""Promises that hold for the whole program: floors, no Qt on the command line, frozen results, contrast."""

import dataclasses
import importlib
import importlib.util
import json
import pkgutil
import subprocess
import sys

import numpy as np
import pytest

import anchor_tally
from anchor_tally.analysis import pairing
from anchor_tally.analysis.compare import LadderRequest
from anchor_tally.cli.main import main
from anchor_tally.domain.metrics import METRICS
from anchor_tally.domain.steps import finish
from anchor_tally.figures.style import DARK, LIGHT
from anchor_tally.methods.registry import EQUATIONS
from anchor_tally.scenario.squad import TRUTH, squad_rows
from anchor_tally.wording import sentences
from places import DATA


def test_floors():
    """The import contracts hold."""
    done = subprocess.run(
        [sys.executable, "-c", "from importlinter.cli import lint_imports_command as c; c()"], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout


def test_command_line_without_qt():
    """Compare runs with PyQt6 and matplotlib made unimportable, and prints the published peak-flow figures."""
    code = (
        "import sys; sys.modules['PyQt6'] = None; sys.modules['matplotlib'] = None; import anchor_tally.__main__ as m;"
        f"sys.argv = ['anchor-tally', 'compare', {str(DATA / 'peak_flow_1986.csv')!r}, '--instrument', 'large meter',"
        "'--metric', 'peak_expiratory_flow', '--json']; sys.exit(m.main())"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    out = json.loads(done.stdout)
    # Bland & Altman 1986: bias -2.1, SD 38.8, limits -79.7 to 75.5 (2 SD, from rounded figures)
    assert (round(out["bias"]["estimate"], 1), round(out["bias"]["sd"], 1)) == (-2.1, 38.8)
    rough = out["limits_approximate_2sd"]
    assert (rough["lower"], rough["upper"]) == pytest.approx((-79.7, 75.5), abs=0.11)
    assert out["limits"]["design"] == "single"
    assert out["limits"]["lower_ci"][0] < rough["lower_ci"][0]  # the exact interval reaches further out
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
    """Every dataclass of results is frozen."""
    count = 0
    for package in ("stats", "analysis", "domain", "wording", "figures"):
        for info in pkgutil.iter_modules([f"{anchor_tally.__path__[0]}/{package}"]):
            module = importlib.import_module(f"anchor_tally.{package}.{info.name}")
            for item in vars(module).values():
                if dataclasses.is_dataclass(item) and item.__module__ == module.__name__:
                    count += 1
                    assert item.__dataclass_params__.frozen, item
    assert count > 25


def test_registries():
    """Metrics have sane bounds; equations name known inputs, outputs and a source."""
    person = {"sex", "age_years", "height"}
    assert all(m.low < m.high and m.definition for m in METRICS.values())
    for e in EQUATIONS.values():
        assert set(e.all_inputs) <= person | set(METRICS)
        assert set(e.outputs) <= set(METRICS)
        assert all((e.population, e.advice, e.see))
        assert e.source


def test_equations_page_is_current():
    """docs/equations.md is what the registry says."""
    root = DATA.parent.parent
    spec = importlib.util.spec_from_file_location("equations_doc", root / "scripts" / "equations_doc.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    assert module.TARGET.read_text(encoding="utf-8") == module.page()


def luminance(colour):
    """Relative luminance (WCAG 2)."""
    v = np.array([int(colour[k : k + 2], 16) for k in (1, 3, 5)]) / 255
    return float(np.where(v <= 0.03928, v / 12.92, ((v + 0.055) / 1.055) ** 2.4) @ [0.2126, 0.7152, 0.0722])


@pytest.mark.parametrize("p", [LIGHT, DARK], ids=["light", "dark"])
def test_contrast(p):
    """Text has contrast of 4.5 or more on every ground, marks 3 or more."""
    for ground in (p.paper, p.surface):
        for ink, least in ((p.ink, 4.5), (p.faint, 4.5), (p.warn, 4.5), *((c, 3.0) for c in p.inks)):
            a, b = sorted((luminance(ink), luminance(ground)))
            assert (b + 0.05) / (a + 0.05) >= least, (ink, ground)


def test_demo_truths_are_found(demo):
    """The analysis finds what the scenario was made with."""
    assert squad_rows() == squad_rows()
    results = {r.pairs.instrument.name: r for r in finish(LadderRequest(demo.snapshot(), demo.lens).run())}
    alder = results["Alder"]
    c = demo.snapshot()
    odd = next(k.id for k in c.clients.values() if k.code == TRUTH.odd_client)
    assert np.mean(alder.pairs.d[alder.pairs.client == odd]) > alder.bias.value + 3
    assert alder.pairs.d.max() > 15  # the mistyped value
    fixed = alder.bias.interval
    # the odd client adds about 0.4 pp to the mean, the mistyped value 0.16 pp
    assert fixed.low < TRUTH.bias["Alder"] + 0.56 < fixed.high
    birch = {s: finish(LadderRequest(c, dataclasses.replace(demo.lens, setting=s)).run()) for s in ("standard", "athlete")}
    step = [next(r for r in v if r.pairs.instrument.name == "Birch").bias.value for v in birch.values()]
    assert step[1] - step[0] == pytest.approx(TRUTH.birch_step, abs=0.8)
    assert any(d.why == "failed reading" for d in results["Cedar"].pairs.dropped)


def test_every_note_has_its_sentence(demo):
    """Notes from real results turn into sentences without a gap."""
    for r in finish(LadderRequest(demo.snapshot(), demo.lens).run()):
        for n in r.notes:
            assert "{" not in sentences.sentence(n)
        assert sentences.headline(r).endswith(".")
    with pytest.raises(pairing.CannotCompare, match="no instrument"):
        pairing.find_reference(demo.snapshot(), dataclasses.replace(demo.lens, reference="nobody"))
