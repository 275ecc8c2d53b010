"""Errors of rows that go together two ways, such as ratings of the same song and ratings by the same judge."""

import json
import warnings

import numpy as np
import pandas as pd
import pytest
from scipy.stats import t as t_of

import markbase as mb
from command import run
from markbase.reports.figure_sets import figures_of_checks
from reference import digits, sandwich, two_sided_t
from test_linear import _quietly as quietly

BOTH = ["judge", "song"]
TERMS = ["g", "x", "z"]


def ratings(judges=12, songs=15, rows=1, seed=5, alike=1.0):
    """Return ratings of songs by judges, a fifth of them left out, each so many rows; z is that of the song."""
    rng = np.random.default_rng(seed)
    j, s = (np.repeat(a.ravel(), rows) for a in np.meshgrid(np.arange(judges), np.arange(songs), indexing="ij"))
    there = rng.random(len(j)) < 0.8
    j, s, n = j[there], s[there], int(there.sum())
    frame = pd.DataFrame({"judge": [f"j{k:02d}" for k in j], "song": [f"s{k:02d}" for k in s], "class": [f"c{k // 3}" for k in j]})
    frame = frame.assign(x=rng.normal(size=n), z=rng.normal(size=songs)[s], g=rng.choice(list("abc"), n), w=rng.integers(1, 4, n) + 0.0)
    frame["y"] = frame["x"] + alike * (rng.normal(size=judges)[j] + 1.5 * rng.normal(size=songs)[s]) + rng.normal(size=n)
    return frame.assign(yes=np.where(frame["y"] > 0, "yes", "no"), cell=frame["judge"] + frame["song"])


def fit_to(study, kind, terms=TERMS, cluster=BOTH, **options):
    if kind == "logistic":
        return quietly(mb.fit_logistic, study, "yes", terms, event="yes", cluster=cluster, **options)
    return quietly(mb.fit_linear, study, "y", terms, cluster=cluster, **options)


def told(fit):
    return fit.coefficients[~fit.coefficients["base"]]


def same_however_rows_come(fit, frame, kind, folder, words, **options):
    """Hold a fit against the same one to rows in another order, in parts, by the columns the other way round, and against the saved one."""
    frame.sample(frac=1, random_state=1).to_csv(folder / "r.csv", index=False)
    other, by = mb.open_study(folder / "r.csv", in_parts=True).mark("g", "b"), [column.name for column in fit.drawn_by.clusters]
    again = fit_to(other, kind, [v.name for v in fit.variables], cluster=by[::-1], **options)
    pd.testing.assert_frame_equal(again.coefficients, fit.rebase("g", "b").coefficients, rtol=1e-7, atol=1e-9)
    mb.write_fit(fit, folder / "fit.json")
    saved = mb.read_fit(folder / "fit.json")
    pd.testing.assert_frame_equal(saved.between("g"), fit.between("g"), rtol=1e-12)
    assert all(words in " ".join(str(page).split()) for page in (fit, saved))


@pytest.mark.parametrize("far", [0.0, 1e8])
@pytest.mark.parametrize("rows", [1, 2])
def test_errors_clustered_two_ways_agree_with_50_digits(rows, far):
    frame = ratings(rows=rows).assign(y=lambda t: t["y"] - far, x=lambda t: t["x"] + far)
    fit = fit_to(mb.Study(frame).mark("g", "a"), "linear")
    wanted = sandwich(frame, "y", TERMS, {"g": "a"}, "CR1", BOTH)
    for name, se in wanted["se"].items():
        row = fit.coefficients.set_index(["term", "level"]).loc[name]
        assert digits(row["se"], se) > (6 if far else 11), name
        assert digits(row["p"], two_sided_t(row["estimate"] / float(se), wanted["df"])) > (5 if far else 9)
    for term, F in wanted["joint"].items():
        assert digits(fit.terms.set_index("term")["statistic"][term], F) > (6 if far else 10)
    assert fit.df_rest == wanted["df"] == 11


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("weights", [{}, {"weights": "w"}, {"weights": "w", "weights_are": "frequency"}], ids=str)
@pytest.mark.parametrize("rows", [1, 2])
def test_they_are_those_of_both_kinds_less_those_of_cells_however_rows_come(rows, weights, kind, tmp_path, monkeypatch):
    monkeypatch.setattr("markbase.core.inference.crossed_clusters._HELD", 100)  # cells in batches
    monkeypatch.setattr("markbase.files.parts.text_blocks.PART_ROWS", 60)
    frame = ratings(rows=rows, seed=6)
    frame.loc[(frame["cell"] == "j01s03") | frame.index.isin([5, 50, 77]), "x"] = np.nan  # a cell without a row, and gaps
    frame.loc[[5, 50], "judge"], frame.loc[77, "song"] = None, None
    study = mb.Study(frame).mark("g", "a")
    fit, each = fit_to(study, kind, **weights), [fit_to(study, kind, cluster=by, **weights) for by in (*BOTH, "cell")]
    squares = [told(own)["se"].to_numpy() ** 2 for own in each]
    crossed = fit.errors.crossed
    if not crossed.below:
        np.testing.assert_allclose(told(fit)["se"] ** 2, squares[0] + squares[1] - squares[2], rtol=1e-9)
    else:  # less than no variance is taken as none, so that others grow
        assert (told(fit)["se"] ** 2 >= (squares[0] + squares[1] - squares[2]) * (1 - 1e-9)).all()
    words = "two ways, by judge (12 clusters) and by song (15 clusters): rows that share either may go together"
    same_however_rows_come(fit, frame, kind, tmp_path, words, **weights)
    monkeypatch.setattr("markbase.core.inference.crossed_clusters._MOST_CELLS", 99)
    with pytest.raises(mb.FitError, match="cross in more than 99 cells, which are not told apart of rows in parts"):
        fit_to(mb.open_study(tmp_path / "r.csv", in_parts=True), kind, **weights)
    if kind == "logistic" and not weights:
        areas = [own.classification() for own in (fit, *each)]
        logs = [np.log(a.area_high / (1 - a.area_high)) - np.log(a.area_low / (1 - a.area_low)) for a in areas]
        two, *one = ((w / t_of.ppf(0.975, own.df_rest)) ** 2 for w, own in zip(logs, (fit, *each), strict=True))
        assert two == pytest.approx(max(one[0] + one[1] - one[2], *one[:2]), rel=1e-6)
        wide = np.array([own.calibration()["high"] - own.calibration()["low"] for own in (fit, *each[:2])])
        assert (wide[0] >= wide[1:].max(axis=0) * (1 - 1e-9)).all()


def test_levels_taken_out_and_rows_left_out_are_told_two_ways_as_well():
    frame = ratings(20, 25)
    D, X = pd.get_dummies(frame["judge"]).to_numpy(float), np.column_stack([frame["x"], frame["g"] == "b", frame["g"] == "c"]).astype(float)
    within = lambda values: values - D @ np.linalg.lstsq(D, values, rcond=None)[0]  # noqa: E731 - a name for a line
    P, y = within(X), within(frame["y"].to_numpy())
    scores = P * (y - P @ np.linalg.lstsq(P, y, rcond=None)[0])[:, None]
    n, bread, middle = len(frame), np.linalg.inv(P.T @ P), 0.0
    for sign, by in ((1, "judge"), (1, "song"), (-1, "cell")):
        sums = pd.DataFrame(scores).groupby(frame[by].to_numpy()).sum().to_numpy()
        middle = middle + sign * len(sums) / (len(sums) - 1) * sums.T @ sums * (n - 1) / (n - 4)
    study = mb.Study(frame).mark("g", "a")
    fit = fit_to(study, "linear", ["x", "g"], fixed_effects="judge")
    np.testing.assert_allclose(told(fit)["se"][-3:] ** 2, np.diag(bread @ middle @ bread), rtol=1e-9)
    by_song = fit_to(study, "linear", ["x", "g"], cluster=["judge", "song"], fixed_effects="song")  # nested in the second
    pd.testing.assert_frame_equal(
        by_song.coefficients, fit_to(study, "linear", ["x", "g"], cluster=["song", "judge"], fixed_effects="song").coefficients
    )
    gaps = mb.Study(frame.assign(x=frame["x"].where(frame["song"] > "s06")))
    each = [fit_to(gaps, "linear", ["x"], cluster=by).left_out.se ** 2 for by in (BOTH, "judge", "song", "cell")]
    assert each[0] == pytest.approx(max(each[1] + each[2] - each[3], *each[1:3]), rel=1e-12)
    frame = frame.assign(x=frame["x"].where(frame["song"] > "s06"), judge=frame["judge"].where(frame.index % 9 > 0 | frame["x"].notna()))
    some = [fit_to(own, "linear", ["x"]).left_out for own in (frame, frame.dropna(subset=["judge"]))]
    assert some[0] == some[1]


def test_where_the_two_do_not_cross_it_is_said_and_the_larger_decides():
    frame = ratings(30, 12)
    study = mb.Study(frame)
    fit_to(study, "linear")  # whose cells are others
    for by in (["judge", "class"], ["class", "judge"]):
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always")
            fit = mb.fit_linear(study, "y", TERMS, cluster=by)
        assert "Each `judge` lies in one `class`, so that the two do not cross" in " ".join(str(w.message) for w in caught)
        one = fit_to(frame, "linear", cluster="class")
        pd.testing.assert_frame_equal(fit.coefficients, one.coefficients, rtol=1e-9)
        pd.testing.assert_frame_equal(fit.terms, one.terms, rtol=1e-7)
    frame["y"] += 3 * np.random.default_rng(1).normal(size=10)[frame["class"].str[1:].astype(int)]
    frame["day"] = [f"d{k}" for k in np.random.default_rng(2).integers(0, 9, len(frame))]  # of which nothing is asked
    found = " ".join(str(fit_to(frame, "linear", ["x"], cluster=["song", "judge"])).split())
    assert "do not allow for class, in one of which each judge lies" in found
    assert "cluster the errors by class in place of judge" in found
    assert "do not allow for" not in str(fit_to(frame, "linear", ["x"], cluster=["class", "song"]))


def test_what_two_ways_cannot_tell_is_said(monkeypatch):
    frame = ratings(8, 9, seed=30, alike=0.0)
    frame["late"] = np.where(frame["song"] > "s05", "yes", "no")
    study = quietly(mb.Study(frame).mark, "g", "a").mark("late", "no")
    terms = ["x", "g", "late"]
    fit = fit_to(study, "linear", terms)
    page, one = " ".join(str(fit).split()), {by: told(fit_to(study, "linear", terms, cluster=by)) for by in BOTH}
    larger = pd.concat([own["se"] for own in one.values()], axis=1).max(axis=1)
    smaller = [f"{r.term}: {r.level}".removesuffix(": ") for r in told(fit).itertuples() if r.se < 0.95 * larger[r.Index]]
    said = page.split("Clustered one way errors are larger for ")[1].split(": go by the larger there")[0]
    assert len(smaller) > 1
    assert [name for name in ("(intercept)", "x", "g: b", "g: c", "late: yes") if f"{name} (" in said] == smaller
    assert fit.errors.crossed.below
    assert "leave less than no variance, which is taken as none" in page
    assert np.isnan(fit.overall.statistic)
    assert np.isfinite(fit.terms["statistic"]).all()  # of one coefficient there is a test, whatever its error
    assert "less than half the error it has clustered one way" in fit.overall.untested
    assert "yes of late occurs in 3 of 9 clusters only: errors clustered by song tend to be too small" in page
    clusters = fit.without_clusters()
    assert set(clusters["cluster"]) == {f"{by}: {level}" for by in BOTH for level in frame[by]}
    alone = fit_to(study, "linear", terms, cluster="song").without_clusters()
    np.testing.assert_allclose(clusters["without"].tail(len(alone)), alone["without"], rtol=1e-9)
    assert all(f"intraclass correlation by {by}" in " ".join(str(fit.checks()).split()) for by in BOTH)
    assert "without each judge or song" in mb.draw_clusters(fit).get_xlabel()
    assert "clusters" in figures_of_checks(fit)
    monkeypatch.setattr("markbase.core.checks.clusters_left_out._FEW_ENOUGH", 8)  # of 9 songs: to leave out each takes long
    assert "clusters" not in figures_of_checks(fit)


@pytest.mark.parametrize(
    ("options", "what"),
    [
        ({"cluster": [*BOTH, "class"]}, "by two different ones that cross, not by `judge`, `song` and `class`"),
        ({"cluster": ["song", "song"]}, "not by `song` and `song`"),
        ({"cluster": BOTH, "errors": "CR3"}, r"leave out one at a time \(CR3\) are clustered by one group, not by `judge`"),
        ({"cluster": BOTH, "errors": "HC3"}, "either `HC3` or clustered by `judge` and `song`.*ask for CR1 or dyadic errors"),
        ({"cluster": BOTH, "strata": "class"}, "within strata of `class` are clustered by one group.*leave the strata out"),
        ({"cluster": BOTH, "strata": "song"}, "within strata of `song`"),
    ],
)
def test_what_is_not_clustered_two_ways_is_refused(options, what):
    with pytest.raises(mb.MarkbaseError, match=what):
        mb.fit_linear(ratings(), "y", ["x"], **options)
    with pytest.raises(mb.FitError, match="not of `judge` and `song`: cluster by one of them"):
        mb.bootstrap(fit_to(ratings(), "linear"), 100, seed=1)


def test_options_plans_and_pages_name_both(tmp_path):
    ratings().to_csv(tmp_path / "r.csv", index=False)
    wanted = fit_to(mb.open_study(tmp_path / "r.csv"), "linear", ["x", "z"])
    common = ["--outcome", "y", "--terms", "x,z", "--cluster", "judge", "--cluster", "song"]
    found = json.loads(run("fit", tmp_path / "r.csv", *common, "--json").stdout)
    assert found["errors"] == {"kind": "clustered", "cluster": "judge", "clusters": 12, "crossed": "song", "crossed_clusters": 15}
    assert found["terms"][1]["statistic"] == pytest.approx(wanted.terms["statistic"][1], rel=1e-12)
    plan = tmp_path / "p.toml"
    mb.write_plan(plan, mb.open_study(tmp_path / "r.csv"), {"Ratings": wanted}, data=tmp_path / "r.csv")
    assert 'cluster = ["judge", "song"]' in plan.read_text()
    again = json.loads(run("fit", plan, "Ratings", "--json").stdout)
    assert again["coefficients"] == found["coefficients"]
    held = run("validate", plan, "Ratings", "--hold-out", "0.3").stdout
    assert "whole levels of judge" in " ".join(held.split())


def lands_and_years(lands=9, years=20, rows=5):
    rng = np.random.default_rng(4)
    cells = pd.DataFrame([(f"land {k}", 2001 + y) for k in range(lands) for y in range(years)], columns=["land", "year"])
    cells["jobless"] = rng.normal(7, 2, len(cells)).round(1)
    cells["law"] = np.where((cells["land"] < "land 5") & (cells["year"] > 2004), "new", "old")
    frame = cells.loc[np.repeat(np.arange(len(cells)), rows)].sample(frac=1, random_state=1).reset_index(drop=True)
    frame = frame.assign(age=rng.integers(18, 90, len(frame)), rare=(np.arange(len(frame)) % 400 == 7).astype(float))
    return frame.assign(trust=rng.normal(size=len(frame)) - 0.1 * frame["jobless"], birth_year=frame["year"] - 30 - np.arange(len(frame)) % 7)


def said_of_cells(frame, terms, **options):
    study = frame if isinstance(frame, mb.Study) else mb.Study(frame)
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        mb.fit_linear(study, "trust", terms, **options)
    return [str(w.message) for w in told if "each combination of" in str(w.message)]


@pytest.mark.parametrize("columns", ["year", "text"])
@pytest.mark.parametrize("term", ["jobless", "law"])
def test_what_is_of_a_land_and_a_year_is_told_unless_errors_allow_for_it(term, columns, tmp_path):
    frame = lands_and_years()
    way = "`land`, in one of which each lies,"
    if columns == "text":
        frame["year"], way = "y" + frame["year"].astype(str), "`land`, or by `year`,"
    wanted = (
        f"`{term}` is the same in all rows of each combination of `land` and `year` (180 of them, 900 rows), and the errors take every row by itself: if rows of one go "
        f"together, those of `{term}` are too small; errors clustered by {way} allow for that."
    )
    of_time, odd, other = frame.assign(year=frame["year"].astype(str)), frame.copy(), {"new": "old", "old": "new"}
    odd.loc[5, term] = other.get(odd.loc[5, term], 99.0)  # in one row it is another
    frame.to_parquet(tmp_path / "rows.parquet")
    for options in ({}, {"errors": "HC3"}, {"fixed_effects": "land"}):
        assert said_of_cells(frame, ["age", term], **options) == [wanted]
    assert said_of_cells(mb.open_study(tmp_path / "rows.parquet", in_parts=True), ["age", term]) == ([wanted] if columns == "text" else [])
    assert not any(said_of_cells(of, ["age", term], **more) for of, more in ((odd, {}), (of_time, {"cluster": "year"}), (frame, {"time": "year"})))
    assert said_of_cells(frame, ["age", term, "land"]) == [wanted]  # a level of its own does not take out what goes on in a year of it


def test_what_differs_within_or_is_of_one_column_alone_or_rare_is_not_told():
    frame = lands_and_years().assign(first=lambda f: (~f.duplicated(["land", "year"])).astype(float))
    lone = frame[(frame["first"] == 1) == (frame["land"] == "land 3")]  # a row for each year of that land
    frame = frame.assign(of_land=frame["land"].str[-1].astype(float) ** 2, old=frame["year"] - frame["birth_year"])  # told of the land; made of two
    few, ones = lands_and_years(lands=3, years=3, rows=40), lands_and_years(rows=1)
    quiet = [(frame, "rare"), (frame, "old"), (frame, "of_land"), (lone, "first"), (ones, "jobless"), (few, "jobless")]
    made = quietly(mb.Study(frame).combine_groups, ["land", "law"], name="both")
    assert not any(said_of_cells(of, ["age", term]) for of, term in (*quiet, (made, "both")))
    many = lands_and_years(rows=15)
    many.loc[len(many) - 1, "jobless"] = 99.0  # in one row, far on, it is another
    assert not said_of_cells(many, ["jobless"])
