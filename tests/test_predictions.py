"""Predictions for rows, profiles and people, against dense columns, and their coverage by simulation."""

import math
import re
import warnings

import numpy as np
import pandas as pd
import pytest
import scipy.special as sp
from scipy.optimize import minimize

import markbase as mb
from command import run
from markbase.core.diagnostics.error_measures import calibration_slope
from reference import made_up
from yes_no import either

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def choir(rows=250, seed=6):
    frame = pd.DataFrame(made_up(rows, seed=seed))
    frame["km"] += 1
    frame["singer"] = [f"s{k:04d}" for k in range(rows)]
    frame["wage"] = np.exp(frame["score"] / 20)
    return frame.set_index(pd.Index([f"row{k}" for k in range(rows)]))


def study_of(frame):
    study = mb.Study(frame, codebook={"columns": {"singer": {"role": "identifier"}}}).mark("voice", "alto")
    return study.derive("age_z", z="age").derive("km_log", log="km").derive("wage_log", log="wage")


TERMS = ["voice", "day", "km_log", mb.polynomial("age_z"), mb.interaction("voice", "km_log")]


def laid_out(frame, fit):
    """Lay the columns of TERMS out by hand, in the order of the coefficient table without its bases."""
    age = (frame["age"] - fit.variable("age_z", "numeric").column.made.parameters[0]) / fit.variable("age_z", "numeric").column.made.parameters[1]  # fmt: skip
    km = np.log(frame["km"])
    voices = [(frame["voice"] == v).astype(float) for v in ("bass", "soprano", "tenor")]
    days = [(frame["day"] == d).astype(float) for d in fit.variable("day", "categorical").labels if d != fit.variable("day", "categorical").base_label]  # fmt: skip
    return np.column_stack([np.ones(len(frame)), *voices, *days, km, age, age**2, *(km * v for v in voices)])


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("errors", ["classical", "HC3"])
def test_every_row_of_another_table_is_predicted_as_on_dense_columns(kind, errors):
    frame, new = choir(), choir(300, seed=11)
    frame["high"], new["high"] = (np.where(f["score"] > 38, "y", "n") for f in (frame, new))
    study = study_of(frame)
    fit = either(kind, study, TERMS, ("high", "y"), errors=errors)
    what = "predicted" if kind == "linear" else "probability"
    X, own = laid_out(new, fit), ~fit.coefficients["base"]
    b, V = fit.coefficients.loc[own, "estimate"].to_numpy(), fit.covariance.to_numpy()[np.ix_(own, own)]
    eta, se = X @ b, np.sqrt(np.einsum("ij,jk,ik->i", X, V, X))
    table = fit.predict(new.drop(columns=["score"] if kind == "linear" else ["high"]))
    assert list(table["singer"]) == list(new["singer"])
    assert list(table.index) == list(new.index)
    np.testing.assert_allclose(table["se"], se, rtol=1e-7)
    if kind == "linear":
        np.testing.assert_allclose(table["predicted"], eta, rtol=1e-9)
        wide = (table["one_high"] - table["one_low"]) / (table["high"] - table["low"])
        np.testing.assert_allclose(wide, np.hypot(se, fit.strength.residual_sd) / se, rtol=1e-7)
    else:
        np.testing.assert_allclose(table["probability"], 1 / (1 + np.exp(-eta)), rtol=1e-9)
    whole = fit.predict(new)
    np.testing.assert_allclose(whole["residual"], whole["observed"] - table[what], rtol=1e-9, atol=1e-12)
    few = [{"voice": r.voice, "day": r.day, "km_log": np.log(r.km), "age_z": z} for r, z in zip(new.head(5).itertuples(), laid_out(new.head(5), fit)[:, -5], strict=True)]  # fmt: skip
    one = fit.predict(few)
    np.testing.assert_allclose(one[what], table[what].head(5), rtol=1e-9)
    Z = laid_out(frame.assign(voice="bass"), fit)  # averaged over the rows, all as they are but for the voice
    part = fit.predict({"voice": "bass"}).iloc[0]
    q = 1 / (1 + np.exp(-Z @ b))
    slope = (q * (1 - q)) @ Z / len(Z) if kind == "logistic" else Z.mean(axis=0)
    spread = math.sqrt(slope @ V @ slope)
    share = q.mean() if kind == "logistic" else (Z @ b).mean()
    se = spread / (share * (1 - share)) if kind == "logistic" else spread
    assert part[[what, "se"]].tolist() == pytest.approx([share, se], rel=1e-7)
    np.testing.assert_allclose(fit.predict(study)[what], fit.fitted, rtol=1e-9)
    assert fit.fitted.index.equals(frame.index)
    assert fit.residuals.index.equals(frame.index)


@pytest.mark.parametrize("errors", ["classical", "HC3"])
def test_rows_are_predicted_where_columns_are_nearly_alike(errors):
    rng, data = np.random.default_rng(8), []
    for seed, rows in ((3, 300), (4, 120)):
        frame = choir(rows, seed=seed)
        frame["near"] = frame["km"] + 1e-4 * rng.normal(size=rows)
        data.append(frame)
    frame, new = data
    fit = mb.fit_linear(mb.Study(frame).mark("voice", "alto"), "score", ["km", "near", "voice"], errors=errors)

    def dense(table):
        voices = [(table["voice"] == v).to_numpy(float) for v in ("bass", "soprano", "tenor")]
        return np.column_stack([np.ones(len(table)), table["km"], table["near"], *voices])

    X, y, there = dense(frame), frame["score"].to_numpy(), dense(new)
    Q, R = np.linalg.qr(X)
    b, inverse = np.linalg.solve(R, Q.T @ y), np.linalg.inv(R)
    e, h = y - X @ b, np.einsum("ij,ij->i", Q, Q)
    root = there @ inverse
    middle = np.eye(X.shape[1]) * (e @ e) / (len(X) - X.shape[1])
    if errors == "HC3":
        middle = Q.T @ (Q * (e / (1 - h))[:, None] ** 2)
    told = fit.predict(new)
    np.testing.assert_allclose(told["predicted"], there @ b, rtol=1e-7)
    np.testing.assert_allclose(told["se"], np.sqrt(np.einsum("ij,jk,ik->i", root, middle, root)), rtol=1e-6)
    gap = new.assign(near=new["near"].where(new.index != "row5"), voice=new["voice"].where(new.index != "row7", "solo"))
    lost = fit.predict(gap)
    assert lost.index[lost["predicted"].isna()].tolist() == lost.index[lost["se"].isna()].tolist() == ["row5", "row7"]


def test_gaps_unseen_levels_and_rows_outside_the_data_are_told_and_stop_nothing():
    fit = mb.fit_linear(study_of(choir()), "score", TERMS)
    new = choir(8, seed=2)
    new.loc["row0", "km"] = np.nan
    new.loc[["row1", "row5"], "voice"] = "descant", " Alto"
    new.loc["row2", "age"] = 400
    new.loc["row3", "day"] = None
    new["km"] = new["km"].astype(object)
    new.loc["row4", "km"] = "far"
    told = fit.predict(new)["caution"]
    assert told["row0"] == "`km_log` is missing or no number"
    assert told["row1"] == "`descant` of `voice` occurs in no row the model was fitted to"
    assert told["row5"] == "` Alto` of `voice` occurs in no row the model was fitted to, unlike `alto`"
    assert "`age_z` = " in told["row2"]
    assert "lies outside the rows used" in told["row2"]
    assert told["row3"] == "`day` is missing"
    assert told["row4"] == "`km_log` is missing or no number"
    predicted = fit.predict(new)["predicted"]
    assert predicted.isna().tolist() == [True, True, False, True, True, True, False, False]
    with pytest.raises(mb.ColumnError, match=r"no column `km_log` \(or `km`, of which it was made\)"):
        mb.score(fit, mb.Study(new.drop(columns="km")))
    with pytest.raises(mb.MarkbaseError, match="not for 'alto'"):
        fit.predict("alto")


def test_a_logged_outcome_comes_back_as_geometric_mean_and_by_smearing(tmp_path):
    fit = mb.fit_linear(study_of(choir()), "wage_log", ["voice", "age"])
    table = fit.predict({"voice": "bass", "age": 40}, back_transformed=True)
    logged = table["predicted"].iloc[0]
    assert table["geometric_mean"].iloc[0] == pytest.approx(np.exp(logged), rel=1e-12)
    assert table["mean_smeared"].iloc[0] == pytest.approx(np.exp(logged) * np.exp(fit.residuals).mean(), rel=1e-12)
    assert list(table.columns)[-1] == "caution"
    apart = fit.predict([{"voice": "bass"}, {"voice": "bass", "age": 40}], back_transformed=True)
    assert apart["mean_smeared"].isna().tolist() == [True, False]  # the spread of age counts as well
    np.testing.assert_allclose(apart["geometric_mean"], np.exp(apart["predicted"]), rtol=1e-12)
    mb.write_fit(fit, tmp_path / "fit.json")
    saved = mb.read_fit(tmp_path / "fit.json").predict({"voice": "bass", "age": 40}, back_transformed=True)
    assert saved["mean_smeared"].isna().all()
    shown = run("predict", tmp_path / "fit.json", "--profile", "voice=bass, age=40", "--back-transformed").stdout
    assert "smeared mean    not known of a saved fit, which has no residuals" in shown
    np.testing.assert_allclose(saved[["geometric_low", "geometric_high"]], table[["geometric_low", "geometric_high"]])
    more = study_of(choir()).derive("one_more", log1p="wage")
    taken = mb.fit_linear(more, "one_more", ["age"], fixed_effects="voice").predict({"age": 40}, back_transformed=True)
    assert taken["mean_smeared"].isna().all()
    np.testing.assert_allclose(taken["geometric_mean"], np.expm1(taken["predicted"]), rtol=1e-12)
    with pytest.raises(mb.MarkbaseError, match="`score` is not the logarithm of anything"):
        mb.fit_linear(study_of(choir()), "score", ["age"]).predict({"age": 3}, back_transformed=True)


def test_a_held_out_part_is_scored_by_hand():
    frame = choir(400)
    frame["high"] = np.where(frame["score"] > 38, "y", "n")
    train, test = study_of(frame).hold_out(share=0.25, seed=3)
    fit = mb.fit_linear(train, "score", ["voice", "age", "km"])
    found = mb.score(fit, test)
    rows = frame.loc[test.index]
    error = rows["score"] - fit.predict(rows)["predicted"]
    table = found.table.set_index("figure")
    assert table.loc["root mean squared error", "held_out"] == pytest.approx(np.sqrt((error**2).mean()), rel=1e-10)
    mean = frame.loc[train.index, "score"].mean()
    assert table.loc["R²", "held_out"] == pytest.approx(1 - (error**2).sum() / ((rows["score"] - mean) ** 2).sum(), rel=1e-10)
    assert table.loc["mean error"].tolist() == pytest.approx([0, error.mean(), (rows["score"] - mean).mean()])
    assert table.loc["R²", "of_the_fit"] == pytest.approx(fit.strength.r2, rel=1e-10)
    bare = np.sqrt(((rows["score"] - mean) ** 2).mean())
    assert table.loc["root mean squared error", "without_terms"] == pytest.approx(bare)
    assert found.rows == len(rows)
    logistic = mb.fit_logistic(train, "high", ["voice", "age", "km"], event="y")
    scored = mb.score(logistic, test)
    p, y = logistic.predict(rows)["probability"], (rows["high"] == "y").to_numpy()
    gaps = p[y].to_numpy()[:, None] - p[~y].to_numpy()[None, :]
    wins = ((gaps > 0) + 0.5 * (gaps == 0)).mean()
    told = scored.table.set_index("figure")
    assert told.loc["area under the curve", "held_out"] == pytest.approx(wins, rel=1e-10)
    assert told.loc["area under the curve", "without_terms"] == 0.5
    assert told.loc["classified correctly", "held_out"] == pytest.approx(((p >= 0.5) == y).mean())
    frame.loc[rows.index[0], "voice"] = "solo"
    kept, held = study_of(frame).hold_out(share=0.25, seed=3)
    with pytest.warns(mb.MarkbaseWarning, match="1 row cannot be scored"):
        some = mb.score(mb.fit_linear(kept, "score", ["voice", "age"]), held)
    assert some.left_out == 1
    assert any("`solo` of `voice` occurs in no row" in words for words in some.unseen)
    assert "rows held out" in str(some)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_rows_held_out_count_by_what_the_rows_of_the_fit_count_by(kind, tmp_path):
    rng = np.random.default_rng(7)
    frame = choir(300).assign(n=rng.integers(0, 4, 300), w=lambda d: d["n"] * 2.5)
    frame["high"] = np.where(frame["score"] + rng.normal(0, 6, 300) > 38, "y", "n")
    fitted, rest = frame.iloc[:200], frame.iloc[200:].reset_index(drop=True)
    by = ({}, {"weights": "n", "weights_are": "frequency"}, {"weights": "w"})
    plain, often, sampled = (either(kind, mb.Study(fitted), ["voice", "age"], ("high", "y"), **some) for some in by)
    mb.write_fit(often, tmp_path / "fit.json")
    saved = mb.read_fit(tmp_path / "fit.json")
    rest.to_csv(tmp_path / "rest.csv", index=False)
    parts = mb.open_study(tmp_path / "rest.csv", {"columns": {"n": {"kind": "numeric"}}}, in_parts=True)
    repeated = mb.score(often, rest.loc[rest.index.repeat(rest["n"])].assign(n=1)).table["held_out"]
    for fit, held in ((often, rest), (saved, rest), (often, parts), (sampled, mb.Study(rest))):
        found = mb.score(fit, held)
        np.testing.assert_allclose(found.table["held_out"], repeated, rtol=1e-6 if held is parts else 1e-9)
        assert (found.rows, found.left_out) == ((rest["n"] > 0).sum(), (rest["n"] == 0).sum())
        assert found.counted == f"{fit.weighting.short}, of the rows of the fit and of those held out"
    alike = mb.score(often, rest.drop(columns="n"))
    assert ["which those held out do not have" in s.counted for s in (alike, mb.score(plain, rest))] == [True, False]
    assert alike.rows == len(often.predict(mb.Study(rest.assign(n="x")))) == len(rest)  # of which no weight is asked
    for wrong, words in ((-1, "be whole numbers"), (0, "and a weight in `n`"), ("x", "`n` is categorical")):
        with pytest.raises(mb.MarkbaseError, match=words):
            mb.score(often, mb.Study(rest.assign(n=wrong)))
    told = [mb.cross_validate(often, repeats=1), mb.compare(often, often.without("age")), mb.dominance(often), saved]
    assert all("frequencies from n" in str(one) for one in told)
    mb.write_document([often, *told[1:3]], tmp_path / "tables.md")
    assert (tmp_path / "tables.md").read_text(encoding="utf-8").count("frequencies from n") == 3


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_cases_of_a_table_of_counts_are_held_out_one_by_one(kind, tmp_path):
    cells = pd.DataFrame([(a, b, s, c) for k, (a, b) in enumerate(["pu", "pv", "qu", "qv"]) for s, c in (("y", 9 + 3 * k), ("n", 14 - 2 * k))], columns=["a", "b", "stays", "n"])  # fmt: skip
    cells["score"] = (cells["stays"] == "y") * 4.0
    by = {"weights": "n", "weights_are": "frequency"}
    often = either(kind, mb.Study(cells), ["a", "b"], ("stays", "y"), **by)
    single = either(kind, mb.Study(cells.loc[cells.index.repeat(cells["n"])].reset_index(drop=True)), ["a", "b"], ("stays", "y"))
    told = [mb.cross_validate(fit, folds=7, repeats=2) for fit in (often, single)]
    pd.testing.assert_frame_equal(told[0].table, told[1].table, rtol=1e-9)
    cells.to_csv(tmp_path / "counts.csv", index=False)
    asked = ("validate", tmp_path / "counts.csv", "--kind", kind, "--terms", "a,b", "--weights", "n", "--weights-are", "frequency", *(("--outcome", "score") if kind == "linear" else ("--outcome", "stays", "--event", "y")))  # fmt: skip
    assert "each of 10 parts" in run(*asked).stdout
    assert "stands for several cases here" in run(*asked, "--hold-out", ".3").stderr
    with pytest.raises(mb.FitError, match="stands for several cases here"):
        mb.score(often, mb.Study(cells).hold_out(share=0.3, seed=1)[1])
    if kind == "logistic":
        held = [fit.classification(folds=6).held_out for fit in (often, single)]
        assert held[0].area == pytest.approx(held[1].area, rel=1e-9)
        pd.testing.assert_frame_equal(held[0].table, held[1].table, check_dtype=False)


def test_levels_that_no_row_had_together_are_told_whichever_two_groups_they_are_of():
    frame = choir(400)
    frame["part"] = np.where(np.arange(400) % 3, "near", "far")
    pairs = [("voice", "tenor", "day", "Wed"), ("voice", "bass", "part", "far"), ("day", "Mon", "part", "near")]
    for first, one, second, other in pairs:
        frame = frame[(frame[first] != one) | (frame[second] != other)]
    fit = mb.fit_linear(mb.Study(frame), "score", ["voice", "day", "part"])
    whole = pd.MultiIndex.from_product([sorted(frame[n].unique()) for n in ("voice", "day", "part")], names=["voice", "day", "part"])
    told = fit.predict(whole.to_frame(index=False))
    assert told["predicted"].notna().all()
    for row in told.itertuples():
        wanted = [
            f"no row used has `{a}` `{getattr(row, a)}` and `{b}` `{getattr(row, b)}` together"
            for a, b in (("voice", "day"), ("voice", "part"), ("day", "part"))
            if not ((frame[a] == getattr(row, a)) & (frame[b] == getattr(row, b))).any()
        ]
        assert row.caution.split("; ") == (wanted or [""])
    assert told["caution"].str.len().gt(0).sum() > 3


def test_values_in_another_unit_than_those_of_the_fit_are_refused(tmp_path):
    def people(unit, times=1.0):
        heights = np.linspace(150, 190, 40) * times
        return pd.DataFrame({"height": [f"{h:.2f} {unit}" for h in heights], "y": np.arange(40) % 7})

    def read(frame, **settings):
        frame.to_csv(tmp_path / "people.csv", index=False)
        return mb.open_study(tmp_path / "people.csv", **settings)

    fit = mb.fit_linear(mb.Study(people("cm")), "y", ["height"])
    mb.write_fit(fit, tmp_path / "fit.json")
    for known in (fit, mb.read_fit(tmp_path / "fit.json")):
        np.testing.assert_allclose(known.predict(people("CM"))["predicted"], fit.fitted)
        for call in (
            lambda fit: fit.predict(people("mm", 10)),
            lambda fit: fit.predict(mb.Study(people("mm", 10))),
            lambda fit: mb.score(fit, read(people("mm", 10))),
            lambda fit: mb.score(fit, read(people("mm", 10), in_parts=True)),
        ):
            with pytest.raises(mb.ColumnError, match="`height` is in mm here, and in cm in the model; convert it"):
                call(known)
    own = {"columns": {"height": {"unit": ["centimetre", "centimetres"]}}}  # a word of the analyst's: nobody knows
    declared = mb.fit_linear(mb.Study(people("").replace(" ", "", regex=True), codebook=own), "y", ["height"])
    np.testing.assert_allclose(declared.predict(people("cm"))["predicted"], fit.fitted)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("weights", [None, "w"])
@pytest.mark.parametrize(
    "terms",
    [["a", "b", "g"], ["a", "b", "g", mb.interaction("a", "g")], ["a", "b", "g", "both"], ["a", "log_a", "b", "g", mb.interaction("b", "g")]],
    ids=["apart", "interaction", "a product of named and other", "a log of what is named"],
)
def test_one_person_of_a_profile_spreads_as_the_rows_with_what_is_named_put_in(terms, weights):
    rng = np.random.default_rng(8)
    frame = pd.DataFrame({"a": rng.uniform(1, 9, 80), "b": rng.normal(size=80), "g": rng.choice(list("uvw"), 80)})
    frame["w"], frame["y"] = rng.uniform(0.5, 2, 80), frame["a"] * (frame["g"] == "u") + rng.normal(size=80)
    study = mb.Study(frame).derive("both", product=["a", "b"]).derive("log_a", log="a")
    fit = mb.fit_linear(study, "y", terms, weights=weights)
    for profile in ({"a": 3.0}, {"a": 7.0}, {"a": 3.0, "g": "u"}, {"a": 3.0, "g": "w"}, {"g": "v"}, {"b": 0.5, "g": "v"}):
        row = next(fit.predict([profile]).itertuples())
        put_in = fit.predict(frame.assign(**profile))["predicted"].to_numpy()
        heavy = None if weights is None else frame["w"].to_numpy()
        spread = np.average((put_in - np.average(put_in, weights=heavy)) ** 2, weights=heavy)
        wide = np.sqrt(fit.strength.residual_sd**2 + spread + row.se**2) * sp.stdtrit(fit.df_rest, 0.975)
        assert row.one_high - row.predicted == pytest.approx(wide, rel=1e-9)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_profiles_together_are_those_alone_in_their_order(kind):
    study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    terms = [mb.interaction("age", "voice"), "rehearsals"]
    fit = mb.fit_linear(study, "belonging", terms) if kind == "linear" else mb.fit_logistic(study, "stays", terms, event="yes")
    whole, partly, least = {"age": 30, "voice": "bass", "rehearsals": 9}, {"voice": "tenor"}, {"age": 50}
    for order in (
        [whole, partly, whole, least, partly],
        [least] * 3 + [whole],
        [whole] * 300 + [{"age": 30 + k / 10, "voice": "alto"} for k in range(300)],
    ):
        together = fit.predict(order)
        for k in (0, len(order) // 2, len(order) - 1):
            alone = fit.predict(order[k]).select_dtypes("number").iloc[0]
            assert together.loc[k, alone.index].tolist() == pytest.approx(alone.tolist(), rel=1e-12)


@pytest.mark.parametrize("weighted", [False, True])
def test_a_calibration_slope_is_nothing_where_none_can_be_told(weighted):
    rng = np.random.default_rng(4)
    x, often = rng.normal(size=300), rng.integers(1, 4, 300).astype(float) if weighted else None
    y = (rng.random(300) < 1 / (1 + np.exp(-0.5 * x))).astype(float)
    p = 1 / (1 + np.exp(-2 * x - 0.3))  # log odds four times as far apart as they are
    fit = minimize(lambda b: -np.average(y * (b[0] + b[1] * x) - np.logaddexp(0, b[0] + b[1] * x), weights=often), [0, 0], tol=1e-12)
    assert calibration_slope(True, y, p, often) == pytest.approx(fit.x[1] / 2, rel=1e-5)
    assert calibration_slope(False, 3 * x + 1, x + 7, often) == pytest.approx(3)
    for observed, told in ((y, np.full(300, 0.4)), ((x > 0).astype(float), p), (np.zeros(300), p)):
        assert math.isnan(calibration_slope(True, observed, told, often))


SPREADS = {"even": lambda x, e: 0 * x + e, "growing": lambda x, e: x * e, "skewed": lambda x, e: np.exp(0.5 * e + 0 * x)}


@pytest.mark.parametrize("spread", SPREADS)
@pytest.mark.parametrize("how", [{}, {"weights": "times", "weights_are": "frequency"}, {"errors": "HC3", "level": 0.9}])
def test_intervals_for_one_are_held_against_the_rows_near_them(spread, how, tmp_path):
    rng, n = np.random.default_rng(6), 600 if spread == "growing" else 2000
    table = pd.DataFrame({"x": rng.uniform(1, 10, n).round(6), "times": rng.integers(0, 3, n)})
    table["y"] = (2 * table["x"] + SPREADS[spread](table["x"], rng.normal(size=n))).round(6)
    table.to_csv(tmp_path / "t.csv", index=False)
    fit = mb.fit_linear(mb.Study(table), "y", ["x"], **how)
    mb.write_fit(fit, tmp_path / "fit.json")
    parts = mb.fit_linear(mb.open_study(tmp_path / "t.csv", in_parts=True), "y", ["x"], **how)
    rows = table.loc[table.index.repeat(table["times"])] if "weights" in how else table
    X, level = np.column_stack([np.ones(len(rows)), rows["x"]]), how.get("level", 0.95)
    fitted = X @ np.linalg.lstsq(X, rows["y"], rcond=None)[0]
    e = rows["y"].to_numpy() - fitted
    reach = sp.stdtrit(len(rows) - 2, (1 + level) / 2) * np.sqrt(e @ e / len(rows))
    part, said = np.searchsorted(np.quantile(np.unique(fitted), [0.2, 0.4, 0.6, 0.8]), fitted, side="right"), []
    for x in (1.5, 5.5, 9.5):
        with warnings.catch_warnings(record=True) as told:
            warnings.simplefilter("always")
            for own in (fit, mb.read_fit(tmp_path / "fit.json"), parts):
                own.predict({"x": x})
        (words,) = {str(w.message) for w in told} or {""}
        assert len(told) == 3 * bool(words)
        said.append(words.partition(", and is ")[2].partition(":")[0])
        here = part == {1.5: 0, 5.5: 2, 9.5: 4}[x] if "there" in words else part >= 0
        shares = [f"{100 * s:.1f}%" if s else "none" for s in (np.mean(e[here] < -reach), np.mean(e[here] > reach))]
        sides = "none lies outside its own" if shares == ["none", "none"] else "{} lie below theirs and {} above".format(*shares)
        told_ends = [float(end) for end in re.findall(r"from (\S+) to (\S+),", words)[0]] if "there" in words else []
        assert told_ends == pytest.approx([fitted[here].min(), fitted[here].max()][: len(told_ends)], abs=0.006)
        assert not words or (words.startswith("The 9") and words.endswith(f" {sides}."))
    wanted = {"even": ["", "", ""], "growing": ["wider than need be there", "", "too narrow there"]}
    assert said == wanted.get(spread, ["off to one side"] * 3)


def test_an_interval_for_one_of_a_level_is_held_against_the_rows_of_that_level():
    rng = np.random.default_rng(2)
    for far in (0.0, 0.0, 0.0, 1e9):  # fitted values of a level are its mean but for rounding
        table = pd.DataFrame({"g": np.repeat(["calm", "wild"], 300)})
        table["y"] = np.where(table["g"] == "wild", 3.3, 1.1) + np.where(table["g"] == "wild", 4, 1) * rng.normal(size=600)
        table["y"] += far
        fit, means = mb.fit_linear(table, "y", ["g"]), table.groupby("g")["y"].mean()
        for level, said in (("calm", "wider than need be"), ("wild", "too narrow")):
            with pytest.warns(mb.MarkbaseWarning, match=f"is {said} there: of the rows used with the fitted value {means[level]:,.2f}"):
                fit.predict({"g": level})


@pytest.mark.parametrize("weights", [{}, {"weights": "times", "weights_are": "frequency"}])
def test_fitted_values_and_predictions_beyond_the_ends_of_the_outcome_are_counted(weights, tmp_path):
    rng, n = np.random.default_rng(8), 700
    table = pd.DataFrame({"x": rng.normal(size=n).round(6), "times": rng.integers(0, 3, n)})
    cut = np.clip(40 + 30 * table["x"] + rng.normal(0, 25, n), 0, 100).round(1)
    table = table.assign(cut=cut, share=(rng.random(n) < cut / 100).astype(float), far=cut.clip(1e-3, 99) + 1e9)
    table["above"] = np.exp(table["x"] + rng.normal(size=n)).round(6)
    table["free"] = table["above"] - np.where(table.index == 5, 100, 1)  # no end: one row is far below the others
    table.iloc[9, 1:] = np.nan
    table.to_csv(tmp_path / "t.csv", index=False)
    rows = (table.loc[table.index.repeat(table["times"].fillna(0))] if weights else table).dropna()
    X, new, words = np.column_stack([np.ones(len(rows)), rows["x"]]), [-4.0, -1.0, 0.0, 40.0], ("lower", "higher")
    of_level = table.assign(g=np.where(table["x"] > 0, "up", "down"), cut=table["cut"].where(table["x"] > 0, 0) + 0.1)
    assert "The fitted value is" not in str(mb.fit_linear(mb.Study(of_level), "cut", ["g"], **weights).reading())
    found = {"cut": (0, 100), "share": (0, 1), "far": (1e9 + 1e-3, 1e9 + 99), "above": (0, math.inf), "free": (-math.inf, math.inf)}
    for name, ends in found.items():
        fit = mb.fit_linear(mb.Study(table), name, ["x"], **weights)
        fitted = X @ np.linalg.lstsq(X, rows[name], rcond=None)[0]
        shares = [np.mean(fitted < ends[0]), np.mean(fitted > ends[1])]
        told = [w for w in fit.reading().cautions if "of the fitted values" in w or "The fitted value is" in w]
        wanted = [f"({100 * sum(shares):.1f}% of the fitted"] if name == "share" else [f"in {100 * s:.1f}% of the rows, {w}" for s, w in zip(shares, words, strict=True) if s >= 0.01]  # fmt: skip
        assert [w in t for w, t in zip(wanted, told, strict=True)] == [True] * len(told), (told, wanted)
        mb.write_fit(fit, tmp_path / f"{name}.json")
        parts = mb.fit_linear(mb.open_study(tmp_path / "t.csv", in_parts=True), name, ["x"], **weights)
        for own in (fit, mb.read_fit(tmp_path / f"{name}.json"), parts):
            with warnings.catch_warnings(record=True) as said:
                warnings.simplefilter("always")
                of = own.predict([{"x": x} for x in new])
            said = [str(w.message) for w in said if "straight line knows" in str(w.message)]
            for end, word, column in zip(ends, words, ("low", "high"), strict=True):
                sides = [int((of[c] < end).sum() if column == "low" else (of[c] > end).sum()) for c in ("predicted", column, f"one_{column}")]  # fmt: skip
                numbers = [int(k) for w in said if f"{word} than" in w for k in re.findall(r"(?:in |^)(\d)\b", w)]
                assert numbers == list(dict.fromkeys(k for k in (sides[0] or sides[1], sides[2]) if k)), (name, said)
