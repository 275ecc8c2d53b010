"""Variants, terms left out, rows held out: against separate fits and definitions."""

import math
import re
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from test_blocks import BENT, gappy, study_of
from yes_no import choir, either

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def test_variants_are_compared_on_the_rows_they_share():
    frame = gappy()
    study = study_of(frame)
    a, b, c = (mb.fit_linear(study, "score", terms) for terms in (["voice", "age"], ["voice", "age", "km"], ["day"]))
    found = mb.compare({"small": a, "large": b, "other": c})
    assert found.names == ("small", "large", "other")
    pd.testing.assert_frame_equal(found.tests, mb.compare(a, b, c, names=found.names).tests)
    complete = study_of(frame.dropna().reset_index(drop=True))
    assert found.refitted == ("small", "large", "other")
    for name, terms in (("small", ["voice", "age"]), ("large", ["voice", "age", "km"]), ("other", ["day"])):
        alone = mb.fit_linear(complete, "score", terms)
        own = found.estimates.dropna(subset=[name])
        assert own[name].tolist() == pytest.approx(alone.coefficients["estimate"].tolist(), rel=1e-9, abs=1e-12)
        row = found.strength.set_index("fit").loc[name]
        assert (row["r2"], row["aic"], row["used"]) == pytest.approx((alone.strength.r2, alone.strength.aic, found.rows))
    test = found.tests.iloc[0]
    assert (test["smaller"], test["larger"], len(found.tests)) == ("small", "large", 1)
    km = mb.fit_linear(complete, "score", ["voice", "age", "km"]).terms.set_index("term").loc["km"]
    assert (test["statistic"], test["p"]) == pytest.approx((km["statistic"], km["p"]), rel=1e-9)
    assert "were fitted again on the" in found.cautions[0]
    assert found.cautions[1].startswith("No test compares `small` with `other` and `large` with `other`: neither holds")
    for terms, other, more, said in (
        (["voice", "age"], ["voice", BENT], {}, None),
        ([BENT, "voice"], [mb.polynomial("age", 3), mb.interaction(BENT, "voice")], {}, None),
        (["age"], ["age", "km"], {"errors": "HC3"}, r"their errors are not of one kind \(classical and HC3\)"),
        (["age"], ["age", "km"], {"fixed_effects": "team"}, "the levels taken out are not the same in both"),
        (["age", "voice"], ["voice", "km"], {}, "No model here holds all terms of another and more"),
    ):
        less, full = mb.fit_linear(complete, "score", terms), mb.fit_linear(complete, "score", other, **more)
        found = mb.compare(less, full)
        assert [bool(re.search(said or "no test compares", text)) for text in found.cautions[:1]] == [True] * bool(said)
        for test in found.tests.itertuples():
            gain, df = less.strength.residual_ss - full.strength.residual_ss, less.df_rest - full.df_rest
            wanted = gain / df / (full.strength.residual_ss / full.df_rest)
            assert (test.smaller, test.df, test.statistic) == ("A", df, pytest.approx(wanted, rel=1e-9))
        assert len(found.tests) == (said is None)
    fits = (mb.fit_logistic(complete, "stays", terms, event="yes", penalty=p) for terms, p in ((["age"], "firth"), (["age", "km"], None)))
    assert re.search("one of them is penalised.*its AIC and BIC are somewhat too large", " ".join(mb.compare(*fits).cautions))


def test_what_cannot_be_compared_is_refused_or_said():
    frame = gappy().dropna().reset_index(drop=True)
    frame["score"] += 100
    study = study_of(frame).derive("log_score", log="score")
    a, b = mb.fit_linear(study, "score", ["age"]), mb.fit_linear(study, "log_score", ["age"])
    found = mb.compare(a, b)
    assert not found.same_outcome
    assert found.strength[["r2", "aic", "residual_sd"]].isna().all().all()
    assert "one is made of the other" in found.cautions[0]
    logistic = mb.fit_logistic(study, "stays", ["age"], event="yes")
    other = mb.fit_linear(mb.Study(frame, name="else"), "score", ["age"])
    weighted = mb.fit_linear(study, "score", ["age"], weights="times")
    half, mixed = len(frame) // 2, frame.sample(frac=1, random_state=1).reset_index(drop=True)
    *halves, turned = (mb.fit_linear(study_of(f), "score", ["age"]) for f in (frame[:half], frame[half : 2 * half], mixed))
    for fits, message in (
        (halves, "of different data.*`fit_subgroups` fits a model in each level"),
        ((halves[0], mb.fit_linear(study_of(frame[half : 2 * half]), "age", ["score"])), "different data"),
        ((a, turned), "different data"),
        ((a,), "two fits or more"),
        ((a, logistic), "linear and a logistic"),
        ((a, other), "different data"),
        ((a, weighted), "weighted differently"),
    ):
        with pytest.raises(mb.MarkbaseError, match=message):
            mb.compare(*fits)


@pytest.mark.parametrize("drawn", [{}, {"cluster": "place"}])
def test_terms_go_worst_first_as_a_whole_and_not_before_what_is_made_of_them(drawn):
    rng = np.random.default_rng(11)
    frame = choir(300).assign(n1=rng.normal(size=300), n2=rng.normal(size=300), n3=rng.choice(list("pqr"), 300))
    frame["place"] = rng.choice([f"place {k}" for k in range(30)], 300)
    study, left = mb.Study(frame).mark("voice", "alto"), ["voice", "age", "km", "n1", "n2", "n3"]
    fit = mb.fit_linear(study, "score", left, **drawn)
    elimination = mb.backward_elimination(fit, keep=["n2", "voice"])  # of which one is clear
    assert fit.terms.set_index("term")["p"]["voice"] < 0.001
    for row in elimination.steps.itertuples():
        table = mb.fit_linear(study, "score", left, **drawn).terms
        free = table[~table["term"].isin(["n2", "voice"])].sort_values("p").iloc[-1]
        told = (pytest.approx(free[v], rel=1e-9) for v in ("df", "df_rest", "statistic", "p"))
        assert (row.dropped, *row[3:7]) == (free["term"], *told)
        left.remove(row.dropped)
    assert any(c == "`n2` stayed because you asked." for c in elimination.cautions)
    said = "do not know that terms were looked at", "AIC and BIC take rows as independent"
    assert [w in elimination.cautions[-k] for k, w in enumerate(said)] == [True, bool(drawn)]
    sloped = mb.fit_linear(mb.Study(frame), "score", ["n1", "n3", mb.interaction("n1", "n3")])
    assert mb.backward_elimination(sloped).steps["dropped"].iloc[0] == "n1 × n3"
    with pytest.raises(mb.MarkbaseError, match="no such term"):
        mb.backward_elimination(fit, keep=["n4"])


def test_a_square_made_by_hand_keeps_its_source_and_a_sum_does_not():
    rng = np.random.default_rng(3)
    frame = pd.DataFrame({"x": rng.normal(size=200), "z": rng.normal(size=200)})
    study = mb.Study(frame.assign(y=frame["x"] ** 2 + rng.normal(size=200))).derive("x2", square="x").derive("both", sum=["x", "z"])
    assert mb.backward_elimination(mb.fit_linear(study, "y", ["x", "x2"])).kept == ("x", "x2")
    assert mb.fit_linear(study, "y", ["x", "x2"]).terms["p"][0] > 0.05
    summed = study.derive("w", sum=["y", "both"])
    assert mb.backward_elimination(mb.fit_linear(summed, "w", ["x", "both"])).kept == ("both",)
    told = mb.fit_blocks(study, "y", {"a": ["x"], "b": ["both"]}).reading().statements
    assert any("what holds at the same `both`, derived from it" in s.text for s in told)


@pytest.mark.parametrize("errors", ["classical", "robust"])
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_a_curve_loses_its_highest_power_first_and_none_that_an_interaction_contains(kind, errors):
    rng, both, square = np.random.default_rng(11), mb.interaction("n1", "n3"), mb.polynomial("n1")
    study = mb.Study(choir(300).assign(n1=rng.normal(size=300), n3=rng.choice(list("pqr"), 300)))
    known = {}

    def fitted(terms):
        terms = [t for t in terms if t]
        if str(terms) not in known:
            known[str(terms)] = either(kind, study, terms, errors=errors)
        return known[str(terms)]

    curved = [mb.polynomial("n1", 3), "n3", mb.interaction(square, "n3"), "age"]
    ways = {  # the place of a term, what it becomes, and what has to go before
        "n1³": (0, square, set()), "n1² × n3": (2, both, set()), "n1 × n3": (2, None, {"n1² × n3"}), "n1²": (0, "n1", {"n1³", "n1² × n3"}),
        "n1": (0, None, {"n1²", "n1 × n3"}), "n3": (1, None, {"n1 × n3"}),
    }  # fmt: skip
    gone = []
    for row in mb.backward_elimination(fitted(curved), limit=1e-30, keep=["age"]).steps.itertuples():
        tried = {}
        for name, (place, left, before) in ways.items():
            if before <= set(gone) and name not in gone:
                smaller = [left if k == place else term for k, term in enumerate(curved)]
                tried[name] = mb.compare(fitted(curved), fitted(smaller)).tests["p"].iloc[0], smaller
        worst = max(tried, key=lambda name: tried[name][0])
        assert (row.dropped, row.p) == (worst, pytest.approx(tried[worst][0], rel=1e-7))
        curved, gone = tried[worst][1], [*gone, worst]
    assert len(gone) == 6


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("cluster", [None, "team"])
def test_rows_and_whole_clusters_held_out_by_hand(kind, cluster):
    frame = gappy().dropna().reset_index(drop=True)
    n, terms = len(frame), ["voice", "age", "km"]
    told = mb.cross_validate(either(kind, study_of(frame), terms, cluster=cluster), folds=3, repeats=1, seed=8)
    found, part = told.table.set_index("figure")["held_out"], np.empty(n, dtype=int)
    part[np.random.default_rng([8, 0]).permutation(n)] = np.arange(n) % 3
    if cluster:
        teams, sizes = [v.label for v in study_of(frame)["team"].levels], np.zeros(3)
        for k in np.random.default_rng([8, 0]).permutation(len(teams)):  # each to the part with the fewest rows so far
            here, smallest = (frame["team"] == teams[k]).to_numpy(), int(np.argmin(sizes))
            part[here], sizes[smallest] = smallest, sizes[smallest] + here.sum()
        assert "each of 3 parts, whole levels of team, predicted" in " ".join(str(told).split())
        with pytest.raises(mb.MarkbaseError, match="no fit could predict them, since `team` is in the model"):
            mb.cross_validate(mb.fit_linear(study_of(frame), "score", ["team", "age"], cluster="team"))
    predicted, means = np.empty(n), np.empty(n)
    y = frame["score"].to_numpy() if kind == "linear" else (frame["stays"] == "yes").to_numpy(float)
    for k in range(3):
        smaller = either(kind, study_of(frame[part != k].reset_index(drop=True)), terms, cluster=cluster)
        table = smaller.predict(frame.loc[part == k, terms])
        predicted[part == k] = table["predicted" if kind == "linear" else "probability"]
        means[part == k] = y[part != k].mean()
    error = np.mean((y - predicted) ** 2)
    if kind == "linear":
        slope = np.polyfit(predicted, y, 1)[0]
        wanted = [np.sqrt(error), 1 - error / np.mean((y - means) ** 2), np.mean(y - predicted), slope]
        assert found.tolist() == pytest.approx(wanted, rel=1e-9)
    else:
        assert found[["Brier score", "mean error"]].tolist() == pytest.approx([error, np.mean(y - predicted)], rel=1e-9)
        assert found["classified correctly"] == np.mean((predicted >= 0.5) == y)
        odds = np.log(predicted / (1 - predicted))
        of_odds = mb.fit_logistic(mb.Study(pd.DataFrame({"y": np.where(y, "a", "b"), "x": odds})), "y", ["x"], event="a")
        assert found["calibration slope"] == pytest.approx(of_odds.coefficients["estimate"].iloc[1], rel=1e-7)
    assert told.table.set_index("figure").loc["calibration slope", ["of_the_fit", "without_terms"]].tolist() == [pytest.approx(1, rel=1e-7), pytest.approx(math.nan, nan_ok=True)]  # fmt: skip


def test_rows_that_answer_another_question_are_named_and_not_compared():
    study = mb.demo.plan().open()
    cases = {
        "an interaction": (["age", "voice"], [mb.interaction("age", "voice")], {"age", "voice"}),
        "a curve": (["age", "voice"], [mb.interaction(mb.polynomial("rehearsals"), "voice")], {"voice"}),
        "a square of one's own": (["age", "voice"], ["age_2"], {"age"}),
    }
    with_square = study.derive("age_2", square="age")
    for first, then, changed in cases.values():
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            entry = mb.fit_blocks(with_square, "belonging", {"a": first, "b": then})
        assert changed.isdisjoint(entry.movements["term"])
        assert set(entry.movements["term"]) == set(first) - changed
        told = [s.text for s in entry.reading().statements if "another question" in s.text]
        assert len(told) == 1
        assert all(f"`{name}`" in told[0] for name in changed)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_what_moved_as_terms_were_left_out_is_told_on_its_scale(kind):
    rng, n = np.random.default_rng(5), 900
    z = rng.normal(size=n)
    data = pd.DataFrame({"x": z + rng.normal(size=n), "z": z})
    data["y"] = data["x"] + 0.4 * z + (rng.normal(size=n) if kind == "linear" else rng.logistic(size=n))
    if kind == "linear":
        fit = mb.fit_linear(mb.Study(data), "y", ["x", "z"])
    else:
        fit = mb.fit_logistic(mb.Study(data.assign(y=data["y"] > 0)).as_categorical("y"), "y", ["x", "z"], event=True)
    p = fit.terms.set_index("term")["p"]
    assert p["x"] < 1e-25 < p["z"] < 0.05
    found = mb.backward_elimination(fit, limit=1e-25)
    assert found.fit.coefficients["term"].tolist() == ["(intercept)", "x"]
    told = next(c for c in found.cautions if "moved what is left" in c)
    before, after = (float(v) for v in re.search(r"`x` from ([\d.]+) to ([\d.]*\d)", told).groups())
    assert before == pytest.approx(fit.coefficients["estimate"].iloc[1], abs=0.006)
    assert after > before + 0.05
    assert ("(log odds, on the scale of the whole model)" in told) == (kind == "logistic")
    if kind == "linear":
        assert after == pytest.approx(np.polyfit(data["x"], data["y"], 1)[0], abs=0.006)


def test_blocks_and_fits_that_are_called_as_a_column_of_a_table_stand_apart_from_it(tmp_path):
    one, other = (mb.fit_blocks(gappy().dropna(), "score", {a: ["age", "voice"], b: ["km"]}) for a, b in (("one", "two"), ("base", "term")))
    for name in ("moves", "errors", "vif"):
        renamed = getattr(other, name).rename(columns={"base (block)": "one", "term (block)": "two"})
        pd.testing.assert_frame_equal(getattr(one, name), renamed)
    mb.report(other, tmp_path / "blocks.html")
    found = mb.compare({"base": other.fits[0], "full": other.last}).estimates
    assert found.loc[found["base"], ["term", "base (fit)", "full"]].to_numpy().tolist() == [["voice", 0.0, 0.0]]
