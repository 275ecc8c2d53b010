"""Errors that are robust to serial correlation."""

import json

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from reference import digits, sandwich, two_sided_t
from test_linear import _quietly as quietly

TERMS = ["g", "x"]


def series(times=40, rows=1, seed=2, rho=0.6):
    """Return so many rows at each time, in no order, with what is left over going on from time to time."""
    rng = np.random.default_rng(seed)
    left = rng.normal(size=times)
    for k in range(1, times):
        left[k] += rho * left[k - 1]
    n, at = times * rows, np.repeat(np.arange(times), rows)
    frame = pd.DataFrame({"at": at, "x": rng.normal(size=n), "g": rng.choice(list("abc"), n), "w": rng.integers(1, 4, n) + 0.0})
    frame["y"] = 5 + 0.3 * frame["x"] + left[at] + 0.3 * rng.normal(size=n)
    frame["yes"] = np.where(frame["y"] > 5, "yes", "no")
    return frame.sample(frac=1, random_state=seed).reset_index(drop=True)


def fit_to(data, kind="linear", **options):
    study = quietly((data if isinstance(data, mb.Study) else mb.Study(data)).mark, "g", "a")
    if kind == "logistic":
        return quietly(mb.fit_logistic, study, "yes", TERMS, event="yes", **{"time": "at", **options})
    return quietly(mb.fit_linear, study, "y", TERMS, **{"time": "at", **options})


def told(fit):
    return fit.coefficients[~fit.coefficients["base"]]


@pytest.mark.parametrize("far", [0.0, 1e8])
@pytest.mark.parametrize("rows", [1, 3])
def test_they_agree_with_50_digits(rows, far):
    frame = series(rows=rows).assign(x=lambda t: t["x"] + far, y=lambda t: t["y"] - far)
    fit, wanted = fit_to(frame), sandwich(frame, "y", TERMS, {"g": "a"}, "HAC", "at")
    for name, se in wanted["se"].items():
        row = fit.coefficients.set_index(["term", "level"]).loc[name]
        assert digits(row["se"], se) > (6 if far else 11)
        assert digits(row["p"], two_sided_t(row["estimate"] / float(se), wanted["df"])) > (5 if far else 9)
    for term, F in wanted["joint"].items():
        assert digits(fit.terms.set_index("term")["statistic"][term], F) > (6 if far else 10)
    assert digits(fit.overall.statistic, wanted["overall"]) > (6 if far else 10)
    assert (fit.df_rest, fit.overall.df_rest) == (4, 2)


def dense(X, missed, heavy, at, less=1.0):
    """Return the standard errors on columns laid out; `missed` is by what a row's columns are multiplied in its score."""
    at = at.rank(method="dense").to_numpy() - 0.5
    T, inner = at.max() + 0.5, np.linalg.inv(np.linalg.cholesky(X.T @ (X * heavy[:, None])))  # Q = X inner' is orthonormal
    Q, B, middle, S = X @ inner.T, int(0.4 * T ** (2 / 3)), 0.0, 0.0
    for j in range(1, B + 1):
        c = np.sqrt(2) * np.cos(np.pi * j * at / T)
        score, once = Q.T @ (c * missed), Q.T @ (Q * (c * heavy)[:, None])
        middle += np.outer(score, score) / B
        S += (Q.T @ (Q * (c**2 * heavy)[:, None]) - once @ once) / B
    values, vectors = np.linalg.eigh(S)
    root = inner.T @ (vectors / np.sqrt(values)) @ vectors.T
    return np.sqrt(np.diag(root @ middle @ root.T) * less)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("weights", [{}, {"weights": "w"}, {"weights": "w", "weights_are": "frequency"}], ids=str)
def test_they_are_those_of_dense_columns_however_times_are_written_and_rows_come(weights, kind, tmp_path, monkeypatch):
    monkeypatch.setattr("markbase.files.parts.text_blocks.PART_ROWS", 30)
    if weights:  # products of some columns at a time
        monkeypatch.setattr("markbase.core.inference.serial_errors._ALL_HELD", 0)
        monkeypatch.setattr("markbase.core.inference.serial_errors._WIDE", 3)
    frame = series(48, rows=2, seed=4)
    frame.loc[frame["at"] == 7, "x"] = np.nan  # a time without a row
    fit, there = fit_to(frame, kind, **weights), frame.dropna()
    W = there["w"].to_numpy() if weights else np.ones(len(there))
    X = np.column_stack([np.ones(len(there)), there["g"] == "b", there["g"] == "c", there["x"]]).astype(float)
    fitted = X @ told(fit)["estimate"].to_numpy()
    curve = 1.0 if kind == "linear" else (fitted := 1 / (1 + np.exp(-fitted))) * (1 - fitted)
    missed = (there["y"] if kind == "linear" else there["yes"] == "yes").to_numpy() - fitted
    np.testing.assert_allclose(told(fit)["se"], dense(X, missed * W, W * curve, there["at"]), rtol=1e-9)
    months = pd.period_range("2019-11", periods=48, freq="M")[frame["at"]]
    two_forms = np.where(frame.index % 2, months.strftime("28.%m.%Y"), months.strftime("%Y-%m-28"))
    for written in (two_forms, months.strftime("%Y-%m"), "wave " + frame["at"].astype(str), frame["at"] / 12 + 1.5):
        again = fit_to(frame.assign(at=np.asarray(written)), kind, **weights)
        pd.testing.assert_frame_equal(again.coefficients, fit.coefficients, rtol=1e-10)
        frame.assign(at=np.asarray(written)).to_csv(tmp_path / "s.csv", index=False)
        parts = fit_to(mb.open_study(tmp_path / "s.csv", in_parts=True), kind, **weights)
        pd.testing.assert_frame_equal(parts.coefficients, fit.coefficients, rtol=1e-7)
    mb.write_fit(fit, tmp_path / "fit.json")
    saved = mb.read_fit(tmp_path / "fit.json")
    pd.testing.assert_frame_equal(saved.rebase("g", "b").between("g"), fit.rebase("g", "b").between("g"), rtol=1e-9)
    words = "robust to serial correlation (HAC): rows of one at (47 periods), and of those that follow one another"
    assert all(words in " ".join(str(page).split()) for page in (fit, saved))


def test_rows_that_follow_one_another_are_told_how_and_no_more_once_errors_allow_for_it(tmp_path):
    frame = series(80).rename(columns={"at": "month"})
    plain, robust = fit_to(frame, time=None), fit_to(frame, time="month")
    assert "or take errors robust to it (HAC, by month)" in " ".join(str(plain).split())
    assert "take rows as independent" not in " ".join(str(robust).split())
    (found,) = (f for f in robust.checks().findings if f.about == "order")
    assert "which the errors of this fit allow for" in found.meaning
    assert not found.way_on
    assert "looks like an identifier" not in " ".join(str(plain).split())
    frame.to_csv(tmp_path / "s.csv", index=False)
    common = ["--outcome", "y", "--terms", "g,x", "--base", "g=a", "--time", "month"]
    told_there = json.loads(run("fit", tmp_path / "s.csv", *common, "--json").stdout)
    assert told_there["errors"] == {"kind": "HAC", "cluster": "", "clusters": 0, "time": "month", "periods": 80}
    mb.write_plan(tmp_path / "p.toml", quietly(mb.open_study(tmp_path / "s.csv").mark, "g", "a"), {"S": robust}, data=tmp_path / "s.csv")
    run("start", tmp_path / "s.csv", "--outcome", "y", "--into", tmp_path / "draft.toml")
    assert '# time = "month"   # if rows of one month, and' in (tmp_path / "draft.toml").read_text()
    for name, other in {"few": frame[frame["month"] < 19], "away": frame.rename(columns={"month": "months_away"})}.items():
        other.to_csv(tmp_path / f"{name}.csv", index=False)
        run("start", tmp_path / f"{name}.csv", "--outcome", "y", "--into", tmp_path / f"{name}.toml")
        assert "time =" not in (tmp_path / f"{name}.toml").read_text()
    again = json.loads(run("fit", tmp_path / "p.toml", "S", "--json", "--in-parts").stdout)
    assert again["coefficients"] == told_there["coefficients"]
    page = run("blocks", tmp_path / "s.csv", "--outcome", "y", "--block", "a: g", "--block", "b: x", "--time", "month")
    assert "none of the change with these errors" in " ".join(page.stdout.split())
    assert "draws samples" not in page.stdout
    frame["yes"] = np.where(frame["y"] + 1.5 * frame["month"].mod(20).gt(9) > 5.7, "yes", "no")
    logistic = fit_to(frame, "logistic", time=None)
    X = np.column_stack([np.ones(80), frame["g"] == "b", frame["g"] == "c", frame["x"]]).astype(float)
    p = 1 / (1 + np.exp(-X @ told(logistic)["estimate"].to_numpy()))
    e, W = ((frame["yes"] == "yes") - p) / np.sqrt(p * (1 - p)), X * np.sqrt(p * (1 - p))[:, None]
    order, A = np.argsort(frame["month"].to_numpy()), np.zeros((80, 80))
    A[order[1:], order[:-1]] = A[order[:-1], order[1:]] = 0.5
    r, expected = e @ A @ e / (e @ e), np.trace(A - W @ np.linalg.pinv(W) @ A) / 76
    said = f"correlation with the one before {r:.2f}, {expected:.2f} expected, p < .001".replace("-", "−")
    assert said in " ".join(str(logistic).split())
    for order in (None, frame["month"].to_numpy(), mb.Study(frame)["month"]):
        (found,) = (f for f in logistic.checks(order=order).findings if f.about == "order")
        assert f"correlation with the one before {r:.2f} (" in found.figures
        assert "Durbin" not in found.figures
    checked = run("check", tmp_path / "s.csv", "--kind", "logistic", "--outcome", "yes", "--event", "yes", "--terms", "x", "--order", "month")
    assert "order: by month, correlation with the one before" in " ".join(checked.stdout.split())
    assert "those that follow one another by `month` may go together" in fit_to(frame, "logistic", time="month").calibration_test().untested


@pytest.mark.parametrize(
    ("change", "options", "what"),
    [
        ({}, {"time": None, "errors": "HAC"}, "need to know what tells the order of rows: name the column of the time"),
        ({}, {"cluster": "g"}, "either allow for serial correlation by `at` .HAC., or are clustered by `g`"),
        ({}, {"strata": "g"}, "those of strata .`g`."),
        ({}, {"time": "y"}, "`y` is the outcome: what tells which rows go together"),
        ({}, {"errors": "HC3"}, "are `HC3`: leave one of the two out"),
        ({}, {"time": "g"}, "Nothing puts the levels of `g` .* in order of time"),
        ({"at": np.arange(40) // 3}, {}, "`at` has 14 periods in the rows used.*need at least 20"),
        ({"at": ["31.02.2020", *pd.date_range("2020-01-01", periods=39).strftime("%d.%m.%Y")]}, {}, "`31.02.2020` of `at` is no date"),
    ],
)
def test_what_tells_no_order_or_too_little_is_refused(change, options, what):
    with pytest.raises(mb.MarkbaseError, match=what):
        fit_to(series().assign(**change), **options)


def test_levels_taken_out_and_what_one_period_decides_alone():
    frame = series(rows=3).assign(
        who=lambda t: "w" + (t.groupby("at").cumcount() % 3).astype(str), once=lambda t: np.where(t["at"] == 5, "yes", "no")
    )
    within = frame[["x", "y"]] - frame.groupby("who")[["x", "y"]].transform("mean")
    X = np.column_stack([np.ones(120), within["x"]])
    missed = (within["y"] - X[:, 1] * (within["x"] @ within["y"]) / (within["x"] @ within["x"])).to_numpy()
    fit = quietly(mb.fit_linear, frame, "y", ["x"], fixed_effects="who", time="at")
    assert fit.coefficients["se"].iloc[-1] == pytest.approx(dense(X, missed, np.ones(120), frame["at"], 118 / 116)[1], rel=1e-9)
    alone = quietly(mb.fit_linear, frame, "y", ["x", "once"], time="at")
    assert np.isnan(alone.coefficients["se"].iloc[-1])
    assert "a period of `at`, or a column that is constant within all of them, is fitted exactly" in alone.untested["once"]
    waves = frame.assign(z=frame["at"] % 7, wave="w" + frame["at"].astype(str).str.zfill(2))
    mb.fit_linear(waves, "y", ["z"], time="wave")  # without a remark that z does not vary within times


def test_few_periods_carry_no_joint_test_of_many_and_samples_are_not_drawn():
    fit = fit_to(series(24, rows=2))
    assert "24 periods, which give 3 degrees of freedom, cannot carry a joint test of 3" in fit.overall.untested
    assert fit.terms["df_rest"].tolist() == [2, 3]
    with pytest.raises(mb.FitError, match="need no draws"):
        mb.bootstrap(fit, 100, seed=1)
    with pytest.raises(mb.MarkbaseError, match=r"leave .*`time` and sampling weights out"):
        fit_to(series(), "logistic", penalty="firth")
