"""Counted campaigns, run by `make slow`: kills in the middle of a write, and fuzzed files.

Each prints its count.
"""

import io
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import time
import zipfile
from dataclasses import replace
from pathlib import Path

import openpyxl
import pytest

from anchor_tally.app.exporting import export
from anchor_tally.app.importing import Foreign, TidyFile, look_at, rows_of
from anchor_tally.app.session import Session
from anchor_tally.domain.errors import UserError
from anchor_tally.domain.steps import finish
from anchor_tally.exchange import data_package
from anchor_tally.study import dump, open_file
from places import DATA

pytestmark = pytest.mark.slow
KILLS = int(os.environ.get("KILLS", "500"))
EDITING = (
    "import sys; from pathlib import Path; sys.path.insert(0, sys.argv[2]); from places import"
    " typed\nfrom anchor_tally.app.session import Session; s = Session.open(Path(sys.argv[1]));"
    " print('go', flush=True)\nfor k in range(10**6):\n    s.do(typed(f'C{k % 50}',"
    " '2026-03-02T06:30', 'Fir', 'device', 'body_mass', '70', first=1 + len(s.readings()) % 900,"
    " fresh=True))\n    k % 3 or s.undo()"
)
CREATING = (
    "import sys; from pathlib import Path; import anchor_tally.app.session as a; print('go',"
    " flush=True)\na.Session.new(Path(sys.argv[1]), 't'); print('made', flush=True); import time;"
    " time.sleep(60)"
)
UPGRADING = (
    "import sys; from pathlib import Path; import anchor_tally.app.session as a; print('go',"
    " flush=True)\na.Session.open(Path(sys.argv[1])); print('made', flush=True); import time;"
    " time.sleep(60)"
)
PACKAGING = (
    "import sys; from pathlib import Path; from anchor_tally.app.exporting import from_package;"
    " print('go', flush=True)\np = Path(sys.argv[1]); from_package(p.parent / 'p.zip', p);"
    " print('made', flush=True); import time; time.sleep(60)"
)
EXPORTING = (
    "import sys; from pathlib import Path; from anchor_tally.app.exporting import export; from"
    " anchor_tally.app.session import Session\np = Path(sys.argv[1]); s = Session.open(p);"
    " print('go', flush=True); export(s, p.with_suffix('.xlsx')); import time; time.sleep(60)"
)


def kill_while(code, path, longest):
    """Start a process, wait until it works, and kill it a random moment later."""
    child = subprocess.Popen(
        [sys.executable, "-c", code, str(path), str(DATA.parent)], stdout=subprocess.PIPE
    )
    child.stdout.readline()
    time.sleep(random.uniform(0, longest))
    child.send_signal(signal.SIGKILL)
    child.wait()
    child.stdout.close()


@pytest.mark.parametrize("what", ["edits", "creation", "upgrade", "package", "export"])
def test_killed_500_times(tmp_path, what):
    """Whenever a process is killed, the study opens: whole, or not there at all, with nothing of others left behind."""
    failures = []
    kept = Session.open(DATA / f"study_schema_{open_file.SCHEMA_VERSION}.tally", read_only=True)
    export(kept, tmp_path / "p.zip", full=True)
    kept.close()
    for k in range(KILLS):
        path = tmp_path / f"{what}-{k // 50 if what == 'edits' else k}.tally"
        if what == "edits" and k % 50 == 0:
            Session.new(path, "t").close()
        if what == "export":
            shutil.copy(DATA / f"study_schema_{open_file.SCHEMA_VERSION}.tally", path)
        if what == "upgrade":
            shutil.copy(DATA / "study_schema_2_full.tally", path)
        code, longest = {
            "edits": (EDITING, 0.05),
            "creation": (CREATING, 0.05),
            "upgrade": (UPGRADING, 0.08),
            "package": (PACKAGING, 0.08),
            "export": (EXPORTING, 0.3),
        }[what]
        kill_while(code, path, longest)
        try:
            there = path.exists() or what not in ("creation", "package")
            session = Session.open(path) if there else Session.new(path, "t")
            if what == "export":
                book = path.with_suffix(".xlsx")
                assert not book.exists() or zipfile.is_zipfile(book)
                export(session, book)
                book.unlink()
            assert not list(tmp_path.glob(f".{path.stem}*.part*"))  # what was left is removed
            assert not session.read_only
            session.readings()
            session.close()
        except Exception as error:  # noqa: BLE001  (counted)
            failures.append(f"{k}: {error}")
        if what != "edits":
            for left in tmp_path.glob(f"{path.name}*"):
                left.unlink()
    print(f"\n{KILLS} kills during {what}: {len(failures)} studies that do not open")
    assert failures == []


def seeds(folder):
    """Whole files of every kind that is read."""
    session = Session.open(DATA / f"study_schema_{open_file.SCHEMA_VERSION}.tally", read_only=True)
    for name in ("a.csv", "b.xlsx", "c.zip"):
        export(session, folder / name)
    session.close()
    wide = (
        "Klient;Datum;Alder fat (%) 1;Weight (lb);Waist"
        " (in)\nAuk;14/03/2026;18,4;154,2;32,5\nBrill;13/03/2026;24;150;30\n"
    )
    (folder / "d.csv").write_text(wide, encoding="cp1252")
    (folder / "e.csv").write_bytes(wide.encode("utf-16"))
    book = openpyxl.Workbook()
    for row in (["Client", "Date", "Fir fat (%)"], ["A", "2026-03-02", 20.5], ["B", 46000, "=1+1"]):
        book.active.append(row)
    book.save(folder / "f.xlsx")
    subprocess.run(
        [sys.executable, DATA.parent.parent / "scripts" / "messy_workbook.py", folder / "g.xlsx"],
        check=True,
    )
    return sorted(folder.iterdir())


def mutated(data, rng):
    """Bytes flipped, cut, doubled, or overwritten with what readers stumble over."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 6)):
        at = rng.randrange(len(out) or 1)
        match rng.randrange(6):
            case 0 if out:
                out[at] = rng.randrange(256)
            case 1:
                del out[at : at + rng.randrange(1, 200)]
            case 2:
                out[at:at] = out[at : at + rng.randrange(1, 400)]
            case 3:
                out[at:at] = rng.choice(
                    [
                        b"\0",
                        b"\xff\xfe",
                        "²".encode(),
                        b"9" * 400,
                        b'"',
                        b"\r",
                        b"1e999",
                        b"-" * 90,
                        b"&#x0;",
                    ]
                )
            case 4:
                out = out[: rng.randrange(len(out) or 1)]
            case _:
                out[at : at + 4] = rng.choice(
                    [b"PK\x03\x04", b"<?xm", b"]]>&", b"\xef\xbb\xbf,", b"=CMD"]
                )
    return bytes(out)


def inside(data, rng):
    """The same within one part of a zip, so that the parts are still unpacked."""
    out = io.BytesIO()
    with (
        zipfile.ZipFile(io.BytesIO(data)) as z,
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new,
    ):
        names = z.namelist()
        chosen = rng.choice(names)
        for n in names:
            part = z.read(n)
            new.writestr(n, mutated(part, rng) if n == chosen and part else part)
    return out.getvalue()


def take_in(path, study):
    """Read a file as the program does; whatever is wrong with it is a UserError."""
    if path.suffix == ".zip":
        facts, tables = data_package.read(path)
        conn = open_file.create_in_memory("x")
        try:
            dump.load(conn, facts, tables)
        finally:
            conn.close()
        return
    found = look_at(path)
    tables = () if isinstance(found, TidyFile) else found.tables
    rows = (
        found.rows
        if isinstance(found, TidyFile)
        else rows_of([(t.table, replace(t.mapping, gaps="failed")) for t in tables])
    )
    assert isinstance(found, TidyFile | Foreign)
    if rows is not None:
        study.drop(finish(study.stage(rows)))


def test_10_000_fuzzed_files(tmp_path, monkeypatch):
    """Tables, workbooks and packages with flipped, cut and odd bytes: read, or refused in one short sentence, within 5 s."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    folder = tmp_path / "seeds"
    folder.mkdir()
    files = [(f, f.read_bytes()) for f in seeds(folder)]
    study = Session(open_file.create_in_memory("x"), None)
    rng, count = random.Random(11), int(os.environ.get("FUZZ", "10000"))
    faults, slow, refused = [], 0, 0
    for k in range(count):
        source, data = files[k % len(files)]
        path = tmp_path / f"m{source.suffix}"
        path.write_bytes(
            inside(data, rng)
            if source.suffix in (".xlsx", ".zip") and rng.random() < 0.7
            else mutated(data, rng)
        )
        start = time.monotonic()
        try:
            take_in(path, study)
        except UserError as error:
            refused += 1
            if "\n" in str(error) or len(str(error)) > 600 + len(str(path)):
                faults.append(f"{k} {source.name}: {error}")
        except Exception as error:  # noqa: BLE001  (counted)
            shutil.copy(path, Path(tmp_path) / f"fault-{k}{source.suffix}")
            faults.append(f"{k} {source.name}: {type(error).__name__} {error}")
        slow += time.monotonic() - start > 5
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    print(
        f"\n{count} fuzzed files: {len(faults)} faults, {slow} above 5 s, {refused} refused,"
        f" {memory} MB at most"
    )
    assert faults[:5] == []
    assert memory < 500
