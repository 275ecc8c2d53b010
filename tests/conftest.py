"""One thread for linear algebra in each process, since the tests run in several; what takes long is made once for all of them."""

import os
import sys
import threading
import time
from collections import Counter
from types import SimpleNamespace

import pytest
from hypothesis import settings

for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS"):
    os.environ.setdefault(name, "1")
# how long an example takes says more of the machine than of the code
settings.register_profile("unhurried", deadline=None)
settings.load_profile("unhurried")
AROUND = """browser classification command_line files files_in_parts hands_off held_out_in_parts hostile layouts mistakes package plans reports show shown
shown_numbers standards text_in_parts"""
"""What these pass through of the core on their way does not count as tested: coverage is that of the other tests."""
LONG = "blocks dominance errors_and_weights groups hard_numbers logistic rows_in_parts saved_fits screening sentences separation"
"""Of a table of cases in these the first three count: the others go through hardly another line, and counting takes twice the time."""


def pytest_collection_modifyitems(items):
    """Tell of which tests the coverage counts."""
    seen = Counter()
    for item in items:
        about, test = item.path.stem.removeprefix("test_"), getattr(item, "originalname", item.name)
        seen[about, test] += 1
        item.counted = about not in AROUND.split() and not (about in LONG.split() and seen[about, test] > 3)


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item):
    """Run the others without counting, in every thread."""
    tracers = sys.gettrace(), threading.gettrace()
    if not item.counted:
        sys.settrace(None)
        threading.settrace(None)
    try:
        return (yield)
    finally:
        sys.settrace(tracers[0])
        threading.settrace(tracers[1])


@pytest.fixture(scope="session")
def made_once(tmp_path_factory):
    """Make a folder of a name by a function that takes it, once for all processes of the tests."""

    def made(name, make):
        shared = tmp_path_factory.getbasetemp()
        folder = (shared.parent if "PYTEST_XDIST_WORKER" in os.environ else shared) / name
        try:
            folder.mkdir()
        except FileExistsError:  # another process is at it, or has done it
            while not (folder / "done").exists():
                time.sleep(0.1)
        else:
            try:
                make(folder)
            finally:
                (folder / "done").touch()
        return folder

    return made


@pytest.fixture(scope="session")
def demo_run(made_once):
    """What `markbase demo` says in an empty folder, and the folder it makes; nothing is changed in it."""
    from command import run

    def make(home):
        done = run("demo", cwd=home)
        (home / "stdout").write_text(done.stdout, encoding="utf-8")
        (home / "stderr").write_text(done.stderr, encoding="utf-8")
        (home / "ended").write_text(str(done.returncode))

    home = made_once("demo", make)
    said = {name: (home / name).read_text(encoding="utf-8") for name in ("stdout", "stderr")}
    return SimpleNamespace(returncode=int((home / "ended").read_text()), folder=home / "choirs-demo", **said)


@pytest.fixture(scope="session")
def results(made_once):
    """What a plan gives; each test that writes beside it does so under names of its own."""
    from command import run
    from planned import PLAN

    def make(folder):
        (folder / "my.plan.toml").write_text(PLAN, encoding="utf-8")
        done = run("run", "my.plan.toml", "--into", "out", cwd=folder)
        assert done.returncode == 0, done.stderr

    return made_once("plan", make)


@pytest.fixture(scope="module")
def small_parts():
    """Parts of 501 rows, of which 300 are kept in memory: the survey comes in at least 4 parts."""
    from markbase.files.parts import files_in_parts, table_files, text_blocks

    with pytest.MonkeyPatch.context() as patch:
        for home in (table_files, text_blocks, files_in_parts):
            patch.setattr(home, "PART_ROWS", 501)
        patch.setattr("markbase.core.rows.table.KEPT_ROWS", 300)
        patch.setattr("markbase.core.checks.hidden_groups._LEAST", 1.0)  # 300 rows do not say whether those of a choir are alike
        yield


@pytest.fixture(scope="module")
def studies(small_parts, tmp_path_factory):  # noqa: ARG001 - it sets how large parts are
    """The same survey in memory and in parts."""
    import pandas as pd
    import pyarrow as pa
    import pyarrow.parquet as pq

    import markbase as mb
    from surveys import BOOK, DATA, prepared

    file = tmp_path_factory.mktemp("survey") / "choirs.parquet"
    pq.write_table(pa.Table.from_pandas(pd.read_csv(DATA), preserve_index=False), file, row_group_size=500)
    return tuple(prepared(mb.open_study(p, codebook=BOOK, in_parts=p == file)) for p in (DATA, file))


@pytest.fixture(scope="module")
def fits(studies):
    """Fits of every kind to both, made when first asked for."""
    made = {}

    def fit(kind, **options):
        import markbase as mb
        from surveys import TERMS

        key = (kind, *options.items())
        if key not in made and kind == "linear":
            made[key] = [mb.fit_linear(s, "belonging", TERMS, **options) for s in studies]
        elif key not in made:
            made[key] = [mb.fit_logistic(s, "stays", TERMS, event="yes", **options) for s in studies]
        return made[key]

    return fit
