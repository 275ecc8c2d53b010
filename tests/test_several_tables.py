"""Tables joined by a key, one below another, and rows of each group made one."""

import itertools
import math
import random
import re
from fractions import Fraction

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from command import run
from test_linear import _quietly as quietly

KEY = st.sampled_from(["1", "2", "3", "10", ""])
HOMES = mb.demo.path("choir_homes.csv"), mb.demo.path("choir_homes.codebook.toml")


@given(
    rows=st.lists(st.tuples(KEY, KEY), min_size=1, max_size=12), there=st.lists(st.tuples(KEY, KEY), min_size=1, max_size=9, unique=True),
    texts=st.booleans(), two=st.booleans(), cut=st.integers(1, 5), gaps=st.sets(st.integers(0, 8)),
)  # fmt: skip
def test_each_row_has_what_stands_at_its_key_there_whatever_the_order_the_kinds_and_the_parts(tmp_path_factory, rows, there, texts, two, cut, gaps):
    by = {"a": "b", "c": "c"} if two else {"a": "b"}
    if not two:
        there = list({key[0]: (key[0], "1") for key in there}.values())
    values = {k: {"size": 3.5 * k - 4, "kind": "uvw"[k % 3]} for k in range(len(there))}
    frame = pd.DataFrame(rows, columns=["a", "c"]).assign(n=np.arange(len(rows)) / 7)
    other = pd.DataFrame(there, columns=["b", "c"]).assign(size=[None if k in gaps else v["size"] for k, v in values.items()], kind=[None if k in gaps else v["kind"] for k, v in values.items()])  # fmt: skip
    keys = {key[: len(by)]: k for k, key in enumerate(there) if "" not in key[: len(by)]}
    wanted = [keys.get(key[: len(by)], "no row in homes") if "" not in key[: len(by)] else "no key" for key in rows]
    kinds = {"a": {"kind": "categorical" if texts else "numeric"}, "c": {"kind": "categorical"}}
    folder = tmp_path_factory.mktemp("rows")
    for k in range(0, len(rows), cut):
        frame[k : k + cut].to_csv(folder / f"p{k:02d}.csv", index=False)
    homes = mb.Study(
        other, codebook={"columns": {"b": {"kind": "categorical"}, "c": {"kind": "categorical"}, "size": {"kind": "numeric"}}}, name="homes"
    )
    for study in (mb.Study(frame.replace("", None), codebook={"columns": kinds}), mb.open_study(folder, {"columns": kinds}, in_parts=True)):
        if not any(isinstance(k, int) for k in wanted):
            with pytest.raises(mb.MarkbaseError, match=r"No row has a key that homes|No row of homes has a value"):
                study.join(homes, by, columns=["size", "kind"])
            continue
        made = quietly(study.join, homes, by, columns={"size": "size", "type": "kind"})
        assert (made.rows, made.columns) == (len(rows), (*study.columns, "size", "type"))
        parts = pd.concat([part.frame() for part in made.parts()], ignore_index=True)
        for name, old in (("size", "size"), ("type", "kind")):
            own = [None if k not in values or k in gaps else values[k][old] for k in wanted]
            assert [None if pd.isna(v) else v for v in parts[name]] == own
            reasons = dict(made[name].missing_counts())
            counts = wanted.count("no row in homes"), wanted.count("no key"), sum(k in gaps for k in wanted)
            assert tuple(reasons.get(why, 0) for why in ("no row in homes", f"no {' or '.join(by)}", "blank")) == counts
        told = made.check("type").table.set_index("rows that are")
        assert told.loc["with their row in homes"].tolist() == [sum(k in values for k in wanted), len({k for k in wanted if k in values})]
        away = {key[: len(by)] for key, k in zip(rows, wanted, strict=True) if k == "no row in homes"}
        assert told.loc["without a row in homes", "keys"] == len(away)


def test_what_is_known_of_a_column_comes_with_it():
    homes = quietly(mb.open_study(*HOMES).as_role("founded", "weight").derive("log_fee", log="fee").mark, "meets_in", "school")
    made = quietly(mb.demo.choirs().join, homes, "choir", reason="the choir's own answers")
    assert (made["fee"].unit_many, made["fee"].label) == ("euros a year", "Fee of a singer")
    drawn = quietly(mb.demo.choirs().as_role("choir", "stratum").join, homes, "choir")
    roles = [made["founded"], made["choir"], drawn["choir"], homes.join(homes, "choir", columns={"again": "fee"})["choir"]]
    assert [column.role for column in roles] == ["weight", "cluster", "stratum", None]
    assert (made["meets_in"].levels[made["meets_in"].base.level].label, made["meets_in"].base.chosen) == ("school", True)
    assert dict(made["fee"].missing_counts()) == {"not told (-9)": 71, "no row in choir_homes.csv": 63}
    assert made["log_fee"].made.sources[0] is made["fee"]  # so that a profile is asked for one of them
    assert len(quietly(mb.fit_linear, made, "belonging", ["age", "fee", "log_fee"]).predict([{"age": 30, "fee": 60}])) == 1
    alone = quietly(mb.demo.choirs().join, homes, "choir", columns=["log_fee"])
    other = quietly(mb.demo.choirs().join, homes.blank("fee", [24]), "choir")  # of which it is the logarithm no more
    assert alone["log_fee"].made is None is other["log_fee"].made
    assert quietly(mb.demo.choirs().prepare, made.trail.record()).frame().equals(made.frame())


def small(**columns):
    return mb.Study(pd.DataFrame(columns), name="homes")


@pytest.mark.parametrize(
    ("other", "by", "columns", "what"),
    [
        (small(k=["a", "a", "b", "b", "b"], v=range(5)), "k", (), "2 keys of homes stand in several rows, `b` in 3: which of them"),
        (small(k=["x", "y"], v=[1, 2]), "k", (), "`k` is `a`, `b` and `St. Mary` here, `k` `x` and `y` there; write them alike"),
        (small(k=["a"], v=[1]), "v", (), "data has no column `v` to join by"), (small(z=["a"], v=[1]), "k", (), "homes has no column `k` to join by"),
        (small(k=["a"], n=[1]), "k", (), "Both tables have a column `n`, and nothing is overwritten"), (small(k=["a"]), "k", (), "no column beside those"),
        (small(k=["a"], v=[1]), "k", ["w"], "homes has no column `w`"), (small(k=["a"], v=[1]), "k", {" ": "v"}, "A new column needs a name"),
        (small(k=[1.5, 2.0], v=[1, 2]), "k", (), "`k` of homes is numeric, from 1.5 to 2, and not in whole numbers"),
        (small(k=[None, None], v=[1, 2]), "k", (), "No row of homes has a value in `k`"), (small(k=["a"], v=[1]), [], (), "Name the column, or columns"),
        (small(k=["a", "b"], n=[3, 3], v=[1, 2]), ["k", "n"], ["v"], "values of `k` and `n` stand in both tables, never together"),
        (pd.DataFrame({"k": ["a"], "n": [1]}), "k", ["w"], "The other table has no column `w`"), ([1], "k", (), "is a study or a table"),
    ],
)  # fmt: skip
def test_what_cannot_be_joined_is_refused(other, by, columns, what):
    rows = mb.Study(pd.DataFrame({"k": ["a", "b", "St. Mary", "b"], "n": [1, 2, 3, 4]}))
    with pytest.raises(mb.MarkbaseError, match=what):
        rows.join(other, by, columns=columns)


def test_keys_that_are_written_otherwise_are_told_and_labels_go_before_codes():
    rows = mb.Study(pd.DataFrame({"k": ["a", "b", "St. Mary", "b"]}))
    with pytest.warns(mb.MarkbaseWarning) as told:
        rows.join(small(k=["a", "st mary", "c"], v=[1, 2, 3]), "k")
    assert [str(w.message) for w in told][:2] == [
        "`b` and `St. Mary` have no row in homes (3 rows here).",
        "homes has `St. Mary` as `st mary`; they differ in case, blanks, marks or zeros in front alone: `loosely` takes them as the same.",
    ]
    there = small(k=["A ", "St Mary", "007", "-7", "--", "1.5"], v=range(6))
    loose = mb.Study(pd.DataFrame({"k": ["a", "st. mary", "7", "-07", "-", "15", "b"]})).as_categorical("k")
    found = quietly(loose.join, there, "k", loosely=True)
    assert found["v"].values[:4].tolist() == [0, 1, 2, 3]
    assert np.isnan(found["v"].values[4:]).all()
    assert "taken as the same: `7` as `007`, `-07` as `-7`, `a` as `A` and `st. mary` as `St Mary`" in found.check().notes
    same, written = r"`st a` and `St\. A` of homes are the same", "`k` is `7`, `15` and `-07` here, `k` `A` and `B` there; they differ in case"
    for there, loosely, what in ((["St. A", "st a"], True, same), (["A", "B"], False, written)):
        with pytest.raises(mb.MarkbaseError, match=what):
            loose.join(small(k=there, v=[1, 2]), "k", loosely=loosely)
    coded = mb.Study(pd.DataFrame({"k": [1, 2, 2]})).as_categorical("k", labels={1: "2", 2: "1"})
    assert coded.join(small(k=[1, 2], v=[10, 20]).as_categorical("k"), "k")["v"].values.tolist() == [20, 10, 10]
    assert coded.as_categorical("k", labels={1: "north", 2: "south"}).join(small(k=[1, 2], v=[10, 20]), "k")["v"].values.tolist() == [10, 20, 20]


def test_a_plan_and_the_command_join_tables_and_a_plan_that_is_written_names_them(tmp_path):
    (tmp_path / "deep").mkdir()
    mb.demo.choirs().frame().to_csv(tmp_path / "s.csv", index=False)
    for path in HOMES:
        (tmp_path / "deep" / path.name).write_bytes(path.read_bytes())
    steps = 'prepare = [{do = "mark", column = "meets_in", base = "own house"}, {do = "derive", name = "log_fee", log = "fee"}]'
    (tmp_path / "deep" / "h.toml").write_text(f'{steps}\n[data]\nfile = "choir_homes.csv"\ncodebook = "choir_homes.codebook.toml"\n')
    by_plan = run("fit", "s.csv", "--join", "deep/h.toml: choir", "--outcome", "belonging", "--terms", "meets_in,fee", "--json", cwd=tmp_path).stdout
    step = 'do = "join", file = "deep/choir_homes.csv", codebook = "deep/choir_homes.codebook.toml", by = "choir", prepare = [{do = "mark", column = "meets_in", base = "own house"}]'
    written = run("prepare", "s.csv", "--prepare", step, "--write-plan", "deep/all.toml", "--json", cwd=tmp_path)
    assert '"file": "deep/choir_homes.csv"' in written.stdout
    assert "choir_homes.csv, before it is joined: The base `own house`" in written.stderr
    text = (tmp_path / "deep" / "all.toml").read_text() + '\n[[fit]]\nname = "f"\noutcome = "belonging"\nterms = ["meets_in", "fee"]\n'
    assert re.findall("^file = (.*)", text, re.MULTILINE) == ['"../s.csv"', '"choir_homes.csv"']
    (tmp_path / "deep" / "all.toml").write_text(text)
    again = run("fit", "deep/all.toml", "f", "--json", cwd=tmp_path).stdout

    first, second = (re.findall(r'"estimate": ([-\d.e]+)', text) for text in (by_plan, again))
    assert first == second != []
    (tmp_path / "deep" / "h.toml").write_text((tmp_path / "deep" / "h.toml").read_text() + 'missing = ["none"]\n')  # which a plan alone holds
    homes = quietly(mb.read_plan(tmp_path / "deep" / "h.toml").open).derive("fee_z", z="fee")
    study = quietly(quietly(mb.read_plan(tmp_path / "deep" / "all.toml").open).join, homes, "choir", columns=["log_fee", "fee_z"])
    mb.write_plan(tmp_path / "mine.toml", study, {"f": quietly(mb.fit_linear, study, "belonging", ["meets_in", "fee"])}, data=tmp_path / "s.csv")
    assert quietly(mb.read_plan(tmp_path / "mine.toml").open).frame().equals(study.frame())
    assert [run("run", *told, cwd=tmp_path).returncode for told in (["deep/all.toml", "--into", "r"], ["r/plan.toml", "--into", "r2"])] == [0, 0]
    for there in (["choir"], ["meets_in", "fee", "founded", "log_fee", "fee_z"]):
        study.frame().head(6)[there].to_csv(tmp_path / "new.csv", index=False)
        assert "61" in run("predict", "mine.toml", "f", "--for", "new.csv", cwd=tmp_path).stdout
    loose = quietly(study.join, pd.DataFrame({"choir": ["Avenmoss"], "pews": [7]}), "choir")
    with pytest.raises(mb.MarkbaseError, match="it came from no file"):
        mb.write_plan(tmp_path / "no.toml", loose, {}, data=tmp_path / "s.csv")
    (tmp_path / "deep" / "h.toml").write_text('[data]\nfile = "choir_homes.csv"\n[[prepare]]\ndo = "join"\nfile = "h.toml"\nby = "choir"\n')
    for options, what in {
        ("--join", "deep/h.toml: choir"): "joins itself", ("--join", "none.csv: choir"): "There is no file `none.csv`",
        ("--join", "deep/choir_homes.csv"): "should read `--join 'FILE: KEY, KEY'`", ("--prepare", 'do = "join", by = "choir"'): "names the file of the table",
        ("--prepare", 'do = "join", file = "deep/choir_homes.csv", by = "choir", loosely = "yes"'): "`loosely` of `join` is true or false, not 'yes'",
        ("--prepare", 'do = "join", file = "deep/choir_homes.csv", by = "choir", other = "x"'): "no setting `other` here",
        ("--prepare", 'do = "aggregate", by = "choir", columns = ["n"]'): "`columns` of `aggregate` is a table, not ['n']",
    }.items():  # fmt: skip
        refused = run("look", "s.csv", *options, cwd=tmp_path)
        assert (refused.returncode, what in refused.stderr, "Traceback" in refused.stderr) == (2, True, False), refused.stderr


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


CELL = st.sampled_from(["", "a", "b", "c"])
ROW = st.tuples(CELL, st.sampled_from(["", "1", "2", "11"]), st.one_of(st.none(), st.integers(-4000, 4000)), CELL)
MEASURES = {"n": "rows", **{f"x_{m}": {m: "x"} for m in ("mean", "sum", "sd", "low", "high", "median")}, "some": {"share": "v", "of": ["b", "c"]}}
MEASURES |= {f"w_{m}": {m: "x", "weights": "w"} for m in ("mean", "sum", "sd")} | {"w_some": {"share": "v", "of": ["b", "c"], "weights": "w"}}


def exact(measure, own, heavy=None):
    """Return a measure of whole thousandths, with weights in quarters, by its definition in rational numbers."""
    pairs = sorted((Fraction(v, 1000), Fraction(w, 4)) for v, w in zip(own, heavy or [4] * len(own), strict=True))
    own, all_of_them = [v for v, _ in pairs], sum(w for _, w in pairs)
    mean = sum(w * v for v, w in pairs) / all_of_them if own else None
    if not own or (measure == "sd" and len(own) < 2):
        return math.nan
    middle = (own[(len(own) - 1) // 2] + own[len(own) // 2]) / 2
    about = sum(w * (v - mean) ** 2 for v, w in pairs) / all_of_them
    spread = math.sqrt(about * len(own) / (len(own) - 1)) if len(own) > 1 else None
    return float({"mean": mean, "sum": mean * all_of_them, "low": own[0], "high": own[-1], "median": middle, "sd": spread}[measure])


@given(rows=st.lists(ROW, min_size=1, max_size=25), two=st.booleans(), shift=st.sampled_from([0, 10**12]), cut=st.integers(5, 12))
@settings(max_examples=60)
def test_measures_are_those_of_their_definitions_whatever_the_gaps_the_keys_and_the_parts(rows, two, shift, cut, tmp_path_factory):
    frame = pd.DataFrame(rows, columns=["g", "k", "x", "v"])
    frame["x"] = [None if pd.isna(v) else f"{(int(v) + shift) / 1000:.3f}" for v in frame["x"]]
    weights = [None if i % 7 == 3 else i * 3 % 5 for i in range(len(rows))]
    frame["w"] = [None if w is None else w / 4 for w in weights]
    frame["same"] = [{"a": "p", "b": "q", "c": "", "": "r"}[g] for g in frame["g"]]
    folder = tmp_path_factory.mktemp("rows")
    for at in range(0, len(frame), cut):
        frame[at : at + cut].to_csv(folder / f"{at:03d}.csv", index=False)
    book = {
        "columns": {n: {"kind": "categorical", "levels": list(levels)} for n, levels in {"g": "abc", "v": "abc", "same": "pqr"}.items()}
        | {n: {"kind": "numeric"} for n in ("k", "x", "w")}
    }
    weighted = any(w for w in weights)
    keys = ["g", "k"] if two else ["g"]
    place = [(" abc".find(r[0] or "-"), int(r[1] or -1)) if two else (" abc".find(r[0] or "-"),) for r in rows]
    groups = sorted({p for p in place if min(p) >= 0})
    for in_parts in (False, True):
        study = quietly(mb.open_study, folder, book, in_parts=in_parts)
        wanted = {n: m for n, m in MEASURES.items() if (n != "x_median" or not in_parts) and (weighted or n[0] != "w")}
        if not groups:
            with pytest.raises(mb.MarkbaseError, match="No row has a value in `g`"):
                study.aggregate(keys, wanted)
            continue
        made = quietly(study.aggregate, keys, wanted)
        found = made.frame()
        assert [tuple(row) for row in found[keys].itertuples(index=False)] == [(" abc"[p[0]], *p[1:]) for p in groups]
        for k, group in enumerate(groups):
            own = [r for r, p in zip(rows, place, strict=True) if p == group]
            values = [r[2] + shift for r in own if r[2] is not None]
            assert found["n"][k] == len(own)
            for measure in ("mean", "sum", "sd", "low", "high", *(() if in_parts else ("median",))):
                wanted_value = exact(measure, values)
                assert float(found[f"x_{measure}"].astype(float)[k]) == pytest.approx(
                    wanted_value, rel=1e-12, abs=1e-15 * (4 + shift / 1000), nan_ok=True
                )
            heavy = [(r, w) for r, w, p in zip(rows, weights, place, strict=True) if p == group and w]
            pairs = [(r[2] + shift, w) for r, w in heavy if r[2] is not None]
            for measure in ("mean", "sum", "sd") if weighted else ():
                told = float(found[f"w_{measure}"].astype(float)[k])
                assert told == pytest.approx(exact(measure, *map(list, zip(*pairs, strict=True))) if pairs else math.nan, rel=1e-12, abs=1e-15 * (4 + shift / 1000), nan_ok=True)  # fmt: skip
            if weighted and (whole := sum(w for r, w in heavy if r[3])):
                assert float(found["w_some"].astype(float)[k]) == pytest.approx(sum(w for r, w in heavy if r[3] in ("b", "c")) / whole)
            answers = [r[3] for r in own if r[3]]
            share = sum(a in "bc" for a in answers) / len(answers) if answers else math.nan
            assert float(found["some"].astype(float)[k]) == pytest.approx(share, nan_ok=True)
        why = dict(made["x_sd"].missing_counts())
        bare = [sum(r[2] is not None for r, p in zip(rows, place, strict=True) if p == g) for g in groups]
        assert (why.get("no value in its rows", 0), why.get("one value alone", 0)) == (bare.count(0), bare.count(1))
        assert [None if pd.isna(v) else v for v in found["same"]] == [{1: "p", 2: "q", 3: None}[p[0]] for p in groups]
        constant = all(len({r[2] for r, p in zip(rows, place, strict=True) if p == group}) == 1 for group in groups)
        assert ("x" in made.columns) == constant  # what is the same in all rows of each stays


@pytest.mark.parametrize(
    ("by", "columns", "what"),
    [
        ("choir", {}, "Say of each new column what it is"), ("choir", {"n": "mean"}, '`n` is "rows", or one measure'), ([], {"n": "rows"}, "Name the group"),
        ("choir", {"n": {"mode": "age"}}, "There is no measure `mode` for `n`"), ("choir", {"n": {"mean": "aeg"}}, "no column 'aeg'.* Did you mean `age`"),
        ("choir", {"n": {"mean": "voice"}}, "`voice` is categorical and has no mean"), ("choir", {"n": {"share": "age", "of": 3}}, "`age` is numeric and has no levels"),
        ("choir", {"n": {"share": "voice"}}, "`of` says which levels"), ("choir", {"n": {"mean": "age", "of": "x"}}, "`of` says which levels"),
        ("choir", {"n": {"share": "voice", "of": [["treble"]]}}, "no level `.'treble'.`"), ("choir", {"choir": "rows"}, "stays a column"),
        ("choir", {"n": {"median": "age", "weights": "weight"}}, "the median has none"), ("voice", {"n": {"mean": "age", "weights": "below"}}, "none of them below 0 and some above; `below` goes from -"), ("choir", {"n": {"mean": "age", "weights": "voice"}}, "`voice` is categorical: weights"),
        ("choir", {"n": {"mean": "age", "weights": "singer_idd"}}, "no column 'singer_idd' of weights"), ("choir", {"n": {"sum": "age", "weights": "way"}}, "no column 'way'"),
        ("belonging", {"n": "rows"}, "not in whole numbers"), ("chior", {"n": "rows"}, "no column `chior`"), (["choir", "choir"], {"n": "rows"}, "different groups"),
    ],
)  # fmt: skip
def test_what_is_no_measure_is_refused(by, columns, what):
    with pytest.raises(mb.MarkbaseError, match=what):
        mb.demo.choirs().derive("below", centre="satisfaction").aggregate(by, columns)
    with pytest.raises(mb.MarkbaseError, match="`x` holds infinite values, of which there is no sum"):
        mb.Study(pd.DataFrame({"g": ["a", "b"], "x": [1.0, np.inf]})).aggregate("g", {"n": {"sum": "x"}})


def test_what_was_aggregated_of_a_file_is_joined_by_a_plan(tmp_path):
    study, seasons, files = mb.demo.choirs(), mb.demo.choir_terms(), [mb.demo.path(name) for name in mb.demo.FILES[:2]]
    terms = seasons.aggregate("choir", {"seasons": "rows", "attendance": {"mean": "attendance"}}, reason="over the seasons")
    assert terms.trail.steps[-1].text == (
        "Aggregated 191 rows by `choir` into 24, of 7 to 8 rows each: `seasons` (rows) and `attendance` (mean of `attendance`); 3 other columns are left out."
    )
    assert (terms["choir"].role, terms["attendance"].unit) == ("identifier", seasons["attendance"].unit)
    both = study.join(terms, "choir")
    fit = quietly(mb.fit_linear, both, "belonging", ["age", "attendance"], cluster="choir", errors="CR3")
    mb.write_plan(tmp_path / "p.toml", both, {"f": fit}, data=files[0], codebook=files[1])
    assert 'do = "aggregate"' in (tmp_path / "p.toml").read_text()
    again = quietly(mb.read_plan(tmp_path / "p.toml").make)["f"]
    np.testing.assert_array_equal(again.coefficients["se"], fit.coefficients["se"])
    with pytest.warns(mb.MarkbaseWarning, match="Rows count alike in `share`, though `weight` has their weights"):
        study.aggregate("choir", {"share": {"share": "voice", "of": "alto"}, "n": {"sum": "weight"}})
    assert study.aggregate("choir", {"share": {"mean": "age", "weights": "weight"}, "m": {"mean": "age"}}).rows == 24  # which is meant
    step = 'do = "aggregate", by = "choir", columns = {n = "rows", age = {mean = "age"}}'
    done = run("prepare", files[0], "--codebook", files[1], "--prepare", step, "--into", "-", cwd=tmp_path)
    mean = float(study.frame().groupby("choir", observed=True)["age"].mean().iloc[0])
    assert done.stdout.splitlines()[:2] == ["choir,n,age", f"Avenmoss,69,{mean!r}"]
    with pytest.raises(mb.MarkbaseError, match="a median by group needs all rows in memory"):
        mb.open_study(files[0], in_parts=True).aggregate("choir", {"m": {"median": "age"}})
