"""Files, folders and sheets one below another, and columns made one."""

import itertools
import random

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from test_linear import _quietly as quietly

WRITERS = {
    "csv": lambda f, p: f.to_csv(p, index=False), "tsv": lambda f, p: f.to_csv(p, index=False, sep="\t"), "parquet": lambda f, p: f.to_parquet(p),
    "xlsx": lambda f, p: f.to_excel(p, index=False), "csv.gz": lambda f, p: f.to_csv(p, index=False),
}  # fmt: skip


def waves(kind, folder, names=("w_2019", "w_2020", "w_x"), **changes):
    rng, frames = np.random.default_rng(5), []
    for k, name in enumerate(names):
        frame = pd.DataFrame({"g": rng.choice(["a", "b", "c"], 30 + k), "x": rng.normal(size=30 + k).round(3), "n": np.arange(30 + k)})
        frame.loc[k, "x"] = np.nan
        frames.append(changes.get(name, lambda f: f)(frame))
        (folder / name).parent.mkdir(exist_ok=True, parents=True)
        WRITERS[kind](frames[-1], folder / f"{name}.{kind}")
    return pd.concat(frames, ignore_index=True), np.repeat(["2019", "2020", "x"][: len(names)], [len(f) for f in frames])


@pytest.mark.parametrize(("kind", "in_parts"), [(k, p) for k in WRITERS for p in (False, True) if (k, p) not in (("xlsx", True), ("csv.gz", False))])
def test_rows_of_files_stand_one_below_another_and_know_their_file(kind, in_parts, tmp_path):
    whole, told = waves(kind, tmp_path)
    (tmp_path / f"._w_2019.{kind}").write_bytes(b"locked")  # as programs leave it beside a file that is open
    for path in (tmp_path, tmp_path / f"w_*.{kind}"):
        study = mb.open_study(path, {"columns": {"wave": {"base": "2020"}}}, file_column="wave", in_parts=in_parts)
        found = pd.concat([part.frame() for part in study.parts()], ignore_index=True)
        assert found["wave"].tolist() == told.tolist()
        assert found["g"].tolist() == whole["g"].tolist()
        np.testing.assert_array_equal(found[["x", "n"]].to_numpy(float), whole[["x", "n"]].to_numpy(float))
        assert list(study.columns) == ["wave", "g", "x", "n"]
        fit = mb.fit_linear(study, "x", ["wave"])
        means = whole["x"].groupby(told).mean()
        assert fit.coefficients["estimate"].iloc[0] == pytest.approx(means["2020"], rel=1e-9)
        some = mb.open_study(path, columns=["wave"], file_column="wave", in_parts=in_parts)
        assert some.levels("wave")["count"].tolist() == [30, 31, 32]
        assert mb.open_study(path, in_parts=in_parts).columns == ("g", "x", "n")
    waves(kind, tmp_path / "more", ("north/w", "south/w"), **{"south/w": lambda f: f if in_parts else f.drop(columns="n")})
    deep = quietly(mb.open_study, tmp_path / "more", file_column="land", in_parts=in_parts)
    assert deep.levels("land")[["level", "count"]].to_numpy().tolist() == [["north", 30], ["south", 31]]
    assert in_parts or dict(deep["n"].missing_counts()) == {f"not in {tmp_path.as_posix()}/more/south/w.{kind}": 31}


@pytest.mark.parametrize(("kind", "in_parts"), [(k, p) for k in WRITERS for p in (False, True) if (k, p) not in (("xlsx", True), ("csv.gz", False))])
def test_folders_tell_columns_that_their_files_do_not_have(kind, in_parts, tmp_path):
    folders = [f"year={y}/land=a%20{z}" for y, z in ((2019, "b"), (2020, "/"), (2020, "c"))]
    folders[1] = "year=__HIVE_DEFAULT_PARTITION__/land=7/n=9"
    whole, _ = waves(kind, tmp_path / "r", [f"{f}/w" for f in folders])
    waves(kind, tmp_path / "r" / "_log", ["w"])
    book = {"columns": {"land": {"base": "a c"}}}
    for path in (tmp_path / "r", tmp_path / "r" / "**" / f"*.{kind}"):
        study = mb.open_study(path, book, in_parts=in_parts)
        assert list(study.columns) == ["g", "x", "n", "year", "land"]  # what a file has itself counts as it is
        assert (study["year"].kind, study["year"].span, dict(study["year"].missing_counts())) == ("numeric", (2019, 2020), {"blank": 31})
        assert study.levels("land").set_index("level")["count"].to_dict() == {"7": 31, "a b": 30, "a c": 32}
        assert mb.fit_linear(study, "x", ["land"]).groups("land")["plain"].iloc[2] == pytest.approx(whole["x"][61:].mean(), rel=1e-9)


def test_columns_made_one_keep_the_base_that_was_chosen_and_tell_a_gap_by_what_is_known_of_it():
    told = {"a": ["u", "v", None, None], "b": [None, "w", "w", None], "c": ["u", "v", None, None], "n": [2, 0, 0, 0], "m": [1, 1, 1, None]}
    frame = pd.DataFrame({**told, "k": [None, 5, None, None], "s": [1, 2, None, None], "t": [None, 1, 2, 3]})
    study = quietly(lambda: mb.Study(frame).mark("b", "w").derive("r", ratio=["m", "n"]))
    with pytest.warns(
        mb.MarkbaseWarning, match="`b` has another value than the one taken in 1 row, first in row 2; `c` has no value where the others have none"
    ):
        made = study.coalesce(["a", "b", "c"], name="one")
    assert (made["one"].labels[made["one"].base.level], made["one"].base.chosen) == ("w", True)
    assert quietly(study.coalesce, ["a", "c"], name="one")["one"].base.chosen is False
    assert dict(study["r"].missing_counts()) == {"blank": 1, "`n` is 0": 2}
    assert dict(quietly(study.coalesce, ["r", "k"], name="q")["q"].missing_counts()) == {"blank": 2}
    coded = study.as_categorical("s", {1: "x", 2: "y"}).as_categorical("t", {1: "y", 2: "z", 3: "u"})
    both = quietly(coded.coalesce, ["s", "t"], name="both")["both"]
    assert [(v.label, v.code) for v in both.levels] == [("x", "1"), ("y", "2"), ("z", "z"), ("u", "3")]


@pytest.mark.parametrize(("names", "told"), [([None], []), (["pid"], ["pid"]), (["pid", "wave"], ["pid", "wave"]), (["pid", None], ["pid"])])
def test_what_rows_of_a_table_are_called_by_is_a_column_where_it_has_a_name(names, told, tmp_path):
    index = pd.MultiIndex.from_arrays([np.arange(40)[::-1] // 2, np.arange(40) % 2][: len(names)], names=names) if len(names) > 1 else pd.Index(np.arange(40)[::-1], name=names[0])  # fmt: skip
    frame = pd.DataFrame({"x": np.arange(40) % 7, "g": list("ab") * 20}, index=index)
    frame.to_parquet(tmp_path / "t.parquet")
    read = [mb.open_study(tmp_path / "t.parquet", in_parts=in_parts) for in_parts in (False, True)]
    assert [list(study.columns) for study in read] == [["x", "g", *told]] * 2
    for name in told:
        assert read[0].frame()[name].tolist() == frame.index.get_level_values(name).tolist()
        with pytest.raises(mb.MarkbaseError, match=rf"no column `{name}`. It is what the rows of the table are called by"):
            mb.Study(frame).column(name)


MADE = {
    "i": lambda g, n: g.integers(0, 9, n), "f": lambda g, n: g.normal(size=n).round(3), "s": lambda g, n: g.choice(["x", "y", "z w"], n), "n": lambda _, n: [None] * n,
    "t": lambda g, n: g.choice(["1", "2", "03"], n), "b": lambda g, n: g.random(n) < 0.5, "d": lambda _, n: pd.date_range("2020-01-01", periods=n),
}  # fmt: skip


@pytest.mark.parametrize("seed", range(40))
def test_a_folder_is_the_same_study_in_memory_and_in_parts_whatever_its_files_hold_and_are_called(seed, tmp_path):
    r, g, kind = random.Random(seed), np.random.default_rng(seed), ("parquet", "csv", "tsv")[seed % 3]
    for k in range(r.randint(2, 5)):
        n = r.choice([0, 1, 3, 40])
        table = pd.DataFrame({"id": np.arange(n), **{c: MADE[r.choice([*MADE])](g, n) for c in r.sample(["a", "b", "c", "e f"], r.randint(0, 4))}})
        for c in table.columns[1:]:
            table[c] = table[c].astype(object).where(g.random(n) > 0.2, None) if r.random() < 0.3 else table[c]
        folder = tmp_path.joinpath(*(f"{key}={r.choice(['1', '2', '07', 'x%20y', '', 'ü'])}" for key in r.sample(["y", "l", "a"], r.randint(0, 2))), r.choice([".", "plain", "_log"]))  # fmt: skip
        folder.mkdir(parents=True, exist_ok=True)
        WRITERS[kind](table, folder / f"p{k}.{kind}")
    found = []
    for in_parts, names in itertools.product((False, True), (None, ["id", "a"])):
        try:
            study = quietly(mb.open_study, tmp_path, columns=names, in_parts=in_parts)
            study = study.keep({"id": {"at_least": 0}}, reason="every row")
            told = [(c, study[c].kind, study[c].valid, study[c].labels or str(study[c].span), study[c].missing_counts()) for c in study.columns]
            found.append(
                (told, [own.dropna().map(str).tolist() for _, own in pd.concat([p.frame() for p in study.parts()]).items() if own.dtype == object])
            )
        except mb.MarkbaseError as refused:
            found.append("no rows" in str(refused) or "has no column" in str(refused) or "holds no data" in str(refused) or str(refused))
    assert found[:2] == found[2:]


def test_a_column_that_a_file_does_not_have_lacks_values_for_that_reason(tmp_path):
    waves("csv", tmp_path, w_2020=lambda f: f.rename(columns={"g": "G"}).assign(mood=3), w_x=lambda f: f.drop(columns="n")[["g", "x"]])
    with pytest.warns(mb.MarkbaseWarning) as told:
        study = mb.open_study(tmp_path / "*.csv", {"columns": {"mood": {"missing": [7]}}})
    assert [str(w.message) for w in told] == [
        "Not all tables have `g` (in 2 tables of 3), `n` (in 2 tables of 3), `G` (in 1 table of 3) and `mood` (in 1 table of 3): the rows of the others have gaps there.",
        "`G` and `g` are in no table both: if they are the same, make them one by the step `coalesce`, or call them so in the files.",
    ]
    (step,) = study.remarks()["G"][-1].mend
    made = quietly(study.prepare, [step])
    assert (made["g_G"].valid, [r.mend for r in made.remarks()["G"] if r.mend]) == (93, [])
    assert {name: dict(study[name].missing_counts()) for name in study.columns} == {
        "x": {"blank": 3}, "g": {"not in w_2020.csv": 31}, "n": {"not in w_x.csv": 32}, "G": {"not in w_2019.csv": 30, "not in w_x.csv": 32},
        "mood": {"not in w_2019.csv": 30, "not in w_x.csv": 32},
    }  # fmt: skip
    for k in range(21):
        (tmp_path / f"z{k:02d}.csv").write_text("g,x\n,\nb,2\n")
    for in_parts in (False, True):
        with pytest.warns(mb.MarkbaseWarning) as told:
            many = mb.open_study(tmp_path / "*.csv", in_parts=in_parts, file_column="file")
        blank, count = any("without any value" in str(w.message) for w in told), 32 + (42 if in_parts else 21)
        assert (dict(many["n"].missing_counts()), blank) == ({"not in 22 of the files": count}, True)
    refused = {"q\n1\n": "has no column of", "g;x\n1;2\n": r"parts its cells by ',', and .* by ';'", "x,x\n1,2\n": "occurs more than once"}
    for text, what in refused.items():
        (tmp_path / "a.csv").write_text(text)
        with pytest.raises(mb.MarkbaseError, match=what):
            mb.open_study(tmp_path / "*.csv", in_parts=True)


@pytest.mark.parametrize("seed", range(12))
def test_a_row_of_columns_made_one_has_the_first_value_there_is_and_else_the_first_code(tmp_path, seed):
    rng, texts = np.random.default_rng(seed), seed % 2 == 0
    cut, answers = int(rng.integers(1, 5)), rng.choice([None, None, -9, -8, 1, 2, 3], (9, 3)).tolist()
    orders = [rng.permutation(["c1", "c2", "c3"]).tolist() if seed % 3 else ["c1", "c2", "c3"] for _ in range(3)]
    as_told = (lambda a: a and f"c{a}") if texts else (lambda a: a)
    pd_rows = [dict(zip("abc", map(as_told, row), strict=True)) | {"row": k} for k, row in enumerate(answers)]
    for k in range(0, 9, cut):
        pd.DataFrame(pd_rows[k : k + cut]).to_csv(tmp_path / f"p{k}.csv", index=False)
    kinds = [{"kind": "ordinal", "levels": own} if texts else {"kind": "numeric"} for own in orders]
    book = {"columns": {name: {**kind, "missing": [as_told(-9), as_told(-8)]} for name, kind in zip("abc", kinds, strict=True)}}
    wanted = [next((a for a in row if a and a > 0), next((a for a in row if a), None)) for row in answers]
    for path, parts in ((tmp_path, True), (tmp_path / "p*.csv", False)):
        study = quietly(lambda path=path, parts=parts: mb.open_study(path, book, in_parts=parts).coalesce(["a", "b", "c"], name="n"))
        new, table = study["n"], study.check("n").table
        shown = pd.concat([part.frame() for part in study.parts()])["n"]
        assert [None if pd.isna(v) else v for v in shown] == [as_told(w) if w and w > 0 else None for w in wanted]
        told = {"blank": None} | {f"{'' if texts else 'code '}{as_told(k)}": k for k in (-9, -8)}
        assert dict(new.missing_counts()) == {word: n for word, code in told.items() if (n := wanted.count(code))}
        firsts = [next(((k, a) for k, a in enumerate(row) if a and a > 0), (3, 0)) for row in answers]
        assert table["taken"].tolist() == [sum(k == own for k, _ in firsts) for own in range(3)]
        assert table["differ"].tolist() == [sum(bool(row[k]) and row[k] > 0 and row[k] != a for row, (_, a) in zip(answers, firsts, strict=True)) for k in range(3)]  # fmt: skip
        assert (new.kind == "ordinal") == (texts and len(set(map(tuple, orders))) == 1)


@pytest.mark.parametrize(
    ("path", "more", "what"),
    [
        ("*.csv", {"file_column": "x"}, "have a column `x` themselves"), ("w_x.csv", {"file_column": "f"}, "is one file, and `f` would be the same"),
        ("w_x.csv", {"file_column": "f", "in_parts": True}, "is one file"), ("*.csv", {"file_column": "x", "in_parts": True}, "have a column `x` themselves"),
        ("q*.csv", {}, "No file has a name like"), ("deep", {}, "has no column of"), ("none", {}, "no file|not read"), ("*.toml", {}, "is not read with others"),
        ("empty", {}, "holds no data file"), ("*.gz", {}, "is packed, or one of Arrow's own"),
    ],
)  # fmt: skip
def test_what_cannot_be_put_together_is_refused(path, more, what, tmp_path, monkeypatch):
    waves("csv", tmp_path)
    waves("csv", tmp_path, ("deep/one", "deep/two"), **{"deep/two": lambda f: f.rename(columns=str.upper)})
    (tmp_path / "empty").mkdir()
    for name in ("a.toml", "a.csv.gz"):
        (tmp_path / name).write_text("a = 1")
    with pytest.raises(mb.MarkbaseError, match=what):
        mb.open_study(tmp_path / path, **more)
    monkeypatch.setattr("markbase.files.stacked._MOST_BYTES", 100)
    with pytest.raises(mb.MarkbaseError, match=r"3 files of .* together are too large to be taken into memory at once: read them in parts"):
        mb.open_study(tmp_path / "w_*.csv")


def test_sheets_stand_one_below_another_too(tmp_path):
    whole, told = waves("csv", tmp_path)
    with pd.ExcelWriter(tmp_path / "all.xlsx") as book:
        for wave in ("2019", "2020", "x"):
            whole[told == wave].to_excel(book, sheet_name=wave, index=False)
    study = mb.open_study(tmp_path / "all.xlsx", sheet="*", file_column="wave").frame()
    assert study[["wave", "n"]].to_numpy().tolist() == [[wave, n] for wave, n in zip(told, whole["n"], strict=True)]
    some = mb.open_study(tmp_path / "all.xlsx", sheet="20*", file_column="wave")
    assert some.frame()["wave"].tolist() == [2019] * 30 + [2020] * 31
    with pytest.raises(mb.MarkbaseError, match=r"has no sheet like `q\*`; there are `2019`, `2020` and `x`"):
        mb.open_study(tmp_path / "all.xlsx", sheet="q*")


def test_the_command_and_plans_read_several_files(tmp_path):
    whole, told = waves("csv", tmp_path)
    mean = whole["x"].groupby(told).mean()["2020"] - whole["x"].groupby(told).mean()["2019"]
    options = ["--outcome", "x", "--terms", "wave", "--base", "wave=2019", "--json"]
    for more in ([], ["--in-parts"]):
        assert f'"estimate": {mean:.10f}'[:-2] in run("fit", "w_*.csv", "--file-column", "wave", *options, *more, cwd=tmp_path).stdout
    assert run("prepare", "w_*.csv", "--file-column", "wave", "--write-plan", "p.toml", cwd=tmp_path).returncode == 0
    assert f'"estimate": {mean:.10f}'[:-2] in run("fit", "p.toml", *options, cwd=tmp_path).stdout
    predicted = run("predict", "p.toml", *options[:4], "--categorical", "wave", "--for", "w_20*.csv", "--into", "-", cwd=tmp_path).stdout
    assert len(predicted.splitlines()) == 62
