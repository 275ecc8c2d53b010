"""Tables joined by a key: each row has what stands at its key, and keeps what is known of it."""

import re

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
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
