"""Estimates held against 50-digit references, and the identities every fit must keep."""

import warnings

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from markbase.core.model.gathering import gather
from markbase.core.model.terms import Block
from reference import dense, digits, least_squares, made_up, sandwich, two_sided_t


def plain():
    return pd.DataFrame(made_up()), ["voice", "day", "age", "km"], {"voice": "tenor", "day": "Mon"}


def with_missing():
    frame, terms, bases = plain()
    frame.loc[[2, 40, 41], "age"] = np.nan
    frame.loc[7, "voice"] = None
    frame.loc[[9, 40], "score"] = np.nan
    return frame, terms, bases


def nearly_collinear(power):
    frame, _, _ = plain()
    frame["near"] = frame["age"] + 10.0**-power * np.random.default_rng(power).normal(size=len(frame))
    return frame, ["voice", "age", "near"], {"voice": "bass"}


def polynomial(degree):
    frame = pd.DataFrame({"x": np.linspace(-8.8, -3.1, 60)})
    powers = range(1, degree + 1)
    frame["score"] = sum(frame["x"] ** k / 10.0**k for k in powers) + np.random.default_rng(1).normal(0, 0.01, 60)
    return frame.assign(**{f"x{k}": frame["x"] ** k for k in powers}), [f"x{k}" for k in powers], {}


def far_from_zero():
    frame, _, _ = plain()
    frame["age"] = 1e9 + (frame["age"] % 3 - 1)
    frame["score"] = frame["age"] + np.random.default_rng(4).normal(0, 0.5, len(frame))
    return frame, ["voice", "age"], {"voice": "alto"}


def badly_scaled():
    frame, terms, bases = plain()
    return frame.assign(age=frame["age"] * 1e-12, km=frame["km"] * 1e12, score=frame["score"] * 1e7), terms, bases


def nearly_exact():
    frame, _, _ = plain()
    return frame.assign(score=3 * frame["age"] + 1e-6 * frame["score"]), ["voice", "age"], {"voice": "alto"}


DESIGNS = {
    "plain": (plain, 12),
    "with missing": (with_missing, 12),
    "nearly collinear, condition 4e5": (lambda: nearly_collinear(4), 12),
    "nearly collinear, condition 4e7": (lambda: nearly_collinear(6), 12),
    "polynomial of degree 6, condition 3e5": (lambda: polynomial(6), 12),
    "polynomial of degree 9, condition 4e8": (lambda: polynomial(9), 10),
    "amount at 1e9 ± 1": (far_from_zero, 12),
    "scales apart by 1e24": (badly_scaled, 12),
    "R² within 1e-13 of 1": (nearly_exact, 12),
}


@pytest.mark.parametrize("name", DESIGNS)
def test_every_number_agrees_with_50_digits(name):
    make, least = DESIGNS[name]
    frame, terms, bases = make()
    study = mb.Study(frame)
    for group, level in bases.items():
        study = study.mark(group, level) if (frame[group] == level).sum() >= 30 else _quietly(study.mark, group, level)
    fit = mb.fit_linear(study, "score", terms)
    wanted = least_squares(frame.dropna(subset=["score", *terms]), "score", terms, bases)

    table = fit.coefficients.set_index(["term", "level"])
    assert len(table) == len(wanted["estimate"]) + len(bases)
    for key, estimate in wanted["estimate"].items():
        t = estimate / wanted["se"][key]
        assert digits(table["estimate"][key], estimate) > least, key
        assert digits(table["se"][key], wanted["se"][key]) > least, key
        assert digits(table["t"][key], t) > least, key
        p = two_sided_t(t, wanted["df_rest"])
        assert p < 1e-300 or digits(table["p"][key], p) > least - 2.5, key
    joint = fit.terms.set_index("term")["statistic"]
    assert all(digits(joint[term], F) > least for term, F in wanted["joint"].items())
    assert digits(fit.overall.statistic, wanted["F"]) > least
    assert wanted["p"] < 1e-300 or digits(fit.overall.p, wanted["p"]) > least - 2.5
    assert digits(fit.strength.r2, wanted["r2"]) > least
    assert digits(fit.strength.typical_miss, wanted["typical_miss"]) > least
    assert fit.sample.used == len(frame.dropna(subset=["score", *terms]))


def _quietly(call, *arguments, **options):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", mb.MarkbaseWarning)
        return call(*arguments, **options)


def test_one_group_alone_gives_the_level_means():
    frame, _, _ = plain()
    means, counts = frame.groupby("day")["score"].mean(), frame.groupby("day")["score"].size()
    fit = mb.fit_linear(mb.Study(frame).mark("day", "Tue"), "score", ["day"])
    table = fit.coefficients.set_index("level")
    assert table["estimate"][""] == pytest.approx(means["Tue"], rel=1e-13)
    assert table["estimate"]["Wed"] == pytest.approx(means["Wed"] - means["Tue"], rel=1e-12)
    gap = fit.strength.typical_miss * np.sqrt(1 / counts["Mon"] + 1 / counts["Tue"])
    assert table["se"]["Mon"] == pytest.approx(gap, rel=1e-12)
    base = table.loc["Tue"]
    assert (base["base"], base["estimate"], base["se"], base["n"]) == (True, 0.0, 0.0, counts["Tue"])
    assert np.isnan(base["p"])


@settings(max_examples=40, deadline=None)
@given(
    rows=st.integers(25, 90),
    seed=st.integers(0, 10**6),
    levels=st.integers(2, 6),
    gaps=st.floats(0, 0.2),
    power=st.integers(-6, 6),
)
def test_nothing_but_the_telling_depends_on_the_base(rows, seed, levels, gaps, power):
    rng = np.random.default_rng(seed)
    group = np.concatenate([np.arange(levels), rng.integers(0, levels, rows - levels)])
    frame = pd.DataFrame({"g": [f"L{k}" for k in group], "x": 10.0**power * rng.normal(5, 1, rows)})
    frame["y"] = group + frame["x"] / 10.0**power + rng.normal(0, 1, rows)
    frame.loc[rng.random(rows) < gaps, "x"] = np.nan
    frame.loc[: levels - 1, "x"] = 10.0**power * np.arange(1.0, levels + 1)
    study = mb.Study(frame)
    fits = [mb.fit_linear(_quietly(study.mark, "g", f"L{k}"), "y", ["g", "x"]) for k in range(levels)]
    first = fits[0]
    dense = np.linalg.lstsq(*_dense(frame.dropna()), rcond=None)[0]
    np.testing.assert_allclose(
        first.coefficients["estimate"][~first.coefficients["base"]], dense, rtol=1e-7, atol=1e-7 * 10.0**-power
    )
    for k, fit in enumerate(fits):
        assert fit.strength == first.strength
        assert fit.overall == first.overall
        pd.testing.assert_frame_equal(fit.terms, first.terms)
        np.testing.assert_allclose(fit.fitted, first.fitted, rtol=1e-10, atol=1e-10)
        mine, its = (f.coefficients.set_index("level") for f in (fit, first))
        assert mine.loc["L0", "estimate"] == pytest.approx(-its.loc[f"L{k}", "estimate"], rel=1e-10, abs=1e-12)
        assert mine.loc["L0", "se"] == pytest.approx(its.loc[f"L{k}", "se"], rel=1e-10)
    V = first.covariance.to_numpy()
    np.testing.assert_allclose(np.sqrt(np.diag(V)), first.coefficients["se"], rtol=1e-12)


def _dense(frame):
    levels = sorted(frame["g"].unique())[1:]
    columns = [np.ones(len(frame)), *((frame["g"] == v).to_numpy(float) for v in levels), frame["x"]]
    return np.column_stack(columns), frame["y"].to_numpy()


def test_moments_of_parts_merge_to_the_moments_of_the_whole():
    rng = np.random.default_rng(8)
    n, cut = 500, 170
    x, y = rng.normal(1e6, 1, n), rng.normal(size=n) * np.geomspace(1, 50, n)
    g, h = rng.integers(0, 3, n), rng.integers(0, 200, n)

    def take(rows):
        blocks = [
            Block(1, multiplier=x[rows]),
            Block(3, codes=g[rows]),
            Block(200, codes=h[rows]),
            Block(1, multiplier=y[rows]),
        ]
        return gather(blocks, len(x[rows]))

    whole = take(slice(None))
    joint = take(slice(0, cut)).merge(take(slice(cut, None)))
    ratio = np.repeat(whole.scales / joint.scales, whole.sizes)
    again = whole.centred_at(joint.centres).cross * np.outer(ratio, ratio)
    np.testing.assert_allclose(joint.cross, again, rtol=1e-9, atol=1e-9)
    assert joint.rows == n
    np.testing.assert_array_equal(
        whole.cross[5:205, 2:5], pd.crosstab(h, g).reindex(range(200), fill_value=0).to_numpy()
    )


OVERLAPS = [
    (["rehearsals", "concerts", "events"], "`events` equals `rehearsals` \\+ `concerts`"),
    (["age", "mean", "concerts", "rehearsals"], "`mean` equals 0.5·`concerts` \\+ 0.5·`rehearsals`|0.5·`rehearsals`"),
    (["age", "months"], "`months` equals 12·`age` \\+ 3"),
    (["voice", "part"], "`voice` and `part` sort the rows into the same groups"),
    (["choir", "district"], "every level of `choir` lies within one level of `district`"),
    (["choir", "size", "age"], "`size` is fixed by `choir`"),
    (["voice", "late"], "`voice` is `bass` in exactly the rows where `late` is `yes`"),
]


@pytest.mark.parametrize(("terms", "told"), OVERLAPS)
def test_exact_overlaps_are_named_and_never_dropped(terms, told):
    rng = np.random.default_rng(5)
    n = 400
    voice = rng.choice(["alto", "bass", "soprano"], n, p=[0.5, 0.2, 0.3])
    choir = rng.integers(0, 8, n)
    frame = pd.DataFrame({"voice": voice, "choir": [f"C{k}" for k in choir], "age": rng.integers(16, 80, n)})
    frame["rehearsals"], frame["concerts"] = rng.integers(0, 20, n), rng.integers(0, 8, n)
    frame["events"] = frame["rehearsals"] + frame["concerts"]
    frame["mean"] = frame["events"] / 2
    frame["months"] = 12 * frame["age"] + 3
    frame["part"] = frame["voice"].str[0]
    frame["district"] = np.where(choir < 3, "upper", "lower")
    frame["size"] = np.array([11.5, 40, 23, 30, 18, 55, 27, 33])[choir]
    frame["late"] = np.where(voice == "bass", "yes", rng.choice(["no", "some"], n))
    frame["y"] = rng.normal(size=n)
    with pytest.raises(mb.OverlapError, match=told):
        mb.fit_linear(mb.Study(frame), "y", terms)


def test_so_near_an_overlap_that_digits_would_be_noise_is_refused_in_words():
    frame, _, _ = plain()
    frame["near"] = frame["age"] * 1.0
    frame.loc[0, "near"] += 2e-12 * 45
    with pytest.raises(mb.FitError, match=r"`age` and `near` overlap|`near` equals"):
        mb.fit_linear(mb.Study(frame), "score", ["age", "near"])


def test_an_outcome_made_of_its_terms_is_said_to_be_so():
    frame, _, _ = plain()
    frame["score"] = 2 * frame["age"] + frame["km"] + 1
    with pytest.warns(mb.MarkbaseWarning, match="reproduce `score` exactly"):
        fit = mb.fit_linear(mb.Study(frame), "score", ["age", "km"])
    assert fit.coefficients["estimate"].to_numpy() == pytest.approx([1, 2, 1], rel=1e-12)
    assert "means nothing" in str(fit)


def test_the_account_of_the_rows_adds_up():
    frame, terms, _ = with_missing()
    frame["age"] = frame["age"].fillna(-9)
    fit = mb.fit_linear(mb.Study(frame, {"columns": {"age": {"missing": {"-9": "no answer"}}}}), "score", terms)
    lost = fit.sample.lost.set_index(["column", "reason"])
    assert lost.loc[("age", "no answer (-9)"), ["rows", "only"]].tolist() == [3, 2]
    assert lost.loc[("score", "blank"), ["rows", "only"]].tolist() == [2, 1]
    assert lost.loc[("voice", "blank"), ["rows", "only"]].tolist() == [1, 1]
    assert fit.sample.rows - fit.sample.used == 5
    assert np.isnan(fit.fitted).sum() == 5


def test_the_demo_comes_close_to_the_truth_it_was_made_with():
    from markbase.demo.generate import BELONGING

    study = (
        mb.demo.choirs().mark("voice", "alto").mark("rehearsal_day", "Monday").mark("joined_through", "open evening")
    )
    terms = ["age", "voice", "joined_through", "rehearsal_day", "years_in_choir", "rehearsals", "concerts", "travel_km"]
    table = mb.fit_linear(study, "belonging", terms).coefficients.set_index(["term", "level"])
    for term in ("age", "years_in_choir", "rehearsals", "concerts", "travel_km"):
        row = table.loc[(term, "")]
        assert abs(row["estimate"] - BELONGING[term]) < 3.5 * row["se"]
    for term in ("voice", "joined_through"):
        for level, effect in BELONGING[term].items():
            row = table.loc[(term, level)]
            assert abs(row["estimate"] - effect) <= 3.5 * row["se"]


ERRORS = [("HC0", None), ("HC1", None), ("HC2", None), ("HC3", None), ("robust", None), ("classical", "team")]


@pytest.mark.parametrize(("kind", "cluster"), ERRORS)
@pytest.mark.parametrize("base", ["alto", "bass"])
@pytest.mark.parametrize("far", [False, True])
def test_robust_and_clustered_errors_agree_with_50_digits(kind, cluster, base, far):
    frame, terms, bases = plain()
    bases = bases | {"voice": base}
    frame["team"] = [f"T{k % 17:02d}" for k in range(len(frame))]
    if far:
        frame = frame.assign(age=frame["age"] + 1e8, score=frame["score"] - 1e7)
    study = mb.Study(frame)
    for group, level in bases.items():
        study = study.mark(group, level)
    fit = _quietly(mb.fit_linear, study, "score", terms, errors=kind, cluster=cluster)
    wanted = sandwich(frame, "score", terms, bases, "HC3" if kind == "robust" else kind, cluster)
    table = fit.coefficients.set_index(["term", "level"])
    estimates = least_squares(frame, "score", terms, bases)["estimate"]
    for key, se in wanted["se"].items():
        assert digits(table["se"][key], se) > (7 if far else 11), key
        p = two_sided_t(estimates[key] / se, wanted["df"])
        assert digits(table["p"][key], p) > (5 if far else 9), key
    for term, F in wanted["joint"].items():
        assert digits(fit.terms.set_index("term")["statistic"][term], F) > (7 if far else 10)
    assert digits(fit.overall.statistic, wanted["overall"]) > (7 if far else 10)
    assert fit.overall.df_rest == wanted["df"]
    np.testing.assert_allclose(np.sqrt(np.diag(fit.covariance)), fit.coefficients["se"], rtol=1e-9)
    plain_fit = mb.fit_linear(study, "score", terms)
    assert plain_fit.strength == fit.strength
    assert "HC" in str(fit) or "clustered by team (17 clusters)" in str(fit)


def test_errors_that_cannot_be_had_are_refused_or_remarked():
    study = mb.demo.choirs()
    with pytest.warns(mb.MarkbaseWarning, match="`choir` has only 24 clusters"):
        fit = mb.fit_linear(study, "belonging", ["age", "voice"], cluster="choir")
    assert fit.df_rest == 23
    smaller = fit.without("voice")
    with pytest.warns(mb.MarkbaseWarning):
        again = mb.fit_linear(study, "belonging", ["age"], cluster="choir")
    np.testing.assert_allclose(smaller.coefficients["se"], again.coefficients["se"], rtol=1e-9)
    frame, terms, _ = plain()
    frame.loc[0, "voice"] = "solo"
    with pytest.raises(mb.FitError, match="HC3 errors are not defined: 1 row alone decides"):
        mb.fit_linear(mb.Study(frame), "score", terms, errors="robust")
    assert mb.fit_linear(mb.Study(frame), "score", terms, errors="HC1").errors.kind == "HC1"
    for options, told in (
        ({"errors": "HC4"}, "no errors `HC4`.*Did you mean"),
        ({"errors": "robust", "cluster": "choir"}, "leave one of the two out"),
        ({"cluster": "age"}, "`age` is an amount; clusters are the levels of a group"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.fit_linear(study, "belonging", ["voice", "travel_km"], **options)
    frame["two"] = np.where(np.arange(len(frame)) < 60, "a", "b")
    with pytest.warns(mb.MarkbaseWarning, match="only 2 clusters"):
        few = mb.fit_linear(mb.Study(frame.iloc[1:]), "score", terms, cluster="two")
    assert np.isnan(few.overall.statistic)
    assert "fewer clusters than coefficients" in " ".join(str(few).split())


def test_standardised_estimates_are_those_of_z_scores_and_levels_stay_differences():
    frame, terms, _ = plain()
    z = frame.assign(**{n: (frame[n] - frame[n].mean()) / frame[n].std() for n in ("age", "km", "score")})
    fits = [mb.fit_linear(mb.Study(f).mark("voice", "alto"), "score", terms) for f in (frame, z)]
    got, wanted = fits[0].standardised, fits[1].coefficients.iloc[1:].reset_index(drop=True)
    for column in ("estimate", "low", "high"):
        np.testing.assert_allclose(got[column], wanted[column], rtol=1e-9, atol=1e-12)
    assert set(got["step"][got["term"] == "voice"]) == {"difference"}
    assert got["step"].str.startswith("one standard deviation of age").sum() == 1


def test_all_but_takes_what_is_left():
    study = mb.demo.choirs()
    terms = mb.all_but("events", "choir", "satisfaction", "practice_hours", "stays", "travel_min")
    fit = mb.fit_linear(study, "belonging", terms)
    names = [
        "voice",
        "joined_through",
        "rehearsal_day",
        "age",
        "years_singing",
        "years_in_choir",
        "travel_km",
        "rehearsals",
        "concerts",
    ]
    assert [t.name for t in fit.parts] == names
    assert mb.screen(study, terms, "belonging").terms["term"].tolist() == names
    with pytest.raises(mb.ColumnError, match="no column `event`"):
        mb.fit_linear(study, "belonging", mb.all_but("event"))


@pytest.mark.parametrize("settings_of_errors", [{}, {"errors": "HC1"}, {"errors": "HC3"}, {"cluster": "team"}])
@pytest.mark.parametrize("near", [False, True])
def test_frequencies_are_rows_repeated(settings_of_errors, near):
    frame, terms, _ = plain()
    if near:  # takes the way by twice the working precision
        frame["shadow"] = frame["age"] + 1e-5 * np.random.default_rng(3).normal(size=len(frame))
        terms = [*terms, "shadow"]
    frame["team"] = [f"T{k % 40:02d}" for k in range(len(frame))]
    frame["times"] = np.random.default_rng(2).integers(1, 5, len(frame))
    frame.loc[4, "times"] = np.nan
    long = frame.dropna().loc[lambda f: f.index.repeat(f["times"].astype(int))].reset_index(drop=True)
    short_fit = mb.fit_linear(
        mb.Study(frame), "score", terms, weights="times", weights_are="frequency", **settings_of_errors
    )
    long_fit = mb.fit_linear(mb.Study(long), "score", terms, **settings_of_errors)
    one, other = short_fit.coefficients.drop(columns="n"), long_fit.coefficients.drop(columns="n")
    by_name = one.set_index(["term", "level"]), other.set_index(["term", "level"])
    if by_name[0]["base"].equals(by_name[1]["base"]):
        for column in ("estimate", "se", "t", "p", "low", "high"):
            np.testing.assert_allclose(by_name[0][column], by_name[1][column], rtol=1e-8, atol=1e-13)
    np.testing.assert_allclose(short_fit.terms["statistic"], long_fit.terms["statistic"], rtol=1e-8)
    assert short_fit.overall.df_rest == long_fit.overall.df_rest
    assert short_fit.strength.typical_miss == pytest.approx(long_fit.strength.typical_miss, rel=1e-11)
    assert short_fit.strength.bic == pytest.approx(long_fit.strength.bic, rel=1e-11)
    assert short_fit.coefficients["n"][0] == len(frame) - 1
    np.testing.assert_allclose(mb.screen_fit(short_fit).terms["gvif"], mb.screen_fit(long_fit).terms["gvif"], rtol=1e-9)


@pytest.mark.parametrize("kind", [None, "HC0", "HC1", "HC2", "HC3"])
def test_sampling_weights_agree_with_weighted_columns_and_need_robust_errors(kind):
    frame, terms, bases = plain()
    frame["w"] = np.random.default_rng(5).gamma(4, 1, len(frame))
    study = mb.Study(frame).mark("day", "Mon").mark("voice", "alto")
    bases = {"voice": "alto", "day": "Mon"}
    fit = mb.fit_linear(study, "score", terms, weights="w", errors=kind)
    assert fit.errors.kind == (kind or "HC3")
    columns, names = dense(frame, terms, bases)
    w = (frame["w"] / frame["w"].mean()).to_numpy()
    X, y = np.array(columns, dtype=float).T * np.sqrt(w)[:, None], frame["score"].to_numpy() * np.sqrt(w)
    inverse = np.linalg.inv(X.T @ X)
    b = inverse @ X.T @ y
    e, h = y - X @ b, np.einsum("ij,jk,ik->i", X, inverse, X)
    n, p = X.shape
    weight = {"HC0": 1.0, "HC1": n / (n - p), "HC2": 1 / (1 - h), "HC3": 1 / (1 - h) ** 2}[kind or "HC3"] * e**2
    V = inverse @ (X.T * weight) @ X @ inverse
    table = fit.coefficients.set_index(["term", "level"]).loc[names]
    np.testing.assert_allclose(table["estimate"], b, rtol=1e-9)
    np.testing.assert_allclose(table["se"], np.sqrt(np.diag(V)), rtol=1e-9)
    scaled = mb.fit_linear(
        mb.Study(frame.assign(w=frame["w"] * 1000)).mark("day", "Mon").mark("voice", "alto"),
        "score",
        terms,
        weights="w",
        errors=kind,
    )
    np.testing.assert_allclose(scaled.coefficients["se"], fit.coefficients["se"], rtol=1e-12)
    assert "sampling weights from w" in str(fit)


def test_weights_that_make_no_sense_are_refused():
    frame, terms, _ = plain()
    frame["w"], frame["z"] = 1.5, np.where(np.arange(len(frame)) == 3, 0.0, 1.0)
    study = mb.Study(frame)
    for options, told in (
        (
            {"weights": "w", "weights_are": "frequency"},
            "must be whole numbers of 1 or more, and 120 rows used are not .1.5.",
        ),
        ({"weights": "z"}, "must be positive, and 1 row used is not .0."),
        ({"weights": "voice"}, "is a group; weights are an amount"),
        ({"weights": "w", "weights_are": "survey"}, "no weights `survey`"),
        ({"weights": "w", "errors": "classical"}, "Sampling weights need robust or clustered errors"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.fit_linear(study, "score", terms, **options)


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
@pytest.mark.parametrize("far", [0.0, 1e6])
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
        assert fit.parallel_lines("age", by="voice").statistic == pytest.approx(F, rel=1e-7)


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
    tests = [f.parallel_lines("age", by="voice") for f in (whole, separate)]
    assert tests[0].statistic == pytest.approx(tests[1].statistic, rel=1e-9)
    effect = mb.fit_linear(study.code_as("voice", "effect"), "score", ["age", "voice", mb.slope("age", by="voice")])
    assert effect.parallel_lines("age", by="voice").statistic == pytest.approx(tests[0].statistic, rel=1e-9)
    np.testing.assert_allclose(effect.fitted, whole.fitted, rtol=1e-11)
    shifts = effect.coefficients.set_index(["term", "level"])["estimate"]
    assert sum(shifts["age by voice", v] for v in ("alto", "bass", "soprano", "tenor")) == pytest.approx(0, abs=1e-12)
    assert whole.without("age by voice").strength == mb.fit_linear(study, "score", ["age", "voice"]).strength
    with pytest.raises(mb.FitError, match="no slope of `km` that differs by `voice`"):
        whole.parallel_lines("km", by="voice")
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
        (mb.slope("voice", by="day"), "`voice` is a group, `day` is a group"),
        (mb.cross("voice", "age"), "A crossing is of two groups"),
        (mb.cross("day", "voice"), "given twice"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.fit_linear(study, "score", ["voice", "day", mb.cross("voice", "day"), term])
