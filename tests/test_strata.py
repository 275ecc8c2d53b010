"""Errors of samples that were drawn within strata, by their definition, and where these say nothing."""

import itertools
import json

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import CHOIRS, run
from reference import dense
from surveys import BOOK, DATA, same
from test_clusters import TERMS, TIMES, survey

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
SETTINGS = [{}, {"weights": "times"}, TIMES]
WITHIN = {"clusters": {"cluster": "team"}, "rows": {}}


def sample(rows=300):
    """Return rows of 11 teams in three districts, of which one more has no row with a value."""
    frame = survey(rows)
    frame["district"] = (frame["team"].str[1:].astype(int) % 3).map({0: "north", 1: "east", 2: "west"})
    frame["score"] += 5 * (frame["district"] == "east")
    return frame.assign(high=np.where(frame["score"] > 39, "y", "n"))


def study_of(frame):
    """Return a study of these and of two rows that are not used, one of them of a cluster and a stratum of their own."""
    gaps = {"score": np.nan, "high": None, "district": "far", "team": "t99"}, {"district": None}
    return mb.Study(pd.concat([frame, *(frame.iloc[:1].assign(**gap) for gap in gaps)])).mark("voice", "alto")


@pytest.mark.parametrize("drawn", WITHIN)
@pytest.mark.parametrize(("kind", "setting"), [*itertools.product(["linear", "logistic"], SETTINGS), ("linear", {"fixed_effects": "room"})])
def test_errors_are_those_of_scores_from_the_mean_of_their_stratum(kind, setting, drawn):
    frame, fixed = sample(), "fixed_effects" in setting
    more = {"strata": "district", **setting, **WITHIN[drawn]}
    if kind == "linear":
        fit = mb.fit_linear(study_of(frame), "score", TERMS, **more)
    else:
        fit = mb.fit_logistic(study_of(frame), "high", TERMS, event="y", **more)
    weights = frame["times"].to_numpy() if "weights" in setting else np.ones(len(frame))
    times = weights if setting is TIMES else np.ones(len(frame))
    rooms = {"room": min(frame["room"])} if fixed else {}
    X = np.array(dense(frame, [*TERMS, *rooms], {"voice": "alto", **rooms})[0], dtype=float).T
    y = (frame["score"] if kind == "linear" else frame["high"] == "y").to_numpy(dtype=float)
    own = fit.coefficients[~fit.coefficients["base"]]
    if kind == "linear":
        curved = weights
        missed = y - X @ np.linalg.lstsq(X * np.sqrt(weights)[:, None], y * np.sqrt(weights), rcond=None)[0]
    else:
        p = 1 / (1 + np.exp(-X @ own["estimate"].to_numpy()))
        curved, missed = weights * p * (1 - p), y - p
    n, bread = times.sum(), np.linalg.inv(X.T @ (X * curved[:, None]))
    scores, often, district = X * (missed * weights / times)[:, None], times, frame["district"].to_numpy()
    if drawn == "clusters":
        teams = sorted(set(frame["team"]))
        scores = np.array([(scores * times[:, None])[frame["team"] == t].sum(axis=0) for t in teams])
        often, district = np.ones(len(teams)), np.array([frame["district"][frame["team"] == t].iloc[0] for t in teams])
    middle = np.zeros_like(bread)
    for here in (district == d for d in set(district)):
        drawn_there = often[here].sum()
        away = scores[here] - often[here] @ scores[here] / drawn_there
        middle += drawn_there / (drawn_there - 1) * (away * often[here][:, None]).T @ away
    counted = 6 if fixed and drawn == "clusters" else X.shape[1]  # of rooms that lie in one cluster each, none
    V = bread @ middle @ bread * (n - 1) / (n - counted)
    slopes = slice(1, 6) if fixed else slice(0, 6)
    np.testing.assert_allclose(own["se"].to_numpy()[slopes], np.sqrt(np.diag(V))[slopes], rtol=1e-9)
    df = 11 - 3 if drawn == "clusters" else n - X.shape[1] - 2
    assert fit.rows_for(["age"]) == fit.sample.used == len(frame)
    assert fit.df_rest == (df if kind == "linear" or drawn == "clusters" else np.inf)
    assert "drawn within 3 strata of `district`" in fit.errors.words


@pytest.mark.parametrize("drawn", WITHIN)
def test_one_stratum_changes_nothing_and_strata_of_clusters_alike_leave_no_error(drawn):
    solo = {"voice": lambda d: d["voice"].where(d.index > 0, "solo")}  # its row is fitted exactly
    study = mb.Study(sample().assign(district="all", **solo)).mark("voice", "alto")
    settings = {"strata": "district"}, ({"errors": "HC1"} if drawn == "rows" else {})
    one, none = (mb.fit_linear(study, "score", TERMS, **WITHIN[drawn], **more) for more in settings)
    assert one.df_rest == none.df_rest
    np.testing.assert_allclose(one.coefficients["se"], none.coefficients["se"], rtol=1e-12)
    strata = pd.DataFrame({"x": [1.0, 2, 4, 3, 5], "y": [2.0, 1, 5, 4, 4], "district": list("abcde")})
    alike = pd.concat([strata.assign(team=strata["district"] + t, often=k + 1.0) for k, t in enumerate("pqr")])[:-1]
    for more in [{}, {"weights": "often", "weights_are": "frequency"}][: 1 + (drawn == "rows")]:
        blocks = mb.fit_blocks(mb.Study(alike), "y", {"x": ["x"]}, strata="district", **WITHIN[drawn], **more)
        assert blocks.last.coefficients["se"].max() < 1e-12
        steps = blocks.bootstrap(100, seed=2).steps
        ends = steps[["change_low", "change_high"]]  # every sample is the same
        np.testing.assert_allclose(ends, steps[["r2_change"] * 2], rtol=1e-12)


REFUSED = {
    "numeric strata": ({"strata": "km"}, "`km` is numeric, and not in whole numbers; strata are"),
    "a stratum of one row": ({"strata": "lone"}, r"`lone` has 1 stratum with one row .*\(`x`\).*Merge"),
    "strata of one cluster": ({"strata": "few", "cluster": "team"}, r"`few` has 1 stratum with one cluster of `team` .*\(`t01`\)"),
    "clusters in several": ({"strata": "day", "cluster": "team"}, r"`t00` of `team` lies in several strata of `day` \(11 such clusters\)"),
    "clusters named again": ({"strata": "team", "cluster": "team"}, "`team` is named as clusters and as strata"),
    "other errors": ({"strata": "day", "errors": "HC3"}, "CR1 with clusters, HC1 without, and not HC3"),
    "clusters left out": ({"strata": "district", "cluster": "team", "errors": "CR3"}, "and not CR3"),
}


@pytest.mark.parametrize("case", REFUSED)
def test_strata_that_tell_nothing_are_refused_with_the_way_out(case):
    more, said = REFUSED[case]
    frame = sample().assign(lone=lambda d: np.where(d.index == 0, "x", "y"))
    frame["few"] = np.where(frame["team"] == "t01", "t01", "others")
    with pytest.raises(mb.MarkbaseError, match=said):
        mb.fit_linear(mb.Study(frame), "score", ["age"], **more)


def test_more_strata_than_rows_can_carry_are_refused():
    few = mb.Study(sample()[:8].assign(pair=list("aabbccdd")))
    told = "8 rows less 5 coefficients and 4 strata of `pair` leave no degree of freedom"
    with pytest.raises(mb.FitError, match=told):
        mb.fit_linear(few, "score", [mb.polynomial("age"), "km", "times"], strata="pair")


@pytest.mark.parametrize("drawn", WITHIN)
def test_strata_are_the_same_in_parts_saved_refitted_and_from_a_plan(drawn, studies, tmp_path):
    levels = studies[0].levels("choir")["level"].tolist()
    districts = {"upper": levels[::2], "lower": levels[1::2]}
    cut = [s.merge_levels("choir", districts, name="district").as_role("district", "stratum") for s in studies]
    more = {"strata": "district", **({"cluster": "choir"} if drawn == "clusters" else {})}
    with pytest.warns(mb.MarkbaseWarning, match="`district` holds the strata"):
        mb.fit_linear(cut[0], "belonging", ["age"])
    whole, parts = (mb.fit_linear(s, "belonging", ["age", "voice", "rehearsals"], **more) for s in cut)
    same(whole.coefficients, parts.coefficients)
    smaller = mb.fit_linear(cut[0], "belonging", ["age", "rehearsals"], **more)
    same(whole.without("voice").coefficients, smaller.coefficients, 1e-8)
    mb.write_fit(whole, tmp_path / "fit.json")
    same(mb.read_fit(tmp_path / "fit.json").coefficients, whole.coefficients)
    mb.write_plan(tmp_path / "a.plan.toml", cut[0], {"made": whole}, data=DATA, codebook=BOOK)
    told = json.loads(run("fit", "a.plan.toml", "made", "--json", cwd=tmp_path).stdout)
    errors = ("clustered", "choir", 24) if drawn == "clusters" else ("HC1", "", 0)
    assert tuple(told["errors"].values()) == (*errors, "district", 2)
    assert told["coefficients"][1]["se"] == pytest.approx(whole.coefficients["se"][1], rel=1e-12)
    typed = run("fit", *CHOIRS, "--outcome", "belonging", "--terms", "age", "--strata", "voice", "--short")
    assert "drawn within 4 strata of voice" in " ".join(typed.stdout.split())
    logistic = [mb.fit_logistic(cut[0], "stays", t, event="yes", **more) for t in (["age", "voice"], ["age"])]
    same(logistic[0].without("voice").coefficients, logistic[1].coefficients, 1e-8)
    in_parts = mb.fit_logistic(cut[1], "stays", ["age", "voice"], event="yes", **more)
    ends = [[c.area_low, c.area_high] for c in (f.classification() for f in (logistic[0], in_parts))]
    assert ends[1] == pytest.approx(ends[0], abs=1e-4)
    beside = mb.compare(mb.fit_linear(cut[0], "belonging", ["age"]), whole)
    assert "within `district`" in " ".join(beside.cautions)
    two = mb.Study(sample().assign(two=lambda d: np.where(d.index < 2, "x", "y")))  # a fold may have one of both rows
    assert mb.cross_validate(mb.fit_linear(two, "score", ["age"], strata="two"), folds=2, repeats=3, seed=1).folds == 2
