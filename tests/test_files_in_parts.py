"""Files whose rows are read a part at a time, on this machine and on a cluster."""

import datetime
import decimal
import gzip
import json
import re
import shutil
import subprocess
import sys
import zipfile

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet as pq
import pytest

import markbase as mb
from command import run
from markbase.files.parts.files_in_parts import FilesInParts
from markbase.files.parts.first_look import Look
from markbase.files.parts.found_columns import Numbers, Texts
from surveys import BOOK, DATA, PLAIN, TERMS, prepared, same

pytestmark = [pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning"), pytest.mark.usefixtures("small_parts")]


@pytest.fixture(scope="module")
def folders(tmp_path_factory):
    """The survey as files of every kind."""
    home = tmp_path_factory.mktemp("data")
    table = pd.read_csv(DATA, dtype=object, keep_default_na=False, na_values=[""])
    raw = DATA.read_bytes()
    (home / "choirs.csv").write_bytes(raw)
    (home / "packed.csv.gz").write_bytes(gzip.compress(raw))
    with zipfile.ZipFile(home / "packed.csv.zip", "w") as packed:
        packed.writestr("choirs.csv", raw)
    (home / "tabs.tsv").write_bytes(raw.replace(b",", b"\t"))
    arrow = pa.Table.from_pandas(pd.read_csv(DATA), preserve_index=False)
    pyarrow.feather.write_feather(arrow, home / "choirs.feather")
    (home / "pieces").mkdir()
    for k, start in enumerate(range(0, len(table), 600)):
        pq.write_table(arrow.slice(start, 600), home / "pieces" / f"{k}.parquet", row_group_size=250)
    pq.write_table(arrow.slice(0, 0), home / "pieces" / "9-empty.parquet")
    return home


@pytest.mark.parametrize("name", ["choirs.csv", "packed.csv.gz", "packed.csv.zip", "tabs.tsv", "choirs.feather", "pieces", "pieces/*.parquet"])
def test_files_of_every_kind_hold_the_same_rows(folders, studies, name):
    study = prepared(mb.open_study(folders / name, codebook=BOOK, in_parts=True))
    same(*(mb.fit_linear(s, "belonging", TERMS).coefficients for s in (study, studies[0])))
    if name.startswith("pieces"):
        same(*(mb.fit_linear(s, "belonging", TERMS).coefficients for s in (prepared(mb.open_study(folders / name, codebook=BOOK)), studies[0])))
    elif name not in ("choirs.csv", "tabs.tsv"):
        with pytest.raises(mb.FileError, match="in_parts=True"):
            mb.open_study(folders / name)


LIMITED = """
import resource, sys
resource.setrlimit(resource.RLIMIT_AS, (int(sys.argv.pop(1)) << 20,) * 2)
from markbase.cli.main import main
main()
"""


def sparse(values, every=7):
    return [None if k % every == 3 else v for k, v in enumerate(values)]


MANY = range(3000)
COLUMNS = {
    "whole": pa.array(sparse([k % 5 for k in MANY])),
    "small": pa.array([k % 3 for k in MANY], pa.int8()),
    "beyond 2^53": pa.array([2**53 + k % 9 for k in MANY]),
    "real": pa.array(sparse([k / 3 for k in MANY])),
    "float32": pa.array([k / 3 for k in MANY], pa.float32()),
    "nan": pa.array([float("nan") if k % 7 == 0 else k / 3 for k in MANY]),
    "endless": pa.array([float("inf") if k == 5 else float(k) for k in MANY]),
    "texts": pa.array(sparse(["ab"[k % 2] for k in MANY])),
    "outer blanks": pa.array(sparse([["", "x", "y ", " z"][k % 4] for k in MANY])),
    "numbers as texts, in order": pa.array(sparse([str(k % 7) for k in MANY], every=11)),
    "decimals as texts": pa.array([f"{k % 9}.50" for k in MANY]),
    "identifiers": pa.array([f"p{k:05d}" for k in MANY]),
    "texts, all missing": pa.array([None] * len(MANY), pa.string()),
    "numbers, all missing": pa.array([None] * len(MANY), pa.float64()),
    "a code": pa.array(sparse([-9 if k % 11 == 0 else k for k in MANY])),
    "large texts": pa.array(["q" if k % 3 else "w" for k in MANY], pa.large_string()),
    "dictionary": pa.array(sparse(["ab"[k % 2] for k in MANY])).dictionary_encode(),
    "ordered": pa.DictionaryArray.from_arrays(pa.array(sparse([k % 2 for k in MANY])), pa.array(["b", "a", "c"]), ordered=True),
    "yes or no": pa.array([bool(k % 3) for k in MANY]),
    "yes, no or missing": pa.array(sparse([bool(k % 3) for k in MANY])),
    "days": pa.array([datetime.date(2020, 1, 1 + k % 9) for k in MANY]),
    "times": pa.array(sparse([datetime.datetime(2020, 1, 1 + k % 9, k % 20) for k in MANY])),
    "times, of a zone": pa.array(sparse([datetime.datetime(2020, 1 + k % 9, 1, k % 3, 0, k % 2, 10**5 * (k % 4)) for k in MANY]), pa.timestamp("us", "Europe/Berlin")),
    "times, to the nanosecond": pa.array(sparse([10 * (k % 7) for k in MANY]), pa.timestamp("ns")),
    "times of day": pa.array(sparse([datetime.time(k % 24, 30, k % 2, 500_000 * (k % 2)) for k in MANY])),
    "durations": pa.array(sparse([datetime.timedelta(seconds=90 * k, milliseconds=k % 5) for k in MANY])),
    "bytes": pa.array(sparse([["ä".encode(), b"b"][k % 2] for k in MANY])),
    "bytes that are no text": pa.array([b"\xff" if k == 9 else b"b" for k in MANY]),
    "decimals": pa.array([decimal.Decimal(k) / 4 for k in MANY]),
    "nothing": pa.nulls(len(MANY)),
}  # fmt: skip


@pytest.mark.parametrize(("name", "kind"), [(name, kind) for name in COLUMNS for kind in (None, "categorical", "numeric")])
def test_a_column_is_the_same_however_its_file_is_read(name, kind, tmp_path, monkeypatch):
    pq.write_table(pa.table({"c": COLUMNS[name], "y": pa.array([k / 7 for k in MANY])}), tmp_path / "one.parquet")
    book = {"columns": {"c": {"kind": kind}}} if kind else None

    def read(large=False, **more):
        monkeypatch.setattr("markbase.files.data._LARGE", 0 if large else 1 << 40)
        try:
            study = mb.open_study(tmp_path / "one.parquet", book, missing=[-9], **more)
        except mb.MarkbaseError as problem:
            return re.sub(r" *[(;].*", "", str(problem)), 0
        c = study["c"]
        values = np.concatenate([part["c"].values for part in study.parts()])
        return [c.kind, c.guess if c.valid else "", c.valid, [(v.label, v.code) for v in c.levels], str(study)], values

    told = [read(), read(large=True), read(in_parts=True)]
    assert told[0][0] == told[1][0] == told[2][0]
    for _, values in told[1:]:
        np.testing.assert_array_equal(values, told[0][1])


@pytest.mark.parametrize("name", ["choirs.csv", "choirs.parquet"])
@pytest.mark.parametrize("how", ["small", "large", "in parts"])
def test_columns_alone_are_read_with_what_they_are_made_of(name, how, tmp_path, monkeypatch):
    monkeypatch.setattr("markbase.files.data._LARGE", 0 if how == "large" else 1 << 40)
    (tmp_path / "choirs.csv").write_bytes(DATA.read_bytes())
    pq.write_table(pa.Table.from_pandas(pd.read_csv(DATA), preserve_index=False), tmp_path / "choirs.parquet")
    events = {"kind": "numeric", "made": {"sum": ["rehearsals", "concerts"]}}
    book, more = {"columns": {"events": events, "age": {"unit": "years"}}}, {"in_parts": how == "in parts"}
    study = mb.open_study(tmp_path / name, book, columns=["voice", "events"], **more)
    assert study.columns == ("voice", "rehearsals", "concerts", "events")
    whole = mb.open_study(tmp_path / name, book, **more).overview().set_index("column")
    pd.testing.assert_frame_equal(study.overview().set_index("column"), whole.loc[list(study.columns)])
    for wanted, said in ((["voise"], "no column `voise`. Did you mean"), ("voice", "as a list"), ([], "at least one")):
        with pytest.raises(mb.ColumnError, match=said):
            mb.open_study(tmp_path / name, book, columns=wanted, **more)


@pytest.mark.parametrize("in_parts", [False, True])
def test_lists_and_records_are_left_out_and_said_to_be(in_parts, tmp_path):
    pairs = {"visits": [[1, 2], None, [3]] * 4, "who": [{"a": 1}] * 12}
    pq.write_table(pa.table({"y": [float(k) for k in range(12)], **pairs}), tmp_path / "n.parquet")
    pq.write_table(pa.table(pairs), tmp_path / "only.parquet")
    book = {"columns": {"visits": {"label": "when"}, "y": {"unit": "points"}}}
    with pytest.warns(mb.MarkbaseWarning, match="`visits` and `who` hold lists or records: left out"):
        assert mb.open_study(tmp_path / "n.parquet", book, in_parts=in_parts).columns == ("y",)
    assert mb.open_study(tmp_path / "n.parquet", columns=["y"], in_parts=in_parts).rows == 12
    for file, columns, said in (("n", ["who"], "`who` holds lists or records; choose"), ("only", None, "no other")):
        with pytest.raises(mb.ColumnError, match=said):
            mb.open_study(tmp_path / f"{file}.parquet", columns=columns, in_parts=in_parts)


@pytest.mark.parametrize("harm", ["gone", "changed", "cut short"])
def test_files_that_change_meanwhile_end_in_one_sentence(folders, tmp_path, harm):
    shutil.copytree(folders / "pieces", tmp_path / "d")
    study, victim = mb.open_study(tmp_path / "d", codebook=BOOK, in_parts=True), tmp_path / "d" / "2.parquet"
    if harm == "gone":
        victim.unlink()
    else:
        victim.write_bytes(victim.read_bytes()[: -1 if harm == "changed" else 700])
    with pytest.raises(mb.FileError, match=r"2\.parquet` (is not there any more|was changed after it was opened)"):
        mb.fit_linear(study, "belonging", PLAIN)


def test_unreadable_files_are_refused_by_the_command_and_nothing_is_written(folders, tmp_path):
    shutil.copytree(folders / "pieces", tmp_path / "d")
    (tmp_path / "d" / "2.parquet").write_bytes((tmp_path / "d" / "2.parquet").read_bytes()[:700])
    (tmp_path / "short.csv").write_text("a,b\n1,2\n3\n", encoding="utf-8")
    for file in ("d", "short.csv", "none*.csv", "d/9-empty.parquet"):
        done = run("prepare", file, "--in-parts", "--into", "out.csv", cwd=tmp_path)
        assert done.returncode == 2, file
        assert len(done.stderr.strip().splitlines()) == 1
    assert not (tmp_path / "out.csv").exists()


def test_the_command_reads_in_parts_when_asked_or_when_a_file_is_large(tmp_path, monkeypatch):
    wanted = ["fit", DATA, "--codebook", BOOK, "--outcome", "belonging", "--terms", "age,voice"]
    plain, asked = run(*wanted), run(*wanted, "--in-parts")
    assert plain.stdout == asked.stdout
    start = ["start", DATA, "--codebook", BOOK, "--outcome", "belonging"]
    drafted = run(*start, "--in-parts").stdout
    assert drafted.replace("in_parts = true\n", "") == run(*start).stdout != drafted
    monkeypatch.setattr("markbase.cli.opening._SMALL", 1000)
    monkeypatch.setattr("psutil.virtual_memory", lambda: type("", (), {"available": 1000})())
    large = run(*wanted)
    assert large.stdout == plain.stdout
    assert "larger than an eighth of the free memory" in large.stderr
    assert "eighth" not in run(*wanted, "--in-memory").stderr
    monkeypatch.setattr("psutil.virtual_memory", lambda: type("", (), {"available": 10**12})())
    assert "eighth" not in run(*wanted).stderr
    monkeypatch.setattr("markbase.cli.opening.allowed_megabytes", lambda: 1.0)
    assert "eighth of the free memory (0.0 GB)" in run(*wanted).stderr
    for name, most in (("facts.MOST_DISTINCT", 50), ("table.KEPT_ROWS", 300)):  # so that practice hours have more
        monkeypatch.setattr(f"markbase.core.rows.{name}", most)
    told = run("look", DATA, "practice_hours", "--codebook", BOOK, "--in-parts").stdout
    assert re.search(r"distinct values +more than", told)
    assert re.search(r"median of a random sample +1\.", told)
    assert run(*wanted, "--in-memory", "--in-parts").returncode == 2
    monkeypatch.undo()
    predict = ["predict", DATA, "--codebook", BOOK, "--outcome", "belonging", "--terms", "age,voice", "--for", "all"]
    for more, name in ((["--in-parts"], "parts"), ([], "whole")):
        assert run(*predict, *more, "--into", f"{name}.csv", cwd=tmp_path).returncode == 0
    same(*(pd.read_csv(tmp_path / f"{name}.csv") for name in ("parts", "whole")), 1e-12)
    (tmp_path / "few.csv").write_text("".join(DATA.read_text().splitlines(keepends=True)[:400]))
    with gzip.open(tmp_path / "few.csv.gz", "wt") as packed:
        packed.write((tmp_path / "few.csv").read_text())
    run(*wanted, "--save", "fit.json", cwd=tmp_path)
    for who in (predict[:-2], ["predict", "fit.json"]):  # with the steps and the codebook of the data, and without
        for name, file in (("whole", "few.csv"), ("parts", "few.csv.gz")):
            assert run(*who, "--for", file, "--into", f"{name}.csv", "--replace", cwd=tmp_path).returncode == 0
        whole, parts = (pd.read_csv(tmp_path / f"{name}.csv") for name in ("whole", "parts"))
        same(whole[parts.columns], parts, 1e-12)
    refused = run(*predict, "--in-parts")
    assert refused.returncode == 2
    assert "--into predictions.csv" in refused.stderr
    for more, name in ((["--in-parts"], "parts"), ([], "whole")):
        run("prepare", DATA, "--codebook", BOOK, *more, "--into", f"{name}.parquet", cwd=tmp_path)
    same(*(pd.read_parquet(tmp_path / f"{name}.parquet") for name in ("parts", "whole")))
    groups = ["indicators", DATA, "voice", "joined_through", "--codebook", BOOK, "--full-set"]
    both = [run(*groups, *more, "--into", f"{name}-groups.csv", cwd=tmp_path) for more, name in ((["--in-parts"], "parts"), ([], "whole"))]
    assert both[0].stdout == both[1].stdout
    assert "exactly collinear" in both[0].stderr
    assert (tmp_path / "parts-groups.csv").read_bytes() == (tmp_path / "whole-groups.csv").read_bytes()
    assert json.loads(run(*groups, "--in-parts", "--json").stdout) == json.loads(run(*groups, "--json").stdout)
    assert "--into groups.csv" in run(*groups, "--in-parts", "--into", "-").stderr
    plan = tmp_path / "p.plan.toml"
    plan.write_text(
        f'[data]\nfile = {json.dumps(str(DATA))}\ncodebook = {json.dumps(str(BOOK))}\nin_parts = true\n\n[[fit]]\nname = "one"\n'
        'kind = "linear"\noutcome = "belonging"\nterms = ["age", "voice"]\n\n[output]\nfigures = false\n',
        encoding="utf-8",
    )
    told = []
    for more in ("in_parts = true\n", ""):
        plan.write_text(plan.read_text(encoding="utf-8").replace("in_parts = true\n", more), encoding="utf-8")
        assert run("run", plan, "--into", "results", "--replace", cwd=tmp_path).returncode == 0
        told.append(json.loads((tmp_path / "results" / "results.json").read_text(encoding="utf-8"))["fits"]["one"])
    assert told[0].keys() == told[1].keys()
    assert [t["sample"]["lost"] for t in told] == [told[0]["sample"]["lost"]] * 2


def test_looks_over_pieces_join_to_that_over_all_rows():
    texts = pa.array(["b", None, "a", "b", "c", "a", "d", "c"])
    numbers = pa.array([1.5, None, 2.5, 4.0, 4.5, 5.0, None, 9.0])
    lasting = pa.array([60 * 10**6 * k for k in range(8)], pa.duration("us"))
    table = pa.RecordBatch.from_arrays([texts, numbers, lasting], ["t", "n", "d"])
    batches = [table.slice(k, 3) for k in (0, 3, 6)]
    whole, joined = (Look({"t": Texts(), "n": Numbers(), "d": Numbers()}) for _ in range(2))
    whole.over(batches, False)
    for batch in batches:
        joined.merge(Look({"t": Texts(), "n": Numbers(), "d": Numbers()}).over([batch], False))
    for look in (whole, joined):
        assert (look.columns["n"].durations, look.columns["d"].durations) == (False, True)
        assert look.columns["d"].facts.high == 420.0
        found = look.columns["t"]
        assert {v: (found.counts[k], found.firsts[k]) for v, k in found.places.items()} == {"b": (2, 0), "a": (2, 2), "c": (2, 4), "d": (1, 6)}  # fmt: skip
        facts = look.columns["n"].facts
        assert (look.rows, facts.valid, facts.mean) == (8, 6, pytest.approx(26.5 / 6, rel=1e-15))
        assert look.kept.rows.tolist() == list(range(8))
        assert look.kept.columns["n"][[0, 7]].tolist() == [1.5, 9.0]
        assert [list(found.places)[k] if k >= 0 else None for k in look.kept.columns["t"]] == texts.to_pylist()


def test_a_cluster_gives_the_same_and_outlives_a_worker(folders, studies, tmp_path):
    distributed = pytest.importorskip("distributed", reason="needs Dask, which the extra `dev` installs")
    wanted = mb.fit_linear(studies[0], "belonging", TERMS).coefficients
    with (
        distributed.LocalCluster(host="127.0.0.1", dashboard_address=None, n_workers=2, threads_per_worker=1) as cluster,
        distributed.Client(cluster) as client,
    ):
        study = prepared(mb.open_study(folders / "pieces", codebook=BOOK, cluster=cluster.scheduler_address))
        same(mb.fit_linear(study, "belonging", TERMS).coefficients, wanted)
        whole, texts = (mb.open_study(DATA, cluster=address) for address in (None, cluster.scheduler_address))
        same(whole.overview(), texts.overview())
        same(*(mb.fit_linear(s, "belonging", ["concerts", "voice"]).coefficients for s in (whole, texts)))
        flag = tmp_path / "died"

        def dying(values, numbers):
            import os

            if numbers[0] > 600 and not flag.exists():
                flag.touch()
                os._exit(1)  # the worker is gone in the middle of the pass
            return len(values), float(np.nansum(values))

        from markbase.core.rows.parts import over_parts, row_numbers

        ages = study["age"].values
        found = over_parts(dying, ages, row_numbers(ages))
        assert flag.exists()
        assert sum(n for n, _ in found) == 2003
        assert sum(s for _, s in found) == pytest.approx(np.nansum(studies[0]["age"].values), rel=1e-14)
        import dask.dataframe as dd

        frame = pd.read_csv(DATA)
        client.wait_for_workers(1)
        spread = prepared(mb.Study(dd.from_pandas(frame, npartitions=5), mb.read_codebook(BOOK)))
        same(mb.fit_logistic(spread, "stays", PLAIN, event="yes").coefficients, mb.fit_logistic(studies[0], "stays", PLAIN, event="yes").coefficients, 1e-9)  # fmt: skip
        terms = mb.demo.choir_terms()
        sorted_terms = terms.frame().sort_values(["choir", "term"])
        panels = (mb.Study(t) for t in (sorted_terms, dd.from_pandas(sorted_terms.reset_index(drop=True), npartitions=4)))
        lagged = [p.lag("attendance", order="term", within="choir", name="before") for p in panels]
        same(*(mb.fit_linear(p, "attendance", ["before"]).coefficients for p in lagged), 1e-11)
        sang = pd.DataFrame({"sang": pd.to_timedelta(np.arange(40) * 1500, unit="ms"), "y": np.arange(40.0)})
        timed = mb.Study(dd.from_pandas(sang, npartitions=3))["sang"]
        assert (timed.kind, timed.unit.many, timed.span) == ("numeric", "seconds", (0.0, 58.5))
    with pytest.raises(mb.FileError, match="does not answer"):
        mb.open_study(folders / "pieces", cluster="tcp://127.0.0.1:9")


@pytest.mark.skipif(sys.platform != "linux", reason="limits of address space are told to processes by Linux")
def test_under_a_limit_of_memory_it_works_or_ends_in_a_sentence(tmp_path):
    rows = 6_000_000  # a small file, and more than the limit once its rows are laid out
    columns = {name: np.resize(np.arange(7.0) ** power, rows) for name, power in (("y", 2), ("x", 1), ("z", 3))}
    pq.write_table(pa.table(columns), tmp_path / "long.parquet")

    def under(megabytes, *arguments):
        command = [sys.executable, "-c", LIMITED, str(megabytes), *map(str, arguments)]
        return subprocess.run(command, capture_output=True, text=True, timeout=120, check=False, cwd=tmp_path)

    fit = ["fit", "long.parquet", "--outcome", "y", "--terms", "x,z", "--in-parts", "--json", "--quiet"]
    held = under(1000, *fit)
    assert (held.returncode, held.stderr) == (0, "")
    assert json.loads(held.stdout)["sample"]["used"] == rows
    for megabytes, arguments, said in (
        (
            720,
            ["look", "long.parquet"],
            "`long.parquet` is larger than the memory that is free; keep fewer columns or rows of it, or read the rows --in-parts.",
        ),
        (600, ["look", DATA], "`ulimit -v` allows 600 MB of address space, and the packages this rests on need 700."),
    ):
        done = under(megabytes, *arguments)
        assert (done.returncode, done.stdout, done.stderr) == (2, "", f"markbase: {said}\n")
    model = ["--outcome", "belonging", "--terms", "age,voice", "--json"]
    assert under(1450, "fit", DATA, *model).returncode == 0  # where a reserve of Arrow's would just fit, and no more


@pytest.mark.parametrize("options", [{}, {"weights": "weight", "cluster": "many"}], ids=str)
def test_the_first_of_few_passes_over_many_rows_begins_where_a_part_of_them_has_its_maximum(tmp_path, monkeypatch, options):
    rng, n = np.random.default_rng(5), 12_000
    many, part = rng.integers(0, 12, n).astype(str), rng.choice(list("abcd"), n)
    data = pd.DataFrame({"x": rng.normal(size=n) + 1e9, "z": rng.lognormal(size=n), "part": part, "weight": rng.choice([0.5, 1.0, 3.0], n), "many": many})  # fmt: skip
    data["stays"] = rng.random(n) < 1 / (1 + np.exp(2 - (data["x"] - 1e9) - 0.5 * data["z"] - (part == "c")))
    data.loc[rng.random(n) < 0.01, "z"] = np.nan
    data.to_parquet(tmp_path / "many.parquet")
    whole, run, reads = mb.Study(data).as_categorical("stays"), FilesInParts.run, []
    models = [["x", "z", "part"], ["z", "part", mb.interaction("z", "part")], ["x", "many"]]
    wanted = [mb.fit_logistic(whole, "stays", terms, event=True, **options).coefficients for terms in models]
    monkeypatch.setattr("markbase.core.rows.table.KEPT_ROWS", 3000)
    monkeypatch.setattr("markbase.files.parts.table_files.PART_ROWS", 5000)
    parts = mb.open_study(tmp_path / "many.parquet", in_parts=True).as_categorical("stays")
    monkeypatch.setattr(FilesInParts, "run", lambda self, *args: (reads.append(args), run(self, *args))[1])
    monkeypatch.setattr("markbase.core.estimation.newton._MANY_ROWS", 100)
    for terms, told in zip(models, wanted, strict=True):
        taken = []
        for first in (n, n, 1000):  # what is known of columns is known after the first
            monkeypatch.setattr("markbase.core.estimation.beginning._MANY_ROWS", first)
            reads.clear()
            found = mb.fit_logistic(parts, "stays", terms, event=True, **options).coefficients
            same(found[["n", "estimate", "se"]], told[["n", "estimate", "se"]], 1e-9)
            taken.append(len(reads))
        assert taken[1] - taken[2] >= 4
