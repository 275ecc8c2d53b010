"""Columns made of others: computed again by their formula, and followed by every result."""

import re
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from markbase.core.study.derived_values import _FUNCTIONS, derivatives_of, value_of
from reference import made_up
from yes_no import choir, either


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("how", sorted(_FUNCTIONS))
def test_every_derived_column_is_computed_again_with_the_slopes_of_its_formula(how):
    rng = np.random.default_rng(8)
    names = ["a", "b"] if how in ("sum", "mean", "difference", "ratio", "rate", "product") else ["a"]
    frame = pd.DataFrame({name: rng.uniform(1, 5, 40) for name in names})
    sources = names if len(names) > 1 else names[0]
    options = {"per": 1000} if how == "rate" else {}
    study = mb.Study(frame).derive("new", **{how: sources}, **options)
    made, x = study.column("new").made, [frame[name].to_numpy() for name in names]
    np.testing.assert_allclose(value_of(made, x), study.frame()["new"], rtol=1e-13)
    if how == "rate":  # of which the least that is asked for is per one
        np.testing.assert_allclose(study.derive("one", rate=names).frame()["one"], x[0] / x[1], rtol=1e-13)
    for k, slope in enumerate(derivatives_of(made, x)):
        moved = [[v + (j == k) * d for j, v in enumerate(x)] for d in (1e-5, -1e-5)]
        wanted = (value_of(made, moved[0]) - value_of(made, moved[1])) / 2e-5
        np.testing.assert_allclose(np.broadcast_to(slope, wanted.shape), wanted, rtol=1e-7, atol=1e-9)


def test_derived_columns_follow_their_sources():
    frame = pd.DataFrame(made_up(250, seed=6))
    frame["km"] += 1
    study = mb.Study(frame).derive("age2", square="age").derive("both", product=["age", "km"]).derive("km_log", log="km")
    with pytest.warns(mb.MarkbaseWarning, match="is the square of `age`, which is in the model too"):
        squared = mb.fit_linear(study, "score", ["age", "age2", "km"])
    curve = mb.fit_linear(study, "score", [mb.polynomial("age"), "km"])
    for profile in ({"age": 60}, {"age": 60, "km": 3}, {"km": 3}, {"age": 20}):
        one, other = squared.predict(profile), curve.predict(profile)
        np.testing.assert_allclose(one[["predicted", "se"]], other[["predicted", "se"]], rtol=1e-8)
    np.testing.assert_allclose(squared.simple_slopes("age")["slope"], curve.simple_slopes("age")["slope"], rtol=1e-8)
    assert squared.turning_point("age").value == pytest.approx(curve.turning_point("age").value, rel=1e-9)
    assert "cannot change with age2 held equal" in " ".join(str(squared).split())
    with pytest.warns(mb.MarkbaseWarning, match="together they are an interaction"):
        product = mb.fit_linear(study, "score", ["age", "km", "both"])
    crossed = mb.fit_linear(study, "score", ["age", "km", mb.interaction("age", "km")])
    for profile in ({"age": 60, "km": 3}, {"age": 60}):
        np.testing.assert_allclose(product.predict(profile)["predicted"], crossed.predict(profile)["predicted"], rtol=1e-9)
    slopes = [f.simple_slopes("age", by="km", at={"km": 4})["slope"].iloc[0] for f in (product, crossed)]
    assert slopes[0] == pytest.approx(slopes[1], rel=1e-9)
    logged = mb.fit_linear(study, "score", ["km", "km_log"])
    table = logged.coefficients.set_index("term")["estimate"]
    wanted = table["(intercept)"] + 5 * table["km"] + np.log(5) * table["km_log"]
    assert logged.predict({"km": 5})["predicted"].iloc[0] == pytest.approx(wanted, rel=1e-10)
    assert logged.simple_slopes("km", at={"km": 5})["slope"].iloc[0] == pytest.approx(table["km"] + table["km_log"] / 5)
    logistic = mb.fit_logistic(study.split_at("score", above=40, labels=("n", "y"), name="high"), "high", ["km", "km_log"], event="y")
    at = logistic.coefficients.set_index("term")["estimate"]
    eta = at["(intercept)"] + 5 * at["km"] + np.log(5) * at["km_log"]
    assert logistic.predict({"km": 5})["probability"].iloc[0] == pytest.approx(1 / (1 + np.exp(-eta)), rel=1e-9)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("how", ["sum", "mean", "difference", "product", "ratio"])
def test_what_was_derived_from_columns_outside_the_model_too_is_read_with_them(kind, how):
    frame = choir(300).assign(km=lambda f: f["km"] + 1)
    study = mb.Study(frame).derive("new", **{how: ["age", "km"]})
    fits = [either(kind, study, terms) for terms in (["new", "age"], ["age", "km"])]
    own, other = (fit.coefficients.set_index("term") for fit in fits)
    found = fits[0].simple_slopes("age")
    if how in ("product", "ratio"):
        moved = frame["km"] if how == "product" else 1 / frame["km"]
        wanted = own["estimate"]["age"] + own["estimate"]["new"] * moved.mean()
        assert found["slope"].tolist() == pytest.approx([wanted], rel=1e-9)
    else:  # the same model, told by its parts
        assert found[["slope", "se", "p"]].to_numpy()[0] == pytest.approx(other.loc["age", ["estimate", "se", "p"]].tolist(), rel=1e-7)
    told = " ".join(str(fits[0]).split())
    assert "at the same age it differs by km alone, so this is about km" in told
    assert "lets new move along, with km as in these rows" in told
    assert "does not turn" not in told
    crossed = mb.fit_linear(study, "score", ["age", mb.interaction("new", "voice"), "new", "voice"])
    assert "unit of age, averaged over voice as in these rows" in " ".join(str(crossed).split())
    assert "voice" in crossed.slope_depends_on("age")
    bent = mb.fit_linear(study, "score", ["age", mb.polynomial("new")])
    assert "unit of age, averaged over new as in these rows" in " ".join(str(bent).split())
    nested = study.derive("c", centre="age").derive("c2", square="c")
    told = " ".join(str(mb.fit_linear(nested, "score", ["age", "c2"])).split())
    for words in ("derived from age and moves only with age", "with age = 0, c2 = 0", "c2 is not 0 where age is"):
        assert words in told


def test_a_mean_of_the_items_answered_is_followed_over_those():
    rng = np.random.default_rng(2)
    frame = pd.DataFrame(rng.integers(1, 6, (80, 4)).astype(float), columns=list("abcy"))
    frame.loc[:20, "b"] = np.nan
    study = mb.Study(frame).derive("home", mean=["a", "b", "c"], least=2).derive("any", sum=["b", "y"], least=1)
    assert study.frame()["any"].tolist() == (frame[["b", "y"]].mean(axis=1) * 2).tolist()
    fit = mb.fit_linear(study, "y", ["home", "a"])
    b = fit.coefficients.set_index("term")["estimate"]
    wanted = b["a"] + b["home"] * (1 / frame[["a", "b", "c"]].notna().sum(axis=1)).mean()
    assert fit.simple_slopes("a")["slope"].tolist() == pytest.approx([wanted])
    with pytest.warns(mb.MarkbaseWarning):
        told = fit.predict(pd.DataFrame({"a": [2.0, 4], "b": np.nan, "c": [3.0, np.nan]}))["predicted"]
    assert told.tolist() == pytest.approx([b["(intercept)"] + 2.5 * b["home"] + 2 * b["a"], np.nan], nan_ok=True)


@pytest.mark.filterwarnings("ignore:.*sensitive")
@pytest.mark.parametrize(("outcome", "terms", "told"), [
    ("home", ["a", "c"], "The outcome `home` was made of `a`, which is in the model"),
    ("a", ["home", "c"], "`home` was made of the outcome `a`"),
    ("home", ["other", "c"], "`home` and `other` were both made of `b`"),
    ("high", ["a", "c"], "The outcome `high` was made of `a`"),
    ("a", ["band", "c"], "`band` was made of the outcome `a`"),
    ("home", ["before", "c"], ""), ("d", ["a", "b", "c"], ""),
    ("d", ["a", "band", "c"], "`band` was cut out of `a`, and `a` is in the model too: with `a` held equal no row has two"),
    ("d", ["log", "band"], "`band` was cut out of `a`, and `log` is"), ("d", ["home", "band"], ""),
])  # fmt: skip
def test_what_goes_together_by_construction_is_told(outcome, terms, told):
    frame = pd.DataFrame(np.random.default_rng(4).integers(1, 9, (300, 4)).astype(float), columns=list("abcd"))
    study = mb.Study(frame.assign(t=np.arange(300))).derive("home", mean=["a", "b"]).derive("other", difference=["d", "b"])
    study = study.derive("log", log="a").lag("home", by=1, order="t", name="before").cut("a", [4], name="band").split_at("home", above=4, labels=("n", "y"), name="high")  # fmt: skip
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        fit = mb.fit_logistic(study, outcome, terms, event="y") if outcome == "high" else mb.fit_linear(study, outcome, terms)
    said = [*fit.reading().cautions, *(str(w.message) for w in caught)]
    assert sum(f"{told}" in s and ("by construction" in s or "was cut out of" in s) for s in said) == (2 if told else 0)


@pytest.mark.parametrize(("how", "told"), [
    ("sqrt", "`new` is the square root of `x`: estimates are differences in that"), ("reciprocal", "a higher `new` is a lower `x`"),
    ("z", "A standard deviation of `x`, of which `new` was made, is 1.13 units"), ("unit_range", "The whole range of `x`, of which `new` was made, is 3 units"),
    ("centre", ""), ("log", ""),
])  # fmt: skip
def test_an_outcome_that_was_rescaled_is_told_with_its_scale(how, told):
    frame = pd.DataFrame({"x": [1.0, 2, 3, 4] * 20, "a": np.arange(80) % 7})
    study = mb.Study(frame).derive("new", **{how: "x"})
    cautions = mb.fit_linear(study, "new", ["a"]).reading().cautions
    assert any(told in c for c in cautions) if told else not any("`new`" in c for c in cautions)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_what_is_steep_without_bound_where_rows_are_has_no_average_slope():
    frame = choir(300).assign(n=np.arange(300) % 5)
    fit = mb.fit_logistic(mb.Study(frame).derive("root", sqrt="n"), "stays", ["root", "n"], event="yes")
    told = " ".join(str(fit).split())
    assert "– no finite average" in told
    assert "root is steep without bound at a value that some of them have" in told
    assert "no finite average" in fit._repr_html_()
    twice = mb.Study(frame).derive("third", cube_root="n").derive("unit", unit_range="third")
    fit = mb.fit_logistic(twice, "stays", ["unit", "n"], event="yes")
    assert ": – (steep without bound in some row, so that it has no average)." in " ".join(s.text for s in fit.reading().statements)
    assert fit.simple_slopes("n").isna().all(axis=None)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_a_product_with_what_moves_along_is_read(tmp_path):
    frame = choir(200)
    study = mb.Study(frame).derive("both", mean=["age", "km"]).derive("age2", square="age")
    summed = mb.fit_linear(study, "score", [mb.interaction("age", "both")])
    mb.report(summed, tmp_path / "s.html")
    told = " ".join(str(summed).split())
    assert "unit of age, averaged over both as in these rows" in told
    squared = mb.fit_linear(study, "score", [mb.interaction("age", "age2")])
    assert "at age = " in " ".join(str(squared).split())
    mb.report(squared, tmp_path / "r.html")
    fit = mb.fit_logistic(study, "stays", [mb.interaction("age", "age2", "km")], event="yes")
    moved = (frame["age"] + 1e-4, frame["age"] - 1e-4)
    further = [fit.predict(frame.assign(age=a, age2=a**2))["probability"].mean() for a in moved]
    wanted = float(np.subtract(*further)) / 2e-4  # by hand: each row a little further along
    assert fit.marginal.set_index("term")["effect"]["age"] == pytest.approx(wanted, rel=1e-6)


def test_rows_taken_are_taken_of_the_sources_too():
    study = mb.Study(choir(300)).derive("root", sqrt="km").derive("twice", square="root")
    whole = mb.fit_linear(study, "score", ["root", "km"])
    for some in (study.sample(120, seed=1), next(iter(study.parts())), study.keep({"age": {"above": 40}}), study.hold_out(share=0.4, seed=1)[1]):  # fmt: skip
        assert [len(s.values) for name in ("root", "twice") for s in some.column(name).made.sources] == [some.rows] * 2
        other = mb.Study(some.frame()[["km", "score"]]).derive("root", sqrt="km")
        fits = [mb.fit_linear(s, "score", ["root", "km"]) for s in (some, other)]
        assert str(fits[0].simple_slopes("km")) == str(fits[1].simple_slopes("km"))
        assert fits[0].predict({"km": 9.0}).equals(fits[1].predict({"km": 9.0}))
        assert (some.rows == 300) == (fits[0].strength == whole.strength)


@pytest.mark.parametrize("how", ["z", "unit_range"])
def test_levels_without_spread_are_counted_where_they_have_rows(how):
    table = pd.DataFrame({"x": [1.0, 2, 3, 5, 5, 7], "g": list("aabbcd")})
    study = mb.Study(table, {"columns": {"g": {"levels": [*"abcde"]}}})  # of e there is no row
    with pytest.warns(mb.MarkbaseWarning, match="2 levels of `g` too small or constant: left missing"):
        assert study.derive("k", within="g", **{how: "x"})["k"].valid == 4


DIGITS = {"square": 0, "product": 1, "log": 2, "log1p": 6, "sqrt": 2, "cube_root": 9, "reciprocal": 4}


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("how", sorted(DIGITS))
@pytest.mark.parametrize("turned", [False, True])
def test_columns_that_the_rows_show_to_be_made_of_others_are_read_as_if_they_were_made_here(how, turned, tmp_path):
    frame = pd.DataFrame(made_up(200)).assign(age=lambda d: (d["age"].abs() + 1).mask(d.index == 5))
    sources = ["age", "km"] if how == "product" else ["age"]
    made = mb.Study(frame).derive("new", **{how: sources if how == "product" else "age"})
    plain = made.frame().assign(new=lambda d: d["new"].round(DIGITS[how]).mask(d.index == 7))
    plain.to_csv(tmp_path / "d.csv", index=False)
    terms = ["new", *sources, "voice"] if turned else ["voice", *sources, "new"]
    studies = made, mb.Study(plain), mb.open_study(tmp_path / "d.csv", in_parts=True)
    here, found, parts = (" ".join(str(mb.fit_linear(s, "score", terms).reading()).split()) for s in studies)
    assert "it was derived from age" in here
    assert re.sub(r"[−\d.,]+", "", here) == re.sub(r"[−\d.,]+", "", found)
    assert found == parts
    for other in (plain["new"] + (plain.index == 9) * plain["new"].std(), plain["new"].mask(plain.index > 8)):
        fit = mb.fit_linear(plain.assign(new=other, day=None), "score", ["age", "new"])
        assert all(v.column.made is None for v in fit.variables)
