"""Rows about two members, such as who asks whom: errors of rows that go together where they have a member in common."""

import json
import warnings

import numpy as np
import pandas as pd
import pytest
from scipy.stats import t as t_of

import markbase as mb
from command import run
from markbase.reports.figure_sets import figures_of_checks
from test_crossed_clusters import fit_to as fit_of
from test_crossed_clusters import same_however_rows_come, told
from test_linear import _quietly as quietly

BOTH = ["asks", "asked"]


def asking(members=14, repeats=2, seed=4):
    """Return who asks whom: a sixth of the rows are left out, members differ as those who ask and as those who are asked, and so do pairs."""
    rng = np.random.default_rng(seed)
    pairs = [(i, j) for i in range(members) for j in range(members) if i != j for _ in range(repeats)]
    i, j = np.array(pairs)[rng.random(len(pairs)) < 5 / 6].T
    n, own = len(i), rng.normal(size=members)
    frame = pd.DataFrame({"asks": [f"m{k:02d}" for k in i], "asked": [f"m{k:02d}" for k in j], "choir": [f"c{k % 3}" for k in i]})
    frame["pair"] = [f"{min(a, b):02d}{max(a, b):02d}" for a, b in zip(i, j, strict=True)]
    frame = frame.assign(x=rng.normal(size=n), z=np.abs(own[i] - own[j]), g=rng.choice(list("abc"), n), w=rng.integers(1, 4, n) + 0.0)
    frame["y"] = frame["x"] + own[i] + 0.6 * own[j] + rng.normal(size=n)
    return frame.assign(yes=np.where(frame["y"] > 0.3, "yes", "no"))


def fit_to(study, kind, terms=("x", "z", "g"), **options):
    return fit_of(study, kind, list(terms), **{"cluster": BOTH, "errors": "dyadic"} | options)


def leave_out(frame, X, scores, w, bread, n, rest):
    """Return the variance by its definition: all estimates without each member, in one step, less what each pair sums to, and no less than that."""
    moved, members = [], sorted({*frame["asks"], *frame["asked"]})
    for member in members:
        there = ((frame["asks"] == member) | (frame["asked"] == member)).to_numpy()
        own = X[there] * w[there][:, None]
        moved.append(np.linalg.solve(np.linalg.inv(bread) - X[there].T @ own, scores[there].sum(axis=0)))
    pairs = pd.DataFrame(scores).groupby(frame["pair"].to_numpy()).sum().to_numpy() @ bread
    V1 = np.transpose(moved) @ np.array(moved) * (len(members) - 1) / len(members)
    V2 = pairs.T @ pairs * (n - 1) / rest
    root = np.linalg.cholesky(bread)
    values, vectors = np.linalg.eigh(np.linalg.solve(root, np.linalg.solve(root, V1 - 2 * V2).T))
    return V2 + root @ (vectors * np.maximum(values, 0)) @ vectors.T @ root.T


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("weights", [{}, {"weights": "w"}, {"weights": "w", "weights_are": "frequency"}], ids=str)
def test_errors_are_those_of_leaving_out_each_member_however_rows_come(weights, kind, tmp_path, monkeypatch):
    monkeypatch.setattr("markbase.files.parts.text_blocks.PART_ROWS", 60)
    monkeypatch.setattr("markbase.core.inference.crossed_clusters._HELD", 100)  # pairs in batches
    frame = asking()
    frame.loc[[5, 50], "x"], frame.loc[7, "asked"] = np.nan, None
    study = mb.Study(frame).mark("g", "a")
    fit = fit_to(study, kind, **weights)
    used = frame.dropna().reset_index(drop=True)
    X = np.column_stack([np.ones(len(used)), used["x"], used["z"], used["g"] == "b", used["g"] == "c"]).astype(float)
    w, b = used["w"].to_numpy() if weights else np.ones(len(used)), told(fit)["estimate"].to_numpy()
    w = w if "weights_are" in weights else w / w.mean()
    p = 1 / (1 + np.exp(-(X @ b)))
    missed, curved = (used["y"] - X @ b, 1.0) if kind == "linear" else ((used["yes"] == "yes") - p, p * (1 - p))
    bread, scores = np.linalg.inv((X * (w * curved)[:, None]).T @ X), X * (w * missed.to_numpy())[:, None]
    wanted = leave_out(used, X, scores, w * curved, bread, round(w.sum()), round(w.sum()) - 5)
    np.testing.assert_allclose(told(fit)["se"], np.sqrt(np.diag(wanted)), rtol=1e-8)
    assert fit.df_rest == 13
    F = b[3:] @ np.linalg.solve(wanted[3:, 3:], b[3:]) / 2 * 12 / 13
    assert fit.terms.set_index("term").loc["g", ["statistic", "df_rest"]].tolist() == pytest.approx([F, 12], rel=1e-7)
    left, words = fit.without_clusters(), "dyadic errors, from leaving out each member of asks or asked (14 members)"
    assert set(left["cluster"]) == {*used["asks"], *used["asked"]}
    if kind == "linear":
        rows = frame[(frame["asks"] != "m03") & (frame["asked"] != "m03")]
        alone = told(fit_to(mb.Study(rows).mark("g", "a"), kind, **weights))["estimate"]
        np.testing.assert_allclose(left.loc[left["cluster"] == "m03", "without"], alone, rtol=1e-9)
    same_however_rows_come(fit, frame, kind, tmp_path, words, **weights, errors="dyadic")


def test_levels_taken_out_that_lie_in_one_dyad_each_leave_the_others_as_they_are():
    frame = asking()
    fit = fit_to(mb.Study(frame), "linear", ["x"], fixed_effects="pair")
    D = pd.get_dummies(frame["pair"]).to_numpy(float)
    within = lambda values: values - D @ np.linalg.lstsq(D, values, rcond=None)[0]  # noqa: E731 - a name for a line
    x, y = within(frame[["x"]].to_numpy()), within(frame["y"].to_numpy())
    b, (n, _) = np.linalg.lstsq(x, y, rcond=None)[0], D.shape
    wanted = leave_out(frame, x, x * (y - x @ b)[:, None], np.ones(n), 1 / (x.T @ x), n, n - 2)
    assert told(fit)["se"].iloc[-1] == pytest.approx(np.sqrt(wanted.item()), rel=1e-9)
    for low in (frame["asks"], frame["pair"].str[:2], frame["pair"].str[2:]):
        with pytest.raises(mb.FitError, match="Levels of `low` that are taken out lie in several dyads of `asks` and `asked`"):
            fit_to(mb.Study(frame.assign(low="m" + low)), "linear", ["x"], fixed_effects="low")
    alone = fit_to(mb.Study(frame), "linear", ["x", "asks"])
    assert told(alone)["se"].isna().sum() == 14  # of each member, and the start, one alone tells
    assert (alone.terms.set_index("term")["p"] < 0.05).tolist() == [True, False]
    assert "told by one member alone" in " ".join(str(alone.checks()).split())


def test_areas_rows_left_out_checks_and_figures_go_by_members():
    rng = np.random.default_rng(3)
    k, turn = np.repeat(np.arange(200), 2), np.tile([0, 1], 200)  # each of two asks the other, and nobody else: dyads apart, each of two rows
    frame = pd.DataFrame({"asks": np.char.mod("m%d", 2 * k + turn), "asked": np.char.mod("m%d", 2 * k + 1 - turn)})
    frame = frame.assign(pair=[f"p{a}" for a in k], x=rng.normal(size=400) + rng.normal(size=200)[k])
    frame["y"] = frame["x"] + 2 * rng.normal(size=200)[k] + rng.normal(size=400)
    frame["yes"] = np.where(frame["y"] > 0, "yes", "no")
    fits = [fit_to(mb.Study(frame), "logistic", ["x"], **how) for how in ({}, {"cluster": "pair", "errors": "CR1"})]
    areas = [fit.classification() for fit in fits]
    logs = [np.log(a.area_high / (1 - a.area_high)) - np.log(a.area_low / (1 - a.area_low)) for a in areas]
    wide = [w / t_of.ppf(0.975, fit.df_rest) for w, fit in zip(logs, fits, strict=True)]
    assert wide[0] == pytest.approx(wide[1], rel=0.01)
    assert "allowing for members of asks or asked" in " ".join(str(fits[0]).split())
    gaps = mb.Study(frame.assign(x=frame["x"].where(k % 5 > 0)))
    left = [fit_to(gaps, "linear", ["x"], **how).left_out for how in ({}, {"cluster": "pair", "errors": "CR1"})]
    assert left[0].se == pytest.approx(left[1].se, rel=0.01)
    study = mb.Study(asking().assign(few=lambda t: np.where(t["asks"] < "m03", "yes", "no")))
    fit = fit_to(study, "linear", ["few", "x"])
    assert "yes of few occurs with 3 of 14 members in asks only: even errors from leaving out one" in " ".join(str(fit).split())
    assert "Without each member 5 of 14 members" in " ".join(str(fit.checks()).split())
    assert "without each member" in mb.draw_clusters(fit).get_xlabel()
    assert ("clusters" in figures_of_checks(fit), 0 < fit.checks().spread_p < 1) == (True, True)


def test_columns_that_name_the_same_members_are_told_by_what_would_do(tmp_path):
    (frame := asking().drop(columns=["pair", "choir"])).to_csv(tmp_path / "r.csv", index=False)
    way = "asked and asks name the same members, of which two are in each row, so that rows with one in common may go together: take dyadic errors of both"
    for cluster in (None, "asks"):
        assert way in " ".join(str(quietly(mb.fit_linear, frame, "y", ["x"], cluster=cluster)).split())
    numbered = frame.assign(**{name: frame[name].str[1:].astype(int) + 1 for name in BOTH})
    swapped = frame.assign(asked=np.random.default_rng(1).permutation(frame["asked"]))  # who is the same in some rows by chance
    others = frame.assign(asked=frame["asked"].where(frame["asked"] < "m04", "other " + frame["asked"]))
    for table, there in ((frame, True), (numbered, True), (swapped, False), (others, False), (frame.sample(25, random_state=1), False)):
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            mb.fit_linear(table, "y", ["x"], cluster=BOTH)
        assert ("Dyadic errors allow for them" in " ".join(str(w.message) for w in caught)) is there
    drafted = run("start", tmp_path / "r.csv", "--outcome", "y").stdout
    assert all(words in drafted for words in ('cluster = ["asks", "asked"]   # dyadic', '# errors = "dyadic"'))
    common = ["--outcome", "y", "--terms", "x", "--cluster", "asks", "--cluster", "asked", "--errors", "dyadic"]
    found = json.loads(run("fit", tmp_path / "r.csv", *common, "--json").stdout)
    assert found["errors"] == {"kind": "dyadic", "cluster": "asks", "clusters": 14, "crossed": "asked", "crossed_clusters": 14, "members": 14}
    plan, study = tmp_path / "p.toml", mb.open_study(tmp_path / "r.csv")
    mb.write_plan(plan, study, {"Asking": fit_to(study, "linear", ["x"])}, data=tmp_path / "r.csv")
    assert json.loads(run("fit", plan, "Asking", "--json").stdout)["coefficients"] == found["coefficients"]
    with pytest.warns(mb.MarkbaseWarning, match="The dyads have 6 members: with fewer than 10"):
        mb.fit_linear(asking(6), "y", ["x"], cluster=BOTH, errors="dyadic")


@pytest.mark.parametrize(
    ("options", "what"),
    [
        ({"cluster": "asks"}, "need the two columns that name the members"), ({"cluster": None}, "need the two columns"),
        ({"strata": "choir"}, "within strata of `choir`"),
        ({"cluster": ["asks", "choir"]}, "No member that `asks` names is one that `choir` names"),
        ({"cluster": ["asks", "again"]}, "`asks` and `again` name the same member in 3 rows used"),
    ],
)  # fmt: skip
def test_what_are_no_dyads_is_refused(options, what):
    frame = asking().assign(again=lambda t: t["asked"].where(t.index > 2, t["asks"]))
    with pytest.raises(mb.MarkbaseError, match=what):
        fit_to(mb.Study(frame), "linear", **options)
    with pytest.raises(mb.FitError, match="not of `asks` and `asked`: cluster by one of them"):
        mb.bootstrap(fit_to(mb.Study(frame), "linear"), 100, seed=1)
