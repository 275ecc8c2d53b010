"""Columns, kinds, missing answers, levels and bases."""

import datetime
import statistics

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from markbase.core.study.exact_sums import find_totals
from markbase.demo import generate


def test_the_demo_data_are_what_the_generator_makes(tmp_path):
    generate.write(tmp_path)
    for name in ("choirs.csv", "choir_terms.csv"):
        assert (tmp_path / name).read_bytes() == mb.demo.path(name).read_bytes()
    assert mb.demo.choir_terms().rows == 24 * 8 - 1


def test_overview_of_the_demo_has_its_numbers_and_what_is_mended_is_not_remarked_on():
    study = mb.demo.choirs()
    table = study.overview().set_index("column")
    assert table.loc["age", ["rows", "missing", "blank", "coded"]].tolist() == [1960, 43, 31, 12]
    assert "`tennor` in 6 rows: misspelt for `tenor`?" in table.loc["voice", "remarks"]
    source = pd.read_csv(mb.demo.path("choirs.csv"))
    ages = source["age"][source["age"] > 0]
    wanted = [ages.mean(), ages.std(), ages.median()]
    assert table.loc["age", ["mean", "sd", "median"]].tolist() == pytest.approx(wanted)
    mended = study.merge_levels("voice", {"tenor": ["tennor"]})
    assert not any("misspelt" in remark.text for remark in mended.remarks().get("voice", []))
    assert table.loc["age", "skew"] == pytest.approx(((ages - ages.mean()) ** 3).mean() / ages.std(ddof=0) ** 3)


@pytest.mark.parametrize(
    "levels",
    [
        ["0-10", "11-25", "26-100", "101-200", ">500"],
        ["<18", "18-24", "25-34", "100+"],
        ["under 1,000", "1,000-9,999", "10,000 and more"],
        ["grade 2", "grade 10", "grade 11"],
        ["a", "B", "c"],
        ["none", "Type 2", "Type 10"],
        ["0.5 to 1.5", "1.5 to 10"],
        ["900 to 999", "1,000-9,999"],
        ["ca. 5", "10 to 20", "more than 30"],
        ["Strongly disagree", "Disagree", "Neither", "Agree", "Strongly agree", "N/A"],
        "disagree completely|disagree somewhat|neither agree nor disagree|agree somewhat|agree completely".split("|"),
        ["Never", "Rarely", "Sometimes", "Often", "Always", "Don’t know"],
        ["very unlikely", "unlikely", "likely", "very likely"],
        ["bad", "fair", "good"],
        ["Agree", "Daily", "Disagree"],  # no scale
        ["18-24", "25-34", "65+", "Prefer not to say"],
        ["No", "Yes", "refused"],
    ],
)
def test_levels_stand_in_the_order_people_give_them(levels, tmp_path):
    rows = [*reversed(levels), *levels[1:2] * 5]
    pd.DataFrame({"c": rows}).to_csv(tmp_path / "c.csv", index=False)
    for in_parts in (False, True):
        study = mb.open_study(tmp_path / "c.csv", in_parts=in_parts)
        assert [level.label for level in study["c"].levels] == levels
    assert study["c"].levels[study["c"].base.level].label == levels[1]


def test_the_codebook_decides_and_missing_codes_keep_their_meaning():
    frame = pd.DataFrame({"day": [1, 2, -9, 2, 7], "x": ["1", "-9", "", "-8.0", "4"]})
    book = {
        "columns": {
            "day": {"levels": {"1": "Mon", "2": "Tue", "3": "Wed"}, "missing": {"-9": "no answer"}, "base": "Tue"},
            "x": {"kind": "numeric", "missing": {-9: "no answer", -8: "not asked"}, "unit": ["hour", "hours"]},
        }
    }
    study = mb.Study(frame, book)
    table = study.levels("day").set_index("level")
    assert table["count"].to_dict() == {"Mon": 1, "Tue": 2, "Wed": 0, "7": 1, "no answer (-9)": 1}
    assert table["base"].to_dict()["Tue"]
    assert table.loc["7", "remarks"].startswith("not in the codebook")
    assert study["x"].missing_counts() == [("blank", 1), ("no answer (-9)", 1), ("not asked (-8)", 1)]
    assert study["x"].values[[0, 4]].tolist() == [1.0, 4.0]
    everywhere = mb.Study(frame, missing=[-9])
    assert [everywhere[c].valid for c in ("day", "x")] == [4, 3]


def test_numbers_are_read_to_the_last_bit(tmp_path):
    values = np.random.default_rng(2).normal(size=200) * 10.0 ** np.arange(-100, 100)
    path = tmp_path / "bits.csv"
    path.write_text("x,y\n" + "".join(f"{v!r},1\n" for v in values.tolist()))
    np.testing.assert_array_equal(mb.open_study(path)["x"].values, values)


@pytest.mark.parametrize(("by", "level"), [("largest", "b"), ("smallest", "c"), ("first", "a"), ("last", "c")])
def test_bases_by_rule_and_by_name(by, level):
    frame = pd.DataFrame({"g": ["a"] * 40 + ["b"] * 50 + ["c"] * 35})
    study = mb.Study(frame)
    marked = study.mark("g", by=by, reason="agreed beforehand")
    assert marked.levels("g").set_index("base").loc[True, "level"] == level
    assert f"Marked `{level}` as the base of `g`" in marked.trail.steps[-1].text
    assert marked.trail.steps[-1].reason == "agreed beforehand"
    assert (len(study.trail), len(marked.trail)) == (1, 2)
    assert study.mark("g", level)["g"].base.level == marked["g"].base.level
    assert not study["g"].base.chosen


def test_categories_keep_their_order_and_only_numbers_are_totals():
    frame = pd.DataFrame({"size": pd.Categorical(["s", "m", "l", "m"], ["s", "m", "l"], ordered=True)})
    frame["a"], frame["b"] = [0.1, 0.2, 0.3, 0.7], [0.2, 0.1, 0.9, 0.4]
    frame["total"] = frame["a"] + frame["b"]
    study = mb.Study(frame)
    assert study["size"].kind == "ordinal"
    assert study.levels("size")["level"].tolist() == ["s", "m", "l"]
    many = mb.Study(pd.concat([frame] * 30, ignore_index=True).assign(w=np.arange(120) % 11))
    assert "exact total of `a` and `b`" in " ".join(r.text for r in many.remarks()["total"])


BAD_CODEBOOKS = [
    ({"column": {}}, "unknown key `column`. Did you mean `columns`"),
    ({"columns": {"v": {"kind": "grup"}}}, "`kind` is 'grup'; it can be `categorical`, `numeric` or `ordinal`"),
    ({"columns": {"v": {"knd": "categorical"}}}, "unknown key `knd`. Did you mean `kind`"),
    ({"columns": {"v": {"kind": "numeric", "levels": ["a"]}}}, "a numeric column has no levels"),
    ({"columns": {"v": {"levels": {"1": "a", "2": "a"}}}}, "label `a` is given to two levels"),
    ({"columns": {"v": {"levels": ["a", "-9"], "missing": [-9]}}}, "`-9` is both a level and a missing code"),
    ({"columns": {"v": {"levels": ["alto", "bass"], "base": "altos"}}}, "base `altos` is not among the levels"),
    ({"columns": {"v": {"unit": 3}}}, "`unit` must be a text"),
    ({"columns": {"voices": {}}}, "describes `voices`, which data does not have. There is `v`"),
    ({"columns": {"v": "categorical"}}, "expected a table with keys"),
    ({"columns": {"v": {"base": "z"}}}, "`v` has no level `z`"),
]


@pytest.mark.parametrize(("book", "told"), BAD_CODEBOOKS)
def test_a_codebook_that_contradicts_itself_is_refused(book, told):
    with pytest.raises(mb.MarkbaseError, match=told.replace("(", "\\(")):
        mb.Study(pd.DataFrame({"v": ["a", "b"]}), book)


CALLS = [
    (lambda s: s.mark("voice", "altos"), mb.LevelError, "`voice` has no level `altos`. Did you mean `alto`"),
    (lambda s: s.mark("voice"), mb.LevelError, "neither is given"),
    (lambda s: s.mark("voice", by="biggest"), mb.LevelError, "no rule .* `last`, `lowest_mean` and `smallest`"),
    (lambda s: s.mark("age", by="largest"), mb.ColumnError, "is numeric and has no levels"),
    (lambda s: s.levels("age"), mb.ColumnError, "`values` describes it"),
    (lambda s: s.values("voice"), mb.ColumnError, "`levels` counts them"),
    (pd.DataFrame, mb.MarkbaseError, r"its rows \(`study.frame\(\)`\)"),
    (lambda s: s["voise"], mb.ColumnError, "no column `voise`. Did you mean `voice`"),
    (lambda s: mb.fit_linear(s, "belonging", "age"), mb.MarkbaseError, r"a list of terms .*; for instance \['age'\]"),
    (lambda s: mb.fit_linear(s, "belonging", "age + voice"), mb.MarkbaseError, r"for instance \['age', 'voice'\]"),
    (lambda s: mb.fit_linear(s, "belonging", ["age + voice"]), mb.ColumnError, "give `age` and `voice` as terms"),
    (lambda s: mb.fit_linear(s, "belonging", ["age"]).predict({"age": np.array([20, 30])}), mb.MarkbaseError, "a list of"),
    (lambda s: mb.fit_linear(s, "belonging", []), mb.FitError, "at least one term"),
    (lambda _: mb.Study([1, 2]), mb.MarkbaseError, "not of a list; make one of it, for instance with `pandas.DataFrame`"),
    (lambda _: mb.Study("choirs.csv"), mb.MarkbaseError, "not of a str; `open_study` opens a file"),
    (lambda _: mb.open_study(["a.csv", "b.csv"]), mb.MarkbaseError, "several files are a folder, or a pattern of their names"),
]


@pytest.mark.parametrize(("call", "kind", "told"), CALLS)
def test_mistakes_in_python_are_one_clear_sentence(call, kind, told):
    with pytest.raises(kind, match=told) as caught:
        call(mb.demo.choirs())
    assert "\n" not in str(caught.value)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("made", [np.array, pd.Index, pd.Series])
def test_an_array_of_names_or_values_is_taken_as_a_list(made):
    study, names = mb.demo.choirs(), ["age", "voice"]
    fit = mb.fit_linear(study, "belonging", made(names))
    assert fit.equation() == mb.fit_linear(study, "belonging", names).equation()
    assert mb.fit_blocks(study, "belonging", {"all": made(names)}).fits[-1].equation() == fit.equation()
    assert study.blank("age", codes=made([20.0])).derive("both", sum=made(["age", "concerts"]))["both"].valid
    assert study.keep({"age": {"above": np.int64(30)}}).rows == np.sum(study["age"].values > 30)
    profile = study.frame().loc[0, names]  # a row of a table
    assert fit.predict(profile)["predicted"][0] == fit.predict([dict(profile)])["predicted"][0]


def test_remarks_point_at_the_callers_line():
    with pytest.warns(mb.MarkbaseWarning, match="only 19 rows") as caught:
        mb.demo.choirs().mark("joined_through", "festival")
    assert caught[0].filename == __file__


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["polars", "arrow", "duckdb"])
def test_a_table_of_any_package_is_fitted_and_screened_as_it_comes(kind):
    frame = mb.demo.choirs().frame()[["belonging", "age", "voice", "stays"]].astype({"voice": object, "stays": object})
    if kind == "duckdb":
        table = pytest.importorskip("duckdb").sql("select * from frame")
    else:
        arrow = pytest.importorskip("pyarrow").Table.from_pandas(frame)
        table = arrow if kind == "arrow" else pytest.importorskip("polars").from_arrow(arrow)
    for call in (
        lambda t: mb.fit_linear(t, "belonging", ["age", "voice"]).coefficients,
        lambda t: mb.fit_logistic(t, "stays", ["age", "voice"], event="yes").coefficients,
        lambda t: mb.fit_blocks(t, "belonging", {"a": ["age"], "b": ["voice"]}).steps,
        lambda t: mb.screen(t, ["age", "voice"], "belonging").vif,
    ):
        pd.testing.assert_frame_equal(call(table), call(mb.Study(frame)))
    assert mb.Study(table)._ipython_key_completions_() == ["belonging", "age", "voice", "stays"]
    for wrong in (3, "choirs.csv", {"age": [1]}):
        with pytest.raises(mb.MarkbaseError, match="`study` of `fit_linear` is a study or a table"):
            mb.fit_linear(wrong, "belonging", ["age"])


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_moments_and_durations_are_told_alike_whatever_holds_them():
    pa, polars = pytest.importorskip("pyarrow"), pytest.importorskip("polars")
    moment = datetime.datetime(2020, 1, 31)
    arrow = pa.table(
        {
            "sang": [datetime.timedelta(seconds=90 * k, milliseconds=250) for k in range(6)],
            "came": [moment + datetime.timedelta(hours=12 * (k % 2), microseconds=500_000 * (k % 3)) for k in range(6)],
            "at": [datetime.time(9 + k % 2, 0, k % 3) for k in range(6)],
            "part": [b"alto", "ténor".encode()] * 3,
        }
    )
    objects = arrow.to_pandas().assign(sang=pd.Series(arrow["sang"].to_pylist(), dtype=object))
    typed = arrow.to_pandas(types_mapper=pd.ArrowDtype)
    for table in (objects, arrow, arrow.to_pandas(), typed, polars.from_arrow(arrow)):
        study = mb.Study(table, {"columns": {"came": {"base": "2020-01-31"}}})
        assert study["sang"].values.tolist() == [90 * k + 0.25 for k in range(6)]
        assert (study["sang"].kind, study["sang"].unit.many) == ("numeric", "seconds")
        assert [v.label for v in study["came"].levels][:2] == ["2020-01-31", "2020-01-31T00:00:00.5"]
        assert {v.label for v in study["at"].levels} == {f"{9 + k % 2:02}:00:0{k % 3}" for k in range(6)}
        assert [v.label for v in study["part"].levels] == ["alto", "ténor"]
    with pytest.raises(mb.ColumnError, match=r"`z` holds values that are neither numbers nor texts \(complex\)"):
        mb.Study(pd.DataFrame({"z": [1j, 2.0]}))
    declared = mb.Study(arrow, {"columns": {"sang": {"kind": "categorical"}}})["sang"]
    assert (declared.unit, declared.levels[0].label) == (None, "0.25")


@settings(max_examples=30)
@given(seed=st.integers(0, 10**6), size=st.sampled_from([(1.0, 0.0), (1.0, 1e4), (1e-6, 0.0), (1e9, 1e4)]))
def test_totals_that_do_not_share_parts_are_all_found_whatever_their_order(seed, size):
    rng = np.random.default_rng(seed)
    data = pd.DataFrame({name: size[0] * rng.integers(0, 50, 80) for name in "abcdefgh"}).astype(float) + size[1]
    data["two"], data["three"] = data["a"] + data["b"], data["c"] + data["d"] + data["e"]
    data["again"] = data["f"]
    data = data[rng.permutation(data.columns)]
    study = mb.Study(data, {"columns": {name: {"kind": "numeric"} for name in data}})
    found = find_totals([study[name] for name in data])
    later = max("f", "again", key=list(data).index)
    told = {total: set(parts) for total, parts in found.items()}
    assert told == {"two": {"a", "b"}, "three": {"c", "d", "e"}, later: {"f", "again"} - {later}}
    assert not find_totals([study[name] for name in data if name not in ("two", "three", later)])


@pytest.mark.parametrize("in_parts", [False, True])
def test_codes_of_more_digits_than_a_number_has_are_never_put_together(tmp_path, in_parts):
    codes = [2**53 + k // 2 for k in range(200)]
    pd.DataFrame({"id": codes, "x": range(200)}).to_csv(tmp_path / "ids.csv", index=False)
    study = mb.open_study(tmp_path / "ids.csv", in_parts=in_parts)
    assert "numbers beyond 2^53, whose last digits are lost" in str(study)
    with pytest.raises(mb.ColumnError, match="Declare it categorical in the codebook"):
        study.as_categorical("id")
    book = {"columns": {"id": {"kind": "categorical"}}}
    told = mb.open_study(tmp_path / "ids.csv", book, in_parts=in_parts)
    assert [level.code for level in told["id"].levels] == [str(code) for code in sorted(set(codes))]
    assert "beyond 2^53" not in str(told)
    assert study.derive(name="less", difference=["x", "id"])["less"].has_lost_digits
    assert not study["x"].has_lost_digits


def test_truth_values_are_levels_of_one_name_with_gaps_or_without():
    truth = [k % 3 == 0 for k in range(90)]
    gaps = [None if k % 7 == 0 else v for k, v in enumerate(truth)]
    for values in (truth, gaps, pd.array(gaps, dtype="boolean"), pd.Categorical(gaps)):
        study = mb.Study(pd.DataFrame({"b": values, "x": [k * k % 31 for k in range(90)]}))
        assert [level.label for level in study["b"].levels] == ["False", "True"]
        fit = mb.fit_logistic(study, "b", ["x"], event=True)
        assert fit.events == sum(truth if values is truth else map(bool, gaps))


def test_blanks_around_declared_categories_are_read_away_as_around_texts(tmp_path):
    texts = ["a", "a ", "b", " "] * 10
    pd.DataFrame({"g": pd.Categorical(texts, ["b", "a ", " ", "a"], ordered=True)}).to_parquet(tmp_path / "g.parquet")
    for study in (mb.Study(pd.read_parquet(tmp_path / "g.parquet")), mb.open_study(tmp_path / "g.parquet"), mb.open_study(tmp_path / "g.parquet", in_parts=True)):  # fmt: skip
        assert (study["g"].kind, [v.label for v in study["g"].levels]) == ("ordinal", ["b", "a"])
        assert (list(study["g"].counts), study["g"].valid) == ([10, 20], 30)
        assert study["g"].notes == ("blanks around the text read away in 10 rows",)


def test_the_missing_value_of_pandas_is_missing_also_where_it_comes_first():
    texts = [pd.NA, None, "a", "b", pd.NA, "a"]
    for values in (pd.Series(texts, dtype=object), pd.array(texts, dtype="string"), pd.array(texts, dtype="string[pyarrow]")):
        column = mb.Study(pd.DataFrame({"g": values}))["g"]
        assert (column.kind, column.valid, [v.label for v in column.levels]) == ("categorical", 3, ["a", "b"])
    numbers = mb.Study(pd.DataFrame({"n": pd.Series([pd.NA, 2, 3.5], dtype=object)}))["n"]
    assert (numbers.kind, numbers.valid) == ("numeric", 2)


@pytest.mark.parametrize("in_parts", [False, True])
def test_a_column_of_nothing_but_codes_for_missing_answers_is_no_group(tmp_path, in_parts):
    pd.DataFrame({"c": [-9] * 20, "d": [None] * 20, "x": range(20)}).to_csv(tmp_path / "codes.csv", index=False)
    study = mb.open_study(tmp_path / "codes.csv", missing=[-9], in_parts=in_parts)
    assert [(study[name].kind, study[name].valid) for name in ("c", "d")] == [("numeric", 0)] * 2


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("in_parts", [False, True])
@pytest.mark.parametrize("numbers", [[1, 2], [1, 2, 4, 8], [1e14 + k % 3 for k in range(700)], [0.5] * 3 + [2.5] * 4, [np.nan] * 3, [1.0, np.inf]])
def test_a_numeric_column_is_described_by_definition(tmp_path, numbers, in_parts):
    pd.DataFrame({"x": np.array(numbers, dtype=float), "y": 1.5}).to_parquet(tmp_path / "t.parquet")
    found = mb.open_study(tmp_path / "t.parquet", in_parts=in_parts).values("x").set_index("measure")["value"]
    here = [v for v in numbers if v == v]
    assert (found["rows"], found.get("missing: blank", 0)) == (len(here), len(numbers) - len(here))
    if not np.isfinite(here).all() or not here:
        assert found[["mean", "low", "median", "high"]].isna().all()
        assert "lower quartile" not in found
        return
    shares = {"low": 0, "lower quartile": 0.25, "median": 0.5, "upper quartile": 0.75, "high": 1}
    for name, share in shares.items():
        assert found[name] == pytest.approx(float(np.quantile(here, share)), rel=1e-15)
    assert list(found.index)[4:9] == list(shares)
    assert (found["mean"], found["sd"]) == pytest.approx((statistics.mean(here), statistics.stdev(here)), rel=1e-14)


def test_levels_of_an_identifier_are_nobodys_groups():
    study = mb.Study(pd.DataFrame({"who": [f"P{k}" for k in range(40)] * 2})).as_role("who", "identifier")
    assert set(study.levels("who")["remarks"]) == {""}
    assert "base: " in study.as_role("who", None).levels("who")["remarks"].iloc[0]
