"""Logistic regression: against 50-digit arithmetic, closed forms, and outcomes that cannot be fitted."""

import itertools
import math

import mpmath as mp
import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import minimize
from scipy.stats import f as f_tail
from scipy.stats import t

import markbase as mb
from markbase.core.estimation import newton
from markbase.core.estimation.least_squares_solution import Dependent
from markbase.core.estimation.likelihood_points import Theta
from markbase.core.estimation.secants import Secants
from reference import digits, hotelling, logistic
from untraced import untraced
from yes_no import choir, study_of

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
TERMS = ["voice", "age", "km"]
HALF = mp.findroot(lambda x: mp.gammainc(mp.mpf(1) / 2, 0, x, regularized=True) - mp.mpf("0.95"), 1.9)


@pytest.mark.parametrize("base", ["alto", "tenor"])
@pytest.mark.parametrize("kind", ["plain", "firth", "frequencies"])
def test_estimates_tests_and_likelihood_agree_with_50_digits(base, kind):
    frame = choir()
    extra = {"plain": {}, "firth": {"penalty": "firth"}, "frequencies": {"weights": "times", "weights_are": "frequency"}}[kind]
    fit = mb.fit_logistic(study_of(frame, base), "stays", TERMS, event="yes", **extra)
    setting = {"firth": kind == "firth", "weights": "times" if kind == "frequencies" else None}
    wanted = logistic(frame, "stays", "yes", TERMS, {"voice": base}, **setting)
    assert fit.converged
    table = fit.coefficients[~fit.coefficients["base"]]
    for row in table.itertuples():
        name = row.term, row.level
        assert digits(row.estimate, wanted["estimate"][name]) > 11
        assert digits(row.se, wanted["se"][name]) > 11
        assert digits(row.odds_ratio, mp.exp(wanted["estimate"][name])) > 11
    assert digits(fit.objective, wanted["value"]) > 13
    for term in fit.terms.itertuples():
        held = [name for name in wanted["names"] if name[0] == term.term]
        smaller = logistic(frame, "stays", "yes", TERMS, {"voice": base}, **setting, held=held)
        fall = 2 * (wanted["value"] - smaller["value"])
        assert digits(term.statistic, fall) > 9
        assert digits(term.p, mp.gammainc(mp.mpf(len(held)) / 2, fall / 2, regularized=True)) > 8
        at = [wanted["names"].index(name) for name in held]
        b = mp.matrix([wanted["estimate"][name] for name in held])
        V = mp.matrix([[wanted["inverse"][j, k] for k in at] for j in at])
        assert digits(term.wald, (b.T * mp.inverse(V) * b)[0]) > 10
    nothing = logistic(frame, "stays", "yes", TERMS, {"voice": base}, **setting, held=wanted["names"][1:])
    assert digits(fit.overall.statistic, 2 * (wanted["value"] - nothing["value"])) > 10


def test_strength_by_definition():
    frame = choir()
    fit = mb.fit_logistic(study_of(frame), "stays", TERMS, event="yes")
    wanted = logistic(frame, "stays", "yes", TERMS, {"voice": "alto"})
    y, q, n = wanted["y"], wanted["probability"], len(frame)
    rate = mp.fsum(y) / n
    null, full = n * (rate * mp.log(rate) + (1 - rate) * mp.log(1 - rate)), wanted["value"]
    cox_snell = 1 - mp.exp(2 * (null - full) / n)
    happened = [p for p, v in zip(q, y, strict=True) if v]
    otherwise = [p for p, v in zip(q, y, strict=True) if not v]
    expected = {
        "loglik": full,
        "loglik_null": null,
        "deviance": -2 * full,
        "mcfadden": 1 - full / null,
        "cox_snell": cox_snell,
        "nagelkerke": cox_snell / (1 - mp.exp(2 * null / n)),
        "tjur": mp.fsum(happened) / len(happened) - mp.fsum(otherwise) / len(otherwise),
        "brier": mp.fsum((a - b) ** 2 for a, b in zip(q, y, strict=True)) / n,
        "aic": -2 * full + 2 * 6,
        "bic": -2 * full + mp.log(n) * 6,
    }
    for name, value in expected.items():
        assert digits(getattr(fit.strength, name), value) > 10, name


@pytest.mark.parametrize("penalty", [None, "firth"])
def test_profile_ends_lie_where_the_likelihood_has_fallen_by_half_a_chi_squared(penalty):
    frame = choir(80)
    fit = mb.fit_logistic(study_of(frame), "stays", ["voice", "age"], event="yes", penalty=penalty)
    profile = fit.profile()
    shifted = frame.assign(age_end=frame["age"])
    for end in ("low", "high"):
        value = float(profile.loc[profile["term"] == "age", end].iloc[0])
        held = _held_slope(shifted, value, bool(penalty))
        assert digits(fit.objective - held, HALF) > 6
    if penalty:
        rows = fit.coefficients[~fit.coefficients["base"]]
        np.testing.assert_allclose(rows["low"], profile["low"])
        wider = mb.fit_logistic(study_of(frame), "stays", ["voice", "age"], event="yes", penalty=penalty, level=1 - 0.05 / 6)
        for r in fit.between("voice", "bonferroni").to_dict("records"):  # a pair is a coefficient from another base
            own = wider.rebase("voice", r["against"]).coefficients.set_index("level").loc[r["level"]]
            wanted = [own["low"], own["high"], min(6 * own["p"], 1)]
            np.testing.assert_allclose([r["low"], r["high"], r["p_corrected"]], wanted, rtol=1e-6)


def _held_slope(frame, slope, firth):
    """Maximise over the rest with the slope of age held, by brute force in double precision."""
    X = np.column_stack([np.ones(len(frame)), *[(frame["voice"] == v).to_numpy(float) for v in ("bass", "soprano", "tenor")]])
    age, y = frame["age"].to_numpy(float), (frame["stays"] == "yes").to_numpy(float)
    whole = np.column_stack([X, age])

    def loss(b):
        eta = X @ b + slope * age
        value = np.sum(y * eta - np.logaddexp(0, eta))
        if firth:
            q = 1 / (1 + np.exp(-eta))
            value += np.linalg.slogdet(whole.T @ (whole * (q * (1 - q))[:, None]))[1] / 2
        return -value

    best = minimize(loss, np.zeros(4), method="BFGS", options={"gtol": 1e-10})
    return -minimize(loss, best.x, method="Nelder-Mead", options={"xatol": 1e-10, "fatol": 1e-13, "maxiter": 8000}).fun


@pytest.mark.parametrize(("rows", "seed"), [(60, 2), (200, 2)])
def test_a_penalised_fit_of_what_is_foretold_reaches_its_maximum_and_all_ends(rows, seed):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({"age": rng.normal(size=rows).round(2), "part": rng.choice(["a", "b", "c"], rows)})
    frame["stays"] = np.where(frame["part"] == "c", "no", "yes")
    terms = ["age", "part", mb.interaction("age", "part")]
    fit = mb.fit_logistic(mb.Study(frame).mark("part", "a"), "stays", terms, event="yes", penalty="firth")
    part = np.array([(frame["part"] == level).to_numpy(float) for level in "abc"])
    age, y = frame["age"].to_numpy(), (frame["stays"] == "yes").to_numpy(float)
    X = np.column_stack([np.ones(rows), age, part[1], part[2], age * part[1], age * part[2]])

    def at(b):
        """Return the penalised log-likelihood, its slope and the inverse of its curvature."""
        p = 1 / (1 + np.exp(-X @ b))
        inverse = np.linalg.inv(X.T @ (X * (p * (1 - p))[:, None]))
        h = np.einsum("ij,jk,ik->i", X, inverse, X) * p * (1 - p)
        loglik = np.log(np.where(y == 1, p, 1 - p)).sum() - np.linalg.slogdet(inverse)[1] / 2
        return loglik, X.T @ (y - p + h * (0.5 - p)), inverse

    told = fit.coefficients[~fit.coefficients["base"]]
    top, slope, inverse = at(told["estimate"].to_numpy())
    assert np.sqrt(slope @ inverse @ slope) < 1e-9  # standard errors from the maximum
    ends = [*enumerate(told["low"]), *enumerate(told["high"])]
    for k, end in ends if rows == 60 else ends[3:4]:  # that of the level which foretells the outcome
        assert top - _height_held(at, told["estimate"].to_numpy(), k, end) == pytest.approx(float(HALF), rel=1e-6)


@untraced
def _height_held(at, best, k, end):
    """Follow the peak of an estimate outwards, by another optimiser, to where a coefficient is held at an end."""
    free = np.arange(len(best)) != k
    for value in np.linspace(best[k], end, 9)[1:]:

        def loss(v, value=value):
            height, slope, _ = at(np.insert(v, k, value))
            return -height, -slope[free]

        found = minimize(loss, best[free], jac=True, method="BFGS", options={"gtol": 1e-7})
        best = np.insert(found.x, k, value)
    return -found.fun


@pytest.mark.parametrize("errors", ["HC0", "HC1", "HC3", "clustered"])
@pytest.mark.parametrize("repeated", [False, True])
def test_robust_errors_are_sandwiches_of_scores(errors, repeated):
    frame = choir()
    setting = {"cluster": "team"} if errors == "clustered" else {"errors": errors}
    weighing = {"weights": "times", "weights_are": "frequency"} if repeated else {}
    fit = mb.fit_logistic(study_of(frame), "stays", TERMS, event="yes", **setting, **weighing)
    long = frame.loc[frame.index.repeat(frame["times"].astype(int))] if repeated else frame
    wanted = logistic(long.reset_index(drop=True), "stays", "yes", TERMS, {"voice": "alto"})
    X = np.array(wanted["columns"], dtype=float).T
    q, y = np.array(wanted["probability"], dtype=float), np.array(wanted["y"], dtype=float)
    inverse = np.array(wanted["inverse"].tolist(), dtype=float)
    n, p = X.shape
    scores = X * (y - q)[:, None]
    factor = 1.0
    if errors == "clustered":
        scores = pd.DataFrame(scores).groupby(long["team"].to_numpy()).sum().to_numpy()
        factor = len(scores) / (len(scores) - 1) * (n - 1) / (n - p)
    elif errors == "HC1":
        factor = n / (n - p)
    elif errors == "HC3":
        scores = scores / (1 - np.einsum("ij,jk,ik->i", X, inverse, X) * q * (1 - q))[:, None]
    V = inverse @ (scores.T @ scores) @ inverse * factor
    rows = fit.coefficients[~fit.coefficients["base"]]
    named = dict(zip(wanted["names"], np.sqrt(np.diag(V)), strict=True))
    np.testing.assert_allclose(rows["se"], [named[t, v] for t, v in zip(rows["term"], rows["level"], strict=True)], rtol=1e-9)
    z, inside = rows["estimate"].to_numpy()[1:], fit.covariance.to_numpy()[np.ix_(rows.index[1:], rows.index[1:])]
    wald, told = z @ np.linalg.solve(inside, z), fit.overall
    if errors == "clustered":  # as few scores as there are clusters: t, and F
        F, rest = hotelling(wald, p - 1, len(scores) - 1)
        assert (told.kind, told.df_rest, fit.df_rest) == ("F", rest, len(scores) - 1)
        assert (told.statistic, told.p) == pytest.approx((F, f_tail.sf(F, p - 1, rest)), rel=1e-9)
        slope = fit.marginal.set_index("term").loc["age"]
        found, ratios = [*rows["p"], slope["p"]], [*rows["t"], slope["effect"] / slope["se"]]
        assert found == pytest.approx(2 * t.sf(np.abs(ratios), len(scores) - 1), rel=1e-9)
    else:
        assert (told.kind, told.statistic) == ("Wald", pytest.approx(wald, rel=1e-9))
    with pytest.raises(mb.FitError, match="have none"):
        fit.profile()


def test_hard_columns_keep_their_digits():
    frame = choir()
    rng = np.random.default_rng(5)
    frame["far"] = 1e9 + frame["age"]
    frame["near"] = frame["km"] + 1e-5 * rng.normal(size=len(frame))
    terms = ["voice", "far", "km", "near"]
    fit = mb.fit_logistic(study_of(frame), "stays", terms, event="yes")
    wanted = logistic(frame, "stays", "yes", terms, {"voice": "alto"})
    for row in fit.coefficients[~fit.coefficients["base"]].itertuples():
        assert digits(row.estimate, wanted["estimate"][row.term, row.level]) > 7
        assert digits(row.se, wanted["se"][row.term, row.level]) > 7


def test_the_base_and_the_side_of_the_event_change_nothing_else():
    frame = choir()
    fit = mb.fit_logistic(study_of(frame), "stays", TERMS, event="yes")
    other = mb.fit_logistic(study_of(frame, "bass"), "stays", TERMS, event="no")
    np.testing.assert_allclose(fit.fitted, 1 - other.fitted, rtol=1e-12)
    np.testing.assert_allclose(fit.terms["statistic"], other.terms["statistic"], rtol=1e-9)
    assert fit.strength.mcfadden == pytest.approx(other.strength.mcfadden, rel=1e-12)


def test_two_by_two_tables_have_closed_forms():
    table = {("a", "yes"): 17, ("a", "no"): 23, ("b", "yes"): 31, ("b", "no"): 9}
    frame = pd.DataFrame([{"part": part, "stays": stays} for (part, stays), n in table.items() for _ in range(n)])
    study = mb.Study(frame).mark("part", "a")
    fit = mb.fit_logistic(study, "stays", ["part"], event="yes")
    row = fit.coefficients.iloc[2]
    assert row["odds_ratio"] == pytest.approx(31 / 9 / (17 / 23), rel=1e-13)
    assert row["se"] == pytest.approx(np.sqrt(1 / 17 + 1 / 23 + 1 / 31 + 1 / 9), rel=1e-13)
    firth = mb.fit_logistic(study, "stays", ["part"], event="yes", penalty="firth").coefficients.iloc[2]
    assert firth["odds_ratio"] == pytest.approx(31.5 / 9.5 / (17.5 / 23.5), rel=1e-10)  # halves added: Firth 1993


REFUSED = {
    "no event named": ({"event": None}, "Which of `no` or `yes` of `stays` is the event"),
    "not a level": ({"event": "maybe"}, "no level `maybe`"),
    "three levels": ({"outcome": "day", "event": "Mon"}, "The outcome `day` has 3 levels"),
    "a numeric column": ({"outcome": "age", "event": 1}, "The outcome `age` has more than 6 values"),
    "no such penalty": ({"penalty": "ridge"}, "There is no penalty 'ridge'; there is `firth`"),
    "firth and robust": ({"penalty": "firth", "errors": "HC3"}, "tests and intervals of its own"),
    "one side only": ({"outcome": "never", "event": "yes"}, "The outcome `never` is `no` in every row"),
}


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_asked_is_said(case):
    setting, message = REFUSED[case]
    setting = {"outcome": "stays", "event": "yes"} | setting
    outcome = setting.pop("outcome")
    study = study_of(choir().assign(never="no"))
    with pytest.raises(mb.MarkbaseError, match=message):
        mb.fit_logistic(study, outcome, ["voice", "km"], **setting)


@pytest.mark.parametrize("values", [(0, 1), (1, 2), (False, True), ("n", "y")], ids=str)
def test_an_outcome_of_any_two_values_is_accepted(values):
    frame = choir()
    plain = mb.fit_logistic(study_of(frame), "stays", TERMS, event="yes")
    frame["stays"] = np.where(frame["stays"] == "yes", values[1], values[0])
    fit = mb.fit_logistic(study_of(frame), "stays", TERMS, event=values[1])
    np.testing.assert_allclose(fit.coefficients["estimate"], plain.coefficients["estimate"], rtol=1e-12)
    if values == (0, 1):  # and false and true
        assert mb.fit_logistic(study_of(frame), "stays", TERMS).event == fit.event


@pytest.mark.parametrize("weighted", [False, True])
def test_errors_of_averages_are_those_of_their_numeric_derivatives(weighted):
    frame = choir(400, seed=5).assign(w=lambda d: 1.0 + np.arange(len(d)) % 3)
    fit = mb.fit_logistic(study_of(frame), "stays", ["age", "voice"], event="yes", weights="w" if weighted else None)
    b, told = fit.coefficients["estimate"].to_numpy(), fit.coefficients.iloc[2:]
    levels = [frame["voice"] == v for v in told["level"]]
    X = np.column_stack([np.ones(len(frame)), frame["age"], *levels]).astype(float)

    def slope(beta):
        p = 1 / (1 + np.exp(-X @ beta))
        return np.average(p * (1 - p), weights=frame["w"] if weighted else None) * beta[1]

    g = np.array([(slope(b + h) - slope(b - h)) / 2e-5 for h in 1e-5 * np.eye(len(b))])
    marginal = fit.marginal.set_index(["term", "level"]).loc["age", ""]
    assert marginal["effect"] == pytest.approx(slope(b), rel=1e-9)
    assert marginal["se"] == pytest.approx(np.sqrt(g @ fit.covariance.to_numpy() @ g), rel=1e-6)


@pytest.mark.parametrize("level", ["yes", "no"])
def test_an_outcome_that_is_one_level_in_the_rows_used_is_refused_by_name(level):
    table = pd.DataFrame({"stays": ["yes", "no"] * 20, "x": range(40)})
    table["x"] = table["x"].where(table["stays"] == level)
    with pytest.raises(mb.FitError, match=f"`stays` is `{level}` in every row used"):
        mb.fit_logistic(table, "stays", ["x"], event="yes")


@pytest.mark.parametrize("times", [0.5, 8, 160])
def test_the_likelihood_far_from_its_maximum_is_that_of_each_row(times):
    frame = choir()
    fit = mb.fit_logistic(study_of(frame, "alto"), "stays", TERMS, event="yes")
    theta = Theta(fit.theta.start, -times * fit.theta.slopes)
    happened = np.where(frame["stays"] == "yes", 1, -1)
    margins = happened * fit.likelihood.predictor_of(theta)
    point, _ = fit.likelihood.pass_at(theta)
    assert digits(point.loglik, -mp.fsum(mp.log1p(mp.exp(-mp.mpf(float(m)))) for m in margins)) > 12
    assert point.farthest == pytest.approx(np.abs(margins).max(), rel=1e-14)
    if times == 160:  # eight such probabilities together are below what can be written
        assert margins.min() < -300


@given(st.integers(2, 6), st.integers(1, 4), st.integers(0, 2**31))
def test_a_curvature_learnt_from_steps_holds_along_the_last_and_is_solved_for(size, steps, seed):
    rng = np.random.default_rng(seed)
    root = np.eye(size) + 0.3 * rng.normal(size=(size, size))
    seen = Secants.none(size)
    for step in rng.normal(size=(steps, size)):
        seen = seen.after(step, root @ root.T @ step)
        np.testing.assert_allclose(seen.times(step), root @ root.T @ step, rtol=1e-9, atol=1e-9)
    assert seen.after(step, -step) is seen  # a slope that does not fall along a step is nothing to learn from
    slope = rng.normal(size=size)
    np.testing.assert_allclose(seen.times(seen.solved(slope)), slope, rtol=1e-7, atol=1e-9)
    off = np.linalg.qr(rng.normal(size=(size, 1)))[0]
    inside = slope - off @ (off.T @ slope)
    step = seen.solved(inside, off)
    left = seen.times(step) - inside
    np.testing.assert_allclose(off.T @ step, 0, atol=1e-9)
    np.testing.assert_allclose(left - off @ (off.T @ left), 0, atol=1e-7)


def test_a_penalised_step_to_where_no_curvature_is_left_is_halved(monkeypatch):
    study, real, calls = study_of(choir()), newton.information_at, itertools.count()
    wanted = mb.fit_logistic(study, "stays", TERMS, event="yes", penalty="firth").coefficients

    def none_left(*given, rough=True):
        if not rough and next(calls) == 1:
            raise Dependent(np.eye(1), np.ones(1), np.zeros(1, dtype=int), 0.0, math.inf)
        return real(*given, rough=rough)

    monkeypatch.setattr(newton, "information_at", none_left)
    found = mb.fit_logistic(study, "stays", TERMS, event="yes", penalty="firth").coefficients
    pd.testing.assert_frame_equal(found, wanted, rtol=1e-7)
    assert next(calls) > 2


def test_a_higher_peak_of_a_penalised_likelihood_is_said_and_no_p_is_told_by_it():
    rng = np.random.default_rng(57)
    frame = pd.DataFrame({f"x{k}": rng.integers(0, 6, 14).astype(float) for k in range(4)})
    frame["w"], noise = rng.integers(1, 30, 14), rng.normal(size=14)
    frame["y"] = np.where(frame["x0"] + noise * 1.5 > 2.5, "b", "a")
    often = {"weights": "w", "weights_are": "frequency"}
    fit = mb.fit_logistic(mb.Study(frame), "y", ["x0", "x1", "x2", "x3"], event="b", penalty="firth", **often)
    with pytest.warns(mb.MarkbaseWarning, match="more than one peak in these rows"):
        p = fit.terms["p"]
    assert p.isna().tolist() == [False, True, False, False]
