"""Predictions for rows, profiles and people, against dense columns, and their coverage by simulation."""

import copy
import dataclasses
import hashlib
import inspect
import json
import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase import demo
from markbase.core.results.fit_statistics import OverallTest
from reference import made_up

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
    age = (frame["age"] - fit.variable("age_z", "numeric").column.made.parameters[0]) / fit.variable(
        "age_z", "numeric"
    ).column.made.parameters[1]
    km = np.log(frame["km"])
    voices = [(frame["voice"] == v).astype(float) for v in ("bass", "soprano", "tenor")]
    days = [
        (frame["day"] == d).astype(float)
        for d in fit.variable("day", "categorical").labels
        if d != fit.variable("day", "categorical").base_label
    ]
    return np.column_stack([np.ones(len(frame)), *voices, *days, km, age, age**2, *(km * v for v in voices)])


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("errors", ["classical", "HC3"])
def test_every_row_of_another_table_is_predicted_as_on_dense_columns(kind, errors):
    frame, new = choir(), choir(300, seed=11)
    frame["high"], new["high"] = (np.where(f["score"] > 38, "y", "n") for f in (frame, new))
    study = study_of(frame)
    fit = (
        mb.fit_linear(study, "score", TERMS, errors=errors)
        if kind == "linear"
        else mb.fit_logistic(study, "high", TERMS, event="y", errors=errors)
    )
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
    few = [
        {"voice": r.voice, "day": r.day, "km_log": np.log(r.km), "age_z": z}
        for r, z in zip(new.head(5).itertuples(), laid_out(new.head(5), fit)[:, -5], strict=True)
    ]
    one = fit.predict(few)
    np.testing.assert_allclose(one[what], table[what].head(5), rtol=1e-9)
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


ASKED = {
    "bend_test": ("age",),
    "between": ("voice",),
    "between_grid": ("voice",),
    "cell_means": ("voice", "day"),
    "clear_region": ("age", "km"),
    "coefficients_at": ({"km": 2.0},),
    "corrected_p": ([0.01, 0.04],),
    "equal_slopes": ("age", {"by": "voice"}),
    "equation": ({"by": "voice"},),
    "events_by_level": ("day",),
    "expected": (None,),
    "fall": None,
    "group_test": ("voice",),
    "groups": ("voice",),
    "identified": None,  # takes rows
    "moves_with": ("age",),
    "observed": (None,),
    "on_rows": (np.arange(250) < 200,),
    "only": (["voice"],),
    "plainly": ("voice",),
    "planned": ("voice", ["tenor"]),
    "predict": ({"age": 40.0, "km": 3.0, "voice": "tenor", "day": "Mon"},),
    "rebase": ("voice", "tenor"),
    "rows_for": (["voice"],),
    "simple_slopes": ("age", {"by": "km"}),
    "slope_at": ("age", {"at": {"km": 2.0}}),
    "slopes_test": ("voice",),
    "turning_point": ("age",),
    "turning_points": ("age",),
    "variable": None,
    "without": ("day",),
}


def asked(fit, name):
    """Return what a public method or property says, or the sentence with which it is refused."""
    try:
        found = getattr(fit, name)
        if inspect.ismethod(found):
            arguments = list(ASKED.get(name, ()))
            named = (
                arguments.pop()
                if arguments and isinstance(arguments[-1], dict) and name not in ("predict", "coefficients_at")
                else {}
            )
            found = found(*arguments, **named)
    except (AttributeError, mb.MarkbaseError) as problem:
        return problem
    return found.coefficients if hasattr(found, "coefficients") and hasattr(found, "terms") else found


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize(
    "options",
    [
        {},
        {"weights": "times", "weights_are": "frequency"},
        {"weights": "heavy", "weights_are": "sampling"},
        {"cluster": "team"},
    ],
    ids=str,
)
def test_a_saved_fit_says_what_the_fit_says_or_that_it_has_no_rows(kind, options, tmp_path):
    frame = choir().assign(high=lambda d: np.where(d["score"] > 38, "y", "n"), team=[f"t{k % 40}" for k in range(250)])
    frame = frame.assign(times=1 + np.arange(250) % 3, heavy=0.5 + (np.arange(250) % 7) / 3)
    terms = ["voice", "day", mb.polynomial("age"), mb.interaction("age", "km"), mb.interaction("age", "voice")]
    fit = (
        mb.fit_linear(study_of(frame), "score", terms, **options)
        if kind == "linear"
        else mb.fit_logistic(study_of(frame), "high", terms, event="y", **options)
    )
    mb.write_fit(fit, tmp_path / "fit.json")
    saved, told = mb.read_fit(tmp_path / "fit.json"), 0
    for name in (n for n in dir(fit) if not n.startswith("_") and ASKED.get(n, ()) is not None):
        own, other = asked(fit, name), asked(saved, name)
        if isinstance(other, AttributeError | mb.MarkbaseError):
            assert str(other) == str(own) or str(other).startswith("A saved fit holds no rows of the data"), name
        elif name == "clear_region":
            assert other.pop("rows").isna().all()
            assert own.pop("rows").sum() == fit.rows_used.counted
            pd.testing.assert_frame_equal(other, own, rtol=1e-9)
        elif isinstance(own, pd.DataFrame):
            lacking = [c for c in own if c not in other]
            assert lacking == (["probability_slope", "probability_low", "probability_high"] if lacking else []), name
            pd.testing.assert_frame_equal(other, own.drop(columns=lacking), rtol=1e-9)
        elif isinstance(own, OverallTest):
            numbers, words = dataclasses.astuple(own)[:4], dataclasses.astuple(own)[4:]
            assert dataclasses.astuple(other)[:4] == pytest.approx(numbers, rel=1e-9, nan_ok=True), name
            assert dataclasses.astuple(other)[4:] == words
        elif isinstance(own, dict | float | int) or name == "slope_at":
            assert other == pytest.approx(own, rel=1e-9), name
        elif isinstance(own, tuple) and name == "cell_means":
            for one, table in zip(other, own, strict=True):
                pd.testing.assert_frame_equal(one, table, rtol=1e-9)
        elif name in ("equation", "turning_point"):
            assert str(other) == str(own)
        else:
            continue
        told += 1
    assert told > 45


def test_gaps_unseen_levels_and_rows_outside_the_data_are_told_and_stop_nothing():
    fit = mb.fit_linear(study_of(choir()), "score", TERMS)
    new = choir(8, seed=2)
    new.loc["row0", "km"] = np.nan
    new.loc["row1", "voice"] = "descant"
    new.loc["row2", "age"] = 400
    new.loc["row3", "day"] = None
    new["km"] = new["km"].astype(object)
    new.loc["row4", "km"] = "far"
    told = fit.predict(new)["caution"]
    assert told["row0"] == "`km_log` is missing or no number"
    assert told["row1"] == "`descant` of `voice` occurs in no row the model was fitted to"
    assert "`age_z` = " in told["row2"]
    assert "lies outside the rows used" in told["row2"]
    assert told["row3"] == "`day` is missing"
    assert told["row4"] == "`km_log` is missing or no number"
    predicted = fit.predict(new)["predicted"]
    assert predicted.isna().tolist() == [True, True, False, True, True, False, False, False]
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
    taken = mb.fit_linear(study_of(choir()), "wage_log", ["age"], fixed_effects="voice")
    assert taken.predict({"age": 40}, back_transformed=True)["mean_smeared"].isna().all()
    with pytest.raises(mb.MarkbaseError, match="`score` is not the logarithm of anything"):
        mb.fit_linear(study_of(choir()), "score", ["age"]).predict({"age": 3}, back_transformed=True)


def test_intervals_for_the_mean_and_for_one_person_cover_as_often_as_they_say():
    rng = np.random.default_rng(0)
    held = {"mean": 0, "named": 0, "in part": 0}
    runs, people = 400, 40
    for _ in range(runs):
        g = rng.choice(["a", "b"], 60, p=[0.7, 0.3])
        x = rng.normal(0, 3, 60) + (g == "b")
        frame = pd.DataFrame({"g": g, "x": x, "y": 2 + 1.5 * x + (g == "b") + rng.normal(size=60)})
        fit = mb.fit_linear(mb.Study(frame), "y", ["g", "x"])
        named = fit.predict({"g": "a", "x": 1.0}).iloc[0]
        part = fit.predict({"g": "a"}).iloc[0]
        held["mean"] += people * (named["low"] <= 3.5 <= named["high"])
        held["named"] += np.sum(
            np.abs(rng.normal(3.5, 1, people) - named["predicted"]) <= named["one_high"] - named["predicted"]
        )
        # one such person: of anybody with g = a, x as people of the sample have it
        others = 2 + 1.5 * (rng.normal(0, 3, people) + (rng.random(people) < 0.3)) + rng.normal(size=people)
        held["in part"] += np.sum((others >= part["one_low"]) & (others <= part["one_high"]))
    for name, count in held.items():
        assert count / (runs * people) == pytest.approx(0.95, abs=0.03 if name == "mean" else 0.015), name


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
    assert table.loc["R²", "held_out"] == pytest.approx(
        1 - (error**2).sum() / ((rows["score"] - mean) ** 2).sum(), rel=1e-10
    )
    assert table.loc["R²", "of_the_fit"] == pytest.approx(fit.strength.r2, rel=1e-10)
    assert table.loc["root mean squared error", "without_terms"] == pytest.approx(
        np.sqrt(((rows["score"] - mean) ** 2).mean())
    )
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
    lone = study_of(
        frame.assign(
            voice=np.where(
                np.arange(400) == int(np.flatnonzero(frame.index == rows.index[0])[0]), "solo", frame["voice"]
            )
        )
    )
    kept, held = lone.hold_out(share=0.25, seed=3)
    with pytest.warns(mb.MarkbaseWarning, match="1 row cannot be scored"):
        some = mb.score(mb.fit_linear(kept, "score", ["voice", "age"]), held)
    assert some.left_out == 1
    assert any("`solo` of `voice` occurs in no row" in words for words in some.unseen)
    assert "rows held out" in str(some)


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("errors", ["classical", "HC3", "clustered"])
def test_a_saved_fit_predicts_compares_and_changes_its_base_as_the_fit_did(kind, errors, tmp_path):
    frame = choir(300)
    frame["team"] = [f"t{k % 31}" for k in range(300)]
    frame["high"] = np.where(frame["score"] > 38, "y", "n")
    options = {"cluster": "team"} if errors == "clustered" else {"errors": errors}
    study = study_of(frame)
    terms = ["voice", "day", "km_log", mb.polynomial("age_z"), mb.interaction("voice", "km_log")]
    fit = (
        mb.fit_linear(study, "score", terms, **options)
        if kind == "linear"
        else mb.fit_logistic(study, "high", terms, event="y", **options)
    )
    mb.write_fit(fit, tmp_path / "fit.json")
    saved = mb.read_fit(tmp_path / "fit.json")
    numbers = ["estimate", "se", "p", "low", "high", "n"]
    np.testing.assert_array_equal(saved.coefficients[numbers], fit.coefficients[numbers])
    new = choir(100, seed=3)
    pd.testing.assert_frame_equal(saved.predict(new), fit.predict(new))
    pd.testing.assert_frame_equal(saved.between("voice"), fit.between("voice"))
    pd.testing.assert_frame_equal(saved.between("day", at={"age_z": 1.0}), fit.between("day", at={"age_z": 1.0}))
    told, wanted = saved.rebase("voice", "tenor").coefficients, fit.rebase("voice", "tenor").coefficients
    np.testing.assert_allclose(told[numbers], wanted[numbers], rtol=1e-12)
    assert vars(saved.strength) == vars(fit.strength)
    np.testing.assert_array_equal(saved.terms["p"], fit.terms["p"])
    np.testing.assert_array_equal(saved.simple_slopes("age_z")["slope"], fit.simple_slopes("age_z")["slope"])
    assert saved.equation().text == fit.equation().text
    if kind == "linear":
        pd.testing.assert_frame_equal(saved.groups("voice"), fit.groups("voice"))
        np.testing.assert_allclose(
            saved.predict({"age_z": 1.0})["predicted"], fit.predict({"age_z": 1.0})["predicted"], rtol=1e-12
        )
    text = (tmp_path / "fit.json").read_text()
    assert "s0007" not in text  # no row of the data
    assert "holds no rows" in _said(lambda: saved.without("day"))
    assert "saved fit" in str(saved)
    for change, told in (
        (lambda t: t.replace('"version": 1', '"version": 2'), "was written by a newer version"),
        (lambda t: t.replace('"format": "markbase fit"', '"format": "other"'), "is no saved fit"),
        (lambda t: t.replace('"solution"', '"solutions"'), "is not as it was written"),
        (lambda t: t[:500], "is not JSON"),
        (lambda t: t.replace('"used": ', '"used": 1'), "is not as it was written"),
        (lambda t: re.sub(r'"digest": ".', '"digest": "', t), "is not as it was written"),
        (lambda t: "[" * len(t), "is not JSON"),
    ):
        (tmp_path / "bad.json").write_text(change(text))
        with pytest.raises(mb.FileError, match=told):
            mb.read_fit(tmp_path / "bad.json")
    with pytest.raises(mb.FileError, match="is there already"):
        mb.write_fit(fit, tmp_path / "fit.json")


@pytest.mark.parametrize("outcome", ["belonging", "stays"])
def test_a_fit_is_judged_on_another_file_saved_or_not_in_memory_or_in_parts(outcome, tmp_path):
    data, book = (demo.path(name) for name in demo.FILES[:2])
    later = pd.read_csv(data).tail(300).copy()
    later.iloc[:3, later.columns.get_loc("age")] = -9  # no answer, by the codebook
    later.iloc[3, later.columns.get_loc("voice")] = "descant"
    later.to_csv(tmp_path / "later.csv", index=False)
    model = [data, "--codebook", book, "--outcome", outcome, "--terms", "age,voice,rehearsals"]
    model += [] if outcome == "belonging" else ["--kind", "logistic", "--event", "yes"]
    run("fit", *model, "--save", "fit.json", cwd=tmp_path)
    fit = mb.read_fit(tmp_path / "fit.json")
    rows = later[(later["age"] > 0) & (later["voice"] != "descant")].dropna(
        subset=[outcome, "age", "voice", "rehearsals"]
    )
    y = (rows[outcome] == "yes").to_numpy(float) if outcome == "stays" else rows[outcome].to_numpy()
    error = y - fit.predict(rows).iloc[:, -7 if outcome == "stays" else -8].to_numpy()
    name, wanted = (
        ("Brier score", (error**2).mean())
        if outcome == "stays"
        else ("root mean squared error", np.sqrt((error**2).mean()))
    )
    found = []
    for who in (["fit.json"], model):
        for more in ([], ["--in-parts"]):
            done = run("validate", *who, "--for", "later.csv", "--json", *more, cwd=tmp_path)
            assert done.returncode == 0, done.stderr
            found.append({r["figure"]: r for r in json.loads(done.stdout)["figures"]})
            assert json.loads(done.stdout)["rows"] == len(rows)
    assert found[0][name]["held_out"] == pytest.approx(wanted, rel=1e-9)
    for other in found[1:]:  # in parts the area is of cells of nearly equal log odds
        for figure, told in found[0].items():
            near = 5e-4 if figure == "area under the curve" else 1e-9
            assert list(other[figure].values())[1:] == pytest.approx(list(told.values())[1:], rel=near)
    page = run("validate", "fit.json", "--for", "later.csv", cwd=tmp_path)
    assert re.search(
        rf"rows of later\.csv +no terms at all.*scored +{len(rows)} rows of later\.csv", page.stdout, re.DOTALL
    )
    assert "one split" not in page.stdout
    assert "descant of voice occurs in no row the model was fitted to" in page.stdout
    for arguments, words in (
        (["fit.json"], "name a file: --for FILE"),
        (["fit.json", "--for", "later.csv", "--folds", 3], "leave --hold-out, --folds"),
        (["fit.json", "--for", "later.csv", "--terms", "age"], "as it was saved"),
        (["fit.json", "--for", "none.csv"], "no file `none.csv`"),
    ):
        refused = run("validate", *arguments, cwd=tmp_path)
        assert (refused.returncode, words in refused.stderr) == (2, True)


def test_what_is_rare_or_small_is_never_told_as_nothing(tmp_path):
    left = np.zeros(20000)
    left[[*range(0, 8, 2), *range(1, 13, 2)]] = 1  # 4 of 10,000 and 6 of 10,000
    part = np.arange(20000) % 2
    frame = pd.DataFrame({"left": np.where(left > 0, "yes", "no"), "part": np.where(part, "south", "north")})
    frame["rate"] = 2e-4 + 1e-4 * part + 1e-4 * np.sin(np.arange(20000.0))
    frame.to_csv(tmp_path / "rare.csv", index=False)
    rare = ["rare.csv", "--kind", "logistic", "--outcome", "left", "--event", "yes", "--terms", "part"]
    told = " ".join(run("fit", *rare, cwd=tmp_path).stdout.split())
    for words in (
        r"in 10 of 20,000 rows used \(0\.050%\)",
        r"99\.950% of rows are classified correctly, no more than always guessing no \(99\.950%\)",
        r"Tjur \.0{4,5}\d",
        r"south +0\.060% +0\.020 +−0\.042 to 0\.082",
        r"0\.060% against 0\.040%, 0\.020 percentage points higher",
    ):
        assert re.search(words, told), words
    assert re.search(
        r"south +10,000 +0\.060 +0\.060 +0\.020", run("groups", rare[0], "part", *rare[1:], cwd=tmp_path).stdout
    )
    assert re.search(
        r"part north +0\.040% +0\.015% to 0\.11%", run("predict", *rare, "--profile", "part=north", cwd=tmp_path).stdout
    )
    assert re.search(r"Brier score +\.0005 +\.0005", run("validate", *rare, cwd=tmp_path).stdout)
    small = ["rare.csv", "--outcome", "rate", "--terms", "part"]
    assert re.search(r"root mean squared error +0\.00007071", run("validate", *small, cwd=tmp_path).stdout)


def places(record, path=()):
    """Return the path of every value in a record, of lists their first two."""
    found = [path] if path else []
    within = record.items() if isinstance(record, dict) else enumerate(record[:2]) if isinstance(record, list) else ()
    for key, value in within:
        found += places(value, (*path, key))
    return found


@pytest.mark.parametrize("damage", ["drop", None, "x", -1, [], {}, True, 1e-3])
def test_a_saved_fit_that_was_changed_anywhere_is_refused(damage, tmp_path):
    study, file = mb.Study(pd.DataFrame(made_up(60))).mark("voice", "alto"), tmp_path / "fit.json"
    mb.write_fit(mb.fit_linear(study, "score", ["voice", mb.polynomial("age", 2)]), file)
    whole = json.loads(file.read_text())
    assert len(places(whole)) > 150
    for path in places(whole):
        record = copy.deepcopy(whole)
        at = record
        for key in path[:-1]:
            at = at[key]
        if damage == "drop":
            del at[path[-1]]
        elif at[path[-1]] == damage and type(at[path[-1]]) is type(damage):
            continue
        else:
            at[path[-1]] = damage
        file.write_text(json.dumps(record))
        with pytest.raises(mb.FileError, match=r"is not as it was written|is no saved fit|by a newer version"):
            mb.read_fit(file)
        if "digest" not in path:  # forged: what it holds either goes together, or is refused
            rest = {k: v for k, v in record.items() if k != "digest"}
            text = json.dumps(rest, sort_keys=True, separators=(",", ":"))
            file.write_text(json.dumps(rest | {"digest": hashlib.sha256(text.encode()).hexdigest()}))
            try:
                mb.read_fit(file).predict({"voice": "bass", "age": 30})
                assert path[:2] not in [("solution", "coefficients"), ("coefficients", "estimate")], path
            except mb.MarkbaseError as problem:
                assert "\n" not in str(problem)  # noqa: PT017
    file.write_text(json.dumps(whole, indent=3, sort_keys=True))  # another layout of the same content is the same fit
    again = mb.read_fit(file)
    assert again.data_name == whole["data"]
    other = again.rebase("voice", "bass")
    mb.write_fit(other, file, replace=True)
    assert mb.read_fit(file).retold == other.retold
    assert "from the base `bass` of `voice` instead of `alto`" in other.retold


def _said(call):
    try:
        call()
    except mb.MarkbaseError as problem:
        return str(problem)
    return ""
