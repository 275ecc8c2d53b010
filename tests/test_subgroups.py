"""The same model in each level of a group: each by its own rows, and what differs by dense columns and by likelihoods."""

import json
import re

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import BOOK, DATA, PLAN, run

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
rng = np.random.default_rng(8)
N = 420
FRAME = pd.DataFrame({
    "g": rng.choice(["north", "south", "west", None], N, p=[0.5, 0.3, 0.17, 0.03]), "x": rng.normal(3, 2, N), "z": rng.normal(size=N),
    "k": rng.choice(["a", "b", "c"], N), "w": rng.uniform(0.5, 3, N), "t": rng.choice([f"t{j}" for j in range(40)], N), "v": rng.integers(1, 4, N),
})  # fmt: skip
slope = FRAME["g"].map({"north": 1.0, "south": 0.2, "west": 1.1}).fillna(0)
FRAME["y"] = slope * FRAME["x"] + (FRAME["k"] == "b") + rng.normal(size=N) * (1 + slope)
FRAME["yes"] = np.where(rng.random(N) < 1 / (1 + np.exp(2 - slope * FRAME["x"])), "yes", "no")
FRAME.loc[rng.random(N) < 0.05, "z"] = np.nan


@pytest.mark.parametrize("settings", [
    {}, {"errors": "HC1"}, {"cluster": "t"}, {"weights": "w"}, {"weights": "v", "weights_are": "frequency"}, {"fixed_effects": "t"},
    {"kind": "logistic", "event": "yes"}, {"kind": "logistic", "event": "yes", "penalty": "firth"}, {"level": 0.9},
])  # fmt: skip
def test_each_level_is_fitted_to_its_own_rows(settings, tmp_path, small_parts):  # noqa: ARG001
    outcome, terms = ("yes" if "kind" in settings else "y"), ["x", "z", "k", "g", mb.interaction("x", "g")]
    FRAME.to_parquet(tmp_path / "f.parquet")
    one = mb.fit_logistic if "kind" in settings else mb.fit_linear
    more = {key: value for key, value in settings.items() if key != "kind"}
    for study in (mb.Study(FRAME), mb.open_study(tmp_path / "f.parquet", in_parts=True)):
        found = mb.fit_subgroups(study, outcome, terms, "g", **settings)
        assert found.left_out == ("g",)
        assert "The base c of k was not chosen: it is the largest level of all rows." in " ".join(str(found).split())
        assert list(found.fits) == ["north", "south", "west"]
        for label, fit in found.fits.items():
            alone = one(mb.Study(FRAME[FRAME["g"] == label]).mark("k", "c"), outcome, ["x", "z", "k"], **more)
            pd.testing.assert_frame_equal(fit.coefficients, alone.coefficients, rtol=1e-7)
            own = found.estimates[found.estimates["group"] == label].drop(columns="group").reset_index(drop=True)
            pd.testing.assert_frame_equal(own, fit.coefficients)
        assert ("weights from" in str(found) or "frequenc" in str(found)) == ("weights" in settings)
        assert (found.pooled is None) == ("fixed_effects" in settings)
        if found.pooled is not None:  # whose estimates are the same
            slopes = found.pooled.simple_slopes("x", by="g").set_index("level")["slope"]
            assert slopes.tolist() == pytest.approx(found.estimates[found.estimates["term"] == "x"]["estimate"].tolist(), rel=1e-6)
        else:
            assert "is not tested: beside levels that are taken out (fixed effects) g itself cannot stand" in " ".join(str(found).split())


def test_whether_they_differ_is_told_by_dense_columns_with_a_variance_for_each_row():
    found = mb.fit_subgroups(FRAME, "y", ["x", "z", "k"], by="g")
    rows = FRAME.dropna()
    own = np.column_stack([np.ones(len(rows)), rows["x"], rows["z"], rows["k"] == "b", rows["k"] == "c"]).astype(float)
    X = np.hstack([own * (rows["g"] == g).to_numpy()[:, None] for g in ("north", "south", "west")])
    inverse = np.linalg.inv(X.T @ X)
    b = inverse @ X.T @ rows["y"]
    e = (rows["y"] - X @ b).to_numpy() / (1 - np.einsum("ij,jk,ik->i", X, inverse, X))
    V = inverse @ (X.T * e**2) @ X @ inverse
    told = found.tests.set_index("term")
    for term, places in {"x": [1], "z": [2], "k": [3, 4], "(all together)": [1, 2, 3, 4]}.items():
        R = np.zeros((2 * len(places), 15))
        for row, (place, other) in enumerate((p, o) for p in places for o in (5, 10)):
            R[row, place], R[row, place + other] = 1, -1
        F = R @ b @ np.linalg.solve(R @ V @ R.T, R @ b) / len(R)
        assert told.loc[term, ["df", "df_rest", "statistic"]].tolist() == pytest.approx([len(R), len(rows) - 15, F], rel=1e-9)


def test_whether_they_differ_is_told_by_likelihoods():
    found = mb.fit_subgroups(FRAME, "yes", ["x", "k"], by="g", kind="logistic", event="yes")
    alike = mb.fit_logistic(FRAME.dropna(subset=["g"]), "yes", ["g", "x", "k"], event="yes")
    ratio = 2 * (sum(fit.strength.loglik for fit in found.fits.values()) - alike.strength.loglik)
    assert found.tests.iloc[-1][["df", "statistic"]].tolist() == pytest.approx([6, ratio], rel=1e-8)
    for label, fit in found.fits.items():
        own = found.probabilities[found.probabilities["group"] == label].drop(columns="group").reset_index(drop=True)
        pd.testing.assert_frame_equal(own, fit.marginal)
    page = " ".join(str(found).split())
    assert "The coefficients of x differ between the levels of g (chi²(2)" in page
    assert "Log odds and odds ratios of different rows differ also where" in page
    lines = str(found).split("In probability")[1].splitlines()
    for level in ("a", "b"):
        (cells,) = [re.findall(r"([−\d.]+) \(", line) for line in lines if f"k: {level} " in line]
        wanted = found.probabilities[found.probabilities["level"] == level]["effect"]
        assert [float(cell.replace("−", "-")) for cell in cells] == pytest.approx((100 * wanted).tolist(), abs=0.5)
    assert any(re.search(r"k: c +base +base +base", line) for line in lines)


def test_clear_here_and_not_there_is_no_difference_and_what_cannot_be_fitted_is_named():
    frame = FRAME[FRAME["g"].notna()].assign(
        small=lambda f: 0.2 * f["z"] + np.random.default_rng(5).normal(size=len(f)), one=lambda f: np.where(f["g"] == "west", 1.0, f["x"])
    )
    page = " ".join(str(mb.fit_subgroups(frame, "small", ["z"], by="g")).split())
    assert re.search(
        r"No clear evidence of a difference between the levels: z p = \.\d+\. · Clear in some levels and not in others, which is no evidence .*: z \(",
        page,
    )
    assert "no evidence that these differ" not in str(mb.fit_subgroups(frame, "y", ["x"], by="g"))
    noise = np.random.default_rng(2)
    many = frame.assign(**{f"n{k}": noise.normal(size=len(frame)) for k in range(5)})
    many["q"] = 0.28 * many["n0"] * (many["g"] == "north") + noise.normal(size=len(many))
    assert "1 clear term among 5 is weak evidence" in " ".join(str(mb.fit_subgroups(many, "q", [f"n{k}" for k in range(5)], by="g")).split())
    wide = mb.fit_subgroups(many.assign(team=[f"t{k % 9}" for k in range(len(many))]), "q", [f"n{k}" for k in range(5)], by="g", cluster="team")
    assert "All coefficients together are not tested: 9 clusters cannot carry a joint test of 10 coefficients." in " ".join(str(wide).split())
    assert re.search(r"\(all together\) +10 +– +not tested", str(wide))
    some = mb.fit_subgroups(frame, "y", ["one"], by="g")
    assert (list(some.fits), list(some.refused)) == (["north", "south"], ["west"])
    assert "not in west `one` is 1 in every row used" in " ".join(str(some).split()) or "not in west" in str(some)
    assert len(some.pooled.residuals.dropna()) == (frame["g"] != "west").sum()
    product = mb.interaction("x", "z", "k")
    assert "an interaction of three columns cannot differ by a fourth, `g`" in mb.fit_subgroups(frame, "y", [product], by="g").untold
    with pytest.warns(mb.MarkbaseWarning) as told:
        mb.fit_subgroups(frame, "y", ["x", mb.interaction("x", "z")], by="g")
    assert [str(w.message).split("`")[1:4:2] for w in told if "came without" in str(w.message)] == [["x × z", "z"]]
    bent = mb.fit_subgroups(frame, "y", ["x", mb.interaction(mb.polynomial("x"), "g")], by="g")
    assert [term.name for term in bent.fits["west"].model_terms] == ["x (quadratic)"]
    rest = mb.fit_subgroups(frame[["y", "g", "x", "k"]], "y", mb.all_but("k"), by="g")
    assert (rest.left_out, [t.name for t in rest.fits["west"].model_terms]) == (("g",), ["x"])
    curved = mb.fit_subgroups(frame, "y", [mb.polynomial("x"), mb.interaction("x", "z")], by="g").tests
    assert curved["term"].tolist() == ["x (quadratic)", "z", "x × z", "(all together)"]
    assert curved["df"].tolist() == [4, 2, 2, 8]
    for by, what in (
        ("x", "`x` is numeric: fits are made by the levels"),
        ("t", "40 levels of `t` have rows"),
        ("y", "is the outcome"),
        ("q", "no column"),
    ):
        with pytest.raises(mb.MarkbaseError, match=what):
            mb.fit_subgroups(frame, "y", ["z"], by=by)
    with pytest.raises(mb.MarkbaseError, match="no term to fit within"):
        mb.fit_subgroups(frame, "y", ["g"], by="g")
    alone = frame.assign(one=frame["x"].where(frame["g"] == "north", 1.0))
    with pytest.raises(mb.FitError, match=r"can be fitted in 1 level of `g`, and needs two\. In `south`:"):
        mb.fit_subgroups(alone, "y", ["one"], by="g")
    with pytest.raises(mb.FitError, match=r"can be fitted in 0 levels of `g`, and needs two\. In `north`:"):
        mb.fit_subgroups(frame.assign(y=1.0), "y", ["x"], by="g")


def test_the_command_a_plan_and_a_manuscript_tell_the_same(tmp_path):
    study = mb.demo.plan().open()
    found = mb.fit_subgroups(study, "belonging", ["voice", "age", "rehearsals"], by="stays")
    told = run("subgroups", PLAN, "Voice parts compared", "--by", "stays", "--json", "--manuscript", tmp_path / "t.md")
    assert json.loads(told.stdout)["statements"] == list(found.statements)
    assert f"(all together) p = {found.tests['p'].iloc[-1]:.3f}".replace("0.", ".") in (tmp_path / "t.md").read_text("utf-8").replace("\\", "")
    entry = '[[fit]]\nname = "f"\noutcome = "belonging"\nterms = ["age", "rehearsals"]\nsubgroups = ["stays"]\n[output]\nlabels = true\n'
    (tmp_path / "p.toml").write_text(f'[data]\nfile = "{DATA}"\ncodebook = "{BOOK}"\n{entry}')
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    page = (tmp_path / "out" / "report.html").read_text("utf-8")
    assert "belonging, in each level of stays: linear regression on 2 terms" in re.sub("<[^>]*>", "", page)
    assert "The same model was fitted in each level of stays by itself; whether" in (tmp_path / "out" / "methods.txt").read_text("utf-8")
    estimates = pd.read_csv(tmp_path / "out" / "tables" / "f-by-stays-estimates.csv")
    assert estimates["group"].unique().tolist() == ["no", "yes"]
    assert f"How much at home the singer feels, 0 to 100, in each level of {study['stays'].label}: linear" in (
        tmp_path / "out" / "tables.md"
    ).read_text("utf-8")
    refused = run("subgroups", PLAN, "Voice parts compared", "stays", "--by", "stays")
    assert "There is nothing to do with `stays`" in refused.stderr
