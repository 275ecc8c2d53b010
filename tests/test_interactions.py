"""Slopes by group and crossings, against dense columns."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from reference import made_up


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
    inner = (
        ["age", "voice", mb.slope("age", by="voice")] if kind == "slope" else ["voice", "day", mb.cross("voice", "day")]
    )
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


def test_separate_slopes_say_the_same_and_what_stands_alone_is_remarked():
    frame = pd.DataFrame(made_up(300))
    study = mb.Study(frame).mark("voice", "alto")
    whole = mb.fit_linear(study, "score", ["age", "voice", mb.slope("age", by="voice")])
    with pytest.warns(mb.MarkbaseWarning, match="`age by voice` is in the model without `age` as a term of its own"):
        separate = mb.fit_linear(study, "score", ["voice", mb.slope("age", by="voice")])
    assert separate.strength.r2 == pytest.approx(whole.strength.r2, rel=1e-12)
    one, other = (f.coefficients.set_index(["term", "level"])["estimate"] for f in (whole, separate))
    for level in ("alto", "bass", "soprano", "tenor"):
        assert other["age by voice", level] == pytest.approx(one["age", ""] + one["age by voice", level], rel=1e-9)
    tests = [f.equal_slopes("age", by="voice") for f in (whole, separate)]
    assert tests[0].statistic == pytest.approx(tests[1].statistic, rel=1e-9)
    effect = mb.fit_linear(study.code_as("voice", "effect"), "score", ["age", "voice", mb.slope("age", by="voice")])
    assert effect.equal_slopes("age", by="voice").statistic == pytest.approx(tests[0].statistic, rel=1e-9)
    np.testing.assert_allclose(effect.fitted, whole.fitted, rtol=1e-11)
    shifts = effect.coefficients.set_index(["term", "level"])["estimate"]
    assert sum(shifts["age by voice", v] for v in ("alto", "bass", "soprano", "tenor")) == pytest.approx(0, abs=1e-12)
    assert whole.without("age by voice").strength == mb.fit_linear(study, "score", ["age", "voice"]).strength
    with pytest.raises(mb.FitError, match="no slope of `km` that differs by `voice`"):
        whole.equal_slopes("km", by="voice")
    words = " ".join(s.text for s in whole.reading().statements)
    assert "parallel lines" in words or "lines are not parallel" in words
    assert "at the base `alto` of `voice`" in words
    assert "at `age` = 0" in words
    assert "age·[voice: bass]" in whole.equation().text


def test_a_combination_that_never_occurs_is_said_and_not_made_up():
    frame = pd.DataFrame(made_up(300))
    frame.loc[(frame["voice"] == "bass") & (frame["day"] == "Wed"), "day"] = "Tue"
    study = mb.Study(frame).mark("voice", "alto").mark("day", "Mon")
    fit = mb.fit_linear(study, "score", ["voice", "day", mb.cross("voice", "day")])
    table = fit.coefficients.set_index(["term", "level"])
    assert np.isnan(table.loc[("voice × day", "bass × Wed"), "estimate"])
    assert fit.terms.set_index("term").loc["voice × day", "df"] == 5
    cells = frame.groupby(["voice", "day"])["score"].mean()
    difference = cells["bass", "Tue"] - cells["bass", "Mon"] - cells["alto", "Tue"] + cells["alto", "Mon"]
    assert table.loc[("voice × day", "bass × Tue"), "estimate"] == pytest.approx(difference, rel=1e-10)
    assert "cannot be estimated" in " ".join(s.text for s in fit.reading().statements)
    assert "nan" not in str(fit)
    for term, told in (
        (mb.slope("voice", by="day"), "`voice` is categorical, `day` is categorical"),
        (mb.cross("voice", "age"), "A crossing is of two groups"),
        (mb.cross("day", "voice"), "given twice"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.fit_linear(study, "score", ["voice", "day", mb.cross("voice", "day"), term])


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_coefficients_at_a_value_are_those_of_the_refit_centred_there():
    study = mb.demo.plan().open()
    terms = ["age", "voice", "rehearsals", mb.slope("age", by="voice")]
    fit = mb.fit_linear(study, "belonging", terms)
    centred = study.derive("age_c", centre="age")
    middle = float(np.nanmean(study["age"].values))
    refit = mb.fit_linear(centred, "belonging", ["age_c", "voice", "rehearsals", mb.slope("age_c", by="voice")])
    told = fit.coefficients_at({"age": middle})
    for column in ("estimate", "se", "p"):
        np.testing.assert_allclose(told[column], refit.coefficients[column], rtol=1e-9, atol=1e-14)
    advice = {a.kind: a for a in mb.screen_fit(fit).advice}
    assert "the differences of `voice` are those at `age` = 0" in advice["product"].text
    assert "product" not in {a.kind for a in mb.screen_fit(refit).advice}
