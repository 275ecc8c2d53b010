"""Terms that have hardly anything of their own: large standard errors, and shares of one whole that were rounded."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
ROWS = 400


def made():
    """Return columns that nearly tell one another: `x` and `near`, four shares rounded, three amounts with their sum rounded, and `g` with `h`."""
    rng = np.random.default_rng(2)
    x, g = rng.normal(size=ROWS), rng.integers(0, 3, ROWS)
    h = np.where(rng.random(ROWS) < 0.97, g, rng.integers(0, 3, ROWS))
    data = pd.DataFrame({"x": x, "near": x + rng.normal(size=ROWS) * 0.2, "far": rng.normal(size=ROWS), "g": np.char.add("g", g.astype(str)),
        "h": np.char.add("h", h.astype(str)), "w": rng.uniform(0.5, 2, ROWS)})  # fmt: skip
    shares = rng.dirichlet([4, 3, 2, 2], ROWS) * 100
    data[["work", "home", "choir", "rest"]] = shares.round()
    data[["a", "b", "c"]] = rng.normal(50, 10, (ROWS, 3)).round(1)
    data["whole"] = data[["a", "b", "c"]].sum(axis=1).round()
    data["loose"] = data["whole"] + rng.choice([-1.0, 1.0], ROWS)
    data["more"] = data["rest"] + 5.0 * (rng.random(ROWS) < 0.2)
    data["y"] = x + rng.normal(size=ROWS)
    data["stays"] = np.where(rng.random(ROWS) < 1 / (1 + np.exp(-x)), "yes", "no")
    return data


def beside(fit):
    """Return what stands below the first sentence of each term about its standard errors."""
    return {s.term: c for s in fit.reading().statements for c in s.cautions if "standard error" in c}


@pytest.mark.parametrize(
    ("kind", "options", "about"),
    [("linear", {}, ""), ("linear", {"errors": "HC3"}, "about "), ("linear", {"fixed_effects": "h"}, ""), ("logistic", {}, "")],
)
def test_errors_far_larger_than_a_term_alone_would_have_are_told_with_their_inflation(kind, options, about):
    data = made()
    study, terms = mb.Study(data).mark("g", "g0"), ["x", "near", "far"]
    fit = mb.fit_linear(study, "y", terms, **options) if kind == "linear" else mb.fit_logistic(study, "stays", terms, event="yes")
    X, w = data[terms].to_numpy(), np.ones(ROWS)
    if kind == "logistic":
        w = (fit.fitted * (1 - fit.fitted)).to_numpy()
    if options.get("fixed_effects"):
        X = X - data.groupby("h")[terms].transform("mean").to_numpy()
    X = X - np.average(X, axis=0, weights=w)
    S = (X * w[:, None]).T @ X
    vif = np.diag(S) * np.diag(np.linalg.inv(S))
    told = beside(fit)
    assert list(told) == ["x", "near"]
    for term, inflation in zip(terms[:2], vif, strict=False):
        wanted = f"Its standard error is {about}{np.sqrt(inflation):.2f} times what it would be with nothing in common with the other terms (VIF {inflation:.1f})"
        assert told[term].startswith(wanted)
        clear = fit.coefficients.set_index("term").loc[term, "p"] < 0.05
        assert ("that it is not clear does not say that nothing is there" in told[term]) == (not clear)


def test_what_is_large_by_construction_is_not_told_and_groups_are():
    study = mb.Study(made()).mark("g", "g0").mark("h", "h0").derive("a2", square="a").derive("shifted", z="near")
    for terms in (["x", "far"], [mb.polynomial("x", 3)], ["a2", "a"], ["shifted", "far"], [mb.interaction("x", "near")]):
        assert beside(mb.fit_linear(study, "y", terms)) == {}
    assert list(beside(mb.fit_linear(study, "y", ["shifted", "x"]))) == ["shifted", "x"]
    told = beside(mb.fit_linear(study, "y", ["g", "h", "far"]))
    assert list(told) == ["g", "h"]
    factor = mb.screen(study, ["g", "h", "far"], "y").terms.set_index("term").loc["g", "comparable"]
    assert told["g"].startswith(f"Its standard errors are {factor:.3g} times what they would be with nothing in common")
    # likewise where the curvature of a logistic fit weighs the levels so that another one counts most
    data, rng = pd.concat([made()] * 5, ignore_index=True), np.random.default_rng(1)
    often = np.where(data["g"] == data["g"].mode()[0], 0.95, 0.5)
    data["stays"] = np.where(rng.random(5 * ROWS) < often, "yes", "no")
    odds = mb.fit_logistic(mb.Study(data), "stays", ["g", "h", "far"], event="yes")
    w = (odds.fitted * (1 - odds.fitted)).to_numpy()
    X = np.column_stack([data[c] == level for c in "gh" for level in sorted(data[c].unique())[1:]] + [data["far"]]).astype(float)
    X = X - np.average(X, axis=0, weights=w)
    S = (X * w[:, None]).T @ X
    own, rest = np.linalg.det(S[:2, :2]), np.linalg.det(np.linalg.inv(S)[:2, :2])
    assert beside(odds)["g"].startswith(f"Its standard errors are {(own * rest) ** 0.25:.3g} times")


def test_noise_in_a_scale_is_told_with_what_it_leaves_of_the_coefficient():
    rng = np.random.default_rng(4)
    true = rng.normal(size=20_000)
    data = pd.DataFrame(true[:, None] + rng.normal(size=(20_000, 4)) * 1.6, columns=list("abcd"))
    data[["k", "l", "m"]] = np.clip(np.round(3 + true[:, None] + rng.normal(size=(20_000, 3)) * 0.4), 1, 5)
    data["z"], data["other"] = 0.6 * true + 0.8 * rng.normal(size=20_000), rng.normal(size=20_000)
    data[["p", "q", "r"]] = np.clip(np.round(3 + true[:, None] + rng.normal(size=(20_000, 3)) * 2), 1, 5)
    data["same"] = data[list("abcd")].mean(axis=1) + rng.normal(size=20_000) / 3
    data["y"] = 2 * true + data["z"] + rng.normal(size=20_000)
    data["stays"] = np.where(rng.random(20_000) < 1 / (1 + np.exp(-true)), "yes", "no")
    study = mb.Study(data).derive("scale", mean=list("abcd")).derive("std", z="scale").derive("good", sum=list("klm")).derive("parts", sum=["a", "b"]).derive("amounts", sum=list("abc")).derive("rough", sum=list("pqr"))  # fmt: skip

    def told(*terms, kind=mb.fit_linear, outcome="y", **more):
        statements = kind(study, outcome, list(terms), **more).reading().statements
        return {s.term: c for s in statements for c in s.cautions if "alpha" in c}

    alpha = 4 / 3 * (1 - data[list("abcd")].var().sum() / data[list("abcd")].sum(axis=1).var())
    fit = mb.fit_linear(study, "y", ["scale", "z"])
    shared = np.corrcoef(study.frame()["scale"], data["z"])[0, 1] ** 2
    left = (alpha - shared) / (1 - shared)
    assert fit.coefficients["estimate"][1] / 2 == pytest.approx(left, abs=0.02)  # rows are made with a slope of 2
    figures = f"alpha of .{100 * alpha:.0f}, of which the other terms explain {100 * shared:.0f}%. If the rest is noise, its slope is told as about {100 * left:.0f}% of"
    assert list(told("scale", "z")) == ["scale"]
    assert figures in told("scale", "z")["scale"]
    assert told("scale", "z")["scale"].endswith("what other terms share with it stays in their estimates in part.")
    assert f"alpha of .{100 * alpha:.0f}. If the rest is noise, its slope is told as about {100 * alpha:.0f}% of" in told("std")["std"]
    assert "in part" not in told("std")["std"]
    assert told("scale", fixed_effects="m") == {}  # within levels alpha is another one
    assert "made of 3 items" in told("rough")["rough"]
    odds = told("scale", "other", kind=mb.fit_logistic, outcome="stays", event="yes")["scale"]
    assert f"its log odds ratio is told as about {100 * alpha:.0f}% of" in odds
    assert "next to nothing of" in told("scale", "same")["scale"]
    for terms in (["good", "other"], ["parts"], ["amounts"], ["a", "scale"], [mb.polynomial("scale", 2)], [mb.interaction("scale", "other")]):  # fmt: skip
        assert told(*terms) == {}, terms


def test_what_a_cut_leaves_out_is_told_where_the_column_goes_on_telling_within_the_levels():
    rng = np.random.default_rng(7)
    age, x = rng.uniform(18, 80, 600), rng.normal(size=600)
    data = pd.DataFrame({"age": age, "decade": age // 10, "x": x, "rising": 0.1 * age + x + rng.normal(size=600) * 2, "step": 3.0 * (age > 45) + rng.normal(size=600) * 2})  # fmt: skip
    data["stays"] = np.where(rng.random(600) < 1 / (1 + np.exp(-(age - 49) / 12)), "yes", "no")
    study = mb.Study(data).split_at("age", above=45, labels=("young", "old"), name="old").cut("age", list(range(22, 80, 4)), name="band").cut("decade", [3, 4, 5, 6, 7], name="each")  # fmt: skip

    def told(outcome, *terms, of=study, **more):
        fit = mb.fit_logistic if outcome == "stays" else mb.fit_linear
        made = fit(of, outcome, list(terms), **({"event": "yes"} if outcome == "stays" else {}), **more)
        return {s.term: c for s in made.reading().statements for c in s.cautions if "was cut out of `age`" in c}

    def left(*columns):
        X = np.column_stack([np.ones(600), data["age"] > 45, x, *columns])
        return np.linalg.lstsq(X, data["rising"], rcond=None)[1][0]

    before, after = left(), left(age)
    F, share = (before - after) / (after / 596), 1 - after / before
    assert list(told("rising", "old", "x")) == ["old"]
    figures = f"(F(1, 596) = {F:.2f}, p < .001, {100 * share:.1f}% of what the model leaves)"
    assert f"within the levels `rising` goes on changing with `age` {figures}" in told("rising", "old", "x")["old"]
    assert "within the levels the log odds go on changing with `age` (likelihood ratio chi²(1) = " in told("stays", "old")["old"]
    assert "F(1, 596) = " in told("rising", "old", "x", errors="HC3")["old"]
    for quiet in (
        ("step", "old"),
        ("rising", "band", "x"),
        ("rising", "old", "age"),
        ("rising", "each"),
        ("stays", "each"),
        ("rising", mb.interaction("old", "x")),
    ):
        assert told(*quiet) == {}, quiet
    many = pd.DataFrame({"age": rng.uniform(18, 80, 20_000)}).assign(rising=lambda d: 0.012 * d["age"] + rng.normal(size=20_000) * 2)
    for rows, much, clear in ((many, False, True), (data.head(30), True, False)):
        own = mb.Study(rows).split_at("age", above=45, labels=("young", "old"), name="old")
        whole, bare = mb.fit_linear(own, "rising", ["old", "age"]), mb.fit_linear(own, "rising", ["old"])
        share = 1 - whole.strength.residual_ss / bare.strength.residual_ss
        assert (share > 0.02, whole.terms["p"][1] < 0.001) == (much, clear)
        assert told("rising", "old", of=own) == {}


SHARES = "`work`, `home`, `choir` and `rest` add up to 99 to 101 in every row: shares of one whole, rounded."
TOTAL = "`whole` is the sum of `a`, `b` and `c` in every row, to within 0.5: they say the same but for rounding. Leave one of the 4 out"


@pytest.mark.parametrize("gaps", [0, 30])
def test_parts_of_one_whole_are_named_where_nothing_but_rounding_sets_them_apart(gaps):
    data = made()
    data.loc[: gaps - 1, "choir"] = np.nan
    study = mb.Study(data)
    shares, parts = ["work", "home", "choir", "rest"], ["a", "b", "c", "whole"]
    for terms, told in (
        (["far", *shares], [SHARES]),
        ([*shares, *parts], [SHARES, TOTAL]),
        (shares[:3], []),
        (["a", "b", "c", "loose"], []),
        ([*shares[:3], "more"], []),
        (["x", "near", "far"], []),
    ):
        page = " ".join(str(mb.fit_linear(study, "y", terms).reading()).split())
        advice = [a.text for a in mb.screen(study, terms, "y").advice if a.kind == "rounded"]
        assert len(advice) == len(told) == page.count("Leave one"), terms
        for wanted in told:
            [text] = [text for text in advice if text.startswith(wanted)]
            assert text.replace("`", "") in page
