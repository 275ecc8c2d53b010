"""Separation: decided on the rows, explained, and what comes close to it."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from yes_no import choir, exactly, study_of

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


SEPARATED = {
    "a level without the event": (["voice", "age"], "`voice` is `tenor` in 9 rows used, and none of them has `stays` = `yes`"),
    "a numeric column with a threshold": (["mark"], "Every row with `mark` of 50.5 or more has `stays` = `yes`, every row of 48.5 or less `no`"),
    "two numeric columns together": (["one", "two"], "`one` and `two` together foretell .* in 140 of 140 rows \\(complete"),
    "a numeric column but for its middle": (["partly", "age"], "partial separation"),
}  # fmt: skip


@pytest.mark.parametrize("case", SEPARATED)
def test_separation_is_explained_and_firth_is_a_way_out(case):
    frame = choir()
    terms, message = SEPARATED[case]
    yes = (frame["stays"] == "yes").to_numpy()
    rng = np.random.default_rng(2)
    frame["mark"] = np.where(yes, 50.5, 49.5) + np.where(yes, 1, -1) * rng.integers(0, 30, len(frame))
    frame["one"] = rng.normal(size=len(frame)).round(2)
    frame["two"] = (np.where(yes, 0.01, -0.01) + np.where(yes, 1, -1) * rng.exponential(size=len(frame)).round(2) - frame["one"])  # fmt: skip
    frame["partly"] = np.where(rng.random(len(frame)) < 0.3, 5.0, np.where(yes, 5 + rng.integers(1, 9, len(frame)), 5 - rng.integers(1, 9, len(frame))))  # fmt: skip
    if case.startswith("a level"):
        frame.loc[frame["voice"] == "tenor", "stays"] = "no"
    with pytest.raises(mb.SeparationError, match=message):
        mb.fit_logistic(study_of(frame), "stays", terms, event="yes")
    fit = mb.fit_logistic(study_of(frame), "stays", terms, event="yes", penalty="firth")
    assert fit.converged
    assert np.isfinite(fit.coefficients["estimate"]).all()


def test_strong_but_not_perfect_prediction_converges():
    rng = np.random.default_rng(8)
    x = rng.normal(size=2000)
    y = rng.random(2000) < 1 / (1 + np.exp(-12 * x))
    fit = mb.fit_logistic(mb.Study(pd.DataFrame({"x": x, "y": np.where(y, "on", "off")})), "y", ["x"], event="on")
    assert fit.converged
    assert 9 < fit.coefficients["estimate"].iloc[1] < 16


def test_separation_is_decided_on_all_rows_where_a_programme_sees_a_few(monkeypatch):
    from markbase.core.estimation import separation

    monkeypatch.setattr(separation, "_AT_ONCE", 12)
    frame = choir(200, seed=4)
    fit = mb.fit_logistic(study_of(frame), "stays", ["age", "voice"], event="yes")
    assert separation.find_separation(fit.likelihood, fit.solution.columns, fit.theta) is None
    frame["stays"] = np.where(frame["age"] > frame["age"].median(), "yes", "no")
    with pytest.raises(mb.SeparationError, match=r"complete separation|Every row with `age`"):
        mb.fit_logistic(study_of(frame), "stays", ["age", "voice"], event="yes")


def test_averages_hold_where_one_row_is_all_but_certain():
    rng = np.random.default_rng(11)
    table = pd.DataFrame({"x": [*rng.normal(size=79), 4e3], "part": [*"abcd"] * 20})
    table["stays"] = np.where(rng.random(80) < exactly(table["x"]), "yes", "no")
    fit = mb.fit_logistic(mb.Study(table).mark("part", "a"), "stays", ["x", "part"], event="yes")
    start, slope, *parts = fit.coefficients.loc[lambda t: ~t["base"], "estimate"]
    assert slope * 4e3 > 800  # its exponential would overflow
    for shown, effect in zip(fit.groups("part")["adjusted"], [0.0, *parts], strict=True):
        assert shown == pytest.approx(float(exactly(start + slope * table["x"] + effect).mean()), rel=1e-12)


def test_a_level_that_the_first_look_at_many_rows_misses_is_estimated_all_the_same(monkeypatch):
    rng, n = np.random.default_rng(1), 220_000
    part = rng.choice(["a", "b"], n).astype(object)
    x = rng.normal(size=n)
    stays = rng.random(n) < 1 / (1 + np.exp(-x))
    for place, yes in ((7, True), (103, True), (30_013, False), (90_019, False), (200_029, True)):
        part[place], stays[place] = "rare", yes
    data = pd.DataFrame({"part": part, "x": x, "stays": stays, "seldom": np.arange(n) % 9999 == 5})
    study = mb.Study(data).as_categorical("stays").as_categorical("seldom").mark("part", "a")
    wanted = [("stays", ["x", "part"]), ("seldom", ["x"])]
    made = [mb.fit_logistic(study, outcome, terms, event=True).coefficients for outcome, terms in wanted]
    monkeypatch.setattr("markbase.core.estimation.beginning._MANY_ROWS", n + 1)
    for (outcome, terms), found in zip(wanted, made, strict=True):
        careful = mb.fit_logistic(study, outcome, terms, event=True).coefficients
        pd.testing.assert_frame_equal(found, careful, rtol=1e-8, atol=1e-9)
    assert made[0].set_index("level").loc["rare", "n"] == 5
