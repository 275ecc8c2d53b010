"""Columns calculated by an expression, and groups of conditions: held against the same arithmetic, and the same logic, row by row."""

import json
import operator
import re

import mpmath as mp
import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from command import run
from markbase.core.study.derived_values import changing_with, derivatives_of, value_of
from markbase.core.study.expressions import read

ROWS = pd.DataFrame({"a": [1.25, 2.5, np.nan, 4.0, 3.0, 2.0], "b c": [2.0, 3.5, 1.5, np.nan, 3.0, 0.0], "d": [-1.5, 0.0, 2.25, 3.0, -3.0, 2.0]})
NAMES, SIGNS = ("a", "'b c'", "d"), {"+": "+", "-": "−", "*": "×", "/": "/", "^": "^"}
FUNCTIONS = {"abs": abs, "cube_root": lambda x: mp.sign(x) * mp.cbrt(abs(x)), "max": max, "min": min, "+": operator.add, "-": operator.sub, "*": operator.mul,
             "/": operator.truediv, "^": operator.pow, "neg": operator.neg}  # fmt: skip
leaves = st.sampled_from([*NAMES, "2", "0.5", "3"])
trees = st.recursive(leaves, lambda own: st.one_of(
    st.tuples(st.sampled_from("+-*/"), own, own), st.tuples(st.just("^"), own, st.sampled_from(["2", "3"])), st.tuples(st.just("neg"), own),
    st.tuples(st.sampled_from(["abs", "cube_root"]), own), st.tuples(st.sampled_from(["max", "min"]), own, own)), max_leaves=7)  # fmt: skip


def written(tree):
    what, *of = (tree,) if isinstance(tree, str) else tree
    parts = [written(own) for own in of]
    return (
        what
        if not of
        else f"(-{parts[0]})"
        if what == "neg"
        else f"({parts[0]} {SIGNS[what]}{parts[1]})"
        if what in SIGNS
        else f"{what}({', '.join(parts)})"
    )


def by_hand(tree, row):
    """The value at 50 digits; None where a column is missing or it divides by 0."""
    if isinstance(tree, str):
        value = mp.mpf(row.get(tree, tree))
        return None if mp.isnan(value) else value
    of = [by_hand(own, row) for own in tree[1:]]
    return None if None in of or (tree[0] == "/" and of[1] == 0) else FUNCTIONS[tree[0]](*of)


def names_of(tree):
    return {tree} & {*NAMES} if isinstance(tree, str) else set().union(*map(names_of, tree[1:]))


@pytest.mark.filterwarnings("ignore")
@settings(max_examples=120, deadline=None)
@given(trees.filter(names_of))
def test_an_expression_is_what_its_arithmetic_gives_row_by_row_with_its_slopes(tree):
    with mp.workdps(50):
        rows = [dict(zip(NAMES, own, strict=True)) for own in ROWS.itertuples(index=False)]
        wanted = [None if any(np.isnan(row[name]) for name in names_of(tree)) else by_hand(tree, row) for row in rows]
        new = mb.Study(ROWS).calculate("new", written(tree))["new"]
        assert new.values.tolist() == pytest.approx([np.nan if v is None else float(v) for v in wanted], rel=1e-12, abs=1e-11, nan_ok=True)
        assert new.reasons().astype(bool).tolist() == [v is None for v in wanted]
        if new.made.how != "calculation":
            return
        assert read(new.made.expression) == read(written(tree))  # it is written so that it says the same
        inside, h = [f"'{name}'" if " " in name else name for name in new.made.of], mp.mpf(10) ** -20
        for at in ({"a": 1.375, "'b c'": 2.625, "d": -0.625}, {"a": 3.3125, "'b c'": 0.875, "d": 4.1875}):
            if (value := by_hand(tree, at)) is None:
                continue
            assert value_of(new.made, [np.array([at[n]]) for n in inside])[0] == pytest.approx(float(value), rel=1e-12, abs=1e-11)
            for k, name in enumerate(inside):
                ends = [by_hand(tree, {**at, name: at[name] + sign * h}) for sign in (1, -1)]
                if None in ends or abs(ends[0] + ends[1] - 2 * value) > 1e-30:  # a corner
                    continue
                slope = float((ends[0] - ends[1]) / (2 * h))
                for other in {name} | ({*inside} - {f"'{n}'" if " " in n else n for n in changing_with(new.made, new.made.of[k])}):
                    moved = [np.array([at[n] * 1.0625 + 0.03125 if n == other != name else at[n]]) for n in inside]
                    assert np.broadcast_to(derivatives_of(new.made, moved)[k], 1)[0] == pytest.approx(slope, rel=1e-9, abs=1e-9)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize(("expression", "how", "settings"), [
    ("log(a)", "log", {"log": "a"}), ("ln(1 + e)", "log1p", {"log1p": "e"}), ("log1p(e)", "log1p", {"log1p": "e"}), ("sqrt(e)", "sqrt", {"sqrt": "e"}),
    ("a * e", "product", {"product": ["a", "e"]}), ("a/e", "ratio", {"ratio": ["a", "e"]}), ("a-e", "difference", {"difference": ["a", "e"]}),
    ("1/a", "reciprocal", {"reciprocal": "a"}), ("e + a + d", "sum", {"sum": ["e", "a", "d"]}), ("(a+(d+e))/3", "mean", {"mean": ["a", "d", "e"]}),
    ("d^2", "square", {"square": "d"}), ("d * d", "square", {"square": "d"}),
])  # fmt: skip
def test_one_step_of_derive_is_that_step_however_it_is_written(expression, how, settings):
    study = mb.Study(ROWS.assign(e=[1.0, 2, 3, 0, 5, 6]))
    found, wanted = study.calculate("n", expression)["n"], study.derive("n", **settings)["n"]
    assert (found.made.how, found.made.of, found.label) == (how, wanted.made.of, wanted.label)
    np.testing.assert_array_equal(found.values, wanted.values)


def test_halves_are_rounded_away_from_0_and_steps_have_no_slope():
    study = mb.Study(pd.DataFrame({"x": [2.5, -2.5, 0.49999999999999994, 7.2, -0.5]}))
    assert study.calculate("n", "round(x)")["n"].values.tolist() == [3, -3, 0, 7, -1]
    assert study.calculate("n", "log10(10^x × 10) – 1")["n"].values == pytest.approx(study["x"].values)
    assert study.calculate("n", "-x^2 + 2^-1 + (-2)^2")["n"].values == pytest.approx(4.5 - study["x"].values ** 2)
    assert study.calculate("n", "log(12 + x)")["n"].made.how == "log"
    odd = mb.Study(pd.DataFrame({"singer's": [1.0, 2], 'a "b"': [3.0, 5]})).calculate("n", "2 * `singer's` - 'a \"b\"' / 4")["n"]
    assert odd.made.expression == '2 * "singer\'s" - \'a "b"\' / 4'
    assert value_of(odd.made, [1.0, 3.0]) == 1.25
    assert derivatives_of(study.calculate("n", "floor(x) + x")["n"].made, [np.ones(1)]) is None
    for told, expression, left in [("too large a number", "exp(100 * x)", 4), ("`(x - 2.5)^2` is 0", "1 / (x - 2.5)^2 + x / (x - 2.5)", 4),
                                   ("`x - 2.5` is 0", "2 * (x - 2.5)^-1", 4), ("`(x + 0.5)^2` is 0", "log(1 / (x + 0.5)^2)", 4)]:  # fmt: skip
        with pytest.warns(mb.MarkbaseWarning, match="1 row .*left missing"):
            assert (new := study.calculate("n", expression)["n"]).missing_counts() == [(told, 1)]
        assert new.valid == left


@pytest.mark.parametrize(("expression", "differs"), [
    ("log10(x) * y", "xy"), ("log2(x) + y", "x"), ("log1p(x) * 2", "x"), ("2^(x / 3)", "x"), ("x^y", "xy"), ("x / y * 2", "y"), ("2 * x + 3", ""), ("(x + y) / 2 * x", "xy"),
    ("y / x + 1", "xy"), ("(-2)^2 * x", ""), ("(x + x) / 2", ""), ("log(2 + x) + y", "x"), ("sqrt(x) + exp(y)", "x"), ("(x - y) / 3 - 1", ""), ("max(x, y, 3)", "xy"), ("x^3 + 1 * y", "x"), ("1 / x + y", "x"),
])  # fmt: skip
def test_slopes_are_those_of_the_expression_and_differ_by_what_is_in_them(expression, differs):
    made = mb.Study(pd.DataFrame({"x": [1.5, 2.0, 4.0], "y": [2.5, 3.5, 1.5]})).calculate("n", expression)["n"].made
    at = [np.array([1.25, 5.0]), np.array([2.75, 3.25])][: len(made.of)]
    up, down = (value_of(made, [own + d * (k == 0) for k, own in enumerate(at)]) for d in (1e-6, -1e-6))
    np.testing.assert_allclose(np.broadcast_to(derivatives_of(made, at)[0], 2), (up - down) / 2e-6, rtol=1e-7)
    assert set(changing_with(made, made.of[0])) == ({*differs} if expression[:4] != "y / " else {"x"})
    if made.how == "calculation":
        assert read(read(expression).shown) == read(expression)


@pytest.mark.parametrize(("expression", "told"), [
    ("a + f", "no column `f`"), ("2 * 3", "names no column"), ("a b", "signs stand between"), ("1,5 * a", "decimal point"), ("a > 3", "`classify` makes a group"),
    ("g * 2", "`g` is categorical, so `calculate` is refused"), ("lg(a)", "no function `lg`. There are `abs`"), ("sqrt(a, d)", "takes one number"),
    ("log(d - 3)", "natural logarithm of `d - 3` needs values above 0"), ("sqrt(d)", "needs values 0 or more"), ("log(a) + log2(d - 3)", "needs `d - 3` to be above 0, and in 5 rows it is not (the lowest is −6)"),
    ("(d - 9)^0.5 * a", "0 or more, or a power that is whole, and in 5 rows"), ("(a", "brackets that close"), ("2a", "begins with a digit stands between quotes"),
    ("a % 2", "from `% 2` on: columns with such signs"), ("9e999 * a", "too large, 9e999"), ("a" * 2001, "at most 2,000 letters"), ("-" * 300 + "a", "levels of arithmetic"),
    ("__import__('os')", "no function `__import__`"), ("a.real()", "no function `a.real`"), ("[a]", "from `[a]` on"), ("", "cannot be read as arithmetic"), (3, "`expression` of `calculate` is a text, not 3"),
    ({}, "Say which rows have which level"), ({"x": {}}, "The conditions of “x” are columns with tests"), ({"x": "g"}, "are columns with tests"), ({"z": {"g": "x"}}, "a label of its own"),
    ({"x": {"h": "x"}}, "no column `h`"), ({"x": {"g": "xx"}}, "no level `xx`"), ({"x": {"a": {"over": 3}}}, "`over` is no test"), ({3: {"a": {"above": "x"}}}, "`above` for `a` is a number"),
])  # fmt: skip
def test_expressions_and_conditions_that_cannot_be_are_refused_in_words(expression, told):
    study = mb.Study(ROWS.assign(g=list("xyxyxy")))
    with pytest.raises(mb.MarkbaseError, match=re.escape(told)):
        study.classify("new", expression, otherwise="z") if isinstance(expression, dict) else study.calculate("new", expression)


LEVELS = {
    "single parent": {"partner": "no", "children": {"at_least": 1}},
    "three": [{"children": 3}, {"partner": "yes", "age": {"below": 30}}],
    "asked": {"age": {"present": True, "at_most": 60}},
}


def whole(study):
    return pd.concat([part.frame() for part in study.parts()], ignore_index=True)


WAYS = {"at_least": operator.ge, "at_most": operator.le, "below": operator.lt, "is": operator.eq, "present": lambda *_: True}


def passes(value, tests):
    """Whether a value passes tests: True, False, or None where a gap leaves it open."""
    tests = tests if isinstance(tests, dict) else {"is": tests}
    return all(WAYS[test](value, wanted) for test, wanted in tests.items()) if not pd.isna(value) else False if "present" in tests else None


def rule(own, row):
    if isinstance(own, list):
        each = [rule(one, row) for one in own]
        return True if True in each else None if None in each else False
    each = [passes(row[name], tests) for name, tests in own.items()]
    return False if False in each else None if None in each else True


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("otherwise", ["rest", None])
def test_a_row_has_the_first_level_it_meets_and_none_where_a_gap_leaves_that_open(otherwise, tmp_path, small_parts):  # noqa: ARG001
    rng, values = np.random.default_rng(3), {"partner": ["yes", "no", None], "children": [0, 1, 2, 3, np.nan], "age": [25, 45, -9, np.nan]}
    frame = pd.DataFrame({name: rng.choice(own, 900) for name, own in values.items()})
    frame.to_parquet(tmp_path / "homes.parquet")
    raw, frame = frame, frame.replace({"age": {-9: np.nan}})
    found = [[(label, met) for label, own in LEVELS.items() if (met := rule(own, row)) is not False] for row in frame.to_dict("records")]
    wanted = [own[0][0] if own and own[0][1] else "?" if own else otherwise for own in found]
    with pytest.warns(mb.MarkbaseWarning, match="thin: “few” .1."):
        mb.Study(frame.head(9).assign(k=range(9))).classify("n", {"few": {"k": 3}, "none": {"k": 99}})
    for study in (mb.Study(raw), mb.open_study(tmp_path / "homes.parquet", in_parts=True)):
        made = study.as_numeric("children").as_numeric("age").blank("age", {-9: "refused"}).classify("home", LEVELS, otherwise=otherwise)
        told = whole(made)["home"]
        assert [v if isinstance(v, str) else None for v in told] == [None if v == "?" else v for v in wanted]
        table = made.check("home").table.set_index("level")["rows"]
        assert {k: table[k] for k in LEVELS} == {k: wanted.count(k) for k in LEVELS}
        several = sum(sum(met is True for _, met in own) > 1 for own in found)
        assert f"{several} rows meet the conditions of several levels, and have the first" in made.trail.steps[-1].text
        why = dict(made["home"].missing_counts())
        assert 0 < why["refused (-9)"] < sum(why.values())
        assert why.get("no level of `home`", 0) == (wanted.count(None) if otherwise is None else 0)
        assert sum(why.values()) == wanted.count("?") + wanted.count(None)
        ratio = made.calculate("n", "age / (children - 1) + log(age)")
        np.testing.assert_allclose(whole(ratio)["n"], (frame["age"] / (frame["children"] - 1).replace(0, np.nan) + np.log(frame["age"])), rtol=1e-13)
        assert ("`children - 1` is 0", int(((frame["children"] == 1) & frame["age"].notna()).sum())) in ratio["n"].missing_counts()


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_a_calculated_column_is_followed_by_fits_plans_and_saved_fits(tmp_path):
    study = mb.demo.choirs().calculate("hinge", "max(age - 50, 0)").calculate("trips", "log(travel_km * rehearsals / 10 + 1)")
    assert study["trips"].made.of == ("travel_km * rehearsals / 10",)
    fit = mb.fit_linear(study, "belonging", ["age", "hinge", "trips"])
    b = fit.coefficients.set_index("term")["estimate"]
    slopes = fit.simple_slopes("age", at={"age": [40, 60]})["slope"]
    assert slopes.tolist() == pytest.approx([b["age"], b["age"] + b["hinge"]], rel=1e-9)
    profile = {"age": 60, "travel_km": 8, "rehearsals": 10}
    wanted = b["(intercept)"] + 60 * b["age"] + 10 * b["hinge"] + np.log(9) * b["trips"]
    mb.write_fit(fit, tmp_path / "fit.json")
    for own in (fit, mb.read_fit(tmp_path / "fit.json")):
        assert own.predict(profile)["predicted"].tolist() == pytest.approx([wanted], rel=1e-10)
    known = fit.predict(pd.DataFrame([{"trips": 2.0, "travel_km": 5.0, "rehearsals": 3.0, "hinge": 0.0}]))  # of which travel_km says nothing more
    assert known.iloc[0, :3].tolist() == [2.0, 0.0, fit.predict({"trips": 2, "hinge": 0})["predicted"].iloc[0]]
    assert "travel_km" not in fit.predict(pd.DataFrame([{"age": 60.0, "travel_km": 5.0}]))
    renamed = study.mark("voice", by="lowest_mean", of="belonging").rename({"age": "years", "belonging": "at home", "rehearsals": "r"})
    other = mb.fit_linear(renamed, "at home", ["years", "hinge", "trips", "voice"])
    table = other.coefficients.set_index("term")["estimate"]
    assert other.simple_slopes("years", at={"years": [40, 60]})["slope"].tolist() == pytest.approx([table["years"], table["years"] + table["hinge"]])
    assert other.predict({"years": 60, "travel_km": 8, "r": 10})["predicted"].iloc[0] == pytest.approx(
        other.predict({"years": 60, "trips": np.log(9)})["predicted"].iloc[0]
    )
    assert other.slope_depends_on("years") == ["years"]
    assert "chosen by looking at the outcome" in " ".join(str(other).split())
    refused = [({"travel_km": 8}, "made of `travel_km` and `rehearsals`: a profile that gives `travel_km` gives `rehearsals` too"), ({**profile, "trips": 2}, "and not both"),
               ({**profile, "travel_km": -9}, "is not defined at `travel_km` = -9"), ({**profile, "travel_km": "far"}, "'far' in a profile is no number"), ({"km": 3}, "no column `km`")]  # fmt: skip
    for own, told in refused:
        with pytest.raises(mb.MarkbaseError, match=told):
            fit.predict(own)
    page = " ".join(run("predict", tmp_path / "fit.json", "--profile", "travel_km=8, rehearsals=10").stdout.split())
    assert re.search("rehearsals 10 .*trips, which was made of travel_km and rehearsals not given age and hinge: as", page)
    record = json.loads((tmp_path / "fit.json").read_text())
    record["variables"]["hinge"]["column"]["made"]["expression"] = "max(age - 50, travel_km"
    (tmp_path / "fit.json").write_text(json.dumps(record))
    with pytest.raises(mb.FileError, match="not as it was written"):
        mb.read_fit(tmp_path / "fit.json")


def test_the_command_calculates_and_writes_it_into_a_plan(tmp_path):
    (tmp_path / "d.csv").write_text("score,body weight,cm\n1,60,160\n2,70,170\n4,80,180\n3,75,181\n6,91,179\n")
    options = ["--calculate", "\"bmi, all\" = 'body weight' / (cm / 100)^2", "--log", '"bmi, all"']
    done = run("prepare", tmp_path / "d.csv", *options, "--write-plan", tmp_path / "p.toml")
    steps = ["--prepare", 'do = "merge_levels", column = "tall", targets = {yes = [1], no = [0]}', "--calculate", "tall = floor(height / 180)"]
    steps += ["--categorical", "tall, rank", "--as", "kg=identifier", "--calculate", "kg = 'body weight' + 0", "--rename", "cm=height, score=rank"]
    told = " ".join(run("look", tmp_path / "d.csv", *steps).stdout.split())
    assert re.search("tall categorical 5 0 2 levels: no 3, yes 2", told)
    assert re.search("rank categorical 5 0 5 levels.* kg numeric identifier 5", told)
    (tmp_path / "other.csv").write_text("height,weight\n170,60\n")
    model = ["--rename", "cm=height, body weight=weight", "--calculate", "m=height/100", "--outcome", "score", "--terms", "weight,m", "--json"]
    asked = [["--for", tmp_path / "other.csv"], ["--profile", "weight=60, height=170"], ["--profiles", tmp_path / "other.csv"]]
    other = [json.loads(run("predict", tmp_path / "d.csv", *model, *own).stdout) for own in asked]
    data = pd.DataFrame({"g": [*"aab", None], "x": [1.0, 3.0, np.nan, 5.0]})
    with pytest.warns(mb.MarkbaseWarning, match="1 level has fewer than 10 rows, whose means are uncertain"):
        made = mb.Study(data).derive("m", level_mean="x", within="g")["m"]
    assert (made.values[:2].tolist(), made.missing_counts()) == ([2.0, 2.0], [("blank", 1), ("no value of `x` in its `g`", 1)])
    levels = 'do = "derive", name = "lm", level_mean = "cm", within = "score"'
    of_levels = ["--prepare", levels, "--categorical", "score", "--outcome", "body weight", "--terms", "lm"]
    assert re.search("no column `lm`, which the model needs", run("predict", tmp_path / "d.csv", *of_levels, "--for", tmp_path / "d.csv").stderr)
    assert [own["predictions"][0]["predicted"] for own in other] == pytest.approx([other[0]["predictions"][0]["predicted"]] * 3, rel=1e-12)
    assert "'body weight' / (cm / 100)^2: 5 rows with a value" in " ".join(done.stdout.split())
    again = run("fit", tmp_path / "p.toml", "--outcome", "score", "--terms", '"bmi, all"', "--json")
    bmi = [w / (c / 100) ** 2 for w, c in zip([60, 70, 80, 75, 91], [160, 170, 180, 181, 179], strict=True)]
    slope = np.polyfit(bmi, [1, 2, 4, 3, 6], 1)[0]
    assert json.loads(again.stdout)["coefficients"][1]["estimate"] == pytest.approx(slope, rel=1e-10)
    assert "should read `--calculate 'NAME = EXPRESSION'`" in run("look", tmp_path / "d.csv", "--calculate", "bmi").stderr
