"""What goes with the outcome by construction, by selection or by repetition, as the rows say."""

import warnings
from functools import partial

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase.core.comparison.answers import answers

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def test_rows_left_out_because_of_the_outcome_are_counted_and_told():
    rng = np.random.default_rng(6)
    x = rng.normal(size=400)
    study = mb.Study(pd.DataFrame({"y": (50 + 5 * x + rng.normal(size=400) * 9).round(), "x": x, "g": rng.choice(["a", "b"], 400)}))
    study, y = study.derive("z_y", z="y"), study.frame()["y"]
    far = "(kept where z_y is at most 1"
    for conditions, failed, told in (
        ({"y": {"at_least": 45}}, (y < 45).sum(), "because of the outcome (kept where y is at least 45)"),
        ({"x": {"above": -1}, "z_y": {"at_most": 1}}, (y > y.mean() + y.std()).sum(), "`z_y`, which goes with the outcome by construction " + far),
        ({"y": {"at_least": 0}}, 0, ""), ({"y": {"is_not": float(y[0])}}, 0, ""), ({"x": {"above": 0}, "g": ["a"]}, 0, ""),
    ):  # fmt: skip
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            fit = mb.fit_linear(study.keep(conditions), "y", ["x"])
        said = [str(w.message) for w in caught if "left out because" in str(w.message)]
        assert len(said) == bool(told)
        assert not told or said[0].startswith(f"{failed} rows were left out because of ")
        assert not told or told in said[0]
        assert " ".join(str(fit.reading()).split()).count("rows were left out because of") == len(said)
        assert sum("rows were left out because of" in s.text for s in answers(fit)) == len(said)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_an_outcome_that_is_one_for_each_cluster_is_told_with_how_many_there_are(kind):
    rng = np.random.default_rng(1)
    school = np.repeat(np.arange(30), 80)
    frame = pd.DataFrame({"school": np.char.add("s", school.astype(str)), "ses": rng.normal(size=2400), "part": rng.choice(["a", "b"], 2400)})  # fmt: skip
    frame["y"] = (50 + 3 * rng.normal(size=30))[school].round(1) if kind == "linear" else np.where((np.arange(30) % 3 > 0)[school], "y", "n")  # fmt: skip
    fit = lambda data, **more: mb.fit_linear(data, "y", ["ses", "part"], **more) if kind == "linear" else mb.fit_logistic(data, "y", ["ses", "part"], event="y", **more)  # noqa: E731  # fmt: skip
    told = "`y` has one value for each `school`: these 2,400 rows hold 30 outcomes."
    for made in (fit(mb.Study(frame), cluster="school"), fit(mb.Study(frame)), fit(mb.Study(frame).as_role("school", "cluster"))):
        assert sum(c.startswith(told) for c in made.reading().cautions) == 1
        assert sum(s.text.startswith(told) for s in answers(made)) == 1
    frame.loc[2399, "y"] = 1.0 if kind == "linear" else "n" if frame["y"][2399] == "y" else "y"  # one row is another
    pairs = frame.head(8).assign(school=["s0", "s0", "s1", "s1", "s2", "s2", "s3", "s3"], y=frame["y"].unique()[:2].repeat(4))
    for data in (frame, pd.concat([pairs] * 3)):
        assert not any("has one value for each" in c for c in fit(mb.Study(data), cluster="school").reading().cautions)


@pytest.mark.parametrize("kind", ["linear", "share", "logistic"])
def test_an_outcome_that_was_made_the_same_in_each_level_or_to_end_it_is_told(kind):
    rng = np.random.default_rng(4)
    team = np.repeat(np.arange(400), rng.integers(2, 9, 400) // 2 * 2)
    frame = pd.DataFrame({"team": [f"t{k}" for k in team], "x": rng.normal(size=len(team)), "y": np.arange(len(team)) % 2})
    if kind == "linear":
        frame["y"] = (frame["x"] - frame.groupby("team")["x"].transform("mean") + 3).round(3)
    size = frame.groupby("team")["x"].transform("size")
    last, first = ~frame["team"].duplicated(keep="last"), ~frame["team"].duplicated()
    ends = frame.assign(y=(last & (size < 6)).astype(int))
    two = pd.concat([frame[first], frame[last]]).sort_index()
    cases = {
        "in each `team`": [frame, *[frame.assign(y=frame["y"] * (frame["team"] != "t3")), frame.head(6)]],
        "an event history": [ends, *[ends.assign(y=np.where(first & (frame["team"] == "t1"), 1, ends["y"])), two.assign(y=[0, 1] * 399 + [0, 0]), ends.sort_values("y", kind="stable")]],
    }  # fmt: skip
    for told, data in list(cases.items())[: 1 if kind == "linear" else 2]:
        for n, own in enumerate(data):
            if kind == "logistic":
                fit = mb.fit_logistic(own.assign(y=own["y"].map({0: "no", 1: "yes"})), "y", ["x"], event="yes")
            else:
                fit = mb.fit_linear(own, "y", ["x"])
            assert sum(told in c for c in fit.reading().cautions) == (n == 0)
            assert n or "event" not in told or "as independent" not in str(fit).partition("In words")[0]


OF_OUTCOME = {
    "round": (lambda y: y.round(), "has the order of"), "rank": (lambda y: -y.rank(), "has the order of"), "log": (lambda y: np.log(y - y.min() + 1), "has the order of"),
    "cut": (lambda y: pd.cut(y, [-99, -0.5, 1, 99], labels=["few", "some", "many"]).astype(str), "that do not overlap"),
    "cut with gaps": (lambda y: pd.cut(y, [-99, 0, 99], labels=["low", "high"]).astype(object).mask(y.index % 4 == 0), "that do not overlap"),
    "gaps": (lambda y: y.round().mask(y.index % 5 == 0), "has the order of"),
    "one off": (lambda y: y.round() + 9.0 * (y.index == 7), ""), "one of another": (lambda y: pd.cut(y, [-99, 0, 99]).astype(str).mask(y.index == 9, "q").mask(y.index == 8, "q"), ""),
    "few": (lambda y: (y == y.max()) * 1.0, ""), "noise": (lambda y: y + np.sin(999 * y), ""),
}  # fmt: skip


@pytest.mark.parametrize("how", OF_OUTCOME)
@pytest.mark.parametrize("turned", [1, -1])
def test_a_term_that_has_the_order_of_the_outcome_in_every_row_is_told(how, turned):
    make, told = OF_OUTCOME[how]
    y = pd.Series(turned * np.random.default_rng(6).normal(size=200)).round(3)
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        fit = mb.fit_linear(pd.DataFrame({"y": y, "term": make(y), "x": np.arange(200) % 7}), "y", ["term", "x"])
    said = [str(w.message) for w in caught if "order of" in str(w.message) or "overlap" in str(w.message)]
    assert len(said) == bool(told)
    assert all(told in text for text in said)
    assert sum("was it made of it" in c for c in fit.reading().cautions) == bool(told)
    assert not any("all but reproduces" in str(w.message) for w in caught)


@pytest.mark.parametrize(("terms", "told"), [
    (["total", "i1"], "`total` is the sum of `i1`, `i2`, `i3`, `i4` and 2 more in every row that has all of these, and `i1`, which is in the model too, is one of them: with `total` held equal, more of `i1` is less of the others, and its coefficient says by how much more it goes with the outcome than these (`i2`, `i3`, `i4` and 2 more)."),
    (["z", "part", "total"], "and `part`, which is in the model too, is made of some of them: with `total` held equal"), (["mean", "i6"], "`mean` is the mean of"),
    (["total", "z"], ""), (["i1", "i2", "z"], ""), (["part", "i5"], ""), (["off", "i1"], ""),
])  # fmt: skip
def test_a_whole_beside_a_part_of_it_is_told(terms, told):
    items = np.random.default_rng(8).integers(1, 6, (150, 6))
    frame = pd.DataFrame(items, columns=[f"i{k}" for k in range(1, 7)]).assign(total=items.sum(axis=1), part=items[:, :3].sum(axis=1), mean=items.mean(axis=1).round(2))  # fmt: skip
    frame["z"], frame["off"] = np.sin(np.arange(150.0)), frame["total"] + (np.arange(150) == 140)
    frame["y"] = frame["total"] * 0.2 + 3 * np.cos(7.0 * np.arange(150))
    cautions = mb.fit_linear(frame, "y", terms).reading().cautions
    assert sum("held equal, more of" in c for c in cautions) == bool(told)
    assert told in " ".join(cautions)


@pytest.mark.parametrize(("pair", "told"), [((1, 2), "`y` is 1 or 2 and nothing between"), ((0, 1), "`y` is 0 or 1, so its mean"), ((1, 2, 3), "`y` has 3 values")])  # fmt: skip
def test_an_outcome_of_few_numbers_is_told_for_what_its_mean_says(pair, told):
    frame = pd.DataFrame({"y": np.resize(pair, 90), "x": np.sin(np.arange(90.0))})
    assert told in " ".join(mb.fit_linear(frame, "y", ["x"]).reading().cautions)


def test_ratios_and_what_they_divide_are_found_in_the_rows():
    rng = np.random.default_rng(3)
    frame = pd.DataFrame({"heads": rng.integers(6, 80, 120), "x": rng.normal(size=120), "beds": rng.integers(5, 90, 120)})
    frame["gone"], frame["sold"] = rng.binomial(frame["heads"], 0.2), rng.integers(5, 70, 120)
    frame["rate"], frame["crowd"] = ((100 * frame["gone"] / frame["heads"]).round(1), (frame["beds"] / frame["heads"]).round(3))
    frame["per_thousand"], frame["each"] = ((1000 * frame["sold"] / frame["beds"]).round(), frame["sold"] / frame["gone"].clip(1))
    frame["nearly"], frame["even"] = (frame["rate"].where(frame.index != 77, frame["rate"] + 0.3), 50 + rng.integers(0, 9, 120))
    frame["some"] = rng.integers(4, 30, 120)
    frame["of_even"] = (100 * frame["some"] / frame["even"]).round(2)
    frame.loc[5:9, "gone"] = np.nan
    frame.loc[20, ["gone", "rate"]] = 0.0
    heads = frame["heads"][frame["gone"].notna()]
    share, divided = (f"a share of {heads.min()} in one row and of {heads.max()} in another", "With `gone` as the outcome, and `heads` among the terms, nothing is divided")  # fmt: skip
    for outcome, terms, parts, more in (
        ("rate", ["x", "heads"], ("`rate` is `gone` per 100 `heads` in every row, and `heads` is in the model", "spurious", divided), {}),
        ("rate", ["gone", "x"], ("and `gone` is in the model", divided), {}),
        ("rate", ["crowd", "x"], ("and `crowd`, which is in the model, is `beds` per `heads`:", divided), {}),
        ("heads", ["rate", "x"], ("`rate`, which is in the model, is `gone` per 100 `heads` in every row, and one of these is the outcome",), {}),
        ("gone", ["rate", "x"], ("and one of these is the outcome",), {}),
        ("sold", ["per_thousand"], ("`per_thousand`, which is in the model, is `sold` per 1,000 `beds`",), {}),
        ("rate", ["x", "beds"], (), {}),
        ("rate", ["x", "beds"], (), {"weights": "heads"}),
        ("nearly", ["x", "heads"], (), {}),
        ("x", ["rate", "heads"], (), {}),
        ("of_even", ["x"], (), {}),
    ):  # fmt: skip
        reading = " ".join(mb.fit_linear(mb.Study(frame), outcome, terms, **more).reading().cautions)
        assert reading.count("by construction") == bool(parts), (outcome, terms)
        assert all(part in reading for part in parts), (outcome, terms, reading)
        assert [share in reading, "a share of" in reading] == [outcome == "rate" and not more] * 2


def test_a_total_and_its_parts_are_found_in_the_rows():
    rng = np.random.default_rng(3)
    answers = np.clip(np.round(3 + rng.normal(0, 0.8, 300)[:, None] + rng.normal(0, 0.9, (300, 10))), 1, 5)
    frame = pd.DataFrame(answers, columns=[f"i{k}" for k in range(10)]).assign(age=rng.normal(40, 10, 300).round())
    frame["scale"], frame["narrow"] = answers[:, :6].mean(axis=1).round(2), answers[:, :3].mean(axis=1).round(1)
    frame.insert(0, "over", answers[:, 4:9].sum(axis=1))
    frame["all"], frame["gain"], frame["i3"] = answers.mean(axis=1), frame["i0"] - frame["i5"], 6 - frame["i3"]
    frame["blurred"] = (answers[:, :6].mean(axis=1) + rng.uniform(-0.009, 0.009, 300)).round(2)
    frame.loc[rng.random(300) < 0.05, "i1"] = np.nan
    is_one, narrow, over = "`i0`, which is in the model, is one of them", "`narrow`, which is in the model, of ", "`over`, which is in the model, of "  # fmt: skip
    for outcome, terms, told in (
        ("scale", ["i0", "age"], ("the mean of `i0`, `i1`, `i2`, `i3` and 2 more (some the other way round)", is_one, "their mean as")),
        ("over", ["i4"], ("the sum of `i4`, `i5`, `i6`, `i7` and `i8` in every", "`i4`, which is in the model, is one", "their sum as")),
        ("scale", ["narrow"], (narrow + "`i0`, `i1` and `i2`:",)),
        ("scale", ["age", "over"], (over + "`i4` and `i5` among others",)),
        ("scale", ["age", "i7"], ()),
        ("over", ["narrow", "i7", "age"], ("`i7`, which is in the model, is one",)),
        ("blurred", ["i0"], ()),
        ("all", ["i9"], ("the mean of `i0`, `i1`, `i2`, `i3` and 6 more",)),
        ("gain", ["i5"], ("(regression to the mean)",)),
        ("derived", ["i5"], ("The outcome `derived` was made of `i5`",)),
        ("over", ["i4", "i5", "i6", "i7", "i8"], ()),
    ):
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            fit = mb.fit_linear(mb.Study(frame).derive("derived", sum=["i0", "i5"]), outcome, terms)
        said = [str(w.message) for w in caught if "by construction" in str(w.message)]
        assert len(said) == bool(told), (outcome, terms)
        assert all(part in said[0] for part in told), (outcome, terms, said)
        assert " ".join(str(fit.reading()).split()).count("by construction") == len(said)
        if len(terms) == 2 and told:  # the other term has nothing in common with it
            alone = fit.without(next(t for t in terms if t != "age"))
            assert "by construction" not in " ".join(str(alone.reading()).split())


@pytest.mark.parametrize(("birthdays", "in_parts"), [(False, False), (True, False), (True, True)])
def test_age_and_time_fix_the_year_of_birth_and_their_slopes_are_those_of_two(birthdays, in_parts, small_parts, tmp_path):  # noqa: ARG001 - it sets how large parts are
    rng = np.random.default_rng(4)
    frame = pd.DataFrame({"year": rng.choice([1995, 2004, 2013], 300), "age": rng.integers(17, 82, 300), "joined": rng.integers(1990, 1995, 300)})
    frame["born"] = frame["year"] - frame["age"] - birthdays * rng.integers(0, 2, 300)
    frame = frame.assign(y=frame["age"] / 10 + rng.normal(size=300)).astype(float)
    frame.loc[[3, 40], "born"] = np.nan
    frame.to_csv(tmp_path / "a.csv", index=False)
    study, others = mb.open_study(tmp_path / "a.csv", in_parts=in_parts), []
    for terms, moves in ((["age", "year"], "one less of `born`"), (["age", "born"], "one more of `year`"), (["year", "born"], "one more of `age`")):
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            fit = mb.fit_linear(study, "y", terms)
        others += [str(w.message) for w in caught if "fix" not in str(w.message)]
        said = [str(w.message) for w in caught if "age, period and cohort" in str(w.message)]
        exact = terms == ["year", "born"] and not birthdays
        assert len(said) == (0 if exact else 1)  # which is told as a sum
        assert exact or f"with `{terms[1]}` held equal, one more of `{terms[0]}` is {moves}," in said[0]
        assert exact or ("or a year more" in said[0]) == birthdays
        assert exact or "No model of these rows tells the two apart" in " ".join(str(fit).split())
    assert len([told for told in others if "is the sum of" in told]) == (not birthdays)
    frame.loc[200, "born"] -= 2  # in one row it is not so
    odd = mb.fit_linear(frame, "y", ["age", "year"])
    assert not any("cohort" in shared.text for shared in odd.shared)


@pytest.mark.parametrize("in_parts", [False, True])
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_means_of_the_outcome_in_a_class_or_of_the_others_in_it_are_told(kind, in_parts, small_parts, tmp_path):  # noqa: ARG001 - it sets how large parts are
    rng = np.random.default_rng(8)
    group = np.repeat(np.arange(30), rng.integers(5, 20, 30))
    y = 40 + 3 * rng.normal(size=30)[group] + 8 * rng.normal(size=len(group))  # rounded after their means were taken
    frame = pd.DataFrame({"choir": [f"C{k:02d}" for k in group], "x": rng.normal(size=len(group)), "y": y})
    frame.loc[[3, 40, 41], "y"] = np.nan
    if kind == "logistic":
        frame["y"] = np.where(frame["y"] > 42, "yes", "no")
    number = frame["y"] if kind == "linear" else 100.0 * (frame["y"] == "no")
    frame["all"] = (by := number.groupby(frame["choir"])).transform("mean").round(2)
    frame["others"] = ((by.transform("sum") - number.fillna(0)) / (by.transform("count") - number.notna())).round(2)
    frame["near"], frame["before"] = frame["others"].where(frame.index != 77, frame["others"] + 1), (frame["all"] * 0.9 + 4).round(1)
    frame.assign(y=frame["y"].round(1) if kind == "linear" else frame["y"]).to_csv(tmp_path / "c.csv", index=False)
    study = mb.open_study(tmp_path / "c.csv", in_parts=in_parts)
    what = "the mean of `y`" if kind == "linear" else "the percentage of `y` = `no`"
    wanted = {"all": f"`all` is {what} over the rows of each `choir`", "others": f"`others` is {what} over the other rows of each `choir`"}
    fitted = mb.fit_linear if kind == "linear" else partial(mb.fit_logistic, event="yes")
    for term in ("all", "others", "near", "before", "x"):
        fit = fitted(study, "y", [*dict.fromkeys(["x", term])])
        told = [c for c in fit.reading().cautions if " of each `choir`" in c]
        assert len(told) == (term in wanted)
        assert not told or told[0].startswith(wanted[term])


def test_a_change_of_groups_that_began_apart_is_told_beside_what_it_began_from(tmp_path):
    g = (rng := np.random.default_rng(2)).choice(["a", "b"], 300)
    pre = (50 + 8 * (g == "b") + rng.normal(0, 10, 300)).round(1)
    for outcome, words, sign, slope in (
        ("change", "`post` − `pre`", 1, -0.4),
        ("drop", "`pre` − `post`", -1, -0.4),
        ("up", "`post` − `pre`", 1, 0.3),
    ):
        gain = (slope * (pre - 50) + rng.normal(0, 8, 300)).round(1)
        data = pd.DataFrame({"pre": pre, "post": pre + gain, "g": g, "by_lot": rng.choice(["a", "b"], 300), outcome: sign * gain})
        study = mb.Study(data).mark("g", "a")
        beside = mb.fit_linear(study, outcome, ["g", "pre"]).coefficients.set_index("level").loc["b"]
        (told,) = [c for c in mb.fit_linear(study, outcome, ["g"]).reading().cautions if "Lord's paradox" in c]
        assert told.startswith(f"`{outcome}` is {words} in every row, and what is compared here began apart: beside `pre`, `g: b` against `a` is ")
        assert f" is {beside['estimate']:.1f} (95% CI {beside['low']:.1f} to {beside['high']:.1f}".replace("-", "−") in told
        assert ("fell back" in told) is (slope < 0)
        assert not any("Lord" in str(mb.fit_linear(study, outcome, other)) for other in (["by_lot"], ["g", "pre"]))
        data.to_csv(tmp_path / f"{outcome}.csv", index=False)
        page = run("groups", tmp_path / f"{outcome}.csv", "g", "--outcome", outcome, "--terms", "g", "--base", "g=a").stdout
        assert " ".join(page.split()).count("Lord's paradox") == 1
        many = mb.open_study(tmp_path / f"{outcome}.csv", in_parts=True).mark("g", "a")
        assert any(told == c for c in mb.fit_linear(many, outcome, ["g"]).reading().cautions)
