"""Robust and clustered errors, weights, and what else is told of a fit."""

import re
import warnings

import numpy as np
import pandas as pd
import pytest
from scipy.stats import f as f_tail

import markbase as mb
from command import run
from markbase.show.group_tables import groups_section
from reference import dense, digits, least_squares, made_up, sandwich, two_sided_t
from test_linear import _quietly, plain
from yes_no import either

ERRORS = [*((kind, None) for kind in ("HC0", "HC1", "HC2", "HC3", "robust")), ("CR1", "team"), ("CR3", "team")]


@pytest.mark.parametrize(("kind", "cluster"), ERRORS)
@pytest.mark.parametrize("base", ["alto", "bass"])
@pytest.mark.parametrize("far", [False, True])
def test_robust_and_clustered_errors_agree_with_50_digits(kind, cluster, base, far):
    frame, terms, bases = plain()
    bases = bases | {"voice": base}
    frame["team"] = [f"T{k % 17:02d}" for k in range(len(frame))]
    if far:
        frame = frame.assign(age=frame["age"] + 1e8, score=frame["score"] - 1e7)
    study = mb.Study(frame)
    for group, level in bases.items():
        study = study.mark(group, level)
    fit = _quietly(mb.fit_linear, study, "score", terms, errors=kind, cluster=cluster)
    wanted = sandwich(frame, "score", terms, bases, "HC3" if kind == "robust" else kind, cluster)
    table = fit.coefficients.set_index(["term", "level"])
    estimates = least_squares(frame, "score", terms, bases)["estimate"]
    for key, se in wanted["se"].items():
        assert digits(table["se"][key], se) > (7 if far else 11), key
        p = two_sided_t(estimates[key] / se, wanted["df"])
        assert digits(table["p"][key], p) > (5 if far else 9), key
    for term, F in wanted["joint"].items():
        assert digits(fit.terms.set_index("term")["statistic"][term], F) > (7 if far else 10)
    assert digits(fit.overall.statistic, wanted["overall"]) > (7 if far else 10)
    assert (fit.df_rest, fit.overall.df_rest) == (wanted["df"], wanted["df_rest"])
    np.testing.assert_allclose(np.sqrt(np.diag(fit.covariance)), fit.coefficients["se"], rtol=1e-9)
    plain_fit = mb.fit_linear(study, "score", terms)
    assert plain_fit.strength == fit.strength
    assert "HC" in str(fit) or "clustered by team (17 clusters)" in str(fit)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_one_row_a_level_in_every_cluster_is_hotellings_test_of_repeated_measures():
    rng, clusters, levels = np.random.default_rng(1), 9, 4
    y = rng.normal(size=(clusters, 1)) + rng.normal(size=(clusters, levels)) @ rng.normal(size=(levels, levels))
    frame = pd.DataFrame({"y": y.ravel(), "day": list("abcd") * clusters, "who": np.repeat(list("ABCDEFGHI"), levels)})
    fit = mb.fit_linear(mb.Study(frame).mark("day", "a"), "y", ["day"], cluster="who", errors="CR3")
    apart = y[:, 1:] - y[:, :1]
    squared = clusters * apart.mean(axis=0) @ np.linalg.solve(np.cov(apart.T), apart.mean(axis=0))  # T²
    F = squared * (clusters - 3) / (3 * (clusters - 1))
    told = fit.terms.iloc[0]
    assert (told["df"], told["df_rest"]) == (3, 6)
    assert (told["statistic"], told["p"]) == pytest.approx((F, f_tail.sf(F, 3, 6)), rel=1e-10)
    few = mb.fit_linear(mb.Study(frame[frame["who"] < "E"]).mark("day", "a"), "y", ["day"], cluster="who", errors="CR3")
    assert few.untested["day"] == "4 clusters cannot carry a joint test of 3 coefficients"
    pairs = fit.between("day", "scheffe")
    wanted = f_tail.sf(pairs["t"] ** 2 * 6 / 24, 3, 6)
    np.testing.assert_allclose(pairs["p_corrected"], wanted, rtol=1e-10)
    np.testing.assert_allclose((pairs["high"] - pairs["low"]) / 2, pairs["se"] * np.sqrt(4 * f_tail.isf(0.05, 3, 6)))


@pytest.mark.filterwarnings("ignore:.* is the same in all rows of each `team`")
@pytest.mark.parametrize("outcome", ["score", "high"])
def test_levels_that_few_clusters_have_are_cautioned_about(outcome):
    rng, rows = np.random.default_rng(7), 1200
    team = rng.integers(0, 60, rows)
    kind = np.select([team < 4, team < 13, team < 35], ["rare", "some", "many"], "most")  # of 4, 9, 22 and 25 teams
    frame = pd.DataFrame({"score": rng.normal(size=rows), "team": [f"t{k}" for k in team], "kind": kind})
    frame = frame.assign(pilot=(team < 6) + 0, half=(team < 30) + 0, high=np.where(rng.random(rows) < 0.4, "y", "n"))
    study = mb.Study(frame).mark("kind", "some")
    terms = ["kind", "pilot", "half"]
    for cluster in ("team", None):
        fit = either("linear" if outcome == "score" else "logistic", study, terms, ("high", "y"), cluster=cluster)
        few = re.findall(r"`(\w+)`(?: of `kind`| = (\d)) occurs in (\d+) of 60 clusters only", str(_cautions(fit)))
        assert few == ([("some", "", "9"), ("rare", "", "4"), ("pilot", "1", "6")] if cluster else [])
        facts = groups_section(fit, "kind").blocks[1:]
        assert re.findall(r"`(\w+)` of `kind`", str(facts)) == (["rare", "some"] if cluster else [])


def _cautions(fit):
    return [caution for statement in fit.reading().statements for caution in statement.cautions]


def test_errors_that_cannot_be_had_are_refused_or_remarked():
    study = mb.demo.choirs()
    with pytest.warns(mb.MarkbaseWarning, match="`choir` has only 24 clusters"):
        fit = mb.fit_linear(study, "belonging", ["age", "voice"], cluster="choir")
    assert fit.df_rest == 23
    uneven = np.repeat(np.arange(41), [5] * 40 + [200])
    people = pd.DataFrame({"y": np.sin(np.arange(400.0)), "x": np.cos(np.arange(400.0) ** 2), "team": [f"t{k}" for k in uneven]})
    with pytest.warns(mb.MarkbaseWarning, match="41 clusters of uneven size, which count as about 3.9 even ones"):
        mb.fit_linear(people, "y", ["x"], cluster="team")
    smaller = fit.without("voice")
    with pytest.warns(mb.MarkbaseWarning):
        again = mb.fit_linear(study, "belonging", ["age"], cluster="choir")
    np.testing.assert_allclose(smaller.coefficients["se"], again.coefficients["se"], rtol=1e-9)
    frame, terms, _ = plain()
    frame.loc[0, "voice"] = "solo"
    for kind in ("HC0", "HC1", "HC2", "HC3"):  # a row that is a level of its own has no residual, its level no error
        lone = mb.fit_linear(mb.Study(frame), "score", terms, errors=kind)
        without = mb.fit_linear(mb.Study(frame.iloc[1:]), "score", terms, errors=kind)
        one, other = (f.coefficients.set_index(["term", "level"])["se"] for f in (lone, without))
        assert np.isnan(one["voice", "solo"])
        factor = np.sqrt(len(frame) / (len(frame) - 1)) if kind == "HC1" else 1.0
        np.testing.assert_allclose(one[other.index], factor * other, rtol=1e-9)
        assert lone.untested["voice"].startswith("a row that decides a coefficient alone is fitted exactly")
        assert "nan" not in str(lone)
    for options, told in (
        ({"errors": "HC4"}, "no errors `HC4`.*Did you mean"),
        ({"errors": "robust", "cluster": "choir"}, "leave one of the two out"),
        ({"errors": "classical", "cluster": "choir"}, "either `classical` or clustered by `choir`"),
        ({"errors": "CR3"}, "`CR3` errors are those of clusters: name the group"),
        ({"cluster": "practice_hours"}, "`practice_hours` is numeric, and not in whole numbers; clusters are the levels of a group: cut it"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.fit_linear(study, "belonging", ["voice", "travel_km"], **options)
    frame["two"] = np.where(np.arange(len(frame)) < 60, "a", "b")
    with pytest.warns(mb.MarkbaseWarning, match="only 2 clusters"):
        few = mb.fit_linear(mb.Study(frame.iloc[1:]), "score", terms, cluster="two")
    assert np.isnan(few.overall.statistic)
    assert "2 clusters cannot carry a joint test of" in " ".join(str(few).split())


@pytest.mark.parametrize("kind", ["frequency", "sampling", ""])
def test_standardised_estimates_are_those_of_z_scores_and_levels_stay_differences(kind):
    frame, terms, _ = plain()
    w = np.random.default_rng(8).integers(1, 6, len(frame)) / (1 if kind == "frequency" else 7)
    w = w / (w.mean() if kind == "sampling" else 1) if kind else np.ones(len(frame))
    centred = frame[["age", "km", "score"]].apply(lambda x: x - np.average(x, weights=w))
    z = frame.assign(w=w, **centred / np.sqrt((centred**2).mul(w, axis=0).sum() / (w.sum() - 1)))
    options = {"weights": "w", "weights_are": kind} if kind else {}
    fits = [mb.fit_linear(mb.Study(f).mark("voice", "alto"), "score", terms, **options) for f in (frame.assign(w=w), z)]
    got, wanted = fits[0].standardised, fits[1].coefficients.iloc[1:].reset_index(drop=True)
    for column in ("estimate", "low", "high"):
        np.testing.assert_allclose(got[column], wanted[column], rtol=1e-9, atol=1e-12)
    assert set(got["step"][got["term"] == "voice"]) == {"difference"}
    assert got["step"].str.startswith("one standard deviation of age").sum() == 1


def test_all_but_takes_what_is_left():
    study = mb.demo.choirs()
    terms = mb.all_but("events", "choir", "satisfaction", "practice_hours", "stays", "travel_min")
    fit = mb.fit_linear(study, "belonging", terms)
    names = "voice joined_through rehearsal_day age years_singing years_in_choir travel_km rehearsals concerts".split()
    assert [t.name for t in fit.model_terms] == names
    assert mb.screen(study, terms, "belonging").terms["term"].tolist() == names
    with pytest.raises(mb.ColumnError, match="no column `event`"):
        mb.fit_linear(study, "belonging", mb.all_but("event"))


@pytest.mark.parametrize("settings_of_errors", [{}, {"errors": "HC1"}, {"errors": "HC3"}, {"cluster": "team"}])
@pytest.mark.parametrize("near", [False, True])
@pytest.mark.filterwarnings("ignore:.* the same in all:markbase.MarkbaseWarning")
def test_frequencies_are_rows_repeated(settings_of_errors, near, tmp_path):
    frame, terms, _ = plain()
    if near:  # takes the way by twice the working precision
        frame["shadow"] = frame["age"] + 1e-5 * np.random.default_rng(3).normal(size=len(frame))
        terms = [*terms, "shadow"]
    frame["team"] = [f"T{k % 40:02d}" for k in range(len(frame))]
    frame["times"] = np.random.default_rng(2).integers(0, 5, len(frame))
    frame.loc[4, "times"] = np.nan
    long = frame.dropna().loc[lambda f: f.index.repeat(f["times"].astype(int))].reset_index(drop=True)
    short_fit = mb.fit_linear(mb.Study(frame), "score", terms, weights="times", weights_are="frequency", **settings_of_errors)
    long_fit = mb.fit_linear(mb.Study(long), "score", terms, **settings_of_errors)
    one, other = (f.coefficients.set_index(["term", "level"]) for f in (short_fit, long_fit))
    if one["base"].equals(other["base"]):
        for column in ("estimate", "se", "t", "p", "low", "high"):
            np.testing.assert_allclose(one[column], other[column], rtol=1e-8, atol=1e-13)
    np.testing.assert_allclose(short_fit.terms["statistic"], long_fit.terms["statistic"], rtol=1e-8)
    assert short_fit.strength.bic == pytest.approx(long_fit.strength.bic, rel=1e-11)
    assert short_fit.coefficients["n"][0] == len(long)
    lost = [loss[:3] for loss in short_fit.sample.losses]
    assert ("times", "stands for nobody (0)", int((frame["times"] == 0).sum())) in lost
    assert "with a gap in the outcome, a term or times:" in str(short_fit)
    screens = [mb.screen_fit(f) for f in (short_fit, long_fit)]
    np.testing.assert_allclose(*(s.terms["gvif"] for s in screens), rtol=1e-9)
    for k, screened in enumerate(screens):
        mb.write_document(screened, tmp_path / f"{k}.md")
    one, other = ((tmp_path / f"{k}.md").read_text(encoding="utf-8").split("*Note.*") for k in range(2))
    assert (one[0], "frequencies from times" in one[1]) == (other[0], True)


@pytest.mark.parametrize("kind", [None, "HC0", "HC1", "HC2", "HC3"])
def test_sampling_weights_agree_with_weighted_columns_and_need_robust_errors(kind):
    frame, terms, bases = plain()
    frame["w"] = np.random.default_rng(5).gamma(4, 1, len(frame))
    unasked = frame.assign(w=0.0, score=-1e6, km=1e6)  # of weight 0
    study = mb.Study(pd.concat([frame, unasked])).mark("day", "Mon").mark("voice", "alto")
    bases = {"voice": "alto", "day": "Mon"}
    fit = mb.fit_linear(study, "score", terms, weights="w", errors=kind)
    assert fit.errors.kind == (kind or "HC3")
    columns, names = dense(frame, terms, bases)
    w = (frame["w"] / frame["w"].mean()).to_numpy()
    X, y = np.array(columns, dtype=float).T * np.sqrt(w)[:, None], frame["score"].to_numpy() * np.sqrt(w)
    inverse = np.linalg.inv(X.T @ X)
    b = inverse @ X.T @ y
    e, h = y - X @ b, np.einsum("ij,jk,ik->i", X, inverse, X)
    n, p = X.shape
    weight = {"HC0": 1.0, "HC1": n / (n - p), "HC2": 1 / (1 - h), "HC3": 1 / (1 - h) ** 2}[kind or "HC3"] * e**2
    V = inverse @ (X.T * weight) @ X @ inverse
    table = fit.coefficients.set_index(["term", "level"]).loc[names]
    np.testing.assert_allclose(table["estimate"], b, rtol=1e-9)
    np.testing.assert_allclose(table["se"], np.sqrt(np.diag(V)), rtol=1e-9)
    heavier = mb.Study(frame.assign(w=frame["w"] * 1000)).mark("day", "Mon").mark("voice", "alto")
    scaled = mb.fit_linear(heavier, "score", terms, weights="w", errors=kind)
    np.testing.assert_allclose(scaled.coefficients["se"], fit.coefficients["se"], rtol=1e-12)
    assert "sampling weights from w" in str(fit)


def test_weights_that_make_no_sense_are_refused():
    frame, terms, _ = plain()
    frame["w"], frame["z"] = 1.5, np.arange(len(frame)) % 2 - 1.0 * (np.arange(len(frame)) == 4)
    study = mb.Study(frame)
    for options, told in (
        ({"weights": "w", "weights_are": "frequency"}, "must be whole numbers of 0 .* 120 rows used are not .1.5."),
        ({"weights": "z"}, "must be 0 or more, and 1 row used is not .-1."),
        ({"weights": "voice"}, "is categorical; weights are a numeric column"),
        ({"weights": "w", "weights_are": "survey"}, "no weights `survey`"),
        ({"weights": "w", "errors": "classical"}, "Sampling weights need robust or clustered errors"),
    ):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.fit_linear(study, "score", terms, **options)


@pytest.mark.parametrize("errors", ["HC0", "HC2", "HC3"])
def test_a_row_that_is_a_level_of_its_own_adds_nothing_to_the_errors_of_the_others(errors):
    frame = pd.DataFrame(made_up(150, seed=8))
    alone = frame.assign(voice=frame["voice"].where(frame.index != 77, "solo"))
    fits = [mb.fit_linear(mb.Study(table).mark("voice", "alto"), "score", ["voice", "age", "km"], errors=errors) for table in (alone, alone.drop(index=77))]  # fmt: skip
    with_row, without = (f.coefficients.set_index(["term", "level"]) for f in fits)
    kept = without.index
    np.testing.assert_allclose(with_row.loc[kept, "estimate"], without["estimate"], rtol=1e-9, atol=1e-9)
    np.testing.assert_allclose(with_row.loc[kept, "se"], without["se"], rtol=1e-9, atol=1e-12)
    assert np.isnan(with_row.loc[("voice", "solo"), "se"])


def test_the_page_says_what_weights_are():
    frame = pd.DataFrame(made_up(90)).assign(w=np.arange(90) % 3 + 1)
    said = {"frequency": "each row counts as so many rows", "sampling": "weights from w, scaled to mean 1"}
    for kind, told in said.items():
        fit = mb.fit_linear(mb.Study(frame), "score", ["age"], weights="w", weights_are=kind)
        assert told in " ".join(str(fit).split())
    study = mb.Study(frame).as_role("w", "weight")
    fits = [mb.fit_linear(study, "score", terms) for terms in (["age"], ["w"])]
    assert ["none, though w holds some (its role)" in str(f) for f in fits] == [True, False]


FEW = [(20, {}, 0), (19, {}, "terms, or pen"), (19, {"errors": "HC1"}, "terms."), (19, {"penalty": "firth"}, 0)]


@pytest.mark.parametrize(("events", "options", "remarked"), FEW)
def test_few_events_are_remarked_on_below_ten_for_each_coefficient(events, options, remarked):
    rng = np.random.default_rng(6)
    frame = pd.DataFrame({"x": rng.normal(size=200), "z": rng.normal(size=200), "y": np.arange(200) < events})
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        mb.fit_logistic(mb.Study(frame), "y", ["x", "z"], event="True", **options)
    told = [str(w.message) for w in told if "for each of 2 coefficients" in str(w.message)]
    assert [f"Use fewer {remarked}" in text for text in told] == [True] * bool(remarked)


def test_the_equation_of_groups_coded_in_two_ways_predicts_what_the_fit_gives():
    study = mb.Study(pd.DataFrame(made_up(200, seed=2))).mark("voice", "alto").code_as("day", "effect")
    fit = mb.fit_linear(study, "score", ["voice", "day", "age"])
    rows = fit.equation_rows.set_index(["term", "level"])["estimate"]
    for voice in ("alto", "bass", "tenor"):
        for day in ("Mon", "Tue", "Wed"):
            wanted = fit.predict({"voice": voice, "day": day, "age": 40})["predicted"].iloc[0]
            told = rows["(intercept)", ""] + rows["voice", voice] + rows["day", day] + 40 * rows["age", ""]
            assert told == pytest.approx(wanted, rel=1e-10)


UNVARIED = [  # the column beside, what is changed, and what is said
    ("participant", lambda d: d, "`arm` is the same in all rows of each `participant` (30 levels, 180 rows)"),
    ("id", lambda d: d.assign(id=d["id"].str[1:].astype(int)), "errors clustered by it allow for that"),
    ("unlike", lambda d: d, "each `unlike`"),  # levels of about as many rows, whatever they are called
    ("village", lambda d: d[d["id"] < "p1"], "each `village` (10 levels"),
    ("participant", lambda d: d.assign(arm=np.where(d.index == 8, "a", d["arm"])), ""),  # it varies in one
    ("participant", lambda d: d[d["participant"].isin(["p00", "p01", "p02", "p03"])], ""),  # too few
    ("participant", lambda d: d.drop_duplicates("participant"), ""),  # once each
    ("site_kind", lambda d: d.assign(site_kind=np.where(d["arm"] == "a", "x", "y")), ""),  # as few levels as the term
    ("word", lambda d: d.assign(word=np.where(d.index < 60, d["id"], d["arm"])), ""),  # levels of very unlike numbers of rows
]


@pytest.mark.parametrize(("name", "change", "said"), UNVARIED)
def test_a_term_that_does_not_vary_within_participants_is_remarked_on(name, change, said):
    rng = np.random.default_rng(2)
    person = np.repeat(np.arange(30), 6)
    label = np.char.add("p", np.char.zfill(person.astype(str), 2))
    own = dict.fromkeys(["participant", "id", "unlike", "village"], label)
    arm, x, y = np.where(person % 3 == 0, "a", "b"), *rng.normal(size=(2, 180))
    data = change(pd.DataFrame({**own, "arm": arm, "x": x, "y": y}))
    frame = data[[name, "arm", "x", "y"]].reset_index(drop=True)
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        mb.fit_linear(frame, "y", ["x", "arm"])
    found = [str(w.message) for w in told if "is the same in all rows" in str(w.message)]
    assert len(found) == bool(said)
    assert all(said in text for text in found)
    if said and frame[name].dtype != int:
        with warnings.catch_warnings(record=True) as told:
            warnings.simplefilter("always")
            mb.fit_linear(frame, "y", ["x", "arm"], cluster=name)
            mb.fit_linear(frame, "y", ["x"], fixed_effects=name)
        assert not [w for w in told if "is the same in all rows" in str(w.message)]


def _drawn(seed, rows=90, levels=8):
    """Return a frame of uneven levels, an outcome that has nothing to do with them, and weights."""
    rng = np.random.default_rng(seed)
    share = 1 / np.arange(1, levels + 1)
    g = np.r_[np.arange(levels), np.arange(levels), rng.choice(levels, rows - 2 * levels, p=share / share.sum())]
    columns = {"g": [f"l{k}" for k in g], "x": rng.normal(size=rows), "y": rng.normal(size=rows)}
    return pd.DataFrame({**columns, "w": rng.gamma(2, 1, rows), "times": rng.integers(1, 3, rows)})


def _wald_and_hotelling(frame, kind, w, times, tested):
    """Return F of some columns by robust errors, its p, and F, its second degrees of freedom and p as Hotelling's, densely."""
    frame, w, times = (v.loc[frame.index.repeat(times)] for v in (frame, pd.Series(w), pd.Series(times)))
    X = np.column_stack([np.ones(len(frame)), *(frame["g"] == f"l{k}" for k in range(1, 8)), frame["x"]]).astype(float)
    w, inverse = w.to_numpy(), np.linalg.inv(X.T * w.to_numpy() @ X)
    b = inverse @ X.T @ (w * frame["y"].to_numpy())
    h = w * np.einsum("ij,jk,ik->i", X, inverse, X)
    e = w * (frame["y"].to_numpy() - X @ b) / (1 - h) ** {"HC0": 0, "HC1": 0, "HC2": 0.5, "HC3": 1}[kind]
    parts = (inverse @ X.T * e)[tested]  # what each row adds to the estimates' error
    r, rest = len(tested), len(X) - X.shape[1]
    V = parts @ parts.T * (len(X) / rest if kind == "HC1" else 1)
    F = b[tested] @ np.linalg.solve(V, b[tested]) / r
    lengths = np.einsum("ik,ij,jk->k", parts, np.linalg.inv(parts @ parts.T), parts)
    d = 3 * r * (r + 1) / (2 * (lengths**2).sum())
    mended = F * (d - r + 1) / d
    return F, f_tail.sf(F, r, rest), mended, d - r + 1, f_tail.sf(mended, r, d - r + 1) if d > r - 1 else 1.0


ROBUST = [("HC0", ""), ("HC1", ""), ("HC2", ""), ("HC3", ""), ("HC3", "sampling"), ("HC3", "frequency")]


@pytest.mark.parametrize(("kind", "weights_are"), ROBUST)
def test_joint_tests_that_robust_errors_overstate_are_told_and_judged_as_hotellings(kind, weights_are, tmp_path):
    told = set()
    for seed in (11, 12, 18, 26, 33, 43):  # in some clear, in some overstated
        frame, more = _drawn(seed), {"errors": kind}
        w, times = frame["w"] if weights_are == "sampling" else np.ones(len(frame)), np.ones(len(frame), dtype=int)
        if weights_are == "sampling":
            more |= {"weights": "w"}
        if weights_are == "frequency":
            times, more = frame["times"], more | {"weights": "times", "weights_are": "frequency"}
        study = mb.Study(frame)
        fit = _quietly(mb.fit_linear, study, "y", ["g", "x"], **more)
        for name, tested in (("", range(1, 9)), ("g", range(1, 8))):
            F, p, mended, rest, better = _wald_and_hotelling(frame, kind, w, times, list(tested))
            test = fit.overall if not name else fit.terms.set_index("term").loc[name]
            assert (test.statistic, test.p) == pytest.approx((F, p), rel=1e-8)
            assert (name in fit._overstated) == (p < 0.05 <= better)
            if name in fit._overstated and rest > 0:
                assert fit._overstated[name][::2] == pytest.approx((mended, rest), rel=1e-8)
        told.add(tuple(sorted(fit._overstated)))
        page, words = " ".join(str(fit).split()), "errors, which rest on few rows here, overstate it: Hotelling's F(7, "
        assert (f"{kind} {words}" in page) == ("g" in fit._overstated)
        assert ("show no clear evidence of differing" in page) == (fit.terms["p"][0] >= 0.05 or "g" in fit._overstated)
        if len(fit._overstated) == 2:
            mb.write_fit(fit, tmp_path / "fit.json", replace=True)
            assert mb.read_fit(tmp_path / "fit.json").overstated == fit._overstated
            assert "No clear evidence" in fit.guide().steps[1].meaning
            entries = ({"a": ["x"], "b": ["g"]}, {"all": ["g", "x"]})
            texts = [_quietly(mb.fit_blocks, study, "y", e, **more).reading().statements[len(e) - 1].text for e in entries]
            nothing = r"Hotelling's F\([78], \d+\) .*no clear evidence that it (adds|says) anything\.$"
            assert all(re.search(nothing, text) for text in texts)
    assert ("", "g") in told


def test_simple_effects_that_robust_errors_overstate_are_those_of_the_rows_of_one_level(tmp_path):
    wanted, told = [], []
    for seeds in ((11, 12), (18, 26), (33, 43)):
        frame = pd.concat([_drawn(s).assign(half=half) for s, half in zip(seeds, ("one", "two"), strict=True)])
        frame.to_csv(tmp_path / "t.csv", index=False)
        model = "groups t.csv g:half --outcome y --terms g,half --interaction g,half --errors hc0"
        page = " ".join(run(*model.split(), cwd=tmp_path).stdout.split())
        told += re.findall(r"differences of g, where half is (\w+): HC0 errors, .*? overstate it: Hotelling's F\((\d+), (\d+)\) = ([\d.]+), p", page)
        for half, own in frame.groupby("half"):
            alone = _quietly(mb.fit_linear, mb.Study(own), "y", ["g"], errors="HC0")._overstated.get("g")
            if alone is not None and not alone.untested:
                wanted.append((half, str(alone.df), f"{alone.df_rest:.0f}", f"{alone.statistic:.2f}"))
    assert set(wanted) <= set(told)  # alone its F goes on fewer rows, so that it is clear less often
    assert wanted
