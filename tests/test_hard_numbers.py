"""Numbers on the hardest data: near-collinear columns, far offsets, few clusters, heavy tails, frequencies."""

import math
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from markbase.core.inference.distributions import p_of_f, p_of_t, t_quantile
from markbase.core.inference.multiplicity import Together, studentised_range_tail
from markbase.core.inference.standard_errors import Errors
from reference import dense, digits, least_squares, made_up, mp, sandwich
from yes_no import either

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def hard(name):
    """Return a table whose columns are nearly collinear, or far from 0, with its terms and bases."""
    frame = pd.DataFrame(made_up(120, seed=5))
    frame["team"] = [f"t{k % 13}" for k in range(len(frame))]
    terms = ["age", "voice"]
    if name.startswith("near"):
        frame["near"] = frame["age"] + 10.0 ** -int(name[-1]) * np.random.default_rng(1).normal(size=len(frame))
        terms = ["age", "near", "voice"]
    elif name.startswith("offset"):
        far = 10.0 ** int(name[6:])
        frame["age"] = far + (frame["age"] % 3 - 1)
        frame["score"] = (frame["age"] - far) + np.random.default_rng(4).normal(0, 0.5, len(frame))
    elif name == "degree 7":
        frame["x"] = np.linspace(-8.8, -3.1, len(frame))
        frame = frame.assign(**{f"x{k}": frame["x"] ** k for k in range(1, 8)})
        terms = [f"x{k}" for k in range(1, 8)]
    return frame, terms, {"voice": "alto"} if "voice" in terms else {}


@pytest.mark.parametrize("kind", ["HC0", "HC1", "HC3", "clustered"])
@pytest.mark.parametrize("name", ["plain0", "near6", "near7", "offset9", "offset14", "degree 7"])
def test_robust_and_clustered_tests_agree_with_50_digits(kind, name):
    frame, terms, bases = hard(name)
    wanted = sandwich(frame, "score", terms, bases, kind, "team" if kind == "clustered" else None)
    options = {"cluster": "team"} if kind == "clustered" else {"errors": kind}
    study = mb.Study(frame).mark("voice", "alto")
    fit = mb.fit_linear(study, "score", terms, **options)
    joint, table = fit.terms.set_index("term")["statistic"], fit.coefficients.set_index(["term", "level"])
    least = 9.0
    assert all(digits(joint[term], F) > least for term, F in wanted["joint"].items())
    assert digits(fit.overall.statistic, wanted["overall"]) > least
    assert all(digits(table["se"][key], se) > least for key, se in wanted["se"].items() if key[0] != "(intercept)")


def test_a_joint_test_is_refused_where_clusters_cannot_carry_it():
    study = mb.demo.plan().open()
    fit = mb.fit_linear(study, "belonging", ["age", "choir"], cluster="choir")
    assert math.isnan(fit.overall.statistic)
    assert fit.terms["p"].isna().tolist() == [False, True]
    assert fit.untested == {"choir": "24 clusters cannot carry a joint test of 23 coefficients"}
    own = fit.coefficients[fit.coefficients["term"] == "choir"]
    assert own.loc[~own["base"], "se"].isna().all()  # within a choir its residuals sum to 0
    assert "choir cannot be tested together: 24 clusters cannot carry" in " ".join(str(fit).split())
    frame = pd.DataFrame(made_up(200))
    frame["few"], frame["high"] = [f"c{k % 3}" for k in range(200)], np.where(frame["score"] > 38, "y", "n")
    few = mb.fit_logistic(mb.Study(frame), "high", ["voice", "age", "day"], event="y", cluster="few")
    assert set(few.untested) == {"voice", "day"}
    assert few.terms.set_index("term")["p"].isna().to_dict() == {"voice": True, "age": False, "day": True}
    assert "3 clusters cannot carry a joint test of 6 coefficients" in " ".join(str(few).split())


def separated_by_programme(X, y):
    """Say by a linear programme over all rows whether some direction is never on the wrong side, and on the right one somewhere."""
    from scipy.optimize import linprog

    signed = X * (2 * y - 1)[:, None] / np.linalg.norm(X, axis=1)[:, None]
    p, zero = X.shape[1], np.zeros(len(y))
    some = linprog(-signed.sum(0), A_ub=-signed, b_ub=zero, bounds=[(-1, 1)] * p, method="highs")
    every = linprog([0] * p + [-1], A_ub=np.column_stack([-signed, zero + 1]), b_ub=zero, bounds=[(-1, 1)] * p + [(None, 1)], method="highs")  # fmt: skip
    return bool((signed @ some.x).max() > 1e-7), bool(every.x[p] > 1e-7)


@pytest.mark.parametrize("seed", range(30))
def test_separation_is_claimed_only_where_every_row_bears_it_out(seed):
    rng = np.random.default_rng(seed)
    x = np.round(10 ** rng.uniform(0, 6, 300))
    frame = pd.DataFrame({"x": x, "z": rng.normal(size=300), "w": rng.integers(0, 3, 300).astype(float)})
    lean = np.clip((x - 300) / 60, -30, 30) if seed % 2 else (4 * frame["z"] + 3 * (frame["w"] - 1)).to_numpy()
    y = (rng.random(300) < 1 / (1 + np.exp(-(lean if seed % 3 else 40 * np.sign(lean))))).astype(float)
    frame["y"] = np.where(y == 1, "yes", "no")
    terms = ["x"] if seed % 2 else ["z", "w"]
    X = np.column_stack([np.ones(300), *(frame[t] for t in terms)])
    separated, complete = separated_by_programme(X / np.median(np.abs(X), axis=0).clip(1e-9), y)
    if separated:
        with pytest.raises(mb.SeparationError, match="complete separation" if complete else "partial separation"):
            mb.fit_logistic(mb.Study(frame), "y", terms, event="yes")
    else:
        fit = mb.fit_logistic(mb.Study(frame), "y", terms, event="yes")
        assert np.abs(X.T @ (y - fit.fitted)).max() < 1e-6 * np.abs(X).sum(0).max()


def collinear_cases():
    rng = np.random.default_rng(2)
    n = 300
    frame = pd.DataFrame({"a": np.round(rng.normal(40, 12, n)), "b": np.round(rng.normal(5, 2, n), 1)})
    frame["far"] = 1e9 + rng.integers(-1, 2, n)
    frame["t"] = frame["a"] + 3e-7 * rng.normal(size=n)
    frame["reg"], frame["person"] = rng.integers(1, 9, n), rng.integers(1, 5000, n)
    frame["code"] = frame["reg"] * 10.0**8 + frame["person"]
    frame["sum"] = frame["a"] + frame["b"]
    frame["noisy"] = frame["a"] + frame["b"] + 1e-9 * rng.normal(size=n)
    frame["g"] = rng.choice(["u", "v"], n)
    frame["rare"] = np.where(np.arange(n) == 7, "z", frame["g"])
    frame["h"] = np.where(frame["g"] == "u", 7.0, rng.normal(size=n))
    frame["y"] = rng.normal(size=n)
    return frame


def test_collinearity_is_said_to_be_exact_only_where_every_row_bears_it_out():
    study = mb.Study(collinear_cases())
    fit = mb.fit_linear(study, "y", ["a", "t", "far"])  # one column at 1e9 ± 1 says nothing of the others
    assert fit.solution.condition > 1e6
    for terms, told, absent in (
        (["code", "reg", "person"], "`code` equals 100,000,000·`reg` + `person` in every row used", " + 2"),
        (["a", "b", "far", "sum"], "`sum` equals `a` + `b` in every row used", "far"),
        (["a", "b", "far", "reg", "sum"], "`sum` equals `a` + `b` in every row used", "reg"),
        (["g", "h", mb.interaction("h", "g")], "`h` is 7 in each of the {u} rows used where `g` is `u`", "`v`"),
        (["rare", "a", mb.interaction("a", "rare")], "`rare` is `z` in 1 row used, fewer than the 2", "`g`"),
        (
            ["rare", mb.interaction("a", "b", "rare")],
            "fewer than the 4 coefficients that `rare`, `a × rare`, `b × rare` and `a × b × rare` have there. Merge such a level with one "
            "like it, leave its rows out, or leave `a × rare`, `b × rare` or `a × b × rare` out.",
            "`g`",
        ),
    ):
        with pytest.raises(mb.CollinearityError) as problem:
            mb.fit_linear(study, "y", terms)
        assert told.format(u=(study.frame()["g"] == "u").sum()) in str(problem.value)
        assert absent not in str(problem.value)
    with pytest.raises(mb.FitError, match="nearly collinear") as problem:
        mb.fit_linear(mb.Study(collinear_cases().assign(noisy=lambda f: f["sum"] + 1e-12 * f["y"])), "y", ["a", "b", "noisy"])
    assert not isinstance(problem.value, mb.CollinearityError)
    exact = mb.screen(study, ["a", "b", "sum"], "y").collinear
    assert [(c.exact, c.statement) for c in exact] == [(True, "`sum` equals `a` + `b` in every row used")]
    nearly = mb.screen(study, ["a", "b", "noisy"], "y")
    assert all(not c.exact for c in nearly.collinear)
    assert "equals" not in " ".join(a.text for a in nearly.advice)


def test_what_is_a_sum_but_for_the_rounding_of_its_values_is_exact_wherever_the_values_lie():
    for seed in range(12):
        rng = np.random.default_rng(seed)
        count, far = int(rng.integers(2, 5)), 10.0 ** rng.integers(0, 13)
        frame = pd.DataFrame(far * rng.normal(size=count) + rng.normal(size=(60, count))).rename(columns="x{}".format)
        frame["s"] = frame @ rng.choice([1, 0.5, 2, -1, 0.1], count) + rng.choice([0, 1000, 1e6])
        with pytest.raises(mb.CollinearityError, match=r" equals .* in every row used"):
            mb.fit_linear(frame.assign(y=rng.normal(size=60)), "y", list(frame))
    frame = pd.DataFrame(rng.normal(size=(60, 8))).rename(columns="x{}".format)
    for k in range(8):
        frame[f"s{k}"] = 2 * frame[f"x{k}"]
    with pytest.raises(mb.CollinearityError, match=r"`s5` equals 2·`x5` in every row used; and 2 more\. These"):
        mb.fit_linear(frame.assign(y=rng.normal(size=60)), "y", list(frame))


@pytest.mark.parametrize("power", [2, 5, 8])
def test_condition_indices_are_those_of_singular_values_at_50_digits(power):
    frame = pd.DataFrame(made_up(80))
    frame["near"] = frame["age"] + 10.0**-power * np.random.default_rng(0).normal(size=80)
    table = mb.screen(mb.Study(frame), ["age", "near", "km"], "score").conditions
    columns, _ = dense(frame, ["age", "near", "km"], {})
    X = mp.matrix([list(row) for row in zip(*columns, strict=True)])
    lengths = [mp.sqrt(mp.fsum(X[i, j] ** 2 for i in range(X.rows))) for j in range(X.cols)]
    S = mp.matrix([[X[i, j] / lengths[j] for j in range(X.cols)] for i in range(X.rows)])
    values, vectors = mp.eigsy(S.T * S)
    order = sorted(range(X.cols), key=lambda k: -values[k])
    for row, k in enumerate(order):
        assert digits(table["index"][row], mp.sqrt(values[order[0]] / values[k])) > 7
    phi = [[vectors[j, k] ** 2 / values[k] for k in order] for j in range(X.cols)]
    for row in range(X.cols):
        for j, name in enumerate(["(intercept)", "age", "near", "km"]):
            assert float(table[name][row]) == pytest.approx(float(phi[j][row] / mp.fsum(phi[j])), rel=1e-5, abs=1e-9)


@pytest.mark.parametrize("df", [3, 2000, 10**6, 5 * 10**7])
@mp.workdps(40)
def test_p_values_and_intervals_keep_their_digits_whatever_the_rows(df):
    v = mp.mpf(df)

    def tail(t):  # P(|T| >= t), t = 1/s substituted where the tail is long
        c = mp.exp(mp.loggamma((v + 1) / 2) - mp.loggamma(v / 2)) / mp.sqrt(v * mp.pi)
        density = lambda x: c * mp.exp(-(v + 1) / 2 * mp.log1p(x * x / v))  # noqa: E731
        return 2 * (mp.quad(density, [t, t + 1, t + 4, t + 12]) + mp.quad(lambda s: density(1 / s) / s**2, [0, 1 / (t + 12)]))

    for t in (0.01, 0.7, 1.96, 4.0, 9.0):
        exact = float(tail(mp.mpf(t)))
        np.testing.assert_allclose([p_of_t(t, df), p_of_f(mp.mpf(t) ** 2, 1, df)], exact, rtol=2e-14)
    exact = [1 - mp.mpf(tail(mp.mpf(t_quantile(level, df)))) for level in (0.5, 0.95, 0.99)]
    np.testing.assert_allclose([float(e) for e in exact], [0.5, 0.95, 0.99], rtol=2e-15)
    for F in (0.2, 1.1, 6.0):  # with 2 degrees of freedom the tail has a closed form
        assert float(p_of_f(F, 2, df)) == pytest.approx(float((1 + 2 * mp.mpf(F) / v) ** (-v / 2)), rel=2e-14)


def test_the_studentised_range_of_two_is_t_in_every_tail_and_no_correction_makes_clearer():
    least, most = [(0.3, 1), (80, 1), (8, 2), (3.5, 5 * 10**7), (1, 8)], [(40, 1900), (25, math.inf), (50, math.inf)]
    for q, df in [*least, (5, 20), (15, 60), (30, 200), *most]:
        assert studentised_range_tail(q, 2, df) == pytest.approx(float(p_of_t(q / math.sqrt(2), df)), rel=1e-11)
    for levels, df in ((2, 1), (4, 1909), (30, 10**6), (6, math.inf)):
        wide = Together(levels, Errors("classical", df)).half_width("tukey", 0.95, 6)
        assert studentised_range_tail(math.sqrt(2) * wide, levels, df) == pytest.approx(0.05, rel=1e-11)
    # tabled values at .05
    assert studentised_range_tail(3.578, 3, 20) == pytest.approx(0.05, abs=5e-5)
    assert studentised_range_tail(4.232, 5, 20) == pytest.approx(0.05, abs=5e-5)
    t = np.array([0.3, 2.0, 9.0, 40.0, 90.0])
    for df in (20.0, 1900.0, math.inf):
        for correction in ("holm", "bonferroni", "tukey"):
            together = Together(4, Errors("classical", df))
            assert (together.corrected(p_of_t(t, df), correction, t) >= p_of_t(t, df)).all()


def test_what_cannot_be_computed_is_said_and_what_can_is_right():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame({"x": rng.normal(size=60), "z": rng.normal(size=60), "g": rng.choice(list("abc"), 60)})
    for y in (3 * frame["x"] + 2 * frame["z"], 3 * frame["x"] + 1e-7 * rng.normal(size=60)):
        steps = mb.fit_blocks(mb.Study(frame.assign(y=y)), "y", {"a": ["z"], "b": ["x"], "c": ["g"]}).steps
        assert (steps["change_low"] <= steps["r2_change"] + 1e-12).all()
        assert (steps["change_high"] >= steps["r2_change"] - 1e-12).all()
    for scale, told in ((1e120, "in row .*, beyond the 1e.100"), (1e-200, "too little to compute with")):
        with pytest.raises(mb.ColumnError, match=told):
            mb.fit_linear(mb.Study(frame.assign(y=frame["z"] * scale)), "y", ["x"])
    huge = mb.fit_linear(mb.Study(frame.assign(y=frame["z"] * 1e98)), "y", ["x"])
    plain = mb.fit_linear(mb.Study(frame.assign(y=frame["z"])), "y", ["x"])
    assert huge.checks().skew == pytest.approx(plain.checks().skew, rel=1e-9)
    frame["y"] = rng.normal(size=60)
    frame.loc[3, "x"] = 1e9
    case = mb.fit_linear(mb.Study(frame), "y", ["x", "z"]).checks().cases.iloc[0]
    wanted = least_squares(frame, "y", ["x", "z"], {})
    columns, _ = dense(frame, ["x", "z"], {})
    X = mp.matrix([list(row) for row in zip(*columns, strict=True)])
    inverse, e = mp.inverse(X.T * X), mp.mpf(float(frame["y"][3])) - (X[3, :] * wanted["b"])[0]
    h = (X[3, :] * inverse * X[3, :].T)[0]
    assert digits(case["influence"], e**2 / (3 * wanted["residual_sd"] ** 2) * h / (1 - h) ** 2) > 6


@pytest.mark.parametrize("penalty", [None, "firth"])
def test_profile_intervals_have_ends_where_columns_are_nearly_collinear(penalty):
    rng = np.random.default_rng(3)
    x = rng.normal(size=200)
    frame = pd.DataFrame({"x": x, "near": x + 1e-5 * rng.normal(size=200), "g": rng.choice(list("abc"), 200)})
    frame["y"] = np.where(rng.random(200) < 1 / (1 + np.exp(-x)), "y", "n")
    fit = mb.fit_logistic(mb.Study(frame), "y", ["x", "near", "g"], event="y", penalty=penalty)
    table = fit.profile()
    assert table[["low", "high"]].notna().all().all()
    assert ((table["low"] < table["estimate"]) & (table["estimate"] < table["high"])).all()


def everything(fit):
    """Return every public result of a fit that rows stand behind, as numbers by name."""
    logistic = hasattr(fit, "event")
    out = {"coefficients": fit.coefficients, "terms": fit.terms, "groups": fit.groups("voice")}
    out["pairs"] = fit.between("voice")
    out["strength"] = pd.DataFrame([vars(fit.strength)])
    out["slopes"] = fit.simple_slopes("age", by="voice")
    out["spread"] = pd.DataFrame([[*fit.rows_used.spread("age"), fit.rows_used.middle("age"), fit.outcome_sd]])
    out["profile"] = fit.predict([{"voice": "bass", "age": 30}, {"age": 50}])
    if logistic:
        found = fit.classification()
        out["classification"] = pd.DataFrame([[found.correct, found.sensitivity, found.specificity, found.area, found.area_low, found.area_high]])  # fmt: skip
        out["calibration"] = fit.calibration(5)
        out["marginal"] = fit.marginal
    else:
        checks = fit.checks(most=3)
        figures = "skew kurtosis shape_statistic shape_p spread_statistic spread_p"
        out["checks"] = pd.DataFrame([[getattr(checks, name) for name in figures.split()]])
        out["lines"] = checks.lines
        out["standardised"] = fit.standardised
        out["pairs of columns"] = mb.screen_fit(fit).pairs
    return out


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("options", [{}, {"errors": "HC3"}, {"cluster": "team"}], ids=["classical", "HC3", "clustered"])
def test_every_result_of_frequencies_is_that_of_the_rows_repeated(kind, options):
    frame = pd.DataFrame(made_up(150, seed=8))
    frame["team"] = [f"t{k % 17}" for k in range(150)]
    frame["high"] = np.where(frame["score"] + 6 * np.random.default_rng(0).normal(size=150) > 39, "y", "n")
    frame["times"] = np.random.default_rng(1).integers(1, 5, 150)
    tenors = frame.index[frame["voice"] == "tenor"]
    frame.loc[tenors, "high"] = np.where(np.arange(len(tenors)) % 12 == 1, "y", "n")  # events are few
    repeated = frame.loc[frame.index.repeat(frame["times"])].reset_index(drop=True)
    terms = ["voice", "age", "km", mb.interaction("age", "voice")]

    def make(table, **weights):
        return either(kind, mb.Study(table).mark("voice", "alto"), terms, ("high", "y"), **options, **weights)

    fits, remarks = [], []
    for table, weights in ((frame, {"weights": "times", "weights_are": "frequency"}), (repeated, {})):
        with warnings.catch_warnings(record=True) as told:
            warnings.simplefilter("always")
            fits.append(make(table, **weights))
        remarks.append([str(w.message) for w in told if "duplicates" not in str(w.message)])
    assert remarks[0] == remarks[1]
    events = [np.hstack([f.events, *f.events_by_level("voice")]) if kind == "logistic" else [] for f in fits]
    told, wanted = ([f.reading().statements, f.reading().cautions, list(e)] for f, e in zip(fits, events, strict=True))
    assert told == wanted
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        one, other = (everything(fit) for fit in fits)
    for name, table in one.items():
        numbers = table.select_dtypes("number").columns
        np.testing.assert_allclose(table[numbers].to_numpy(float), other[name][numbers].to_numpy(float), rtol=1e-6, atol=1e-9, err_msg=name)
