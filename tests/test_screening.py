"""Screening held against brute force at 50 digits, and against what must not depend on the base."""

import itertools
import json
import math
import re

import mpmath as mp
import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import BOOK, DATA, run
from reference import dense, digits, made_up, spread_by_rows, z_of, z_of_ranks

TERMS = ["voice", "day", "age", "km", "age2"]


def frame(rows=140):
    table = pd.DataFrame(made_up(rows))
    table["age2"] = (table["age"] - 40) ** 2
    return table


def brute_vif(table, terms, bases):
    """Return 1/(1 − R²) of the auxiliary regression of every coded column, at 50 digits."""
    columns, names = dense(table, terms, bases)
    X = mp.matrix([[mp.mpf(float(v)) for v in row] for row in zip(*columns, strict=True)])
    found = {}
    for j in range(1, X.cols):
        others = [k for k in range(X.cols) if k != j]
        Z = mp.matrix([[X[i, k] for k in others] for i in range(X.rows)])
        y = X[:, j]
        b = mp.inverse(Z.T * Z) * (Z.T * y)
        rss = mp.fsum(v**2 for v in y - Z * b)
        mean = mp.fsum(y) / X.rows
        found[names[j]] = mp.fsum((v - mean) ** 2 for v in y) / rss
    return found, X, names


@pytest.mark.parametrize("bases", [{"voice": "alto", "day": "Tue"}, {"voice": "bass", "day": "Wed"}])
@pytest.mark.parametrize("near", [None, 1e-5])
def test_inflation_agrees_with_auxiliary_regressions_at_50_digits(bases, near):
    table, terms = frame(), list(TERMS)
    if near:
        table["shadow"] = table["age"] + table["km"] + near * np.random.default_rng(1).normal(size=len(table))
        terms.append("shadow")
    study = mb.Study(table)
    for group, level in bases.items():
        study = study.mark(group, level)
    screen = mb.screen(study, terms)
    wanted, X, names = brute_vif(table, terms, bases)
    got = screen.vif.set_index(["term", "column"])
    assert set(got.index) == set(wanted)
    for key, vif in wanted.items():
        assert digits(got.loc[key, "vif"], vif) > 9.5, key
        assert digits(got.loc[key, "tolerance"], 1 / vif) > 9.5
        assert got.loc[key, "se_factor"] == pytest.approx(float(mp.sqrt(vif)), rel=1e-9)
    n = X.rows
    means = [mp.fsum(X[:, k]) / n for k in range(X.cols)]
    S = mp.matrix(X.cols - 1)
    for a, b in itertools.product(range(1, X.cols), repeat=2):
        S[a - 1, b - 1] = mp.fsum((X[i, a] - means[a]) * (X[i, b] - means[b]) for i in range(n))
    for record in screen.terms.itertuples():
        own = [k - 1 for k in range(1, X.cols) if names[k][0] == record.term]
        rest = [k for k in range(X.cols - 1) if k not in own]
        part = [mp.det(mp.matrix([[S[i, j] for j in at] for i in at])) for at in (own, rest)]
        gvif = part[0] * part[1] / mp.det(S)  # Fox & Monette 1992, eq. 10
        assert digits(record.gvif, gvif) > 9.5
        assert record.comparable == pytest.approx(float(gvif) ** (1 / (2 * len(own))), rel=1e-9)
        assert record.df == len(own)


def test_the_generalised_form_does_not_depend_on_the_base():
    study = mb.demo.plan
    terms = ["age", "voice", "choir", "rehearsal_day", "travel_km"]
    with pytest.warns(mb.MarkbaseWarning):
        study = study().open()
    tables = [mb.screen(study.mark("voice", base), terms).terms for base in ("soprano", "alto", "bass")]
    for table in tables[1:]:
        pd.testing.assert_frame_equal(table, tables[0])


def test_each_association_is_the_measure_that_suits_the_pair():
    table = frame()
    table["yes"] = np.where(table["age"] > 45, "yes", "no")
    table["also"] = np.where(table["km"] > 5, "b", "a")
    screen = mb.screen(mb.Study(table), ["age", "km", "yes", "also", "voice", "day"], "score")
    r = screen.correlations
    assert r.columns[0] == "score"
    codes = {"yes": table["yes"] == "yes", "also": table["also"] == "b"}
    plain = pd.DataFrame({n: codes.get(n, table[n]) for n in ("score", "age", "km", "yes", "also")}).astype(float).corr()
    np.testing.assert_allclose(r.loc[plain.index, plain.index], plain, atol=1e-14)
    means = table.groupby("voice")["age"].transform("mean")
    eta = math.sqrt(((means - table["age"].mean()) ** 2).sum() / ((table["age"] - table["age"].mean()) ** 2).sum())
    assert r.loc["age", "voice"] == pytest.approx(eta, rel=1e-12)
    cells = pd.crosstab(table["voice"], table["day"]).to_numpy()
    expected = cells.sum(1)[:, None] * cells.sum(0) / len(table)
    V = math.sqrt(((cells - expected) ** 2 / expected).sum() / len(table) / 2)
    assert r.loc["voice", "day"] == pytest.approx(V, rel=1e-12)
    kinds = screen.measures.loc["yes"]
    assert kinds[["age", "also", "voice"]].tolist() == ["point-biserial r", "phi", "Cramér's V"]
    ranks = mb.screen(mb.Study(table), ["age", "km"], "score", method="spearman").correlations
    np.testing.assert_allclose(ranks, table[["score", "age", "km"]].rank().corr(), atol=1e-14)


def test_pairwise_rows_are_counted_and_the_difference_is_pointed_out():
    table = frame()
    table.loc[table["age"] > 50, "km"] = np.nan
    with pytest.warns(mb.MarkbaseWarning, match="the rows that are lost are not like the others"):
        screen = mb.screen(mb.Study(table), ["age", "km"], "score", rows="pairwise")
    wanted = table[["score", "age", "km"]].corr()
    np.testing.assert_allclose(screen.correlations, wanted, atol=1e-13)
    assert screen.pair_rows.loc["score", "age"] == len(table)
    assert screen.pairs["rows"].tolist() == [int(table["km"].notna().sum())]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("rows", ["complete", "pairwise"])
@pytest.mark.parametrize("far", [0.0, 1e9])
def test_the_interval_of_a_correlation_is_as_wide_as_rows_move_it(rows, far, tmp_path):
    rng, n, names = np.random.default_rng(8), 180, ["a", "b", "late", "less", "twin"]
    table = pd.DataFrame(np.exp(rng.normal(size=(n, 3))), columns=["a", "b", "y"])
    table["y"] = (table["y"] + table["a"] - 0.7 * table["b"] + far).round(6)
    table["late"], table["less"] = np.where(table["y"] - far > 6, "yes", "no"), rng.random(n) - table["a"]
    table["twin"] = (3 * far - 2 * table["y"] + 1e-2 * rng.normal(size=n)).round(6)
    table.loc[5:30, "b"] = np.nan
    table.to_csv(tmp_path / "t.csv", index=False)

    def ends(**how):
        pairs = mb.screen(mb.Study(table), names, "y", rows=rows, **how).pairs
        each = [pairs[[k, f"{k}_low", f"{k}_high"]].to_numpy() for k in ("first", "second")]
        return pairs, {name: np.arctanh([low, high]) for name, low, high in np.vstack(each)}

    (pairs, told), stretched, n = ends(), {}, {}
    for name in names:
        here = table.dropna(subset=[name] if rows == "pairwise" else None)
        x = (here[name] == "yes").astype(float) if name == "late" else here[name] - (name == "twin") * far
        y, n[name] = here["y"] - far, len(here)
        stretched[name] = max(1, spread_by_rows(z_of, x, y) * np.sqrt(len(here)))
        half = 1.959963984540054 * stretched[name] / np.sqrt(len(here) - 3)
        np.testing.assert_allclose(told[name], z_of(x, y, np.ones(len(here))) + np.array([-half, half]), rtol=1e-4)
    assert min(stretched["a"], stretched["b"], stretched["twin"]) > 1.05
    assert pairs["flag"].tolist() == (np.abs(pairs["r"]) >= 0.7).tolist()
    assert any(pairs["flag"] & (pairs["r"] < 0))
    parts = mb.screen(mb.open_study(tmp_path / "t.csv", in_parts=True), names, "y", rows=rows)
    pd.testing.assert_frame_equal(parts.pairs, pairs, rtol=1e-6)
    for size in (0.1, 0.3, 0.7, 1.1, 2.3):  # nothing in common but the spread: r is 0 but for rounding
        w = np.tile(size * np.arange(-3, 4), 9)
        even = mb.screen(pd.DataFrame({"x": w, "y": np.abs(w), "z": np.exp(w)}), ["x", "z"], "y").pairs.iloc[0]
        half = 1.959963984540054 * spread_by_rows(z_of, w, np.abs(w)) * np.sqrt(len(w) / (len(w) - 3))
        assert float(even["first_high"]) == pytest.approx(np.tanh(half), rel=1e-4)
    for name, own in ends(method="spearman")[1].items():
        here = table.dropna(subset=[name] if rows == "pairwise" else None)
        x, y = here[name].rank(method="dense").to_numpy(), here["y"].rank(method="dense").to_numpy()
        half = 1.959963984540054 * max(1, spread_by_rows(z_of_ranks, x, y) * np.sqrt(len(here))) / np.sqrt(len(here) - 3)
        np.testing.assert_allclose(own, z_of_ranks(x, y, np.ones(len(here))) + np.array([-half, half]), rtol=1e-4)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("rows", ["complete", "pairwise"])
def test_by_frequencies_a_screening_is_that_of_the_rows_repeated(rows):
    table = frame().assign(times=np.random.default_rng(5).integers(0, 4, 140))
    table.loc[3:30, "km"] = np.nan
    long = table.loc[table.index.repeat(table["times"])].reset_index(drop=True)
    short, wanted = (
        mb.screen(mb.Study(t).mark("voice", "alto").mark("day", "Mon"), TERMS, "score", rows=rows, **by)
        for t, by in ((table, {"weights": "times", "weights_are": "frequency"}), (long, {}))
    )
    for name in ("correlations", "measures", "pair_rows", "pairs", "vif", "terms", "conditions"):
        pd.testing.assert_frame_equal(getattr(short, name), getattr(wanted, name), rtol=1e-9, atol=1e-13)
    assert [a.text for a in short.advice] == [a.text for a in wanted.advice]
    pd.testing.assert_frame_equal(short.prune(1.5).steps, wanted.prune(1.5).steps, rtol=1e-9)


def test_sampling_weights_weigh_correlations_and_inflation_and_leave_no_interval(tmp_path):
    table = frame()
    table["w"] = np.random.default_rng(6).uniform(0.2, 3, len(table))
    covariance = np.cov(table[["score", "age", "km", "age2"]].T, aweights=table["w"])
    wanted = covariance / np.sqrt(np.outer(np.diag(covariance), np.diag(covariance)))
    fit = mb.fit_linear(mb.Study(table), "score", ["age", "km", "age2"], weights="w")
    for screen in (mb.screen(mb.Study(table), ["age", "km", "age2"], "score", weights="w"), mb.screen_fit(fit)):
        np.testing.assert_allclose(screen.correlations, wanted, atol=1e-13)
        np.testing.assert_allclose(screen.vif["vif"], np.diag(np.linalg.inv(wanted[1:, 1:])), rtol=1e-10)
        assert screen.pairs.filter(regex="low|high").isna().all(axis=None)
        assert "need not be inflated by just as much" in " ".join(str(screen).split())
    wanted = mb.screen(mb.demo.choirs(), ["age", "voice"], "belonging", weights="weight").vif["vif"]
    plan = 'data = {{file = "{}", codebook = "{}"}}\n[screen]\noutcome = "belonging"\nterms = ["age", "voice"]\nweights = "weight"'
    (tmp_path / "p.toml").write_text(plan.format(DATA, BOOK), encoding="utf-8")
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    asked = ["screen", "p.toml", "--outcome=belonging", "--terms=age,voice", "--weights=weight", "--json"]
    told = run(*asked, cwd=tmp_path)
    for found in (json.loads(told.stdout), json.loads((tmp_path / "out" / "results.json").read_text())["screen"]):
        assert found["weights"] == {"kind": "sampling", "column": "weight"}
        np.testing.assert_array_equal([row["vif"] for row in found["vif"]], wanted)


def test_exact_overlaps_are_infinite_and_named_and_the_others_keep_their_values():
    study = mb.demo.choirs()
    screen = mb.screen(study, ["age", "rehearsals", "concerts", "events", "travel_km"], "belonging")
    values = screen.vif.set_index("term")["vif"]
    assert np.isinf(values[["rehearsals", "concerts", "events"]]).all()
    assert screen.collinear[0].statement.startswith("`events` equals `rehearsals` + `concerts`")
    rest = mb.screen(study, ["age", "rehearsals", "concerts", "travel_km"], "belonging").vif.set_index("term")["vif"]
    np.testing.assert_allclose(values[["age", "travel_km"]], rest[["age", "travel_km"]], rtol=1e-10)
    assert screen.advice[0].kind == "collinear"
    table = pd.DataFrame({"x": [1.0, 2, 4, 3, 5] * 4, "z": [2.0, 1, 3, 1, 2] * 4}).assign(twice=lambda f: 2 * f["x"])
    kinds = [a.kind for a in mb.screen(mb.Study(table), ["x", "twice", "z"]).advice]
    assert kinds == ["collinear", "none"]  # told once
    pruned = screen.prune()
    assert pruned.steps[["dropped", "value"]].to_numpy().tolist() == [["events", math.inf]]
    assert screen.prune(keep=["events"]).steps["dropped"].tolist() == ["concerts", "rehearsals"]
    assert "protected" not in str(screen.prune(keep=["age"]).cautions)


def test_several_overlaps_at_once_and_a_dependence_that_no_pair_shows():
    rng = np.random.default_rng(6)
    n = 300
    table = pd.DataFrame(rng.normal(size=(n, 6)), columns=list("abcdef"))
    table["s"] = table["a"] + table["b"]
    table["t"] = 2 * table["c"]
    table["g"] = rng.choice(["x", "y", "z"], n)
    table["h"] = table["g"].map({"x": "1st", "y": "2nd", "z": "3rd"})
    screen = mb.screen(mb.Study(table), [*"abcdef", "s", "t", "g", "h"])
    finite = screen.terms[np.isfinite(screen.terms["gvif"])]["term"].tolist()
    assert finite == ["d", "e", "f"]
    assert sorted(sorted(o.terms) for o in screen.collinear) == [["a", "b", "s"], ["c", "t"], ["g", "h"]]
    table["mix"] = table[list("abcde")].sum(axis=1) + 0.05 * rng.normal(size=n)
    hidden = mb.screen(mb.Study(table), [*"abcdef", "mix"])
    assert hidden.correlations.abs().where(~np.eye(7, dtype=bool)).max().max() < 0.7
    assert not hidden.pairs["flag"].any()
    assert (hidden.vif["vif"] > 100).sum() == 6
    assert any(a.kind == "hidden" and "no single pair is flagged" in a.text for a in hidden.advice)
    carried = hidden.auxiliary("mix").set_index("term")["carried"]
    assert carried["f"] < 1.05 < 50 < carried[list("abcde")].min()


def test_two_hundred_predictors_constants_and_empty_levels():
    rng = np.random.default_rng(4)
    table = pd.DataFrame(rng.normal(size=(600, 200))).rename(columns=str)
    assert mb.screen(mb.Study(table), list(table.columns)).vif["vif"].between(1, 3).all()
    small = frame()
    small["flat"] = 3.0
    small.loc[small["voice"] == "tenor", "km"] = np.nan
    with pytest.warns(mb.MarkbaseWarning, match="`flat` does not vary"):
        screen = mb.screen(mb.Study(small), ["flat", "voice", "km", "age"], "score")
    assert screen.terms.set_index("term").loc["voice", "df"] == 2
    with pytest.raises(mb.FitError, match="nothing to screen"), pytest.warns(mb.MarkbaseWarning):
        mb.screen(mb.Study(small), ["flat"])


def test_condition_indices_are_those_of_the_scaled_columns():
    table, bases = frame(), {"voice": "bass", "day": "Wed"}
    study = mb.Study(table).mark("voice", "bass").mark("day", "Wed")
    got = mb.screen(study, TERMS).conditions
    X = np.array(dense(table, TERMS, bases)[0], dtype=float).T
    U = X / np.linalg.norm(X, axis=0)
    _, d, Vt = np.linalg.svd(U)
    np.testing.assert_allclose(got["index"], d[0] / d, rtol=1e-9)
    phi = (Vt.T / d) ** 2
    np.testing.assert_allclose(got.iloc[:, 1:].to_numpy(), (phi / phi.sum(1, keepdims=True)).T, atol=1e-9)
    np.testing.assert_allclose(got.iloc[:, 1:].sum(), 1)


def test_pruning_drops_whole_groups_keeps_the_protected_and_breaks_ties_by_order():
    rng = np.random.default_rng(2)
    n = 400
    table = pd.DataFrame({"a": rng.normal(size=n), "g": rng.choice(list("xyz"), n)})
    table["twin"] = table["a"] + 0.1 * rng.normal(size=n)
    table["near_g"] = np.where(rng.random(n) < 0.97, table["g"].str.upper(), "X")
    table["y"] = table["a"] + rng.normal(size=n)
    screen = mb.screen(mb.Study(table), ["a", "twin", "g", "near_g"], "y")
    pruned = screen.prune(3)
    assert len(pruned.kept) == 2
    assert {"a", "twin"} & set(pruned.kept)
    assert {"g", "near_g"} & set(pruned.kept)
    assert len(pruned.values) == 3
    assert pruned.values.iloc[0].notna().all()
    assert "goes although it is related to `y`" in " ".join(pruned.cautions)
    with pytest.warns(mb.MarkbaseWarning, match="read together, as a curve"):
        curved = mb.screen(mb.Study(table).derive("square", square="a"), ["a", "square", "twin"])
    assert curved.prune(3, keep=["twin"]).steps["dropped"].tolist() == ["a", "square"]  # a curve goes as a whole
    table["part"] = table["a"] + rng.normal(size=n)
    for other, words in (("twin", "too much alike in strength"), ("part", "one is the stronger")):  # by half of one
        advice = mb.screen(mb.Study(table), ["a", other], "y", limits=mb.Limits(r=0.6)).advice
        assert words in advice[0].text
    protected = screen.prune(3, keep=["twin", "a"])
    assert {"twin", "a"} <= set(protected.kept)
    assert "stay above 3 because they are protected" in " ".join(protected.cautions)
    with pytest.raises(mb.MarkbaseError, match=r"no term `twn` to keep\. Did you mean `twin`"):
        screen.prune(keep=["twn"])


def test_sensitivity_is_what_refitting_gives_and_says_what_turns():
    with pytest.warns(mb.MarkbaseWarning):
        study = mb.demo.plan().open()
    terms = ["age", "travel_km", "travel_min", "voice"]
    fit = mb.fit_linear(study, "belonging", terms)
    moved = mb.specifications(fit, "travel_km")
    complete = study.keep({name: {"present": True} for name in (*terms, "belonging")})
    for name in terms:
        if name == "travel_km":
            continue
        again = mb.fit_linear(complete, "belonging", [t for t in terms if t != name]).coefficients.set_index("term").loc["travel_km"]
        row = moved.table.set_index("without").loc[name]
        assert row["estimate"] == pytest.approx(again["estimate"], rel=1e-10)
        assert row["p"] == pytest.approx(again["p"], rel=1e-8)
    told = [text for text in moved.changed if "`travel_min`" in text]
    assert [text[:43] for text in told] == ["Without `travel_min`, the standard error is"]
    of_voice = mb.specifications(fit, "voice")
    assert of_voice.table["level"].nunique() == 3
    assert "each level against alto; the same rows throughout" in str(of_voice)
    alone = mb.screen_fit(fit)
    pd.testing.assert_frame_equal(alone.terms, mb.screen(study, terms, "belonging").terms, rtol=1e-10)


BAD = [
    (lambda s: mb.screen(s, ["age"], method="kendal"), "no way to correlate; there are `pearson` and `spearman`"),
    (lambda s: mb.screen(s, ["age"], rows="all"), "no choice of rows"),
    (lambda s: mb.screen(s, ["age"], method="spearman", weights="weight"), "Ranks are not weighted"),
    (lambda s: mb.screen(s, ["age", "agee"]), "Did you mean `age`"),
    (lambda _: mb.Limits(r=2), "must lie between 0 and 1"),
    (lambda _: mb.Limits(vif=0.5), "must be above 1"),
    (lambda _: mb.Limits(index=1), "A condition index is above 1"),
    (lambda _: mb.Limits(share=1), "a variance share between 0 and 1"),
    (lambda s: mb.screen(s, ["age", "voice"]).auxiliary("km"), "no term `km`"),
]


@pytest.mark.parametrize(("call", "told"), BAD, ids=[told for _, told in BAD])
def test_mistakes_are_one_clear_sentence(call, told):
    with pytest.raises(mb.MarkbaseError, match=told):
        call(mb.demo.choirs())


def test_the_command_screens_prunes_and_draws(tmp_path):
    terms = "age,travel_km,travel_min,voice,singer_id"
    options = ["--codebook", BOOK, "--outcome", "belonging", "--terms", terms]
    done = run("screen", DATA, *options, "--prune", "--keep", "travel_min", "--focus", "age", "--figures", str(tmp_path / "f"))
    assert done.returncode == 0, done.stderr
    assert "`singer_id` is an identifier" in done.stderr
    for told in ("▲.98", "limit √5", "Dropping until", "protected  travel_min", "how the estimate moves"):
        assert told in done.stdout
    drawn = {p.name: p.read_bytes() for p in (tmp_path / "f").iterdir()}
    assert set(drawn) == {f"{n}.{k}" for n in ("correlations", "pairs", "vif") for k in ("png", "svg")}
    assert b"<script" not in drawn["pairs.svg"]
    again = run("screen", DATA, *options, "--figures", str(tmp_path / "f"))
    assert (again.returncode, "was not written over" in again.stderr) == (2, True)
    run("screen", DATA, *options, "--figures", str(tmp_path / "g"))
    assert {p.name: p.read_bytes() for p in (tmp_path / "g").iterdir()} == drawn
    told = json.loads(run("screen", DATA, *options, "--json", "--focus", "age", "--cluster", "choir").stdout)
    with pytest.warns(mb.MarkbaseWarning, match="only 24 clusters"):
        fit = mb.fit_linear(mb.demo.choirs(), "belonging", terms.split(",")[:-1], cluster="choir")
    assert told["specifications"]["table"][0]["se"] == fit.coefficients.query("term == 'age'")["se"].iloc[0]
    assert told["specifications"]["errors"] == fit.errors.words
    told = json.loads(run("screen", DATA, *options, "--json", "--prune").stdout)
    assert told["pruned"]["steps"][0]["dropped"] in ("travel_km", "travel_min")
    assert told["names"][0] == "belonging"
    assert told["terms"][0]["gvif"] == mb.screen(mb.demo.choirs(), terms.split(",")[:-1], "belonging").terms["gvif"][0]
    weighted = ["--weights", "weight"]
    for more in (["--focus=age"], ["--outcome=belonging", "--cluster=choir"], [*weighted, "--ranks"], ["--weights-are=sampling"]):
        assert run("screen", DATA, "--codebook", BOOK, "--terms", "age,voice", *more).returncode == 2


def test_figures_take_axes_and_set_nothing_global():
    import matplotlib as mpl
    from matplotlib.figure import Figure

    before = dict(mpl.rcParams)
    screen = mb.screen(mb.demo.choirs(), ["age", "rehearsals", "concerts", "events"], "belonging")
    ax = Figure().subplots()
    assert mb.draw_correlations(screen, ax) is ax
    assert "infinite" in " ".join(t.get_text() for t in mb.draw_vif(screen).texts)
    assert len(mb.draw_pairs(mb.demo.choirs(), screen).axes) == 25
    shown = mb.draw_vif(screen)
    shown._repr_png_()
    top = shown.get_position().y1
    shown.set_title("a title\nof three\nlines")
    shown._repr_png_()
    assert shown.get_position().y1 < top - 0.02  # what a later cell adds is given room
    assert dict(mpl.rcParams) == before
    with pytest.raises(mb.MarkbaseError, match="two numeric columns or more"):
        mb.draw_pairs(mb.demo.choirs(), mb.screen(mb.demo.choirs(), ["voice", "age"]))


def test_of_tied_terms_the_one_given_last_goes_first():
    study = mb.demo.choirs().derive("again", sum=["rehearsals", "concerts"])
    terms = ["age", "events", "again"]
    for order in (terms, terms[::-1]):
        wanted = order[-1] if order[-1] != "age" else order[1]
        assert mb.screen(study, order).prune().steps["dropped"].tolist() == [wanted]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("sign", [1, -1])
def test_a_movement_is_told_with_its_sign_and_the_ends_in_their_order(sign):
    rng = np.random.default_rng(4)
    x = rng.normal(size=500)
    table = pd.DataFrame({"x": x, "z": x + rng.normal(size=500)})
    table["y"] = 10 + x + sign * 3 * table["z"] + rng.normal(size=500)
    fit = mb.fit_linear(mb.Study(table), "y", ["x", "z"])
    (told,) = mb.specifications(fit, "x").changed
    moves = r"is ([−\d.]+) instead of ([−\d.]+): it moves by ([−\d.]+) \(95% CI ([−\d.]+) to ([−\d.]+)\)"
    said = re.search(moves, told)
    alone, with_it, change, low, high = (float(v.replace("−", "-")) for v in said.groups())
    assert alone == pytest.approx(np.polyfit(table["x"], table["y"], 1)[0], abs=0.006)
    assert (with_it, change) == pytest.approx((fit.coefficients["estimate"].iloc[1], alone - with_it), abs=0.011)
    assert low < change < high
    assert sign * low > 0 < sign * high


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_advice_knows_what_a_column_was_made_of_and_where_the_intercept_has_a_part():
    rng, n = np.random.default_rng(2), 400
    table = pd.DataFrame({"age": rng.normal(45, 6, n), "a": rng.normal(5, 1, n), "b": 0.2 * rng.normal(size=n)})
    table["year"] = 2000 + rng.integers(0, 8, n).astype(float)
    table["voice"] = rng.choice(["alto", "bass", "tenor"], n)
    table["hall"] = np.where(rng.random(n) < 0.05, "old", table["voice"])
    study = mb.Study(table).derive("sum", sum=["a", "b"]).derive("age_2", square="age")
    told = {a.terms: a for a in mb.screen(study, ["a", "sum", "age", "age_2", "year", "voice", "hall"]).advice}
    assert told["a", "sum"].kind == "total"
    assert "`sum` is made of the other" in told["a", "sum"].text
    assert told["age", "age_2"].kind == "power"
    r = np.corrcoef(table["age"], table["age"] ** 2)[0, 1]
    assert 0.995 < r < 1  # and is not told as 1.00
    assert f"Pearson's r {r:.3f}".replace("0.", ".") in told["age", "age_2"].text
    assert "who is in which group largely decides the other" in told["voice", "hall"].text
    shares = r"condition index [\d,]+, `\(intercept\)` and `year` share.*centring removes it"
    assert re.search(shares, told["year",].text)
    table["few"] = np.exp(rng.normal(3, 0.3, n))
    more = mb.Study(table).derive("log_few", log="few").derive("share", ratio=["a", "age"])
    more = more.derive("ab", product=["a", "b"]).cut("age", [40, 50], name="ages").derive("few_c", centre="few").derive("few_c2", square="few_c")  # fmt: skip
    more = more.derive("near", centre="few", within="voice")
    for names, kind, words in (
        (["few", "log_few"], "scale", "`log_few` is the logarithm of `few`: the same on another scale"),
        (["a", "share"], "total", "Enter the parts or the whole"),
        (["b", "ab"], "power", "without `a` among the terms it is no interaction. Add it"),
        (["b", "ab", "a"], "power", "product of `a` and `b`, and together they are an interaction. Centre them before"),
        (["age", "ages"], "scale", "`ages` was cut from `age`: its groups say in steps"),
        (["few_c", "few_c2"], "power", "centred already: what is left comes from its skew"),
        (["few", "near"], "scale", "`near` was made of `few`: in part they say the same"),
    ):
        first = mb.screen(more, names, limits=mb.Limits(r=0.3)).advice[0]
        assert (first.kind, words in first.text) == (kind, True), first
    centred = mb.screen(study.derive("year_c", centre="year"), ["age", "year_c"]).advice
    assert not [a for a in centred if "(intercept)" in a.text]


def _vif(table, *names):
    """Return the variance inflation factors of terms, or of levels of `part`."""
    told = {r.column or r.term: r.vif for r in table.itertuples()}
    return [told[name] for name in names]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_only_the_comparisons_that_an_exact_collinearity_reaches_are_infinite():
    rng = np.random.default_rng(7)
    table = pd.DataFrame({"part": [*"aabbbcccccc"] * 30, "x": rng.normal(size=330)})
    table["front"] = table["part"].isin(["a", "b"]).astype(float)
    study = mb.Study(table).as_numeric("front")
    alone = mb.screen(study.mark("part", "b"), ["x", "part"]).vif
    found = mb.screen(study.mark("part", "b"), ["x", "part", "front"]).vif
    assert _vif(found, "c", "front") == [math.inf, math.inf]
    assert _vif(found, "a")[0] < 5 > _vif(alone, "a")[0]  # a against b does not depend on what the two share
    every = mb.screen(study.mark("part", "c"), ["x", "part", "front"]).vif
    assert _vif(every, "a", "b", "front") == [math.inf] * 3
    assert np.isfinite(_vif(every, "x")[0])


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_an_estimate_without_a_standard_error_is_followed_without_a_verdict():
    study = mb.demo.plan().open().sample(400, seed=75)
    fit = mb.fit_linear(study, "belonging", [mb.interaction("age", "choir"), "travel_min"], cluster="choir")
    told = " ".join(str(mb.specifications(fit, focus="age")).split())
    assert "without travel_min" in told
    assert "no standard error" in told
    assert "What moves cannot be told from chance" in told
    assert "or by no more than chance allows" not in told
