"""Checks of a linear fit: each figure by its definition, or by leaving the case out."""

import itertools
import re

import numpy as np
import pandas as pd
import pytest
from matplotlib.text import Text
from scipy.stats import f as f_tail
from scipy.stats import kurtosis, normaltest, skew, t, ttest_ind

import markbase as mb
from markbase.core.checks import intraclass
from reference import hotelling
from yes_no import choir, either

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
TERMS = ["voice", "age", "km"]


def fitted(frame=None, **more):
    frame = choir(150) if frame is None else frame
    frame["singer"] = [f"s{k:03d}" for k in range(len(frame))]
    study = mb.Study(frame, codebook={"columns": {"singer": {"role": "identifier"}}}).mark("voice", "alto")
    return frame, study, mb.fit_linear(study, "score", TERMS, **more)


def dense(frame):
    levels = [frame["voice"] == v for v in ("bass", "soprano", "tenor")]
    return np.column_stack([np.ones(len(frame)), *levels, frame["age"], frame["km"]]).astype(float)


def test_shape_and_spread_by_definition():
    frame, _, fit = fitted()
    checks = fit.checks()
    X, y = dense(frame), frame["score"].to_numpy()
    e = y - X @ np.linalg.lstsq(X, y, rcond=None)[0]
    assert (checks.skew, checks.kurtosis) == pytest.approx((skew(e), kurtosis(e)), rel=1e-9)
    assert (checks.shape_statistic, checks.shape_p) == pytest.approx(tuple(normaltest(e)), rel=1e-9)
    left = e**2 - X @ np.linalg.lstsq(X, e**2, rcond=None)[0]
    share = 1 - left @ left / np.sum((e**2 - np.mean(e**2)) ** 2)
    assert checks.spread_statistic == pytest.approx(len(y) * share, rel=1e-8)
    assert checks.spread_df == 5


def test_uneven_spread_is_told_with_the_errors_that_allow_for_it_beside():
    frame = choir(150)
    rng = np.random.default_rng(8)
    frame["score"] = frame["age"] + rng.normal(size=150) * np.where(frame["voice"] == "bass", 30, 4)
    frame, _, fit = fitted(frame)
    X, y = dense(frame), frame["score"].to_numpy()
    inverse = np.linalg.inv(X.T @ X)
    e = (y - X @ inverse @ X.T @ y) / (1 - np.einsum("ij,jk,ik->i", X, inverse, X))
    classical = fit.strength.residual_sd**2 * np.diag(inverse)
    times = np.sqrt(np.diag(inverse @ (X.T * e**2) @ X @ inverse) / classical)[1:]
    far = ["`voice: bass`", "`voice: soprano`", "`voice: tenor`", "`age`", "`km`"][np.abs(times - 1).argmax()]
    wanted = f"{times.min():.2f} to {times.max():.2f} times as large, furthest from 1 for {far}"
    assert next(f for f in fit.checks().findings if f.about == "spread").way_on.endswith(wanted)
    assert f"robust errors (HC3), which allow for it, are {wanted}".replace("`", "") in " ".join(str(fit).split())
    for other in (fitted(frame, errors="HC1")[2], fitted()[2]):  # allowed for already; spread evenly
        assert "times as large" not in f"{other}{other.checks()}"
    frame["score"] = (frame["score"] * 1024).round() / 1024
    near, far = fitted(frame)[2], fitted(frame.assign(score=frame["score"] + 2.0**30))[2]  # the same digits, far from 0
    np.testing.assert_allclose(far.residuals, near.residuals, atol=1e-12)
    assert far.checks().spread_statistic == pytest.approx(near.checks().spread_statistic, rel=1e-11)
    for far in (0.0, 0.1, 1e9):  # all squares the same
        pairs = pd.DataFrame({"g": np.repeat(list("abcd"), 4), "y": np.resize([1.0, -1.0], 16) + far})
        told = mb.fit_linear(mb.Study(pairs), "y", ["g"]).checks()
        assert (told.spread_statistic, told.spread_p) == (0.0, 1.0)
    wide = pd.DataFrame({"x": rng.uniform(size=4000), "noise": rng.normal(size=4000)})
    little = mb.fit_linear(mb.Study(wide.assign(y=wide["x"] + wide["noise"] * (1 + 0.3 * wide["x"]))), "y", ["x"])
    assert little.checks().spread_p < 0.001
    assert "times as large" in str(little.checks())  # asked for; by itself a tenth is the least that is told
    assert "times as large" not in str(little)


def _scores(X, y, w):
    square = (y - X @ np.linalg.solve(X.T * w @ X, X.T @ (w * y))) ** 2
    return (X - np.average(X, axis=0, weights=w))[:, 1:] * (w * (square - np.average(square, weights=w)))[:, None]


def _of_their_mean(scores):
    (m, r), mean = scores.shape, scores.mean(axis=0)
    return hotelling(m * mean @ np.linalg.solve(np.cov(scores.T), mean), r, m - 1)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_a_row_that_is_fitted_exactly_has_its_part_in_the_test_of_the_spread():
    rng, g = np.random.default_rng(2), np.repeat([0, 1, 2], [20, 20, 1])
    w, y = rng.uniform(1, 2, 41), rng.normal(size=41)
    study = mb.Study(pd.DataFrame({"g": g.astype(str), "w": w, "y": y})).as_categorical("g")
    checks = mb.fit_linear(study, "y", ["g"], weights="w").checks()
    assert (checks.spread_statistic, checks.spread_df_rest) == pytest.approx(_of_their_mean(_scores(np.eye(3)[g], y, w)))


@pytest.mark.parametrize("more", [{"cluster": "team"}, {"weights": "w"}, {"weights": "w", "cluster": "team"}], ids=str)
def test_spread_is_tested_by_scores_of_rows_or_clusters_as_they_were_drawn(more):
    rng, frame = np.random.default_rng(6), choir(150)
    w = rng.uniform(0.5, 2, 150) if "weights" in more else 1
    frame = frame.assign(team=[f"t{k % 15}" for k in range(150)], w=w)
    frame, _, fit = fitted(frame.assign(score=frame["score"] + rng.normal(size=150) * frame["age"] / 5), **more)
    X, w, unit = dense(frame), frame["w"].to_numpy(), pd.factorize(frame["team"])[0]
    checks, scores = fit.checks(), _scores(X, frame["score"].to_numpy(), w)
    if "cluster" in more:
        scores = np.array([scores[unit == k].sum(axis=0) for k in range(15)])
    F, rest = _of_their_mean(scores)
    assert (checks.spread_statistic, checks.spread_df_rest) == pytest.approx((F, rest), rel=1e-9)
    assert checks.spread_p == pytest.approx(f_tail.sf(F, 5, rest), rel=1e-8)
    assert ("as if rows were independent" in " ".join(str(checks).split())) == ("cluster" in more)
    few = fitted(frame.assign(team=[f"t{k % 3}" for k in range(150)]), cluster="team")[2].checks()
    assert "3 clusters cannot carry a joint test" in next(f.meaning for f in few.findings if f.about == "spread")


@pytest.mark.parametrize("clustered", [False, True])
@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("noise", [20.0, 3000.0])
def test_rows_left_out_are_held_against_those_used(kind, clustered, noise):
    frame = choir(400)
    y = frame["score"] if kind == "linear" else (frame["stays"] == "yes") * 100.0
    gaps = y + np.random.default_rng(4).normal(0, noise, 400)  # they go with the outcome, or hardly
    frame.loc[gaps < np.quantile(gaps, 0.2), "km"] = np.nan
    frame.loc[frame.index % 31 == 4, ["score", "stays"]] = [np.nan, None]
    frame.loc[frame.index % 41 == 4, "team"] = None
    more = {"cluster": "team"} if clustered else {}
    frame["high"] = np.exp(-frame["score"])
    study = mb.Study(frame).mark("voice", "alto")
    fit = either(kind, study, TERMS, **more)
    known = frame["score"].notna() & (frame["team"].notna() | (not clustered))
    out, value = known & frame["km"].isna(), (y if kind == "linear" else y / 100)
    groups, found = (value[out], value[known & ~out]), fit.left_out
    assert found.rows == out.sum()
    assert (found.mean, found.mean_used) == pytest.approx([g.mean() for g in groups], rel=1e-12)
    if clustered:
        share = pd.concat([sign * (v - v.mean()) / len(v) for sign, v in zip((1, -1), groups, strict=True)])
        sums = share.groupby(frame["team"]).sum()
        se, df = np.sqrt((sums**2).sum() * len(sums) / (len(sums) - 1)), len(sums) - 1
        p, half = 2 * t.sf(abs(found.difference) / se, df), t.ppf(0.975, df) * se
        wanted = (p, found.difference - half, found.difference + half)
    else:
        welch = ttest_ind(*groups, equal_var=False)
        wanted = (welch.pvalue, *welch.confidence_interval())
    assert (found.p, found.low, found.high) == pytest.approx(wanted, rel=1e-8)
    assert (found.p < 0.05) == (noise < 100)
    logged = " ".join(str(mb.fit_linear(study.derive("log_high", log="high"), "log_high", TERMS, **more)).split())
    assert re.search(r"the geometric mean of high is (\S+ times as high as|\S+% (lower|higher) than) in the rows used", logged)
    way = "lower" if found.difference < 0 else "higher"
    verdict = "they differ in it" if found.p < 0.05 else "no clear evidence that they differ"
    told = rf"in the {out.sum()} of them with a value, .* {way} than in the rows used \(95% CI [^)]*\): {verdict}"
    assert re.search(told, " ".join(str(fit).split()))


def test_a_line_is_tested_by_its_square_and_a_bend_is_found():
    frame, study, fit = fitted()
    lines = fit.checks().lines.set_index("term")
    squared = study.derive("age_c", centre="age").derive("age_2", square="age_c")
    wanted = mb.fit_linear(squared, "score", [*TERMS, "age_2"]).terms.set_index("term").loc["age_2"]
    assert lines.loc["age", ["statistic", "p"]].tolist() == pytest.approx(wanted[["statistic", "p"]].tolist(), rel=1e-7)
    frame["score"] += 0.02 * (frame["age"] - 45) ** 2
    bent = fitted(frame)[2].checks()
    finding = next(f for f in bent.findings if f.about == "straight lines")
    assert "the line of `age` (upward) bends" in finding.meaning
    assert "a square (centred first)" in finding.way_on
    few = frame.iloc[:5].assign(other=[1.0, 4.0, 2.0, 2.0, 7.0])  # a square more would leave no row over
    for errors in ("classical", "HC3"):
        assert mb.fit_linear(few, "score", ["age", "other", "km"], errors=errors).checks().lines.empty


SETTINGS = {"plain": {}, "frequencies": {"weights": "times", "weights_are": "frequency"}, "sampling": {"weights": "times", "errors": "HC1"}}


@pytest.mark.parametrize("setting", SETTINGS)
def test_cases_move_what_leaving_them_out_moves(setting):
    frame = choir(150)
    if setting == "frequencies":  # rows that stand for one, so that a row can be left out
        frame["times"] = np.where(frame.index < 90, 1.0, frame["times"])
    frame, _, fit = fitted(frame, **SETTINGS[setting])
    table = fit.checks(most=150).cases
    X, s2 = dense(frame), fit.strength.residual_sd**2
    w = np.ones(len(frame)) if setting == "plain" else frame["times"].to_numpy()
    w = w / w.mean() if setting == "sampling" else w
    V = s2 * np.linalg.inv(X.T @ (X * w[:, None]))
    told = [k for k, base in enumerate(fit.coefficients["base"]) if not base]
    rows = fit.coefficients.iloc[told]
    checked = 0
    for case in table.head(20).itertuples(index=False):
        place = int(case.singer[1:])
        if setting == "frequencies" and w[place] != 1:
            continue
        kept = mb.Study(frame.drop(index=place)).mark("voice", "alto")
        smaller = mb.fit_linear(kept, "score", TERMS, **SETTINGS[setting])
        shift = (smaller.coefficients["estimate"] - fit.coefficients["estimate"]).to_numpy()[told]
        order = {"(intercept)": 0, "bass": 1, "soprano": 2, "tenor": 3, "age": 4, "km": 5}
        places = [order[level or term] for term, level in zip(rows["term"], rows["level"], strict=True)]
        inside = V[np.ix_(places, places)]
        assert case.influence == pytest.approx(shift @ np.linalg.solve(inside, shift) / 6, rel=1e-6)
        se = np.sqrt(np.diag(inside))
        most = int(np.argmax(np.abs(shift / se)))
        name = f"{rows['term'].iloc[most]}: {rows['level'].iloc[most]}".removesuffix(": ")
        assert (case.moves, case.by) == (name, pytest.approx(shift[most] / se[most], rel=1e-6))
        checked += 1
    assert checked >= 5
    assert (np.diff(table["influence"]) <= 0).all()


def test_findings_say_what_would_do_and_the_sheet_has_four_views():
    frame, _, _ = fitted()
    rng = np.random.default_rng(5)
    frame["score"] = np.exp(rng.normal(0, 0.9, len(frame)) + 0.01 * frame["age"])
    frame.loc[7, "score"] = 200.0
    _, _, fit = fitted(frame)
    told = {f.about: f for f in fit.checks().findings}
    assert told["shape"].way_on == "fit the logarithm of `score`"
    assert "s007" in told["cases"].figures
    assert "s007 alone moves" in told["cases"].meaning
    assert len(mb.draw_checks(fit).axes) == 4
    assert "What would do: fit the logarithm of score." in " ".join(str(fit.checks()).split())
    exact = pd.DataFrame({"x": [1.0, 2, 3, 4, 5], "score": [2.0, 4, 6, 8, 10]})
    with pytest.raises(mb.FitError, match="no residuals to check"):
        mb.fit_linear(mb.Study(exact), "score", ["x"]).checks()


def test_a_row_that_all_but_decides_by_itself_is_the_same_case_where_rows_are_counted():
    rng = np.random.default_rng(1)
    frame = pd.DataFrame({"x": rng.normal(size=40), "times": np.where(np.arange(40) % 5, 1.0, 3.0)})
    frame.loc[3, "x"] = 3e4
    frame["y"] = frame["x"] / 1e4 + rng.normal(size=40)
    counted = mb.fit_linear(frame, "y", ["x"], weights="times", weights_are="frequency").checks().cases
    repeated = mb.fit_linear(frame.loc[frame.index.repeat(frame["times"].astype(int))], "y", ["x"]).checks().cases
    assert counted["leverage"][0] > 1 - 1e-6
    for name in ("residual", "leverage", "influence", "by"):
        np.testing.assert_allclose(counted[name][:3], repeated[name][:3], rtol=1e-6)


def test_names_of_cases_in_the_figure_touch_neither_one_another_nor_the_edge():
    rng = np.random.default_rng(1)
    x, e = rng.normal(size=60), rng.normal(size=60)
    x[:5], e[:5] = 5 + 0.05 * x[:5], -5 + 0.1 * e[:5]  # all close to the edge, and to one another
    ax = mb.draw_checks(mb.fit_linear(mb.Study(pd.DataFrame({"x": x, "y": x + e})), "y", ["x"])).axes[3]
    ax.figure.draw_without_rendering()
    named = [Text.get_window_extent(text) for text in ax.texts]  # without the lines that lead to the points
    assert len(named) == 5
    assert not any(a.overlaps(b) for a, b in itertools.combinations(named, 2))
    assert all(ax.bbox.x0 <= box.x0 and box.x1 <= ax.bbox.x1 for box in named)


def test_rows_that_decide_a_coefficient_alone_are_no_cases():
    rng = np.random.default_rng(2)
    frame = pd.DataFrame({"g": [*"abcd", *rng.choice(list("xyz"), 60)], "x": rng.normal(size=64), "y": rng.normal(size=64) + 50})
    found = mb.fit_linear(mb.Study(frame), "y", ["g", "x"]).checks()
    (told,) = [f for f in found.findings if f.about == "rows alone"]
    assert told.figures == "4 rows fitted exactly"
    rest = mb.fit_linear(mb.Study(frame[4:].reset_index(drop=True)), "y", ["g", "x"]).checks()
    np.testing.assert_allclose(found.cases["influence"] * 8 / 4, rest.cases["influence"], rtol=1e-9)
    assert (found.skew, found.kurtosis) == (pytest.approx(rest.skew), pytest.approx(rest.kurtosis))
    assert not [f for f in rest.findings if f.about == "rows alone"]


def test_rows_of_a_cluster_are_as_alike_as_dense_matrices_say():
    frame = choir(240)
    team = frame["team"].str[1:].astype(int).to_numpy()
    rng = np.random.default_rng(5)
    frame["same"] = rng.normal(size=31)[team]  # the same for all rows of a team
    frame["score"] += 6 * rng.normal(size=31)[team]
    frame = frame[rng.random(240) < 0.8]  # of teams that differ in size
    team = team[frame.index]
    study = mb.Study(frame.reset_index(drop=True)).as_role("team", "cluster")
    terms = ["age", "voice", "same"]
    found = mb.fit_linear(study, "score", terms).checks()
    alike, n = found.intraclass, len(frame)
    columns = [frame["age"], frame["same"], *(frame["voice"] == v for v in ("bass", "soprano", "tenor"))]
    X = np.column_stack([np.ones(n), *columns]).astype(float)
    Z, y = (team[:, None] == np.unique(team)).astype(float), frame["score"].to_numpy()
    M = np.eye(n) - X @ np.linalg.pinv(X)
    P = M @ Z @ np.linalg.pinv(Z.T @ M @ Z, rcond=1e-10) @ Z.T @ M
    df = round(np.trace(P))
    variance = y @ (M - P) @ y / (n - 6 - df)
    of_teams = (y @ P @ y - df * variance) / np.trace(Z.T @ M @ Z)
    assert df == Z.shape[1] - 2  # one is the mean, one is `same`
    assert alike.correlation == pytest.approx(of_teams / (of_teams + variance), rel=1e-9)
    F = y @ P @ y / df / variance
    assert (alike.df, alike.df_rest, alike.statistic) == (df, n - 6 - df, pytest.approx(F, rel=1e-9))
    assert alike.p == pytest.approx(float(f_tail.sf(alike.statistic, df, n - 6 - df)), rel=1e-7)
    C, sums = Z.T @ M @ Z, Z.T @ M @ y
    for end, q in ((alike.low, 0.975), (alike.high, 0.025)):  # if this were it, the clusters explain that quantile
        of_sums = np.linalg.pinv(C + end / (1 - end) * C @ C, rcond=1e-10)
        assert sums @ of_sums @ sums / df / variance == pytest.approx(f_tail.ppf(q, df, n - 6 - df), rel=1e-8)
    counts = Z.sum(axis=0)
    means = Z.T @ y / counts
    within = np.sum((y - Z @ means) ** 2) / (n - len(counts))
    between = counts @ (means - y.mean()) ** 2 / (len(counts) - 1)
    n0 = (n - counts @ counts / n) / (len(counts) - 1)
    assert alike.of_outcome == pytest.approx((between - within) / (between + (n0 - 1) * within), rel=1e-9)
    assert alike.design_effect == pytest.approx(1 + (counts @ counts / n - 1) * alike.correlation, rel=1e-9)
    told = next(f for f in found.findings if f.about == "rows together")
    assert f"about {alike.design_effect:.1f} times" in told.meaning
    assert told.way_on == "cluster the errors by `team`"
    with pytest.MonkeyPatch.context() as patch:  # of many clusters as if they were of one size
        patch.setattr(intraclass, "_EXACT", 3)
        about = mb.fit_linear(study, "score", terms).checks().intraclass
    assert (about.exact, alike.exact) == (False, True)
    assert about[3:5] == pytest.approx(alike[3:5], abs=0.03)
    clustered = mb.fit_linear(study, "score", terms, cluster="team").checks()
    assert clustered.intraclass == alike
    assert "allow for" in clustered.findings[-1].meaning
    weighted = mb.fit_linear(study, "score", terms, weights="times", weights_are="frequency").checks().intraclass
    repeated = frame.loc[frame.index.repeat(frame["times"].astype(int))].reset_index(drop=True)
    laid_out = mb.fit_linear(mb.Study(repeated).as_role("team", "cluster"), "score", terms).checks().intraclass
    assert weighted[2:] == pytest.approx(laid_out[2:], rel=1e-9)
    of_one = mb.Study(frame.reset_index(drop=True).assign(score=team % 7.0)).as_role("team", "cluster")
    exact = mb.fit_linear(of_one, "score", ["age"]).checks().intraclass
    assert exact[2:7] == pytest.approx([1, 1, 1, 1, counts @ counts / n])
    apart = mb.Study(frame.assign(team=[f"t{k}" for k in range(n)])).as_role("team", "cluster")
    assert mb.fit_linear(apart, "score", terms).checks().intraclass is None  # nothing lies within
    sampled = mb.fit_linear(study, "score", terms, weights="times", weights_are="sampling").checks()
    assert sampled.intraclass is None
    assert "which no figure here shows" in sampled.findings[-1].meaning
    random = mb.Study(frame.reset_index(drop=True).assign(score=rng.normal(size=n)))
    noise = mb.fit_linear(random, "score", ["age"], cluster="team")
    assert "no clear evidence that rows of one `team` are alike" in noise.checks().findings[-1].meaning


def test_a_weighted_row_that_all_but_decides_a_slope_keeps_the_digits_of_its_residual():
    rng, w = np.random.default_rng(4), 1 + np.arange(60) % 3 / 2
    X, y = np.column_stack([np.ones(60), np.append(rng.normal(size=59), 3e6)]), rng.normal(size=60)
    fit = mb.fit_linear(pd.DataFrame({"x": X[:, 1], "y": y, "w": w}), "y", ["x"], weights="w")
    A, own = X[:-1].T @ (X[:-1] * w[:-1, None]), X[-1]
    gap = y[-1] - own @ np.linalg.solve(A, X[:-1].T @ (w * y)[:-1])  # from what the others say, which has all its digits
    room = 1 / (1 + w[-1] * own @ np.linalg.solve(A, own))
    wanted = gap * np.sqrt(w[-1] / w.mean() * room / (fit.strength.residual_ss / 58))
    assert fit.checks(most=1).cases["residual"].iloc[0] == pytest.approx(wanted, rel=1e-8)
