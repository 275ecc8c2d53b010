"""Imputations and plausible values combined: by rules written out, at 50 digits, and by what must be the same whatever the base, order or source."""

import json
import re
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from imputed import EACH, FIRST, FRAME, GAPS, TERMS, UNKNOWN, WHOLE, M, N, by_rules, mp_quantile, rng, tail_of_f
from markbase.core.inference.imputation_rules import combined_test
from markbase.show.imputations import imputations_page
from markbase.show.text import to_text

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
FILES = [mb.demo.path("choir_imputed.csv"), "--codebook", mb.demo.path("choir_imputed.codebook.toml")]


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
