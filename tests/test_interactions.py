"""Curves and interactions, against dense columns and 50 digits."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from reference import digits, least_squares, made_up, sandwich, term_of
from yes_no import either


def dense_interaction(frame, kind, base, centred):
    """Lay out the columns of a model with an interaction, in the order of the coefficient table."""
    levels = [v for v in ["alto", "bass", "soprano", "tenor"] if v != base]
    indicators = [(frame["voice"] == v).to_numpy(float) for v in levels]
    if kind == "slope":
        age = frame["age"].to_numpy(float) - centred
        extra = [age, *indicators, *(age * i for i in indicators)]
    else:
        days = [(frame["day"] == v).to_numpy(float) for v in ("Tue", "Wed")]
        extra = [*indicators, *days, *(i * d for i in indicators for d in days)]
    return np.column_stack([np.ones(len(frame)), *extra, frame["km"]])


@pytest.mark.parametrize("kind", ["slope", "cross"])
@pytest.mark.parametrize("base", ["alto", "bass"])
@pytest.mark.parametrize("errors", ["classical", "HC3"])
@pytest.mark.parametrize("weights", [None, "w"])
@pytest.mark.parametrize("far", [0.0, 1e7])  # far from 0, the moments are taken in twice the working precision
def test_slopes_by_group_and_crossings_agree_with_dense_columns(kind, base, errors, weights, far):
    frame = pd.DataFrame(made_up(400))
    frame["age"] += far
    frame["w"] = 2.0
    study = mb.Study(frame).mark("voice", base).mark("day", "Mon")
    inner = ["age", "voice", mb.interaction("age", "voice")] if kind == "slope" else ["voice", "day", mb.interaction("voice", "day")]
    options = {} if weights is None else {"weights": weights, "weights_are": "frequency"}
    fit = mb.fit_linear(study, "score", [*inner, "km"], errors=errors, **options)
    doubled = frame if weights is None else frame.loc[frame.index.repeat(2)]
    X, y = dense_interaction(doubled, kind, base, far), doubled["score"].to_numpy()
    inverse = np.linalg.inv(X.T @ X)
    b = inverse @ X.T @ y
    e, h = y - X @ b, np.einsum("ij,jk,ik->i", X, inverse, X)
    middle = (X.T * (e**2 / (1 - h) ** 2)) @ X if errors == "HC3" else X.T @ X * (e @ e) / (len(y) - X.shape[1])
    V = inverse @ middle @ inverse
    table = fit.coefficients[~fit.coefficients["base"]].reset_index(drop=True)
    skipped = table["term"].isin(["(intercept)", "voice"]) & (far > 0) & (kind == "slope")  # those are told at age 0
    np.testing.assert_allclose(table["estimate"][~skipped], b[~skipped], rtol=1e-7, atol=1e-9)
    np.testing.assert_allclose(table["se"][~skipped], np.sqrt(np.diag(V))[~skipped], rtol=1e-7)
    used = fit.fitted if weights is None else np.repeat(fit.fitted, 2)
    np.testing.assert_allclose(used, X @ b, rtol=1e-9)
    own = [k for k in range(len(table)) if table["term"][k] == inner[2].name]
    F = b[own] @ np.linalg.solve(V[np.ix_(own, own)], b[own]) / len(own)
    assert fit.terms.set_index("term").loc[inner[2].name, "statistic"] == pytest.approx(F, rel=1e-7)
    if kind == "slope":
        assert fit.equal_slopes("age", by="voice").statistic == pytest.approx(F, rel=1e-7)


CURVES = {
    "a parabola": [("age", 2), "voice"],
    "a cubic": [("km", 3), "voice"],
    "two numeric columns": ["age", "km", ["age", "km"], "voice"],
    "a curve by group": [("age", 2), "voice", [("age", 2), "voice"]],
    "a curve by a number": [("age", 2), "km", [("age", 2), "km"]],
    "three groups and numbers": [*("age", "voice", "day", ["age", "voice"], ["age", "day"], ["voice", "day"], ["age", "voice", "day"])],
    "two numbers and a group": ["age", "km", "day", ["age", "km"], ["age", "day"], ["km", "day"], ["age", "km", "day"]],
}


@pytest.mark.parametrize("name", CURVES)
@pytest.mark.parametrize("errors", ["classical", "HC3"])
def test_curves_and_interactions_agree_with_50_digits(name, errors):
    frame, terms, bases = pd.DataFrame(made_up(150)), CURVES[name], {"voice": "alto", "day": "Mon"}
    bases = {k: v for k, v in bases.items() if any(k in str(t) for t in terms)}
    study = mb.Study(frame).mark("voice", "alto").mark("day", "Mon")
    fit = mb.fit_linear(study, "score", [term_of(t) for t in terms], errors=errors)
    wanted = least_squares(frame, "score", terms, bases)
    robust = wanted if errors == "classical" else sandwich(frame, "score", terms, bases, errors)
    table = fit.coefficients[~fit.coefficients["base"]]
    assert list(zip(table["term"], table["level"], strict=True)) == wanted["names"]
    for row in table.itertuples():
        assert digits(row.estimate, wanted["estimate"][row.term, row.level]) > 10
        assert digits(row.se, robust["se"][row.term, row.level]) > 9.5
    highest = [t for t in fit.model_terms if not any(set(t.names) < set(o.names) for o in fit.model_terms)]
    tests = fit.terms.set_index("term")["statistic"]
    for term in highest:
        assert digits(tests[term.name], robust["joint"][term.name]) > 9
    assert digits(fit.strength.r2, wanted["r2"]) > 12
    assert "nan" not in str(fit).lower()


@pytest.mark.parametrize("scheme", ["effect", "adjacent", "trend"])
def test_every_coding_has_the_joint_tests_of_the_indicators_where_the_hypothesis_is_the_same(scheme):
    frame = pd.DataFrame(made_up(300))
    study = mb.Study(frame).as_ordinal("voice").as_ordinal("day").mark("day", "Mon")
    coded = study.code_as("voice", scheme).code_as("day", scheme)
    triple = [mb.interaction("age", "voice"), mb.interaction("voice", "day"), mb.interaction("age", "voice", "day")]
    for terms in (
        ["age", "voice", "day", *triple[:1]],
        ["age", "voice", "day", *triple[:2]],
        ["age", "voice", "day", mb.interaction("age", "day"), *triple],
    ):
        for options in ({}, {"errors": "HC3"}):
            plain, other = (mb.fit_linear(s, "score", terms, **options) for s in (study, coded))
            np.testing.assert_allclose(other.fitted, plain.fitted, rtol=1e-10)
            one, two = plain.terms.set_index("term"), other.terms.set_index("term")
            for term in plain.model_terms:
                if not any(set(term.names) < set(o.names) for o in plain.model_terms):
                    assert two.loc[term.name, "df"] == one.loc[term.name, "df"]
                    assert two.loc[term.name, "statistic"] == pytest.approx(one.loc[term.name, "statistic"], rel=1e-9)
    effect = mb.fit_linear(study.code_as("voice", "effect"), "score", ["voice", "day", mb.interaction("voice", "day")])
    means = frame.assign(score=effect.fitted).groupby(["day", "voice"])["score"].mean().unstack()
    own = effect.coefficients[effect.coefficients["term"] == "voice"].set_index("level")["estimate"]
    np.testing.assert_allclose(own, means.loc["Mon"] - means.loc["Mon"].mean(), rtol=1e-9)  # at the base of the other
    assert effect.terms.set_index("term").loc["voice", "df"] == 3


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_the_demo_crossing_under_effect_coding_has_three_degrees_of_freedom():
    study = mb.demo.plan().open().code_as("voice", "effect")
    crossed = mb.fit_linear(study, "belonging", ["voice", "stays", mb.interaction("voice", "stays")])
    test, retold = crossed.terms.iloc[2], (crossed.rebase(*to).retold for to in (("voice", "bass"), ("stays", "no")))
    assert ["but for those of" in words for words in retold] == [False, True]
    assert (test["df"], round(test["statistic"], 3), round(test["p"], 3)) == (3, 0.430, 0.732)
    blocks = mb.fit_blocks(study, "belonging", {"mains": ["voice", "stays"], "both": [mb.interaction("voice", "stays")]})
    assert blocks.steps["statistic"].iloc[1] == pytest.approx(test["statistic"], rel=1e-9)
    logistic = mb.fit_logistic(study, "stays", ["voice", "age", mb.interaction("age", "voice")], event="yes").terms
    assert logistic["df"].tolist() == [3, 1, 3]


def test_lower_terms_are_added_or_refused_and_kept_in_order():
    study = mb.Study(pd.DataFrame(made_up(200)).assign(**{"voice × day": 1.0})).mark("voice", "alto")
    with pytest.warns(mb.MarkbaseWarning, match="came without `age` and `voice`: they were added"):
        fit = mb.fit_linear(study, "score", ["km", mb.interaction("age", "voice")])
    assert [t.name for t in fit.model_terms] == ["km", "age", "voice", "age × voice"]
    curve, product = mb.polynomial("age"), mb.interaction("age", "voice")
    with pytest.warns(mb.MarkbaseWarning, match=r"came without `age \(quadratic\)`"):
        fit = mb.fit_linear(study, "score", ["voice", mb.interaction(curve, "voice")])
    assert [t.name for t in fit.model_terms] == ["voice", "age (quadratic)", "age (quadratic) × voice"]
    for terms, told in (
        (["age", product], "is in the model without `voice`: what it says then mixes the two"),
        (["age", curve], "`age \\(quadratic\\)` contains `age` already"),
        (["age", "voice", mb.interaction(curve, "voice")], "needs `age \\(quadratic\\)`, and the model has `age` only"),
        (["voice", "day", mb.interaction("voice", "day"), mb.interaction("day", "voice")], "is given twice"),
        ([mb.polynomial("voice")], "`voice` is categorical, so it has no powers"),
        (["voice", "day", mb.interaction("voice", "day"), "voice × day"], "`voice × day` is a column, and what a product"),
    ):
        with pytest.raises(mb.FitError if "voice` is cat" not in told else mb.ColumnError, match=told):
            mb.fit_linear(study, "score", terms, main_effects="refuse")
    for make, told in (
        (lambda: mb.polynomial("age", 4), "degree 2 or 3, not 4"),
        (lambda: mb.interaction("age"), "two or three columns, not 1"),
        (lambda: mb.interaction("age", "age"), "a column times itself is a curve"),
        (lambda: mb.interaction("age", 3), "given by their names"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            make()
    with pytest.raises(mb.FitError, match="stands in a block before `voice`"):
        mb.fit_blocks(study, "score", {"one": ["age", product], "two": ["voice"]})


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_rows_that_are_not_used_change_no_number(kind):
    frame = pd.DataFrame(made_up(200, seed=3)).assign(w=np.random.default_rng(2).uniform(0.5, 2, 200))
    frame["high"] = np.where(frame["score"] + np.random.default_rng(4).normal(0, 8, 200) > 38, "y", "n")
    outcome = {"linear": "score", "logistic": "high"}[kind]
    gaps = frame.copy()
    gaps.loc[::7, "km"] = np.nan
    gaps.loc[3::31, outcome] = None
    gaps.loc[gaps[[outcome, "km"]].isna().any(axis=1), "age"] += 50  # what is not used may hold anything
    terms = ["voice", mb.polynomial("age"), "km", mb.interaction("km", "voice")]
    fits = []
    for table in (gaps, gaps.dropna()):
        study = mb.Study(table.reset_index(drop=True)).mark("voice", "alto")
        options = {"weights": "w"} if kind == "linear" else {"event": "y"}
        fits.append(getattr(mb, f"fit_{kind}")(study, outcome, terms, **options))
    for told in (
        lambda f: f.coefficients,
        lambda f: f.terms,
        lambda f: f.groups("voice"),
        lambda f: f.simple_slopes("age"),
        lambda f: f.simple_slopes("km", by="voice"),
        lambda f: f.predict({"voice": "tenor"}),
        lambda f: f.marginal if kind == "logistic" else f.checks().cases.reset_index(drop=True),
    ):
        one, other = (told(fit).select_dtypes("number").drop(columns="row", errors="ignore") for fit in fits)
        np.testing.assert_allclose(one, other, rtol=1e-8, atol=1e-10)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("errors", ["classical", "HC3"])
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_simple_effects_are_the_tests_of_a_group_where_the_other_is_at_its_base(kind, errors):
    frame = pd.DataFrame(made_up(400))
    frame["high"] = np.where(frame["score"] > frame["score"].median() + 5 * np.sin(frame["age"]), "y", "n")
    terms = ["voice", "day", "age", mb.interaction("voice", "day")]

    def fitted(base, terms=terms, **more):
        study = mb.Study(frame).mark("day", base).mark("voice", "tenor")
        return either(kind, study, terms, ("high", "y"), errors=errors, **more)

    own = fitted("Mon").simple_effects("voice", by="day")
    for row in own.itertuples():
        table = fitted(row.within).terms.set_index("term").loc["voice"]
        wald = ["wald", "wald_p"] if "wald" in table else ["statistic", "p"]
        assert (row.df, row.statistic, row.p) == (3, *(pytest.approx(v, rel=1e-7) for v in table[wald]))
    plain = fitted("Mon", ["voice", "day", "age"])
    (row,) = plain.simple_effects("voice", by="day").to_dict("records")
    assert (row["within"], row["p"]) == ("every level", plain.group_test("voice").p)
    with pytest.raises(mb.MarkbaseError, match="two different groups"):
        plain.simple_effects("voice", by="voice")


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("weights", [{}, {"weights": "w", "weights_are": "frequency"}], ids=["rows", "counted"])
def test_cells_of_two_groups_are_averages_over_rows_set_to_both_levels(weights):
    """By hand: every row set to both levels, predicted, and averaged; the intervals are those of one group of all cells."""
    frame = pd.DataFrame(made_up(400))
    frame["w"] = np.arange(len(frame)) % 3 + 1.0
    frame["high"] = np.where(frame["score"] > frame["score"].median() + 5 * np.sin(frame["age"]), "y", "n")
    crossed = ["voice", "day", "age", mb.interaction("voice", "day"), mb.interaction("voice", "age")]
    for kind in ("linear", "logistic"):
        study = mb.Study(frame)
        fit = either(kind, study, crossed, ("high", "y"), **weights)
        found, pairs = fit.cell_means("voice", "day", correction="bonferroni")
        value = {"linear": "predicted", "logistic": "probability"}[kind]
        for row in found.to_dict("records"):
            put = frame.assign(voice=row["voice"], day=row["day"])
            by_hand = np.average(fit.predict(put)[value], weights=frame["w"] if weights else None)
            assert row["adjusted"] == pytest.approx(by_hand, rel=1e-9)
            assert row["low"] < row["adjusted"] < row["high"]
            here = (frame["voice"] == row["voice"]) & (frame["day"] == row["day"])
            assert row["n"] == (frame["w"][here].sum() if weights else here.sum())
        for (of, _), family in pairs.groupby(["of", "within"], sort=False):
            size = int((pairs["of"] == of).sum())
            np.testing.assert_allclose(family["p_corrected"], np.minimum(1, family["p"] * size))
        merged = mb.Study(frame.assign(cell=frame["voice"] + " " + frame["day"]))
        one = either(kind, merged, ["cell", "age"], ("high", "y"), **weights).groups("cell").set_index("level")
        cells, _ = either(kind, study, crossed[:4], ("high", "y"), **weights).cell_means("voice", "day")
        own = one.loc[cells["voice"] + " " + cells["day"]]
        for name, other in (("adjusted", "adjusted"), ("low", "adjusted_low"), ("high", "adjusted_high")):
            np.testing.assert_allclose(cells[name], own[other], rtol=1e-7)
        alone = either(kind, study, ["voice", "day", "age"], ("high", "y"), **weights)
        whole, pairs = alone.cell_means("voice", "day")
        assert set(pairs["within"]) == {"every level"}
        np.testing.assert_allclose(pairs.loc[pairs["of"] == "day", "p_corrected"], alone.between("day")["p_corrected"])
        assert len(whole) == frame["voice"].nunique() * frame["day"].nunique()


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_coefficients_at_a_value_are_those_of_the_refit_centred_there():
    study = mb.demo.plan().open()
    terms = ["age", "voice", "rehearsals", mb.interaction("age", "voice")]
    fit = mb.fit_linear(study, "belonging", terms)
    centred = study.derive("age_c", centre="age")
    middle = float(np.nanmean(study["age"].values))
    refit = mb.fit_linear(centred, "belonging", ["age_c", "voice", "rehearsals", mb.interaction("age_c", "voice")])
    told = fit.coefficients_at({"age": middle})
    for column in ("estimate", "se", "p"):
        np.testing.assert_allclose(told[column], refit.coefficients[column], rtol=1e-9, atol=1e-14)
    advice = {a.kind: a for a in mb.screen_fit(fit).advice}
    assert "the differences of `voice` are those at `age` = 0" in advice["product"].text
    assert "product" not in {a.kind for a in mb.screen_fit(refit).advice}


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_the_figure_of_a_fit_draws_its_averages_on_one_scale():
    frame = pd.DataFrame(made_up(400))
    frame["old"] = (frame["age"] > 45).astype(float)
    frame["high"] = np.where(frame["score"] > frame["score"].median(), "y", "n")
    study = mb.Study(frame).mark("voice", "alto")
    linear = mb.fit_linear(study, "score", ["voice", "km", "old", mb.polynomial("age"), mb.interaction("voice", "km")])
    logistic = mb.fit_logistic(study, "high", ["voice", "km", "old"], event="y")
    for fit, factor in ((linear, 1), (logistic, 100)):
        axes = mb.draw_coefficients(fit)
        at = dict(zip(axes.get_yticks(), (t.get_text() for t in axes.get_yticklabels()), strict=True))
        dots = {at[line.get_ydata()[0]]: line.get_xdata()[0] for line in axes.lines if line.get_marker() in "oD"}
        ends = {at[c.get_segments()[0][0][1]]: c.get_segments()[0][:, 0] for c in axes.collections}
        for row in fit.groups("voice").to_dict("records"):
            name = f"{row['level']}{' (base)' if row['base'] else ''}"
            assert dots[name] == pytest.approx(factor * row["difference"])
            if not row["base"]:
                np.testing.assert_allclose(ends[name], [factor * row["low"], factor * row["high"]])
        steps = {"km": frame["km"].std(), "old": 1.0}
        for name, step in steps.items():
            label = next(text for text in dots if text.startswith(f"{name}, "))
            assert ("1 against 0" in label) == (name == "old")
            if fit is linear:  # by hand: each row a little further along
                moved = fit.predict(frame.assign(**{name: frame[name] + 1e-3}))["predicted"]
                by_hand = step * (moved - fit.predict(frame)["predicted"]).mean() / 1e-3
                assert dots[label] == pytest.approx(by_hand, rel=1e-6)
            else:
                told = fit.marginal.set_index("term").loc[name]
                assert dots[label] == pytest.approx(100 * step * told["effect"])
                np.testing.assert_allclose(ends[label], [100 * step * told["low"], 100 * step * told["high"]])


@pytest.mark.parametrize("name", ["n", "level", "low", "se", "predicted", "odds_ratio"])
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_a_column_that_is_called_as_a_figure_stands_apart_from_it(name, kind, tmp_path):
    frame, told = pd.DataFrame(made_up(200)).filter(["age", "voice", "score"]), []
    frame["high"] = np.where(frame["score"] > frame["score"].median(), "y", "n")
    for own in ("age", name):
        data = frame.rename(columns={"age": own})
        fit = either(kind, mb.Study(data), [mb.polynomial(own), "voice", mb.interaction(own, "voice")], ("high", "y"))
        data.to_csv(tmp_path / "t.csv", index=False)
        asked = ("--outcome", fit.outcome.name, "--terms=voice", f"--polynomial={own}=2", f"--interaction={own},voice", *(("--kind=logistic", "--event=y") * (kind == "logistic")))  # fmt: skip
        assert f"{own} = 50" in run("slopes", "t.csv", f"{own}:voice", *asked, f"--at={own}=30,50", cwd=tmp_path).stdout
        assert f"  {own} 30  " in run("predict", "t.csv", *asked, f"--profile={own}=30", cwd=tmp_path).stdout
        tables = fit.simple_slopes(own, by="voice", at={own: [30.0, 50.0]}), fit.predict({own: 30.0}), fit.predict(data)
        told.append([t.rename(columns={f"{own} (column)" if f"{own} (column)" in t else own: "x"}) for t in tables])
    for ours, theirs in zip(*told, strict=True):
        pd.testing.assert_frame_equal(ours, theirs)
