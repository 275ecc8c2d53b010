"""A logistic fit held against what happened: each figure by its definition."""

import itertools

import numpy as np
import pandas as pd
import pytest
from scipy.stats import chi2, t

import markbase as mb
from test_clusters import TIMES
from test_logistic import TERMS
from test_strata import sample
from test_strata import study_of as drawn_study
from yes_no import choir, study_of

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def fitted(rows=120, **more):
    frame = choir(rows)
    frame["singer"] = [f"s{k:03d}" for k in range(rows)]
    study = mb.Study(frame, codebook={"columns": {"singer": {"role": "identifier"}}}).mark("voice", "alto")
    return frame, mb.fit_logistic(study, "stays", TERMS, event="yes", **more)


def test_sorting_is_counted_beside_the_guess():
    frame, fit = fitted()
    p, y = fit.fitted, (frame["stays"] == "yes").to_numpy()
    for cut in (0.3, 0.5, 0.8):
        c = fit.classification(cut)
        assert c.correct == pytest.approx(np.mean((p >= cut) == y))
        assert c.guess == max(y.mean(), 1 - y.mean())
        assert c.sensitivity == pytest.approx(np.mean(p[y] >= cut))
        assert c.specificity == pytest.approx(np.mean(p[~y] < cut))
        assert c.table.to_numpy().sum() == len(frame)
    row = c.points[c.points["cut"] >= 0.8].iloc[-1]
    assert (row["sensitivity"], row["specificity"]) == pytest.approx((c.sensitivity, c.specificity))


def test_the_area_counts_pairs_and_its_interval_is_delongs():
    frame, fit = fitted()
    p, y = np.round(fit.fitted, 2), (frame["stays"] == "yes").to_numpy()
    from markbase.core.diagnostics.classification import area_under_curve

    wins = np.array([[(a > b) + (a == b) / 2 for b in p[~y]] for a in p[y]], dtype=float)
    for w in (None, np.random.default_rng(3).gamma(3, 1, len(y))):
        own, other = (np.ones(n) if w is None else w[side] for n, side in ((y.sum(), y), ((~y).sum(), ~y)))
        area, se = area_under_curve(y.astype(float), p, w)
        assert area == pytest.approx(own @ wins @ other / own.sum() / other.sum(), rel=1e-13)
        sides = (wins @ other / other.sum(), own), (own @ wins / own.sum(), other)
        parts = [((x - area) ** 2 @ v**2) / v.sum() ** 2 * len(v) / (len(v) - 1) for x, v in sides]  # DeLong's, weighted
        assert se == pytest.approx(np.sqrt(sum(parts)), rel=1e-12)
    c = fit.classification()
    assert 0 < c.area_low < c.area < c.area_high < 1


def test_calibration_shares_are_counted_and_their_intervals_are_wilsons():
    frame, fit = fitted()
    table = fit.calibration(5)
    assert table["n"].sum() == len(frame)
    assert len(table) == 5
    assert np.ptp(table["n"]) <= 2  # parts of about equal size
    assert (np.diff(table["predicted"]) > 0).all()
    y = (frame["stays"] == "yes").to_numpy()
    for row in table.itertuples():
        here = (fit.fitted >= row.lowest) & (fit.fitted <= row.highest)
        assert (here.sum(), y[here].mean()) == (row.n, pytest.approx(row.observed))
        for end in (row.low, row.high):  # Wilson: where the score test just rejects
            z = (row.observed - end) / np.sqrt(end * (1 - end) / row.n)
            assert abs(z) == pytest.approx(1.959963984540054, rel=1e-9)
    total = np.average(table["predicted"], weights=table["n"])
    assert total == pytest.approx(y.mean(), rel=1e-9)  # the likelihood equations


@pytest.mark.parametrize("terms", [["age", "voice"], ["voice", "day"], [mb.interaction("voice", "day")]], ids=str)
@pytest.mark.parametrize("frequencies", [{}, TIMES], ids=["plain", "frequencies"])
def test_goodness_of_fit_counts_parts_or_combinations(terms, frequencies):
    frame = choir(240, seed=9)
    frame["times"] = 1 + np.arange(240) % 3
    fit = mb.fit_logistic(study_of(frame), "stays", terms, event="yes", **frequencies)
    test, rows = fit.calibration_test(6), frame.assign(p=fit.fitted, y=frame["stays"] == "yes")
    rows = rows.loc[rows.index.repeat(frame["times"])] if frequencies else rows
    parts = np.digitize(rows["p"], np.quantile(rows["p"], np.arange(1, 6) / 6), right=True)
    by = parts if "age" in terms else ["voice", "day"]
    sides = rows.groupby(by).agg(n=("y", "size"), y=("y", "sum"), p=("p", "sum"))
    squares = (sides["y"] - sides["p"]) ** 2
    statistic = (squares / sides["p"] + squares / (sides["n"] - sides["p"])).sum()  # of events, and of the others
    df = 4 if "age" in terms else len(sides) - np.count_nonzero(~fit.coefficients["base"])
    told = next(f for f in fit.checks().findings if f.about == "calibration")
    if not df:
        assert "a coefficient for every combination" in test.untested
        assert told.figures == "not tested"
        return
    assert (test.of, test.groups, test.df) == ("parts" if "age" in terms else "combinations", len(sides), df)
    assert (test.statistic, test.p) == pytest.approx((statistic, chi2.sf(statistic, df)), rel=1e-9)
    wanted = fit.calibration_test()
    assert told.figures.startswith(f"chi²({wanted.df}) = {wanted.statistic:.2f}, p = ")


def test_goodness_of_fit_is_clear_of_what_bends_and_not_told_where_rows_are_not_alike():
    rng = np.random.default_rng(6)
    frame = choir(400, seed=2).assign(x=rng.normal(size=400), w=1 + rng.random(400))
    frame["stays"] = np.where(rng.random(400) < 1 / (1 + np.exp(1.5 - 2 * frame["x"] ** 2)), "yes", "no")
    study = study_of(frame)
    (told,) = (f for f in mb.fit_logistic(study, "stays", ["x"], event="yes").checks().findings if f.about == "calibration")
    assert told.meaning.startswith("what happens differs")
    bent = mb.fit_logistic(study, "stays", [mb.polynomial("x", 2)], event="yes").calibration_test()
    assert bent.p > 0.05
    for options, why in (({"cluster": "team"}, "`team`"), ({"weights": "w"}, "sampling weights"), ({"penalty": "firth"}, "penalty")):
        none = mb.fit_logistic(study, "stays", ["x"], event="yes", **options).calibration_test()
        assert why in none.untested
        assert np.isnan(none.p)
    rare = study_of(frame.assign(stays=np.where(np.arange(400) % 40 == 7, "yes", "no")))
    (told,) = (f for f in mb.fit_logistic(rare, "stays", ["x"], event="yes").checks().findings if f.about == "calibration")
    assert "in 10 parts fewer than 5 rows of one side are expected" in told.figures


@pytest.mark.parametrize("weights", [{}, {"weights": "times"}, TIMES], ids=lambda w: "-".join(w.values()))
@pytest.mark.parametrize("drawn", [{"cluster": "team"}, {"cluster": "team", "strata": "district"}, {"strata": "district"}, {}], ids="-".join)  # fmt: skip
def test_intervals_allow_for_how_rows_were_drawn(drawn, weights):
    frame = sample()
    study = drawn_study(frame) if "strata" in drawn else mb.Study(frame)
    fit = mb.fit_logistic(study, "high", ["age", "voice"], event="y", **drawn, **weights)
    often = frame["times"] if weights is TIMES else np.ones(len(frame), dtype=int)
    p, y, w, team, district = (np.repeat(v, often) for v in (fit.fitted.to_numpy()[:300], frame["high"] == "y", frame["times"] * 1.0, frame["team"], frame["district"]))  # fmt: skip
    y, w = y.to_numpy(), w.to_numpy() if weights and weights is not TIMES else np.ones(len(y))
    unit = team.to_numpy() if "cluster" in drawn else np.arange(len(y))
    stratum = district.to_numpy() if "strata" in drawn else np.zeros(len(y))

    def spread(z):  # of the sum of what each row has part in
        units = pd.DataFrame({"unit": unit, "stratum": stratum, "z": z}).groupby(["stratum", "unit"])["z"].sum()
        return sum(len(u) / (len(u) - 1) * ((u - u.mean()) ** 2).sum() for _, u in units.groupby("stratum"))

    c, wins = fit.classification(), (p[y][:, None] > p[~y]) + (p[y][:, None] == p[~y]) / 2
    sides = [np.zeros(len(y)), np.zeros(len(y))]
    sides[0][y] = w[y] * (wins @ w[~y] / w[~y].sum() - c.area) / w[y].sum()
    sides[1][~y] = w[~y] * (w[y] @ wins / w[y].sum() - c.area) / w[~y].sum()
    if "strata" in drawn:
        variance = spread(sides[0] + sides[1])
    else:  # Obuchowski's, and DeLong's where each row is a cluster of its own
        a, b = (pd.Series(side).groupby(unit).sum() for side in sides)
        one, other, both = (len(set(unit[some])) for some in (y, ~y, y | ~y))
        variance = one / (one - 1) * a @ a + other / (other - 1) * b @ b
        variance += 2 * both / (both - 1) * a @ b
    quantile = t.isf(0.025, fit.df_rest) if "cluster" in drawn else 1.959963984540054
    half = quantile * np.sqrt(variance) / (c.area * (1 - c.area))
    odds = np.log(c.area / (1 - c.area)) + np.array([-half, half])
    assert [c.area_low, c.area_high] == pytest.approx(1 / (1 + np.exp(-odds)), rel=1e-10)
    assert c.allows_for == " within ".join(f"{k.replace('r', 'rs') if k == 'cluster' else k} of `{v}`" for k, v in drawn.items())
    if "cluster" in drawn:
        assert fit.classification(folds=3).held_out.allows_for == c.allows_for
    for row in itertools.chain(fit.calibration(4).itertuples(), fit.calibration(70).itertuples()):
        here = (p >= row.lowest) & (p <= row.highest)
        variance = spread(np.where(here, w * (y - row.observed), 0) / w[here].sum())
        told = w[here].sum() ** 2 / (w[here] ** 2).sum()  # independent rows that would tell as much
        if (drawn or w.max() > 1) and 0 < row.observed < 1:
            told = min(told, row.observed * (1 - row.observed) / variance)
        for end in (row.low, row.high):
            assert (row.observed - end) ** 2 * told == pytest.approx(quantile**2 * end * (1 - end), rel=1e-9, abs=1e-12)


@pytest.mark.parametrize("repeated", [False, True])
def test_cases_are_listed_by_the_identifier_of_the_data_with_residuals_of_the_hat_matrix(repeated):
    more = {"weights": "times", "weights_are": "frequency"} if repeated else {}
    frame, fit = fitted(**more)
    X = np.column_stack([np.ones(len(frame)), *[frame["voice"] == v for v in ("bass", "soprano", "tenor")], frame["age"], frame["km"]]).astype(float)  # fmt: skip
    p, y = fit.fitted.to_numpy(), (frame["stays"] == "yes").to_numpy(float)
    w, f = p * (1 - p), frame["times"].to_numpy() if repeated else 1.0
    h = w * np.einsum("ij,jk,ik->i", X, np.linalg.inv(X.T @ (X * (f * w)[:, None])), X)
    r = (y - p) / np.sqrt(w * (1 - h))
    influence = r**2 * h / (1 - h) / X.shape[1]
    for by, key in (("influence", influence), ("residual", np.abs(r))):
        table = fit.cases(5, by=by)
        order = np.argsort(-key)[:5]
        assert table["singer"].tolist() == frame["singer"].iloc[order].tolist()
        for column, wanted in (("residual", r), ("leverage", h), ("influence", influence), ("probability", p)):
            np.testing.assert_allclose(table[column], wanted[order], rtol=1e-9)
    with pytest.raises(mb.MarkbaseError, match="by `influence` or by `residual`"):
        fit.cases(by="leverage")


def test_rows_held_out_are_predicted_by_fits_that_have_not_seen_them():
    frame, fit = fitted(300)
    c = fit.classification(folds=3, seed=4)
    part = np.empty(300, dtype=int)
    part[np.random.default_rng(4).permutation(300)] = np.arange(300) % 3
    p = np.empty(300)
    for k in range(3):
        train = frame[part != k].reset_index(drop=True)
        smaller = mb.fit_logistic(study_of(train), "stays", TERMS, event="yes")
        p[part == k] = smaller.predict(frame.loc[part == k, ["voice", "age", "km"]])["probability"]
    y = (frame["stays"] == "yes").to_numpy()
    assert c.held_out.correct == pytest.approx(np.mean((p >= 0.5) == y))
    wins = [(a > b) + (a == b) / 2 for a, b in itertools.product(p[y], p[~y])]
    assert c.held_out.area == pytest.approx(np.mean(wins), rel=1e-12)
    assert c.held_out.folds == 3


def test_a_level_that_occurs_in_one_part_only_is_left_out_and_counted():
    frame = choir(200)
    frame["day"] = frame["day"].where(frame.index != 5, "Sun")
    frame.loc[6, ["day", "stays"]] = ["Sun", "yes" if frame.loc[5, "stays"] == "no" else "no"]
    fit = mb.fit_logistic(study_of(frame), "stays", ["day", "age"], event="yes")
    seeds = (fit.classification(folds=2, seed=s) for s in range(20) if _together(s))
    assert next(seeds).held_out.left_out == 2


def _together(seed):
    part = np.empty(200, dtype=int)
    part[np.random.default_rng(seed).permutation(200)] = np.arange(200) % 2
    return part[5] == part[6]


@pytest.mark.parametrize(("call", "message"), [
    (lambda f: f.classification(1.5), "The cut is 1.5"),
    (lambda f: f.classification(folds=1), "held out in 2 parts or more"),
    (lambda f: f.calibration(1), "two parts or more"),
])  # fmt: skip
def test_settings_that_cannot_be_used_are_refused(call, message):
    with pytest.raises(mb.MarkbaseError, match=message):
        call(fitted()[1])


def test_sensitivity_of_a_logistic_fit_refits_without_each_other_term():
    frame, fit = fitted()
    found = mb.specifications(fit, "km").table
    smaller = mb.fit_logistic(study_of(frame), "stays", ["voice", "km"], event="yes").coefficients.set_index("term")
    row = found[found["without"] == "age"].iloc[0]
    assert row[["estimate", "se", "z"]].tolist() == pytest.approx(smaller.loc["km", ["estimate", "se", "z"]].tolist())
    assert isinstance(found, pd.DataFrame)


@pytest.mark.parametrize("kind", ["sampling", "frequency"])
def test_every_cut_of_the_curve_is_counted_by_the_weights(kind):
    data = choir(90)
    data["times"] = 1 + np.arange(90) % 3
    fit = mb.fit_logistic(data, "stays", ["age"], event="yes", weights="times", weights_are=kind)
    p, happened = fit.fitted.to_numpy(), (data["stays"] == "yes").to_numpy()
    points = fit.classification().points
    assert points["cut"].tolist() == [1.0, *sorted(set(p), reverse=True)]
    for row in points.itertuples():
        over = (p >= row.cut) if row.cut < 1 else np.zeros(90, dtype=bool)
        for side, wanted in ((happened, row.sensitivity), (~happened, 1 - row.specificity)):
            assert data["times"][side & over].sum() / data["times"][side].sum() == pytest.approx(wanted, abs=1e-14)
