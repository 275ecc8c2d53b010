"""Imputations and plausible values combined: by rules written out, at 50 digits, and by what must be the same whatever the base, order or source."""

import json
import re
import warnings

import mpmath as mp
import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase.core.comparison.imputation_sentences import imputation_answers
from markbase.core.inference.imputation_rules import combined_test
from markbase.show.imputations import imputations_page
from markbase.show.text import to_text

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
FILES = [mb.demo.path("choir_imputed.csv"), "--codebook", mb.demo.path("choir_imputed.codebook.toml")]
rng = np.random.default_rng(12)
N, M = 160, 5
WHOLE = pd.DataFrame({
    "who": rng.permutation(N) + 100, "x": rng.normal(3, 2, N), "g": rng.choice(["a", "b", "c"], N, p=[0.5, 0.3, 0.2]), "t": rng.choice([f"t{j}" for j in range(20)], N),
    "w": rng.uniform(0.5, 3, N),
})  # fmt: skip
WHOLE["y"] = 0.5 * WHOLE["x"] + (WHOLE["g"] == "b") + rng.normal(size=N)
WHOLE["yes"] = np.where(WHOLE["y"] + rng.normal(size=N) > 1.5, "yes", "no")
GAPS, UNKNOWN = rng.random(N) < 0.3, rng.random(N) < 0.1


def filled(number):
    """An imputation: gaps of x and g are filled by draws."""
    draws = np.random.default_rng(number)
    x = np.where(GAPS, 2 + 0.7 * WHOLE["y"] + draws.normal(0, 1.5, N), WHOLE["x"])
    return WHOLE.assign(x=x, g=np.where(UNKNOWN, draws.choice(["a", "b", "c"], N), WHOLE["g"]), imputation=number)


EACH = [filled(number) for number in range(1, M + 1)]
FRAME = pd.concat(EACH, ignore_index=True)
FIRST = WHOLE.assign(x=WHOLE["x"].where(~GAPS), g=WHOLE["g"].where(~UNKNOWN), imputation=0)
TERMS = ["x", "g", mb.interaction("x", "g")]


def by_rules(estimates, errors, df):
    """Rubin's rules with the degrees of freedom of Barnard and Rubin, at 50 digits: estimate, se, df, p, missing information, simulation error."""
    with mp.workdps(50):
        Q, U, m = [mp.mpf(q) for q in estimates], [mp.mpf(u) ** 2 for u in errors], len(estimates)
        mean, within = mp.fsum(Q) / m, mp.fsum(U) / m
        between = mp.fsum((q - mean) ** 2 for q in Q) / (m - 1)
        total = within + (1 + mp.mpf(1) / m) * between
        r = (1 + mp.mpf(1) / m) * between / within
        nu = (m - 1) * (1 + 1 / r) ** 2
        if np.isfinite(df):
            seen = mp.mpf(df + 1) / (df + 3) * df * within / total
            nu = 1 / (1 / nu + 1 / seen)
        t = mean / mp.sqrt(total)
        p = mp.betainc(nu / 2, mp.mpf(1) / 2, 0, nu / (nu + t**2), regularized=True)
        return [float(v) for v in (mean, mp.sqrt(total), nu, p, (r + 2 / (nu + 3)) / (1 + r), mp.sqrt(between / m))]


@pytest.mark.parametrize("settings", [
    {}, {"errors": "HC3"}, {"cluster": "t"}, {"cluster": "t", "errors": "CR3"}, {"weights": "w"}, {"fixed_effects": "t"}, {"level": 0.9},
    {"kind": "logistic", "event": "yes"}, {"kind": "logistic", "event": "yes", "cluster": "t"}, {"kind": "logistic", "event": "yes", "penalty": "firth"},
])  # fmt: skip
def test_everything_told_is_combined_by_the_rules_from_the_fits_of_each_imputation(settings, tmp_path, small_parts):  # noqa: ARG001
    FRAME.to_parquet(tmp_path / "f.parquet")
    outcome, one = ("yes", mb.fit_logistic) if "kind" in settings else ("y", mb.fit_linear)
    more = {key: value for key, value in settings.items() if key != "kind"}
    alone = [one(mb.Study(own).mark("g", "a"), outcome, TERMS, **more) for own in EACH]
    df, level = min(fit.df_rest for fit in alone), settings.get("level", 0.95)
    figures = ["estimate", "se", "df", "p", "missing_information", "simulation_error"]
    for study in (mb.Study(FRAME), mb.open_study(tmp_path / "f.parquet", in_parts=True)):
        found = mb.fit_imputations(study, outcome, TERMS, "imputation", **settings)
        assert list(found.fits) == ["1", "2", "3", "4", "5"]
        assert not found.imputed.original
        for k, row in found.coefficients.iterrows():
            tables = [fit.coefficients.iloc[k] for fit in alone]
            assert all((t["term"], t["level"], t["base"]) == (row["term"], row["level"], row["base"]) for t in tables)
            assert row["n"] == pytest.approx(np.mean([t["n"] for t in tables]))
            if not row["base"]:
                wanted = by_rules([t["estimate"] for t in tables], [t["se"] for t in tables], df)
                assert row[figures].tolist() == pytest.approx(wanted, rel=1e-6)  # parts and other centres
                assert row["high"] - row["estimate"] == pytest.approx(row["se"] * -float(mp_quantile(row["df"], (1 - level) / 2)), rel=1e-8)
        for name, key in (("groups", "difference"), ("between", "difference")):
            table, tables = getattr(found, name)("g"), [getattr(fit, name)("g") for fit in alone]
            for k, row in table.iterrows():
                if not row.get("base", False):
                    wanted = by_rules([t[key].iloc[k] for t in tables], [t["se"].iloc[k] for t in tables], df)
                    assert row[[key, "se", "df", "p"]].tolist() == pytest.approx(wanted[:4], rel=1e-6)
        assert found.between("g")["p_corrected"].tolist() == pytest.approx(alone[0].corrected_p(found.between("g")["p"].tolist()))
        adjusted = found.groups("g")
        assert adjusted["adjusted"].tolist() == pytest.approx(np.mean([fit.groups("g")["adjusted"] for fit in alone], axis=0).tolist(), rel=1e-7)
        assert (adjusted["adjusted_low"] < adjusted["adjusted"]).all()
        assert (adjusted["adjusted"] < adjusted["adjusted_high"]).all()
        slopes, own = found.simple_slopes("x", by="g"), [fit.simple_slopes("x", by="g") for fit in alone]
        for k, row in slopes.iterrows():
            wanted = by_rules([t["slope"].iloc[k] for t in own], [t["se"].iloc[k] for t in own], df)
            assert row[["slope", "se", "df", "p"]].tolist() == pytest.approx(wanted[:4], rel=1e-6)
        for measure in found.strength["measure"]:
            each = [getattr(fit.strength, measure) for fit in alone]
            told = found.strength.set_index("measure").loc[measure]
            assert (told["lowest"], told["highest"]) == pytest.approx((min(each), max(each)), rel=1e-7)
            assert told["lowest"] <= told["combined"] <= told["highest"]
        if "kind" in settings:
            effect = found.marginal.set_index(["term", "level"]).loc[("x", "")]
            tables = [fit.marginal.iloc[0] for fit in alone]
            assert effect[["effect", "se", "df", "p"]].tolist() == pytest.approx(
                by_rules([t["effect"] for t in tables], [t["se"] for t in tables], df)[:4], rel=1e-6
            )


def mp_quantile(df, tail):
    """The quantile of t below which a tail lies, by a root at 30 digits."""
    with mp.workdps(30):

        def below(t):
            return mp.betainc(mp.mpf(df) / 2, mp.mpf(1) / 2, 0, df / (df + t**2), regularized=True) / 2 - tail

        return -mp.findroot(below, 2.0)


def test_joint_tests_are_those_of_dense_columns_and_the_same_from_every_base():
    found = mb.fit_imputations(mb.Study(FRAME).mark("g", "a"), "y", ["x", "g"], "imputation")
    Q, U = [], []
    for own in EACH:
        X = np.column_stack([np.ones(N), own["x"], own["g"] == "b", own["g"] == "c"]).astype(float)
        b, rest = np.linalg.lstsq(X, own["y"], rcond=None)[:2]
        Q.append(b)
        U.append(np.linalg.inv(X.T @ X) * rest / (N - 4))
    for places, test in (([1, 2, 3], found.overall), ([2, 3], found.terms.iloc[1]), ([1], found.terms.iloc[0])):
        q, W = np.array(Q)[:, places], np.mean(U, axis=0)[np.ix_(places, places)]
        r = 1.2 * np.trace(np.cov(q.T).reshape(W.shape) @ np.linalg.inv(W)) / len(places)
        F = q.mean(0) @ np.linalg.inv(W * (1 + r)) @ q.mean(0) / len(places)
        assert (test.df, test.statistic) == (len(places), pytest.approx(F, rel=1e-9))
        assert test.p == pytest.approx(tail_of_f(F, len(places), test.df_rest), rel=1e-8)
    assert found.joint_test(["x", "g"]) == found.overall
    assert found.group_test("g").statistic == pytest.approx(found.terms["statistic"][1], rel=1e-9)
    assert found.joint_test(["g"]).statistic == found.terms["statistic"][1]
    with pytest.raises(mb.ColumnError, match="no term `h`"):
        found.joint_test(["h"])
    x = found.coefficients.iloc[1]
    assert found.terms.iloc[0][["df_rest", "statistic", "p"]].tolist() == pytest.approx([x["df"], x["t"] ** 2, x["p"]], rel=1e-10)
    for scheme in ("b", "effect"):
        study = mb.Study(FRAME).mark("g", "b") if scheme == "b" else mb.Study(FRAME).as_categorical("g").code_as("g", "effect")
        other = mb.fit_imputations(study, "y", ["x", "g"], "imputation")
        by_level = [{p.factor: p.estimate for p in own.equation().parts} for own in (other, found)]
        gap = by_level[0].get("[g: b]", 0.0) - by_level[0]["[g: c]"]  # whatever the coding
        assert gap == pytest.approx(by_level[1]["[g: b]"] - by_level[1]["[g: c]"], rel=1e-9)
        assert by_level[0]["x"] == pytest.approx(found.coefficients["estimate"][1], rel=1e-9)
        pd.testing.assert_frame_equal(other.terms, found.terms, rtol=1e-8)
        assert other.overall.statistic == pytest.approx(found.overall.statistic, rel=1e-8)
    crossed = [mb.fit_imputations(mb.Study(FRAME).mark("g", base), "y", TERMS, "imputation") for base in "ab"]
    assert [c.terms.iloc[2]["statistic"] for c in crossed] == [pytest.approx(crossed[0].terms.iloc[2]["statistic"], rel=1e-7)] * 2
    averaged, Q, U = [c.group_test("g") for c in crossed], [], []
    for own in EACH:  # the levels as they differ at the mean of x
        x = own["x"] - own["x"].mean()
        X = np.column_stack([np.ones(N), own["g"] == "b", own["g"] == "c", x, x * (own["g"] == "b"), x * (own["g"] == "c")]).astype(float)
        b, (rest,) = np.linalg.lstsq(X, own["y"], rcond=None)[:2]
        Q.append(b[1:3])
        U.append((np.linalg.inv(X.T @ X) * rest / (N - 6))[1:3, 1:3])
    assert [a.statistic for a in averaged] == [pytest.approx(combined_test(np.array(Q), np.array(U), N - 6).statistic, rel=1e-8)] * 2
    cubic = mb.fit_imputations(FRAME.assign(x=FRAME["x"] + 40), "y", [mb.polynomial("x", 3)], "imputation")  # powers that all but coincide
    centred = mb.fit_imputations(FRAME, "y", [mb.polynomial("x", 3)], "imputation")
    assert cubic.terms["df"][0] == 3
    assert cubic.overall.statistic == pytest.approx(centred.overall.statistic, rel=1e-6)
    clustered = mb.fit_imputations(FRAME, "y", ["x", "g"], "imputation", cluster="t")  # Hotelling's: (d − k + 1)/d of it, d = 19
    plain = combined_test(*(np.array(own) for own in clustered_by_hand()), np.inf)
    assert clustered.terms.iloc[1]["statistic"] == pytest.approx(plain.statistic * 18 / 19, rel=1e-7)


def clustered_by_hand():
    """The estimates of the levels of g, and their CR1 covariances, in each imputation."""
    for_b, for_V = [], []
    for own in EACH:
        X = np.column_stack([np.ones(N), own["x"], own["g"] == "b", own["g"] == "c"]).astype(float)
        b = np.linalg.lstsq(X, own["y"], rcond=None)[0]
        scores = pd.DataFrame(X * (own["y"] - X @ b).to_numpy()[:, None]).groupby(own["t"].to_numpy()).sum().to_numpy()
        inverse = np.linalg.inv(X.T @ X)
        for_b.append(b[2:])
        for_V.append((inverse @ scores.T @ scores @ inverse * 20 / 19 * (N - 1) / (N - 4))[2:, 2:])
    return for_b, for_V


def tail_of_f(F, df, rest):
    """The upper tail of F by integrating its density."""
    with mp.workdps(30):
        a, b = mp.mpf(df) / 2, mp.mpf(rest) / 2
        return float(mp.betainc(a, b, df * mp.mpf(F) / (df * mp.mpf(F) + rest), 1, regularized=True))


def test_degrees_of_freedom_of_joint_tests_have_their_limits_and_hold_their_level():
    def df_of(k, m, r, df):
        draws = np.random.default_rng(3).normal(size=(m, k))
        at = (draws - draws.mean(0)) * np.sqrt(r * k / (1 + 1 / m) / draws.var(axis=0, ddof=1).sum())
        return combined_test(at + 1, np.array([np.eye(k)] * m), df).df_rest

    for k, m, r in ((3, 5, 0.4), (2, 20, 0.05), (8, 3, 2.0)):
        t = k * (m - 1)
        li = 4 + (t - 4) * (1 + (1 - 2 / t) / r) ** 2  # Li, Raghunathan & Rubin (1991)
        assert df_of(k, m, r, np.inf) == pytest.approx(li, rel=1e-9)
        assert df_of(k, m, r, 1e9) == pytest.approx(li, rel=1e-4)
        assert df_of(k, m, 1e-9, 50.0) == pytest.approx(51 / 53 * 50, rel=1e-6)
        assert 0 < df_of(k, m, r, 30.0) < min(li, 30.0)
        assert [df_of(k, m, r, df) for df in (10, 20, 40, 80)] == sorted(df_of(k, m, r, df) for df in (10, 20, 40, 80))
    for k, m, r, df in ((3, 5, 0.4, 30.0), (5, 10, 1.5, 60.0), (2, 20, 0.1, 25.0)):  # Reiter (2007), with α = rt/(t − 2)
        t = k * (m - 1)
        a, seen = r * t / (t - 2), (df + 1) / (df + 3) * df
        one, two, four = 1 + a, seen - 2 * (1 + a), seen - 4 * (1 + a)
        parts = (
            a**2 * two / one**2 / four,
            8 * a**2 * two / one / four**2,
            4 * a**2 / one / four,
            4 * a**2 / four / two,
            16 * a**2 * two / four**3,
            8 * a**2 / four**2,
        )
        assert df_of(k, m, r, df) == pytest.approx(4 + 1 / (1 / four + sum(parts) / (t - 4)), rel=1e-9)
    share = 0.3 / 1.3  # of a single coefficient, whatever the number of imputations, those of t
    assert df_of(1, 20, 0.3, 40.0) == pytest.approx(1 / (share**2 / 19 + 1 / (41 / 43 * 40 * (1 - share))), rel=1e-9)
    assert df_of(2, 3, 0.4, np.inf) == pytest.approx(3 / 2 * 2 * (1 + 1 / 0.4) ** 2, rel=1e-9)  # with k(m − 1) of 4 or fewer
    for df in (8.0, 4.0):  # where the approximation ends: those of a single coefficient
        assert df_of(6, 5, 1.0, df) == pytest.approx(1 / (0.5**2 / 4 + 1 / ((df + 1) / (df + 3) * df * 0.5)), rel=1e-9)
    draws, below = np.random.default_rng(7), 0
    for _ in range(1500):  # of 30 rows with a third of the outcome imputed from all of what is known
        below += one_null_p(draws) < 0.05
    assert 0.03 < below / 1500 < 0.065


def one_null_p(draws, n=30, k=3, m=5):
    """The p of a joint test where there is nothing, after proper imputation."""
    X, y, gap = np.column_stack([np.ones(n), draws.normal(size=(n, k))]), draws.normal(size=n), draws.random(n) < 0.3
    seen = X[~gap]
    b, (rest,) = np.linalg.lstsq(seen, y[~gap], rcond=None)[:2]
    root, over = np.linalg.cholesky(np.linalg.inv(seen.T @ seen)), len(seen) - k - 1
    inverse, Q, U = np.linalg.inv(X.T @ X), [], []
    for _ in range(m):
        sd = np.sqrt(rest / draws.chisquare(over))
        own = np.where(gap, X @ (b + sd * root @ draws.normal(size=k + 1)) + sd * draws.normal(size=n), y)
        q = inverse @ X.T @ own
        Q.append(q[1:])
        U.append(inverse[1:, 1:] * np.sum((own - X @ q) ** 2) / (n - k - 1))
    test = combined_test(np.array(Q), np.array(U), n - k - 1)
    return tail_of_f(test.statistic, k, test.df_rest)


def test_the_data_before_imputation_are_left_out_and_what_was_imputed_is_counted():
    found = mb.fit_imputations(FRAME, "y", TERMS, "imputation")
    assert dict(found.imputed.columns) == {"y": 0, "x": GAPS.sum(), "g": sum(len({own["g"][k] for own in EACH}) > 1 for k in range(N))}
    mixed = pd.concat([own.sample(frac=1, random_state=k) for k, own in enumerate(EACH)], ignore_index=True)
    assert dict(mb.fit_imputations(mixed, "y", TERMS, "imputation").imputed.columns) == dict(found.imputed.columns)  # by who they are
    blind = mb.fit_imputations(mixed.drop(columns=["who", "w"]).round(1), "y", ["x"], "imputation")
    assert "not counted: they seem to stand in another order" in str(blind)
    with_first = mb.fit_imputations(pd.concat([FIRST, FRAME], ignore_index=True), "y", TERMS, "imputation")
    assert (with_first.imputed.original, dict(with_first.imputed.columns)) == ("0", {"y": 0, "x": GAPS.sum(), "g": UNKNOWN.sum()})
    pd.testing.assert_frame_equal(with_first.coefficients, found.coefficients, rtol=1e-7)
    moved = (FRAME["imputation"] == 2) & (FRAME["who"] < 120)  # of an outcome that has no gap before
    told = mb.fit_imputations(pd.concat([FIRST, FRAME.assign(y=FRAME["y"] + moved)], ignore_index=True), "y", ["x"], "imputation")
    assert dict(told.imputed.more) == {"y": (WHOLE["who"] < 120).sum()}
    assert f"not the same in all, though not missing before: y in {(WHOLE['who'] < 120).sum()} rows" in " ".join(str(told).split())
    assert "the same in all: y" in " ".join(str(with_first).split())
    assert not with_first.imputed.more
    named = FRAME.assign(imputation=[f"file-{k}.csv" for k in FRAME["imputation"]])
    pd.testing.assert_frame_equal(mb.fit_imputations(named, "y", TERMS, "imputation").coefficients, found.coefficients)
    alike = pd.concat([EACH[0].assign(imputation=k) for k in (1, 2, 3)])
    assert "Most information" not in str(mb.fit_imputations(alike, "y", ["x", "g"], "imputation"))
    same, fit = mb.fit_imputations(alike, "y", ["x", "g"], "imputation"), mb.fit_linear(EACH[0], "y", ["x", "g"])
    assert same.coefficients[["estimate", "se"]].to_numpy() == pytest.approx(fit.coefficients[["estimate", "se"]].to_numpy(), rel=1e-10)
    assert "nothing: the columns of the model are the same in all imputations" in " ".join(str(same).split())
    assert same.coefficients["simulation_error"].max() < 1e-12
    assert same.overall.statistic == pytest.approx(fit.overall.statistic, rel=1e-9)
    lost = mb.fit_imputations(FRAME.assign(x=FRAME["x"].where((FRAME["imputation"] != 2) | (FRAME["who"] > 110))), "y", ["x"], "imputation")
    assert f"{(WHOLE['who'] > 110).sum()} to 160 of 160 rows, not as many in each" in " ".join(str(lost).split())
    fewer, own = min(fit.df_rest for fit in lost.fits.values()), [fit.coefficients.iloc[1] for fit in lost.fits.values()]
    assert fewer < lost.fits["1"].df_rest
    assert lost.coefficients["df"][1] == pytest.approx(by_rules([t["estimate"] for t in own], [t["se"] for t in own], fewer)[2], rel=1e-9)
    assert lost.terms["df_rest"][0] == pytest.approx(lost.coefficients["df"][1], rel=1e-9)

    def hole(*numbers):
        few = FRAME["imputation"].isin(numbers[:1]) & (FRAME["who"] < 103)
        return FRAME["x"].where(~few & ~(FRAME["imputation"].isin(numbers[1:]) & (FRAME["who"] < 110)))

    for some in (FRAME.assign(x=hole(1)).query("imputation < 3"), FRAME.assign(x=hole(1, 2))):  # two alone, and one of the others has more gaps
        assert not mb.fit_imputations(some, "y", ["x"], "imputation").imputed.original
    waves = FRAME.assign(x=rng.normal(size=len(FRAME)), y=rng.normal(size=len(FRAME)))
    assert "are they imputations of the same cases, and not other rows" in " ".join(str(mb.fit_imputations(waves, "y", ["x"], "imputation")).split())


def test_words_say_what_is_combined_and_a_fit_to_all_rows_says_that_it_is_none():
    page = " ".join(str(mb.fit_imputations(FRAME, "yes", ["x", "g", mb.polynomial("w")], "imputation", kind="logistic", event="yes")).split())
    for words in (
        "yes = yes: logistic regression on 3 terms, combined over 5 imputations", "Most information is missing on", "of its standard error. For results that another run repeats",
        "The base a was not chosen", "coefficients are drawn towards 0", "a term of this one, w (quadratic) as well", "with w, its curve included", "6 In probability",
    ):  # fmt: skip
        assert words in page, words
    crossed = mb.Study(FRAME.assign(y=FRAME["y"] + 1.5 * (FRAME["g"] == "b") * FRAME["x"])).mark("g", "a")
    told = " ".join(to_text(imputations_page(mb.fit_imputations(crossed, "y", TERMS, "imputation"), ["g"])).split())
    assert "mind the slope of x differs by g (F(2, " in told
    assert "the differences told here are averages over the rows, and not the same at every x" in told
    weak = FRAME.assign(y=0.42 * (FRAME["g"] == "b") + np.tile(np.random.default_rng(3).normal(size=N), M))
    told = mb.fit_imputations(mb.Study(weak).mark("g", "a"), "y", ["x", "g"], "imputation").reading()
    assert any("no clear evidence" in s.text for s in told.statements)
    imputed = FRAME.assign(y=FRAME["y"] + (FRAME["who"] < 130) * FRAME["imputation"])
    assert f"In {(WHOLE['who'] < 130).sum()} rows the outcome itself is imputed" in " ".join(
        str(mb.fit_imputations(imputed, "y", ["x"], "imputation")).split()
    )
    with pytest.warns(mb.MarkbaseWarning, match="hold 5 imputations of the same cases") as told:
        fit = mb.fit_linear(FRAME.rename(columns={"who": "person_id"}), "y", ["x", "g", "w"])  # of which w is the same in all rows of a person
    assert len(told) == 1
    assert "5 imputations of the same cases (imputation, 160 rows each)" in " ".join(str(fit).split())
    assert "cluster the errors" not in str(fit)
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        alone = mb.fit_linear(mb.Study(FRAME).keep({"imputation": 3}), "y", ["x"])
        others = [mb.fit_linear(FRAME[["x", "y"]].assign(**{name: FRAME["imputation"]}), "y", ["x"]) for name in ("wave", "important", "impulse")]
        uneven = mb.fit_linear(FRAME.iloc[3:], "y", ["x"])
    assert all("imputations" not in str(f) for f in (alone, *others, uneven))
    for told in (lambda: mb.describe(FRAME, by="g"), lambda: mb.screen(FRAME, ["x", "w"], outcome="y"), lambda: mb.reliability(FRAME, ["x", "y"])):
        with pytest.warns(mb.MarkbaseWarning, match="hold 5 imputations of the same cases .* describe one of them"):
            told()
    assert not mb.Study(FRAME[["x"]].assign(imputed=FRAME["imputation"] + 0.5)).remarks().get("imputed")
    assert "5 imputations" in mb.Study(FRAME[["x"]].assign(imputed=FRAME["imputation"] + 4)).remarks()["imputed"][0].text
    (remark,) = mb.Study(FRAME.rename(columns={"imputation": "imp_no"})).remarks()["imp_no"]
    assert "5 imputations of the same cases, 160 rows each?" in remark.text


def test_plausible_values_are_combined_and_one_of_them_alone_says_so(tmp_path):
    frame = WHOLE.assign(**{f"PV{k}_math": WHOLE["y"] + np.random.default_rng(k).normal(0, 0.5, N) for k in (1, 2, 3, 10)})
    names = ["PV1_math", "PV2_math", "PV3_math", "PV10_math"]
    found = mb.fit_imputations(frame, names, ["x", "g"])
    alone = [mb.fit_linear(frame, name, ["x", "g"]) for name in names]
    for k, row in found.coefficients.iterrows():
        if not row["base"]:
            wanted = by_rules([f.coefficients["estimate"][k] for f in alone], [f.coefficients["se"][k] for f in alone], alone[0].df_rest)
            assert row[["estimate", "se", "df", "p"]].tolist() == pytest.approx(wanted[:4], rel=1e-8)
    again = mb.fit_imputations(frame, "PV*_math", ["x", "g"])  # in the order of their numbers
    assert list(again.fits) == names
    frame.to_csv(tmp_path / "v.csv", index=False)
    by_pattern = [["--outcome", "PV*_math"], ["--outcome", ",".join(names)], ["--outcome", "PV*_math", "--in-parts"]]
    pages = [run("imputations", "v.csv", "--base", "g=a", "--terms", "x,g", *more, cwd=tmp_path).stdout for more in by_pattern]
    assert pages[0] == pages[1]
    assert pages[2].startswith("PV1_math to PV10_math: linear regression")
    (tmp_path / "v.toml").write_text('[data]\nfile = "v.csv"\n[[imputations]]\noutcomes = ["PV*_math"]\nterms = ["x", "g"]\n')
    assert run("imputations", "v.toml", cwd=tmp_path).stdout.startswith("PV1_math to PV10_math: linear regression")
    single = run("fit", "v.csv", "--outcome", "PV2_math", "--terms", "x", cwd=tmp_path)
    assert f"`markbase imputations` fits each plausible value and combines what they say: --outcome {','.join(names)}." in single.stderr
    assert "No column has a name that fits `Q*`" in run("imputations", "v.csv", "--outcome", "Q*", "--terms", "x", cwd=tmp_path).stderr
    page = " ".join(str(found).split())
    assert "PV1_math to PV10_math: linear regression on 2 terms, combined over 4 plausible values" in page
    assert "taken as plausible values" in page
    assert "imput" not in page
    assert "PV1_math to PV10_math is on average" in page
    assert "PV1_math, PV2_math, PV3_math and PV10_math are plausible values of one measurement" in " ".join(str(alone[1]).split())
    mean = mb.Study(frame).derive("score", mean=names)
    assert "are plausible values of one measurement" in " ".join(str(mb.fit_linear(mean, "score", ["x"])).split())
    assert "plausible" not in str(mb.fit_linear(frame, "y", ["x"]))
    assert "plausible" not in str(mb.fit_linear(frame[["PV1_math", "x"]], "PV1_math", ["x"]))
    assert "4 plausible values of one measurement" in mb.Study(frame).remarks()["PV1_math"][-1].text


def test_the_command_a_plan_and_a_manuscript_tell_the_same(tmp_path):
    study = mb.demo.choir_imputed()
    found = mb.fit_imputations(study, "belonging", ["age", "voice", "rehearsals"], "imputation")
    model = ["--outcome", "belonging", "--terms", "age,voice,rehearsals", "--imputation", "imputation"]
    told = run("imputations", *FILES, "voice", *model, "--correction", "bonferroni", "--json", "--manuscript", tmp_path / "t.md")
    record = json.loads(told.stdout)
    assert [row["estimate"] for row in record["coefficients"]] == pytest.approx(found.coefficients["estimate"].tolist(), rel=1e-12)
    assert [row["p_corrected"] for row in record["groups"]["voice"]["pairs"]] == pytest.approx(
        found.between("voice", "bonferroni")["p_corrected"].tolist()
    )
    pair = found.between("voice", "bonferroni").iloc[0]
    assert pair["high"] - pair["difference"] == pytest.approx(-float(mp_quantile(pair["df"], 0.05 / 12)) * pair["se"], rel=1e-8)
    assert (record["original"], record["imputed"]) == ("0", {"belonging": 0, "age": 0, "voice": 29, "rehearsals": 69})
    table = (tmp_path / "t.md").read_text("utf-8").replace("\\", "")
    assert "belonging: linear regression over 5 imputations" in table
    assert "n = 360 in each of 5 imputations" in table
    assert "| FMI |" in table
    line = next(line for line in table.splitlines() if line.startswith("| rehearsals"))
    assert line.endswith(f"| {found.coefficients['df'].iloc[-1]:.0f} | {100 * found.coefficients['missing_information'].iloc[-1]:.1f}% |")
    entry = '[[imputations]]\nname = "f"\nquestion = "Do voices differ?"\noutcome = "belonging"\nimputation = "imputation"\nterms = ["age", "voice", "rehearsals"]\ngroups = ["voice"]\n'
    (tmp_path / "p.toml").write_text(f'[data]\nfile = "{FILES[0]}"\ncodebook = "{FILES[2]}"\n{entry}')
    assert run("imputations", "p.toml", "f", cwd=tmp_path).stdout == run("imputations", *FILES, "voice", *model).stdout
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    out = tmp_path / "out"
    page = " ".join(re.sub("<[^>]*>", " ", (out / "report.html").read_text("utf-8")).split())
    assert "combined over 5 imputations" in page
    assert "For voice nothing is clear here" in page
    assert "Do voices differ?" in page
    assert "in each of 5 imputations, and the estimates were combined by Rubin's (1987) rules" in (out / "methods.txt").read_text("utf-8")
    assert pd.read_csv(out / "tables" / "f-coefficients.csv")["se"].tolist() == pytest.approx(found.coefficients["se"].tolist(), rel=1e-12)
    assert json.loads((out / "results.json").read_text("utf-8"))["imputations"]["f"]["overall"]["statistic"] == pytest.approx(found.overall.statistic)
    mb.report(found, tmp_path / "r.html")
    told = " ".join(re.sub("<[^>]*>", " ", (tmp_path / "r.html").read_text("utf-8")).split())
    for words in (
        "tell together something about belonging",
        "For voice nothing is clear here",
        "tenor against alto",
        "in each of 5 imputations, and the estimates were combined",
    ):
        assert words in told
    frame = mb.demo.choir_imputed().frame()
    frame[frame["imputation"] == 1].assign(pv1x=frame["belonging"], pv2x=frame["belonging"] + 1.0).to_csv(tmp_path / "pv.csv", index=False)
    for data, outcome, entry, terms in (
        (FILES, "belonging", 'outcome = "belonging"\nimputation = "imputation"', ["age", "voice", "travel_km", "rehearsals"]),
        (["pv.csv"], "pv1x", 'outcomes = ["pv1x", "pv2x"]', ["age", "voice", "travel_km", "rehearsals", "belonging"]),
    ):
        text = run("start", *data, "--outcome", outcome, "--into", f"{outcome}.toml", cwd=tmp_path) and (tmp_path / f"{outcome}.toml").read_text(
            "utf-8"
        )
        assert [e.split("   #")[0] for e in text.split("[[imputations]]")[1].splitlines()[2:4]][: entry.count("\n") + 1] == entry.split("\n")
        drafted = mb.read_plan(tmp_path / f"{outcome}.toml").analysis
        assert (list(drafted.imputations[0].terms), drafted.fits) == (
            terms[:4] if outcome == "belonging" else [t for t in terms if t != "belonging"],
            (),
        )
        assert ("[screen]" in text) == (outcome == "pv1x")
        assert run("run", f"{outcome}.toml", "--into", f"{outcome}-out", cwd=tmp_path).returncode == 0
    for text, words in (
        ('imputation = "imputation"', 'outcomes = ["a"]'), ("two plausible values or more", None), ('imputation = "imputation"\n', ""), ("or plausible values in the place of both", None),
    ):  # fmt: skip
        if words is not None:
            (tmp_path / "q.toml").write_text((tmp_path / "p.toml").read_text().replace(text, words))
        else:
            assert text in run("run", "q.toml", "--into", "no", cwd=tmp_path).stderr


def dense_of(own, names):
    """The columns of a model by hand."""
    known = {"x": own["x"], "x²": own["x"] ** 2, "b": own["g"] == "b", "c": own["g"] == "c", "w": own["w"]}
    return np.column_stack([np.ones(N), *(known[name] for name in names)]).astype(float)


@pytest.mark.parametrize("base", ["a", "b"])
def test_what_blocks_add_is_tested_by_their_coefficients_and_moves_as_the_rules_say(base):
    blocks = {"first": ["x"], "curve": [mb.polynomial("x"), "g"], "last": ["w"]}
    columns = [["x"], ["x", "x²", "b", "c"], ["x", "x²", "b", "c", "w"]]
    found = mb.fit_imputed_blocks(mb.Study(FRAME).mark("g", base), "y", blocks, "imputation")
    before, shares = [], np.zeros((M, 3))
    for k, (names, step) in enumerate(zip(columns, found.steps.to_dict("records"), strict=True)):
        Q, U = [], []
        for i, own in enumerate(EACH):
            X, y = dense_of(own, names), own["y"].to_numpy()
            b, (rest,) = np.linalg.lstsq(X, y, rcond=None)[:2]
            shares[i, k] = 1 - rest / np.sum((y - y.mean()) ** 2)
            Q.append(b)
            U.append(np.linalg.inv(X.T @ X) * rest / (N - len(b)))
        places = [1 + names.index(name) for name in names if name not in before]
        q, W = np.array(Q)[:, places], np.mean(U, axis=0)[np.ix_(places, places)]
        r = 1.2 * np.trace(np.cov(q.T).reshape(W.shape) @ np.linalg.inv(W)) / len(places)
        F = q.mean(0) @ np.linalg.inv(W * (1 + r)) @ q.mean(0) / len(places)
        assert (step["df"], step["statistic"]) == (len(places), pytest.approx(F, rel=1e-8))
        assert step["p"] == pytest.approx(tail_of_f(F, len(places), step["df_rest"]), rel=1e-7)
        r2 = np.tanh(np.arctanh(np.sqrt(shares[:, k])).mean()) ** 2
        assert step["r2"] == pytest.approx(r2, rel=1e-9)
        changes = shares[:, k] - (shares[:, k - 1] if k else 0)
        assert (step["change_lowest"], step["change_highest"]) == pytest.approx((changes.min(), changes.max()), rel=1e-8)
        before = names
    assert found.steps["r2_change"].sum() == pytest.approx(found.steps["r2"].iloc[-1])
    alone = mb.fit_imputations(mb.Study(FRAME).mark("g", base), "y", ["x"], "imputation").overall
    assert found.changes[0].statistic == pytest.approx(alone.statistic, rel=1e-9)
    last = mb.fit_imputations(mb.Study(FRAME).mark("g", base), "y", [mb.polynomial("x"), "g", "w"], "imputation")
    pd.testing.assert_frame_equal(found["last"].coefficients, last.coefficients, rtol=1e-8)
    assert found.changes[2].statistic == pytest.approx(last.terms["statistic"].iloc[-1], rel=1e-9)
    own = last.coefficients["estimate"].tolist()
    assert found.moves["last"].tolist() == pytest.approx([own[0], np.nan, *own[1:]], nan_ok=True)  # x by itself is in the first alone
    each = [mb.fit_blocks(mb.Study(own).mark("g", base), "y", blocks).movements for own in EACH]
    assert len(found.movements) == len(each[0]) == 4  # of x, x² and g, when w enters
    for k, row in found.movements.iterrows():
        wanted = by_rules([t["change"].iloc[k] for t in each], [t["se"].iloc[k] for t in each], N - 6)
        assert row[["change", "se", "df", "p"]].tolist() == pytest.approx(wanted[:4], rel=1e-6)
        assert row["after"] - row["before"] == pytest.approx(row["change"])


def test_blocks_over_imputations_are_told_in_commands_plans_and_manuscripts(tmp_path):
    table = FRAME.assign(yes=np.where(FRAME["y"] > 1.5, "yes", "no"))
    pd.concat([FIRST.assign(yes=FIRST["yes"].where(FIRST["who"] > 103)), table]).to_csv(tmp_path / "t.csv", index=False)
    model = ["--imputation", "imputation", "--base", "g=a", "--kind", "logistic", "--outcome", "yes", "--event", "yes"]
    blocks = ["--block", "one: x, w", "--block", "two: g, interaction(x, g)"]
    page = " ".join(run("imputations", "t.csv", *model, *blocks, cwd=tmp_path).stdout.split())
    found = mb.fit_imputed_blocks(
        mb.Study(table).mark("g", "a"), "yes", {"one": ["x", "w"], "two": ["g", mb.interaction("x", "g")]}, "imputation", kind="logistic", event="yes"
    )
    step = found.steps.iloc[1]
    for words in (
        "log odds of yes = yes: 2 blocks, one after the other, combined over 5 imputations", "is fitted to the same rows of each imputation", "in single ones",
        f"Adding g and x × g (block two) raises McFadden's R² by {step['mcfadden_change']:.3f} to {step['mcfadden']:.3f}".replace("0.", "."), "Karlson, Holm and Breen",
    ):  # fmt: skip
        assert words in page, words
    assert "why both are told" not in page
    (tmp_path / "p.toml").write_text(
        '[data]\nfile = "t.csv"\n[[prepare]]\ndo = "mark"\ncolumn = "g"\nbase = "a"\n[[imputations]]\nname = "b"\noutcome = "y"\nimputation = "imputation"\n'
        'entry = [{name = "one", terms = ["x"]}, {name = "two", terms = ["g"]}]\n'
    )
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    linear = mb.fit_imputed_blocks(mb.Study(FRAME).mark("g", "a"), "y", {"one": ["x"], "two": ["g"]}, "imputation")
    steps = pd.read_csv(tmp_path / "out" / "tables" / "b-steps.csv")
    assert steps["statistic"].tolist() == pytest.approx(linear.steps["statistic"].tolist(), rel=1e-7)
    record = json.loads((tmp_path / "out" / "results.json").read_text("utf-8"))["imputations"]["b"]
    assert [row["r2"] for row in record["steps"]] == pytest.approx(linear.steps["r2"].tolist(), rel=1e-7)
    assert "one (x) and two (g), all on the same rows; what each adds was tested by its coefficients together" in (
        tmp_path / "out" / "methods.txt"
    ).read_text("utf-8")
    told = " ".join(re.sub("<[^>]*>", " ", (tmp_path / "out" / "report.html").read_text("utf-8")).split())
    assert f"F(2, {linear.changes[1].df_rest:.0f}) = {linear.changes[1].statistic:.2f}" in told
    mb.write_document(linear, tmp_path / "d.md")
    lines = (tmp_path / "d.md").read_text("utf-8").replace("\\", "").splitlines()
    assert next(line for line in lines if line.startswith("| F of the change")).endswith(f"| {linear.changes[1].statistic:.2f} |")
    few = mb.fit_imputed_blocks(FRAME.assign(half=FRAME["who"] % 2), "y", {"one": ["x"], "two": ["g"]}, "imputation", cluster="half")
    assert (few.changes[1].df, few.changes[1].untested) == (2, "2 clusters cannot carry a joint test of 2 coefficients")
    assert "not tested: 2 clusters cannot carry a joint test of 2 coefficients" in " ".join(str(few).split())
    for more, words in (
        (["g"], "Levels and slopes are told of a model, not of blocks"),
        (["--terms", "x"], "Give the terms in blocks or with `--terms`, not both"),
    ):
        assert words in run("imputations", "t.csv", *model, *blocks, *more, cwd=tmp_path).stderr
    text = (tmp_path / "p.toml").read_text()
    (tmp_path / "q.toml").write_text(text + 'terms = ["x"]\n')
    assert (
        "line 11: an [[imputations]] has terms, or blocks (`entry`) without groups and slopes, not `entry` and `terms`"
        in run("run", "q.toml", "--into", "no", cwd=tmp_path).stderr
    )


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_predictions_are_combined_on_the_scale_of_the_equation(kind, tmp_path):
    outcome, more = ("y", {}) if kind == "linear" else ("yes", {"event": "yes"})
    study = mb.Study(FRAME).mark("g", "a")
    found = mb.fit_imputations(study, outcome, TERMS, "imputation", kind=kind, **more)
    alone = [(mb.fit_linear if kind == "linear" else mb.fit_logistic)(mb.Study(own).mark("g", "a"), outcome, TERMS, **more) for own in EACH]
    profiles = [{"x": 2.0, "g": "b"}, {"g": "c"}, {"x": 0.5}]
    with pytest.warns(mb.MarkbaseWarning, match="outside the data"):
        far = found.predict([*profiles, {"x": 1e3, "g": "a"}, {"x": min(own["x"].min() for own in EACH) + 1e-9, "g": "a"}])
    assert far["caution"].str.contains("lies outside the rows used").tolist() == [False, False, False, True, True]
    assert far["caution"].str.endswith(" of 5 imputations)").tolist() == [False, False, False, False, True]
    table, each = found.predict(profiles), [fit.predict(profiles) for fit in alone]
    eta, df = ("predicted" if kind == "linear" else "log_odds"), min(fit.df_rest for fit in alone)
    for k, row in table.iterrows():
        mean, se, own_df, *_ = by_rules([t[eta].iloc[k] for t in each], [t["se"].iloc[k] for t in each], df)
        assert row[[eta, "se"]].tolist() == pytest.approx([mean, se], rel=1e-9)
        ends = np.array([mean - se * -float(mp_quantile(own_df, 0.025)), mean + se * -float(mp_quantile(own_df, 0.025))])
        if kind == "linear":
            spreads = [
                np.hypot(
                    t["se"].iloc[k], np.sqrt(((t["one_high"] - t["predicted"]).iloc[k] / -float(mp_quantile(df, 0.025))) ** 2 - t["se"].iloc[k] ** 2)
                )
                for t in each
            ]
            one = by_rules([t[eta].iloc[k] for t in each], spreads, df)
            assert row["one_high"] - mean == pytest.approx(one[1] * -float(mp_quantile(one[2], 0.025)), rel=1e-7)
        else:
            ends, mean = 1 / (1 + np.exp(-ends)), 1 / (1 + np.exp(-mean))
        assert row[["low", "high", found.family.predicted]].tolist() == pytest.approx([*ends, mean], rel=1e-8)
    b = found.coefficients.set_index(["term", "level"])["estimate"]
    whole = b["(intercept)", ""] + 2 * b["x", ""] + b["g", "b"] + 2 * b["x × g", "b"]
    assert table[eta][0] == pytest.approx(whole, rel=1e-9)
    rows = found.predict(mb.Study(EACH[2]).mark("g", "a"))
    observed = EACH[2]["y"] if kind == "linear" else EACH[2]["yes"] == "yes"
    assert rows["residual"].tolist() == pytest.approx((observed - rows[found.family.predicted]).tolist())
    FRAME.to_csv(tmp_path / "t.csv", index=False)
    model = [
        "--outcome",
        outcome,
        "--terms",
        "x,g,interaction(x, g)",
        "--base",
        "g=a",
        "--imputation",
        "imputation",
        *(["--kind", "logistic", "--event", "yes"] * (kind != "linear")),
    ]
    record = json.loads(run("predict", "t.csv", *model, "--profile", "x=2, g=b", "--profile", "g=c", "--json", cwd=tmp_path).stdout)
    assert [p["se"] for p in record["predictions"]] == pytest.approx(table["se"].tolist()[:2], rel=1e-7)
    page = run("predict", "t.csv", *model, "--profile", "x=2, g=b", cwd=tmp_path).stdout
    assert "combined over 5 imputations by Rubin's rules" in " ".join(page.split())
    assert "leave --imputation out" in run("predict", "f.json", "--imputation", "imputation", "--profile", "x=2", cwd=tmp_path).stderr


def test_predictions_of_logged_outcomes_and_of_plausible_values(tmp_path):
    logged = mb.Study(FRAME.assign(z=np.exp(FRAME["y"] / 3) + 1)).derive("log_z", log="z")
    found = mb.fit_imputations(logged, "log_z", ["x", "w"], "imputation")
    each = [mb.fit_linear(logged.keep({"imputation": k}), "log_z", ["x", "w"]).predict({"x": 1, "w": 2}, back_transformed=True) for k in range(1, 6)]
    told = found.predict({"x": 1, "w": 2}, back_transformed=True)
    assert told["geometric_mean"][0] == pytest.approx(np.exp(np.mean([t["predicted"][0] for t in each])), rel=1e-9)
    assert told["mean_smeared"][0] == pytest.approx(np.mean([t["mean_smeared"][0] for t in each]), rel=1e-9)
    frame = WHOLE.assign(pv1=WHOLE["y"], pv2=WHOLE["y"] + 40 * rng.normal(size=N))  # of which one says nothing
    values = mb.fit_imputations(frame, ["pv1", "pv2"], ["x"])
    rows = values.predict(frame)
    assert not {"observed", "residual"} & set(rows)
    assert (rows["one_low"] <= rows["low"]).all()
    assert (rows["high"] <= rows["one_high"]).all()
    frame.to_csv(tmp_path / "v.csv", index=False)
    entry = '[[imputations]]\nname = "v"\noutcomes = ["pv1", "pv2"]\nentry = [{name = "one", terms = ["w"]}, {name = "two", terms = ["x"]}]\n'
    (tmp_path / "p.toml").write_text(f'[data]\nfile = "v.csv"\n[[fit]]\nname = "f"\noutcome = "y"\nterms = ["x"]\n{entry}')
    last = mb.fit_imputations(frame, ["pv1", "pv2"], ["w", "x"]).predict({"x": 1})
    for words in (["p.toml", "v"], ["v.csv", "--outcome", "pv1,pv2", "--terms", "w,x"], ["v.csv", "--outcome", "pv*", "--terms", "w,x"]):
        (row,) = json.loads(run("predict", *words, "--profile", "x=1", "--json", cwd=tmp_path).stdout)["predictions"]
        assert [row["predicted"], row["high"]] == pytest.approx([last["predicted"][0], last["high"][0]], rel=1e-8)
    assert "The plan has" not in run("predict", "p.toml", "f", "--profile", "x=1", cwd=tmp_path).stderr


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_figures_and_answers_show_what_is_combined(kind, tmp_path):
    outcome, more = ("y", {}) if kind == "linear" else ("yes", {"event": "yes"})
    study = mb.Study(FRAME).mark("g", "a")
    found = mb.fit_imputations(study, outcome, TERMS, "imputation", kind=kind, **more)
    factor, groups = found.family.factor, found.groups("g")
    ax = mb.draw_groups(found, "g")
    assert sorted(x for line in ax.lines for x in line.get_xdata() if line.get_marker() == "o") == pytest.approx(
        sorted(factor * groups["difference"][1:])
    )
    assert f"a (base), n = {groups['n'][0]:.0f}" in [label.get_text() for label in ax.get_yticklabels()]
    ends = [path.vertices[:, 0].tolist() for path in mb.draw_adjusted(found, "g").collections[0].get_paths()]
    assert ends == [pytest.approx((factor * row[["adjusted_low", "adjusted_high"]]).tolist()) for _, row in groups.iterrows()]
    whole = mb.draw_coefficients(found)
    sd = EACH[0]["x"].std()
    (first,) = whole.lines[1].get_xdata()
    low, high = whole.collections[0].get_paths()[0].vertices[:, 0]
    if kind == "linear":
        own = [fit.simple_slopes("x").iloc[0] for fit in found.fits.values()]
        slope, se, df, *_ = by_rules([s["slope"] for s in own], [s["se"] for s in own], N - 6)
        half = se * -float(mp_quantile(df, 0.025))
        assert (first, low, high) == pytest.approx((sd * slope, sd * (slope - half), sd * (slope + half)), rel=1e-6)
    else:
        row = found.marginal.iloc[0]
        assert (first, low, high) == pytest.approx(tuple(100 * sd * row[["effect", "low", "high"]]), rel=1e-6)
    lines = mb.draw_lines(found, "x", by="g")
    at = next(line for line in lines.lines if line.get_label() == "b")
    x, y = at.get_xdata()[7], at.get_ydata()[7]
    assert y == pytest.approx(factor * found.predict({"x": x, "g": "b"})[found.family.predicted][0])
    mb.report(found, tmp_path / "r.html")
    text = " ".join(re.sub("<[^>]*>", " ", (tmp_path / "r.html").read_text("utf-8")).split())
    unclear = found.terms["p"].iloc[2] >= 0.05
    assert ("Averaged over these rows, per further" in text) == unclear
    noise = mb.Study(
        FRAME.assign(y=np.tile(np.random.default_rng(5).normal(size=N), M), yes=np.tile(np.random.default_rng(6).choice(["yes", "no"], N), M))
    )
    none = imputation_answers(mb.fit_imputations(noise.mark("g", "a"), outcome, ["w", *TERMS], "imputation", kind=kind, **more))
    assert none[-1].text.startswith("For `w` and `x × g` nothing is clear here")  # x and g are told by their interaction
    assert [s.text.split(",")[0] for s in none[1:-1]] == ["Averaged over these rows"] * 2
    blocks = mb.fit_imputed_blocks(study, outcome, {"one": ["x"], "two": ["w"]}, "imputation", kind=kind, **more)
    moved = mb.draw_paths(blocks)
    assert moved.get_lines()[0].get_ydata().tolist() == pytest.approx((blocks.moves.loc[1, ["one", "two"]] / blocks.errors.loc[1, "one"]).tolist())
    if kind == "linear":
        drawn = mb.draw_blocks(blocks)
        assert [text.get_text() for text in drawn.texts][1].endswith(f"= {100 * blocks.steps['r2'][1]:.1f}")
        assert "its range over the imputations, no interval" in drawn.get_title(loc="left")
    FRAME.to_csv(tmp_path / "t.csv", index=False)
    model = [
        "--imputation",
        "imputation",
        "--outcome",
        outcome,
        "--kind",
        kind,
        *(["--event", "yes"] * bool(more)),
        "--base",
        "g=a",
        "--figures",
        "f",
    ]
    for what, names in (
        (["--terms", "x,g"], {"coefficients", "g-differences", "g-adjusted", "x-by-g"}),
        (["--block", "one: x", "--block", "two: w"], {"paths", *(["blocks"] * (not more))}),
    ):
        assert run("imputations", "t.csv", *model, *what, cwd=tmp_path).returncode == 0
        assert {path.stem for path in (tmp_path / "f").iterdir()} >= names


def test_a_plan_that_was_written_gives_the_same_again(tmp_path):
    FRAME.assign(pv1=FRAME["y"], pv2=FRAME["y"] + 0.1).to_csv(tmp_path / "t.csv", index=False)
    study = mb.open_study(tmp_path / "t.csv")  # of whose groups nobody chose the base
    alone = study.keep({"imputation": {"is": 2}})
    results = {
        "clustered": mb.fit_imputations(study, "y", TERMS, "imputation", cluster="t", errors="CR3"),
        "odds": mb.fit_imputations(study, "yes", ["x", "w"], "imputation", kind="logistic", event="yes", level=0.9),
        "in blocks": mb.fit_imputed_blocks(study, "y", {"one": ["x"], "two": [mb.polynomial("x"), "g"]}, "imputation"),
    }
    values = {"values": mb.fit_imputations(alone, ["pv1", "pv2"], ["x", "g"], weights="w")}
    for plan, own, of in (("p.toml", study, results), ("v.toml", alone, values)):
        mb.write_plan(tmp_path / plan, own, of, data=tmp_path / "t.csv")
        for name, result in of.items():
            record = json.loads(run("imputations", plan, name, "--json", cwd=tmp_path).stdout)
            table = record["steps"] if name == "in blocks" else record["coefficients"]
            wanted, column = (result.steps, "statistic") if name == "in blocks" else (result.coefficients, "se")
            assert [row[column] for row in table] == pytest.approx(wanted[column].tolist(), rel=1e-9)
            assert name == "in blocks" or [row["high"] for row in table] == pytest.approx(wanted["high"].tolist(), rel=1e-9)
    for other, words in (
        (study.mark("g", "b"), "which is not its base in the study"),
        (study.keep({"imputation": {"is_not": 2}}), "The study has no imputation `2`"),
        (mb.Study(FRAME.assign(x=FRAME["x"].where(FRAME["imputation"] != 4, 0.0))), "`x` has other values in the study"),
        (mb.Study(FRAME.drop(columns="imputation")), "that `imputation` numbers, which the study does not have"),
    ):  # fmt: skip
        with pytest.raises(mb.MarkbaseError, match=re.escape(words)):
            mb.write_plan(tmp_path / "no.toml", other, {"f": results["clustered"]}, data=tmp_path / "t.csv")
    assert not (tmp_path / "no.toml").exists()


def test_slopes_are_held_at_places_common_to_all_imputations(tmp_path):
    terms = ["g", mb.interaction("w", "x"), mb.interaction("x", "g")]
    for kind, outcome, more in (("linear", "y", {}), ("logistic", "yes", {"event": "yes"})):
        found = mb.fit_imputations(mb.Study(FRAME).mark("g", "a"), outcome, terms, "imputation", kind=kind, **more)
        fits, df = list(found.fits.values()), min(fit.df_rest for fit in found.fits.values())
        table = found.simple_slopes("w", by="x")
        places = np.mean([[own["x"].mean() + k * own["x"].std() for k in (-1, 0, 1)] for own in EACH], axis=0)
        assert table["x"].tolist() == pytest.approx(places.tolist())
        each = [fit.simple_slopes("w", by="x", at={"x": table["x"].tolist()}) for fit in fits]
        for k, row in table.iterrows():
            wanted = by_rules([t["slope"].iloc[k] for t in each], [t["se"].iloc[k] for t in each], df)
            assert row[["slope", "se", "df", "p"]].tolist() == pytest.approx(wanted[:4], rel=1e-7)
            assert kind == "linear" or row["odds_high"] == pytest.approx(np.exp(row["high"]))
        page = " ".join(to_text(imputations_page(found, (), "holm", [("w", "x"), ("x", "g")])).split())
        assert "x at the mean and a standard deviation below and above, inside the rows" in page
        assert "in this model the slope differs by w as well: here it is averaged over the rows" in page
        test = found.terms.set_index("term").loc["x × g"]
        assert f"do they differ by g F(2, {test['df_rest']:.0f}) = {test['statistic']:.2f}" in page
    uneven = FRAME.assign(x=np.where(FRAME["imputation"] == 2, np.where(FRAME["x"] > 3, 1.0, 0.0), FRAME["x"]))
    with pytest.raises(mb.MarkbaseError, match="`x` would be held at other numbers of places in some imputations: say at which values"):
        mb.fit_imputations(uneven, "y", terms, "imputation").simple_slopes("w", by="x")
    curve = mb.fit_imputations(FRAME, "y", [mb.polynomial("x")], "imputation").simple_slopes("x")
    assert curve["slope"].iloc[2] - curve["slope"].iloc[1] == pytest.approx(curve["slope"].iloc[1] - curve["slope"].iloc[0])
    FRAME.to_csv(tmp_path / "t.csv", index=False)
    model = ["--outcome", "y", "--terms", "x,g,interaction(x, g)", "--imputation", "imputation", "--base", "g=a"]
    record = json.loads(run("imputations", "t.csv", "x:g", "g", *model, "--json", cwd=tmp_path).stdout)
    wanted = mb.fit_imputations(mb.Study(FRAME).mark("g", "a"), "y", TERMS, "imputation").simple_slopes("x", by="g")
    assert [row["slope"] for row in record["slopes"]["x:g"]] == pytest.approx(wanted["slope"].tolist(), rel=1e-7)
    assert list(record["groups"]) == ["g"]
    (tmp_path / "p.toml").write_text(
        '[data]\nfile = "t.csv"\n[[imputations]]\nname = "s"\noutcome = "y"\nimputation = "imputation"\nterms = [{interaction = ["x", "w"]}, "g"]\nslopes = ["x:w"]\nat = {w = [1, 2]}\n'
    )
    assert "w = 2" in run("imputations", "p.toml", cwd=tmp_path).stdout
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    assert pd.read_csv(tmp_path / "out" / "tables" / "s-slopes-x-by-w.csv")["w"].tolist() == [1, 2]
    for more, words in (
        (["g", "--at", "x=1"], "--at is for simple slopes; name the numeric column behind the file: age:voice."),
        (["w:g"], "has no numeric column `w`"),
    ):
        assert words in run("imputations", "t.csv", *more, *model, cwd=tmp_path).stderr


def test_what_cannot_be_combined_is_refused_in_words():
    fit = mb.fit_imputations
    rare = FRAME.assign(g=np.where((FRAME["imputation"] == 2) & (FRAME["g"] == "c"), "b", FRAME["g"]))
    for call, words in (
        (lambda: fit(rare, "y", ["x", "g"], "imputation"), "do not tell the same coefficients: level `c` of `g`"),
        (lambda: fit(FRAME, "y", ["x"], "t"), "does not number imputations of the same cases"),
        (lambda: fit(FRAME, "y", ["x"], "y"), "`y` numbers the imputations, and is no column of the model"),
        (lambda: fit(EACH[0], "y", ["x"], "imputation"), "tells 1 imputation apart"),
        (lambda: fit(FRAME, "y", ["x"]), "Name the column that numbers the imputations, or two plausible values or more"),
        (lambda: fit(FRAME, ["y", "w"], ["x"], "imputation"), "have one outcome, not `y` and `w`"),
        (lambda: fit(FRAME, "y", ["x"], "imputation", kind="cubic"), "no kind 'cubic' of regression"),
        (lambda: fit(FRAME.assign(x=FRAME["x"].where(FRAME["imputation"] != 4, 1.0)), "y", ["x"], "imputation"), "In imputation `4`: "),
        (lambda: fit(FRAME, "y", ["g"], "imputation").between("g", "tukey"), "corrected by `benjamini-hochberg`, `bonferroni`, `holm` or `none`"),
    ):  # fmt: skip
        with pytest.raises(mb.MarkbaseError, match=re.escape(words)):
            call()
    few = fit(FRAME[FRAME["t"].isin(["t1", "t2", "t3"])], "y", ["x", "g", "w"], "imputation", cluster="t")
    assert "3 clusters cannot carry" in few.joint_test(["g", "x"]).untested
    assert "3 clusters cannot carry" in few.untested["g"]
    assert few.terms["p"].isna()[1]
    assert "not tested as a whole" in str(few)
    for arguments, words in (
        ([], "Say what numbers the imputations: --imputation imputation"), (["--imputation", "imp"], "has no column `imp`"),
        (["--imputation", "imputation", "--correction", "holm"], "--correction is for pairs"), (["--imputation", "imputation", "tide"], "no group `tide`"),
    ):  # fmt: skip
        told = run("imputations", *FILES, "--outcome", "belonging", "--terms", "age", *arguments)
        assert (told.returncode, words in told.stderr) == (2, True), told.stderr
