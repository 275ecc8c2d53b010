"""Repeated measurements in columns beside one another, put below one another."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from test_linear import _quietly as quietly

BOOK = {
    "columns": {
        "p1": {"kind": "numeric", "unit": ["Hz", "Hz"], "missing": {"-9": "no answer"}},
        "p2": {"kind": "numeric", "missing": {"-8": "hoarse", "-9": "no answer"}},
        "m1": {"kind": "ordinal", "levels": {"1": "low", "2": "high"}}, "m2": {"kind": "ordinal", "levels": {"1": "low", "2": "high"}},
        "v1": {"kind": "categorical", "base": "tenor"}, "v2": {"kind": "categorical"}, "w": {"unit": ["kg", "kg"]}, "singer": {"role": "identifier"},
    }
}  # fmt: skip


def wide():
    rng = np.random.default_rng(3)
    frame = pd.DataFrame({"singer": [f"S{k:02d}" for k in range(60)], "p1": rng.integers(40, 60, 60), "w": rng.random(60).round(2)})
    frame = frame.assign(p2=frame["p1"] + rng.integers(-3, 9, 60), m1=rng.integers(1, 3, 60), m2=rng.integers(1, 3, 60))
    frame = frame.assign(v1=rng.choice(["alto", "tenor"], 60), v2=rng.choice(["alto", "bass"], 60))
    frame.loc[[0, 5], "p1"], frame.loc[[1, 5], "p2"], frame.loc[7, "p2"] = -9, -8, -9
    return frame


@pytest.mark.parametrize("named", [True, False])
def test_each_value_stands_in_the_row_of_its_case_and_occasion_with_all_that_is_known_of_it(named):
    frame = wide() if named else wide().drop(columns="singer")
    book = BOOK if named else {"columns": {k: v for k, v in BOOK["columns"].items() if k != "singer"}}
    study = mb.Study(frame, codebook=book)
    made = study.as_long({"pitch": ["p1", "p2"], "mood": ["m1", "m2"], "voice": ["v1", "v2"]}, name="wave", labels=["before", "after"])
    case, long = "singer" if named else "case", made.frame()
    long = long.set_index([long.columns[0], "wave"])
    for k, row in enumerate(frame.itertuples()):
        for when, *own in (("before", row.p1, row.m1, row.v1), ("after", row.p2, row.m2, row.v2)):
            found = long.loc[(row.singer if named else str(k + 1), when)]
            assert (found["pitch"] == own[0]) if own[0] > 0 else pd.isna(found["pitch"])
            assert (found["mood"], found["voice"], found["w"]) == ({1: "low", 2: "high"}[own[1]], own[2], row.w)
    assert dict(made["pitch"].missing_counts()) == {"no answer (-9)": 3, "hoarse (-8)": 2}
    assert (made["pitch"].unit_many, made["mood"].kind, made[case].role, made["wave"].labels) == ("Hz", "ordinal", "cluster", ["before", "after"])
    assert (made["voice"].labels, made["voice"].levels[made["voice"].base.level].label) == (["alto", "tenor", "bass"], "tenor")
    table = made.check("wave").table
    assert table["before"].tolist() == table["after"].tolist() == [58, 57, 60, 60, 60, 60]
    assert study.prepare(made.trail.record()).frame().equals(made.frame())
    change = quietly(mb.fit_linear, made.mark("wave", "before"), "pitch", ["wave"], fixed_effects=case).coefficients.iloc[-1]["estimate"]
    both = frame[(frame["p1"] > 0) & (frame["p2"] > 0)]
    assert change == pytest.approx((both["p2"] - both["p1"]).mean(), rel=1e-9)  # of those measured twice


@pytest.mark.parametrize(
    ("columns", "name", "more", "what"),
    [
        ({"p": ["p1"]}, "wave", {}, "two columns or more"), ({}, "wave", {}, "two columns or more"),
        ({"p": ["p1", "p2"], "m": ["m1", "m2", "w"]}, "wave", {}, "as many occasions as one another; here `p` 2 and `m` 3"),
        ({"p": ["p1", "p1"]}, "wave", {}, "`p1` is named twice"), ({"p": ["p1", "p2"]}, "w", {}, "There is a column `w` already"),
        ({"w": ["p1", "p2"]}, "wave", {}, "There is a column `w` already"), ({"p": ["p1", "p2"]}, "p", {}, "There is a column `p` already"),
        ({"p": ["p1", "w"]}, "t", {}, "`p` would mix units: Hz and kg"),
        ({"p": ["p1", "v1"]}, "t", {"labels": ["a", "b"]}, r"cannot be made of numbers \(`p1`\) and levels \(`v1`\)"),
        ({"p": ["p1", "p2"], "m": ["m1", "w"]}, "t", {}, "do not say what the occasions are called"), ({"p": ["p1", "p3"]}, "t", {}, "no column `p3`"),
        ({"p": ["p1", "p2"]}, "t", {"labels": ["a", "a"]}, "each needs a label of its own"),
    ],
)  # fmt: skip
def test_what_does_not_go_into_one_column_is_refused(columns, name, more, what, tmp_path):
    with pytest.raises(mb.MarkbaseError, match=what):
        mb.Study(wide(), codebook=BOOK).as_long(columns, name=name, **more)
    wide().to_csv(tmp_path / "w.csv", index=False)
    with pytest.raises(mb.MarkbaseError, match="putting measurements below one another"):
        mb.open_study(tmp_path / "w.csv", in_parts=True).as_long({"p": ["p1", "p2"]}, name="t")


def test_occasions_are_read_off_the_names_and_a_plan_holds_the_step_and_the_kinds(tmp_path):
    told = {
        "s_1 s_2 s_10": [1, 2, 10],
        "y2019 y2020": [2019, 2020],
        "before.s after.s later.s": ["before", "after", "later"],
        "pre post": ["pre", "post"],
    }
    for names, wanted in {**told, "s_morning s_evening": ["morning", "evening"]}.items():
        of = names.split()
        found = mb.Study(pd.DataFrame({n: [1.5, 2.5] for n in of})).as_long({"s": of}, name="when").frame()["when"]
        assert found.tolist() == wanted * 2
    wide().to_csv(tmp_path / "w.csv", index=False)
    step = 'do = "as_long", columns = {pitch = ["p1", "p2"]}, name = "wave"'
    kinds = ["--as", "singer=identifier", "--categorical", "m1,m2", "--missing=-8,-9"]
    first = ["--outcome", "pitch", "--terms", "wave,m1", "--base", "m1=1", "--cluster", "singer", "--json"]
    assert run("prepare", tmp_path / "w.csv", *kinds, "--prepare", step, "--write-plan", tmp_path / "p.toml").returncode == 0
    assert 'kinds = {singer = "identifier", m1 = "categorical", m2 = "categorical"}' in (tmp_path / "p.toml").read_text()
    one, other = run("fit", tmp_path / "w.csv", *kinds, "--prepare", step, *first), run("fit", tmp_path / "p.toml", *first)
    assert (one.stdout == other.stdout, '"clusters": 59' in one.stdout) == (True, True)
    (tmp_path / "q.toml").write_text((tmp_path / "p.toml").read_text().replace('m1 = "categorical"', 'm1 = "categorial"'))
    assert (
        "q.toml, line 4, data: `kinds` says of columns that they are categorical, identifier, numeric or ordinal"
        in run("look", tmp_path / "q.toml").stderr
    )
    assert 'kinds = {singer = "identifier"' in run("start", tmp_path / "w.csv", *kinds, "--outcome", "p1").stdout
    wide().head(9).to_csv(tmp_path / "new.csv", index=False)
    planned = mb.read_plan(tmp_path / "p.toml").open()
    assert (planned["singer"].role, planned["m1"].kind) == ("cluster", "categorical")
    planned.frame().drop(columns="pitch").head(6).to_csv(tmp_path / "long.csv", index=False)
    for file, rows in (("new.csv", 18), ("long.csv", 6)):
        run("predict", tmp_path / "p.toml", *first[:-1], "--for", tmp_path / file, "--into", tmp_path / "out.csv", "--replace")
        assert len(pd.read_csv(tmp_path / "out.csv")) == rows


def test_columns_called_alike_but_for_the_occasion_are_told_with_the_step():
    frame = wide().rename(columns={"p1": "pitch_pre", "p2": "pitch_post", "m1": "item_1", "m2": "item_2", "v1": "pre_voice", "v2": "post_voice"})
    (told,) = mb.Study(frame).remarks()[""]
    assert "`pitch_pre`, `pitch_post`, `pre_voice` and `post_voice` are called alike but for the occasion" in told.text
    made = mb.Study(frame).prepare(told.mend)
    assert (made.rows, made["occasion"].labels, {"pitch", "voice", "item_1"} <= set(made.columns)) == (120, ["pre", "post"], True)
    assert "" not in mb.Study(frame.drop(columns=["pitch_post", "post_voice"])).remarks()
