"""Combinations of levels that no row has: said, and nothing made up for them."""

import itertools
import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from reference import made_up


def test_a_combination_that_never_occurs_is_said_and_not_made_up():
    frame = pd.DataFrame(made_up(300))
    frame.loc[(frame["voice"] == "bass") & (frame["day"] == "Wed"), "day"] = "Tue"
    study = mb.Study(frame).mark("voice", "alto").mark("day", "Mon")
    for coded in (study, study.code_as("voice", "effect").code_as("day", "effect")):
        fit = mb.fit_linear(coded, "score", ["voice", "day", mb.interaction("voice", "day")])
        test = fit.terms.set_index("term").loc["voice × day"]
        without = mb.fit_linear(coded, "score", ["voice", "day"]).strength.residual_ss
        F = (without - fit.strength.residual_ss) / 5 / fit.strength.residual_sd**2
        assert (test["df"], test["statistic"]) == (5, pytest.approx(F, rel=1e-9))
        cells = frame.groupby(["voice", "day"])["score"].transform("mean")
        np.testing.assert_allclose(fit.fitted, cells, rtol=1e-10)
    fit = mb.fit_linear(study, "score", ["voice", "day", mb.interaction("voice", "day")])
    table = fit.coefficients.set_index(["term", "level"])
    assert table.loc[("voice × day", "bass × Wed"), ["estimate", "se", "low", "high", "p"]].isna().all()
    means = frame.groupby(["voice", "day"])["score"].mean()
    difference = means["bass", "Tue"] - means["bass", "Mon"] - means["alto", "Tue"] + means["alto", "Mon"]
    assert table.loc[("voice × day", "bass × Tue"), "estimate"] == pytest.approx(difference, rel=1e-10)
    assert "cannot be estimated" in " ".join(s.text for s in fit.reading().statements)
    assert "nan" not in str(fit)
    found, pairs = fit.cell_means("voice", "day")
    np.testing.assert_allclose(found["adjusted"], [means[k] for k in zip(found["voice"], found["day"], strict=True)])
    assert len(found) == 11
    assert set(pairs["of"]) == {"voice", "day"}
    for pair in pairs.itertuples():
        way = 1 if pair.of == "voice" else -1
        here, there = ((level, pair.within)[::way] for level in (pair.level, pair.against))
        assert pair.difference == pytest.approx(means[here] - means[there])
    assert pairs.groupby("of").size().to_dict() == {"voice": 2 * 6 + 3, "day": 3 * 3 + 1}  # one cell has no row
    assert [fit.simple_effects(*two)["df"].tolist() for two in (("voice", "day"), ("day", "voice"))] == [[3, 3, 2], [2, 1, 2, 2]]
    with_base = fit.cell_means("voice", "day", correction="dunnett")[1]
    assert with_base.groupby("of").size().to_dict() == {"voice": 3 + 3 + 2, "day": 4 * 2 - 1}
    few = frame[(frame["day"] != "Wed") | (frame["voice"] == "alto")]  # one level, and nothing to compare it with
    left = mb.fit_linear(mb.Study(few), "score", ["voice", "day", mb.interaction("voice", "day")])
    alone = left.simple_effects("voice", by="day").set_index("within").loc["Wed"]
    assert (alone["df"], np.isnan(alone["p"])) == (0, True)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_nothing_is_told_of_a_combination_that_no_row_has_and_averages_over_none(kind, tmp_path):
    frame = pd.DataFrame(made_up(400, seed=2))
    none = frame["voice"].eq("bass") & frame["day"].eq("Tue")
    frame = frame[~none].reset_index(drop=True)
    frame["high"] = np.where(frame["score"] + np.random.default_rng(0).normal(0, 6, len(frame)) > 38, "y", "n")
    terms = ["age", "voice", "day", mb.interaction("voice", "day"), mb.interaction("age", "voice")]
    study, odds = mb.Study(frame).mark("voice", "alto").mark("day", "Mon"), kind == "logistic"
    fit = mb.fit_logistic(study, "high", terms, event="y") if odds else mb.fit_linear(study, "score", terms)
    lacking = [{"voice": "bass", "day": "Tue"}, {"voice": "bass"}, {"day": "Tue", "age": 40}]
    told = [{"voice": "bass", "day": "Mon", "age": 40}, {"voice": "alto", "age": 50}, {"age": 30}]
    answered, name = fit.predict([*lacking, *told]), fit.family.predicted
    assert answered[name].isna().tolist() == answered["se"].isna().tolist() == [True] * 3 + [False] * 3
    assert all("`voice × day` is in the model and no row used has" in c for c in answered["caution"][:3])
    for k, profile in enumerate([*lacking, *told]):  # an average over the rows, of which each is predicted or is not
        rows = frame.assign(**profile)
        each = fit.predict(rows)[name]
        assert each.isna().tolist() == (rows["voice"].eq("bass") & rows["day"].eq("Tue")).tolist()
        assert answered[name][k] == pytest.approx(each.mean(skipna=False), rel=1e-9, nan_ok=True)
    mb.write_fit(fit, tmp_path / "fit.json")
    stored = mb.read_fit(tmp_path / "fit.json").predict({"age": 40, "day": "Tue", "voice": "bass"})
    assert stored[name].isna().all()
    out = (frame["voice"].eq("alto") & frame["day"].eq("Wed")).to_numpy()  # as where rows are held out
    unknown = np.isnan(fit.on_rows(~out).expected(None))
    assert unknown.tolist() == out.tolist()


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_from_bases_that_no_row_has_together_nothing_is_told_but_why_and_what_would_do(kind, tmp_path):
    frame = pd.DataFrame(made_up(400, seed=2))
    frame = frame[~(frame["voice"].eq("bass") & frame["day"].eq("Tue"))]
    frame["high"] = np.where(frame["score"] + np.random.default_rng(0).normal(0, 6, len(frame)) > 38, "y", "n")
    terms, study = ["age", "voice", "day", mb.interaction("voice", "day")], mb.Study(frame).mark("day", "Tue")
    made = [mb.fit_logistic(s, "high", terms, event="y") if kind == "logistic" else mb.fit_linear(s, "score", terms) for s in (study.mark("voice", "alto"), study.mark("voice", "bass"))]  # fmt: skip
    mb.write_fit(made[0], tmp_path / "saved.json")
    tests = [
        f.terms.set_index("term").loc[["age", "voice", "voice × day"], ["df", "statistic", "p"]] for f in (*made, made[0].rebase("voice", "bass"))
    ]
    saved = mb.read_fit(tmp_path / "saved.json").rebase("voice", "bass").terms.set_index("term").loc[tests[0].index, tests[0].columns]
    for other in (*tests[1:], saved):  # the other voices differ at that day, whichever of them all is the base
        pd.testing.assert_frame_equal(other, tests[0], rtol=1e-8, check_dtype=False)
    mb.write_fit(mb.fit_logistic(study.mark("voice", "bass"), "high", terms[1:], event="y", penalty="firth"), tmp_path / "bare.json")
    assert mb.read_fit(tmp_path / "bare.json").coefficients["p"].isna().all()
    if kind == "linear":
        cells = frame["voice"] + frame["day"]
        left = [np.linalg.lstsq(np.column_stack([frame["age"], c.to_numpy()[:, None] == np.unique(c)]), frame["score"], rcond=None)[1][0] for c in (cells, cells.where(frame["day"] != "Tue", "one"))]  # fmt: skip
        assert tests[0]["statistic"]["voice"] == pytest.approx((left[1] - left[0]) / 2 / (left[0] / (len(frame) - 12)), rel=1e-9)
    most = frame.groupby(["voice", "day"]).size().idxmax()
    for fit in (made[1], made[0].rebase("voice", "bass")):
        table = fit.coefficients
        assert table["estimate"].notna().sum() == 1 + int(table["base"].sum())  # of age, and 0 for bases
        why = f"none of the rows used has the bases `voice` `bass` and `day` `Tue` together; the combination of most rows, `voice` `{most[0]}` and `day` `{most[1]}`,"
        assert [s.term for s in fit.reading().statements] == ["(intercept)", "age", "voice × day"]
        assert why in fit.reading().statements[0].text
        assert why.replace("`", "") in fit.equation().text
        shown = f"{fit}{fit.checks()}{fit.guide()}{fit.equation(by='day')}"
        assert not re.search(r"\bnan\b|– to|–%|equation, complete", shown)
        mb.report(fit, tmp_path / f"{len(shown)}.html", figures=False)
    texts = {s.level: s.text for s in made[0].reading().statements if s.term == "voice"}
    assert "the 3 levels of `voice` that can be compared, of 4, " in texts[""]
    both = frame[frame["voice"].isin(["alto", "bass"])].groupby(["day", "voice"]).size().unstack(fill_value=0).min(axis=1)
    assert f"none has `voice` `bass` and `day` `Tue`. At another base of `day` it can, such as `{both.idxmax()}`." in texts["bass"]
    coded = mb.fit_linear(study.mark("voice", "bass").code_as("voice", "effect").code_as("day", "effect"), "score", terms)
    assert coded.reading().statements[0].text.endswith("the rows used lack a combination of levels that it rests on.")
    other = made[0].rebase("voice", "soprano")
    assert re.search(r"start of the levels that can be compared told by both tables: largest difference \d", other.retold)
    mb.report(made[0], path := tmp_path / "fit.html", figures=False)
    assert path.read_text(encoding="utf-8").count("cannot be told") == 0  # that base is not among those to choose from
    two = mb.Study(frame.assign(new=frame["age"] % 2 < 1)).mark("day", "Tue").mark("voice", "bass")
    beside = mb.fit_linear(two, "score", ["voice", "day", "new", mb.interaction("voice", "day"), mb.interaction("voice", "new")])
    assert "would do" not in beside.equation().text  # the other interaction may lack rows there
    every = [*terms, mb.interaction("age", "voice"), mb.interaction("age", "day"), mb.interaction("age", "voice", "day")]
    means = study.code_as("voice", "effect").code_as("day", "effect")
    sloped = mb.fit_logistic(means, "high", every, event="y") if kind == "logistic" else mb.fit_linear(means, "score", every)
    (slope,) = [v.text for v in sloped.reading().statements if v.term == "age"]
    assert slope.startswith("The slope of `age` at the mean of the levels of")
    choirs = mb.Study(frame.assign(choir=np.arange(len(frame)) % 9)).as_categorical("choir").mark("day", "Tue")
    drawn = mb.fit_linear(choirs.mark("voice", "bass"), "score", ["voice", "day", mb.interaction("voice", "day")], cluster="choir")
    assert drawn.checks().clusters is None
    with pytest.raises(mb.FitError, match="no coefficient can be told, so that none moves"):
        drawn.without_clusters()
    seldom = frame[frame["day"].ne("Tue") | frame["voice"].eq("alto")]  # of the other levels no row has that day
    alone = mb.fit_linear(mb.Study(seldom).mark("voice", "alto").mark("day", "Tue"), "score", ["voice", "day", mb.interaction("voice", "day")])  # fmt: skip
    (said,) = [s.text for s in alone.reading().statements if (s.term, s.level) == ("voice", "")]
    assert said == "No level of `voice` can be compared with its base at the base `Tue` of `day`."
    clustered = mb.fit_linear(study, "score", ["age", "voice"], cluster="voice")
    assert "(no standard error)" in clustered.reading().statements[0].text
    assert [c for c in clustered.reading().cautions if "Where there is no standard error, a level of `voice`" in c]
    assert "not tested: `voice`" in str(clustered.guide().steps[3].answer)
    assert "Without standard errors no comparison with the base can be tested." in clustered.guide().steps[4].meaning


def test_a_group_is_averaged_over_combinations_of_others_that_rows_have_and_no_more():
    frame = pd.DataFrame(made_up(600, seed=2)).assign(new=lambda d: np.where(d["age"] % 2 == 0, "no", "yes"))
    frame = frame[~(frame["voice"].eq("bass") & frame["day"].eq("Tue"))]
    pairs = [mb.interaction(*names) for names in itertools.combinations(["voice", "day", "new"], 2)]
    terms = ["voice", "day", "new", *pairs, mb.interaction("voice", "day", "new")]
    fit = mb.fit_linear(mb.Study(frame).mark("voice", "alto").mark("day", "Mon").mark("new", "no"), "score", terms)
    cells = frame.groupby(["voice", "day", "new"])["score"].mean().unstack("new")
    shares = frame.groupby(["voice", "day"]).size() / len(frame)
    wanted = cells.mul(shares, axis=0).sum()
    np.testing.assert_allclose(fit.groups("new").set_index("level")["adjusted"][["no", "yes"]], wanted, rtol=1e-9)
    for group in ("voice", "day"):
        with pytest.raises(mb.FitError, match="combinations of levels that no row has"):
            fit.groups(group)
    for ask in (fit.cell_means, fit.simple_effects):
        with pytest.raises(mb.FitError, match="no row used has a combination of levels that this rests on"):
            ask("voice", "new")
