"""Estimates held against 50-digit references, and the identities every fit must keep."""

import warnings

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from reference import digits, least_squares, made_up, two_sided_t
from yes_no import choir


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


DESIGNS = {"plain": (plain, 12), "with missing": (with_missing, 12),
    "nearly collinear, condition 4e5": (lambda: nearly_collinear(4), 12),
    "nearly collinear, condition 4e7": (lambda: nearly_collinear(6), 12),
    "polynomial of degree 6, condition 3e5": (lambda: polynomial(6), 12),
    "polynomial of degree 9, condition 4e8": (lambda: polynomial(9), 10),
    "numeric column at 1e9 ± 1": (far_from_zero, 12), "scales apart by 1e24": (badly_scaled, 12),
    "R² within 1e-13 of 1": (nearly_exact, 12)}  # fmt: skip


@pytest.mark.filterwarnings("ignore:.*(all but reproduces|the (square|cube|product) of|order of):markbase.MarkbaseWarning")
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
    assert digits(fit.strength.residual_sd, wanted["residual_sd"]) > least
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
    gap = fit.strength.residual_sd * np.sqrt(1 / counts["Mon"] + 1 / counts["Tue"])
    assert table["se"]["Mon"] == pytest.approx(gap, rel=1e-12)
    base = table.loc["Tue"]
    assert (base["base"], base["estimate"], base["se"], base["n"]) == (True, 0.0, 0.0, counts["Tue"])
    assert np.isnan(base["p"])


@settings(max_examples=40, deadline=None)
@given(rows=st.integers(25, 90), seed=st.integers(0, 10**6), levels=st.integers(2, 6), gaps=st.floats(0, 0.2), power=st.integers(-6, 6))
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
    np.testing.assert_allclose(first.coefficients["estimate"][~first.coefficients["base"]], dense, rtol=1e-7, atol=1e-7 * 10.0**-power)
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


OVERLAPS = [
    (["rehearsals", "concerts", "events"], "`events` equals `rehearsals` \\+ `concerts` .* one more in `rehearsals`"),
    (["age", "mean", "concerts", "rehearsals"], "`mean` equals 0.5·`concerts` \\+ 0.5·`rehearsals` .*Leave out one of"),
    (["age", "size", mb.interaction("age", "size"), "both"], "Leave out one of `age × size` or `both`;"),
    (["age", "months"], "`months` equals 12·`age` \\+ 3"),
    (["voice", "part"], "`voice` and `part` sort the rows into the same groups"),
    (["choir", "district"], "every level of `choir` lies within one level of `district`"),
    (["choir", "size", "age"], "`size` is fixed by `choir`"),
    ([mb.polynomial("seasons"), "age"], "`seasons` has too few different values for `seasons \\(quadratic\\)`.* with a power less"),
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
    frame["both"] = (frame["size"] + 2) * frame["age"]
    frame["seasons"] = rng.integers(2020, 2022, n)
    frame["late"] = np.where(voice == "bass", "yes", rng.choice(["no", "some"], n))
    frame["y"] = rng.normal(size=n)
    with pytest.raises(mb.CollinearityError, match=told):
        mb.fit_linear(mb.Study(frame), "y", terms)


def test_so_near_an_overlap_that_digits_would_be_noise_is_refused_in_words():
    frame, _, _ = plain()
    frame["near"] = frame["age"] * 1.0
    frame.loc[0, "near"] += 2e-12 * 45
    with pytest.raises(mb.FitError, match=r"`age` and `near` are so nearly collinear .condition number \d\.\d+e\d\d. that"):
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


@pytest.mark.parametrize("effect", [0.0, 1e-6, 0.4])
def test_a_term_that_is_most_of_the_model_is_tested_by_what_the_others_leave(monkeypatch, effect):
    rng = np.random.default_rng(7)
    codes = rng.integers(0, 9, 400)
    table = pd.DataFrame({"x": rng.normal(size=400), "part": [f"p{c}" for c in codes]})
    table["y"] = 3 * table["x"] + effect * codes + rng.normal(size=400)
    wanted = mb.fit_linear(table, "y", ["x", "part"]).terms
    monkeypatch.setattr("markbase.core.inference.joint_tests._MANY", 1)
    found = mb.fit_linear(table, "y", ["x", "part"]).terms
    pd.testing.assert_frame_equal(found, wanted, rtol=1e-12)


def test_more_columns_than_a_fit_holds_are_refused_and_many_are_announced(monkeypatch):
    table = pd.DataFrame({"y": range(40), "x": [k % 7 for k in range(40)], "id": [f"p{k % 9}" for k in range(40)]})
    monkeypatch.setattr("markbase.core.design.options.MOST_COLUMNS", 9)
    monkeypatch.setattr("markbase.core.design.options.WIDE", 8)
    with pytest.raises(mb.FitError, match=r"10 columns .* at most 9: .* Take the levels of `id` out as fixed effects"):
        mb.fit_linear(table, "y", ["x", "id"])
    with pytest.warns(mb.MarkbaseWarning, match="9 columns: about 0.0 GB of memory, and minutes"):
        mb.fit_linear(table, "y", ["id"])
    monkeypatch.setattr("markbase.core.design.options.WIDE", 9)
    with pytest.raises(mb.FitError, match="Screen the columns first"):
        mb.fit_linear(table, "y", ["x", "id"])


def _many_levels(seed, rows=4000, levels=260):
    """Return rows in very many levels, of which the first is the most populous, and columns that lean on them."""
    rng = np.random.default_rng(seed)
    g = np.concatenate([np.arange(levels), rng.integers(0, levels, rows - levels - 100), np.zeros(100, dtype=int)])
    far = rng.normal(size=levels)[g]
    x = far * 8 + rng.normal(size=rows) + 1e4
    return pd.DataFrame({"g": [f"g{k:03d}" for k in g], "x": x, "z": 0.9 * (x - 1e4) + rng.normal(size=rows),
        "part": rng.choice(["a", "b", "c"], rows), "w": rng.uniform(0.5, 2.0, rows),
        "y": far + 0.2 * (x - 1e4) + rng.normal(size=rows)})  # fmt: skip


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("weights", [None, "w"])
@pytest.mark.parametrize("place", [0, 2], ids=["first", "last"])
def test_a_group_of_very_many_levels_is_as_its_columns_laid_out(weights, place):
    data = _many_levels(seed=place)
    study = mb.Study(data).mark("g", "g017").mark("part", "b")
    terms = ["x", "z", "part"]
    terms.insert(place, "g")
    terms.append(mb.interaction("z", "part"))
    fit = mb.fit_linear(study, "y", terms, weights=weights, errors="HC0" if weights else None)
    part = [(data["part"] == v).to_numpy(float) for v in "ac"]
    z, levels = data["z"].to_numpy(), sorted(set(data["g"]) - {"g017"})
    own = {"x": [data["x"] - 1e4], "z": [z], "part": part, "g": [(data["g"] == v).to_numpy(float) for v in levels]}
    X = np.column_stack([np.ones(len(data)), *(c for t in terms[:-1] for c in own[t]), *(z * c for c in part)])
    w = np.sqrt(data["w"].to_numpy() if weights else np.ones(len(data)))
    Q, R = np.linalg.qr(X * w[:, None])
    b = np.linalg.solve(R, Q.T @ (data["y"].to_numpy() * w))
    e, inverse = data["y"].to_numpy() - X @ b, np.linalg.inv(R)
    V = inverse @ inverse.T * (e @ e) / (len(X) - X.shape[1])
    if weights:
        half = inverse @ inverse.T @ (X.T * (w * w * e))
        V = half @ half.T
    told = fit.coefficients[~fit.coefficients["base"]]
    np.testing.assert_allclose(told["estimate"].iloc[1:], b[1:], rtol=1e-9, atol=1e-10)
    np.testing.assert_allclose(told["se"].iloc[1:], np.sqrt(np.diag(V))[1:], rtol=1e-9)
    at = slice(1 + place, 1 + place + len(levels))
    F = b[at] @ np.linalg.solve(V[at, at], b[at]) / len(levels)
    assert fit.terms.set_index("term")["statistic"]["g"] == pytest.approx(F, rel=1e-9)
    np.testing.assert_allclose(fit.fitted, X @ b, atol=1e-11)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_a_group_of_very_many_levels_alone_is_told_by_its_means_without_a_word_of_linear_algebra(capfd):
    data = _many_levels(seed=4)
    fit = mb.fit_linear(mb.Study(data).mark("g", "g017"), "y", ["g"])
    own = data.groupby("g")["y"]
    means, n = own.mean(), own.count()
    sigma = np.sqrt((own.var() * (n - 1)).sum() / (len(data) - len(n)))
    told = fit.coefficients.iloc[1:].set_index("level")
    np.testing.assert_allclose(told["estimate"], (means - means["g017"])[told.index], rtol=1e-9, atol=1e-12)
    told = told.drop("g017")
    np.testing.assert_allclose(told["se"], sigma * np.sqrt(1 / n + 1 / n["g017"])[told.index], rtol=1e-10)
    assert capfd.readouterr().err == ""


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("more", [
    {}, {"errors": "HC3"}, {"cluster": "team"}, {"weights": "times"}, {"weights": "times", "weights_are": "frequency"},
    {"fixed_effects": "team"}, {"fixed_effects": ("team", "day"), "cluster": "team"},
])  # fmt: skip
def test_what_a_term_adds_is_what_r2_loses_without_it(more):
    fit = mb.fit_linear(mb.Study(choir(300)), "score", ["voice", mb.polynomial("age"), "km"], **more)
    explained = [f.strength.r2 if f.strength.r2_within is None else f.strength.r2_within for f in (fit, *map(fit.without, fit.terms["term"]))]  # fmt: skip
    for row, less in zip(fit.terms.itertuples(), explained[1:], strict=True):
        assert row.part_r2 == pytest.approx(explained[0] - less, rel=1e-9)
        assert row.partial_r2 == pytest.approx((explained[0] - less) / (1 - less), rel=1e-9)
    crossed = mb.fit_linear(mb.Study(choir(300)), "score", ["age", "voice", "km", mb.interaction("age", "voice")]).terms
    assert crossed["part_r2"].isna().tolist() == [True, True, False, False]
