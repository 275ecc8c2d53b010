"""Errors from replicate weights: by fits with each of them written out, by what leaving out clusters comes to, and in every place that tells errors."""

import re
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
rng = np.random.default_rng(31)
N, UNITS = 480, 32
FRAME = pd.DataFrame({"unit": np.repeat(np.arange(UNITS), N // UNITS), "w": rng.uniform(1, 5, N), "g": rng.choice(["a", "b", "c"], N)})
FRAME["x"] = rng.normal(size=N) + rng.normal(size=UNITS)[FRAME["unit"]]
FRAME["y"] = 0.5 * FRAME["x"] + (FRAME["g"] == "b") + rng.normal(size=N) + rng.normal(size=UNITS)[FRAME["unit"]]
FRAME["yes"] = np.where(FRAME["y"] + rng.normal(size=N) > 0.6, "yes", "no")
FRAME.loc[rng.random(N) < 0.04, "x"] = np.nan
SIGNS = np.array([[(-1) ** bin(r & h).count("1") for h in range(16)] for r in range(16)])  # rows that are orthogonal
HALVES = SIGNS[:, FRAME["unit"] // 2] * np.where(FRAME["unit"] % 2, 1, -1)


def with_weights(values):
    """The data with replicate weights `r1` on, of shape (replicates, rows)."""
    return mb.Study(FRAME.assign(**{f"r{k}": own for k, own in enumerate(values, 1)})).mark("g", "a")


W = FRAME["w"].to_numpy()
MADE = {
    "BRR": W * (1 + HALVES), "Fay": W * (1 + 0.5 * HALVES), "JK2": np.array([np.where(FRAME["unit"] // 2 == h, W * (1 + HALVES[3]), W) for h in range(16)]),
    "JK1": np.array([np.where(FRAME["unit"] == h, 0, W * UNITS / (UNITS - 1)) for h in range(UNITS)]), "SDR": W * (1 + 0.3 * HALVES),
    "bootstrap": np.array([W * np.bincount(rng.integers(0, UNITS, UNITS), minlength=UNITS)[FRAME["unit"]] for _ in range(25)]),
}  # fmt: skip
SCALES = {"BRR": 1 / 16, "Fay": 1 / 16 / 0.5**2, "JK2": 1, "JK1": 31 / 32, "SDR": 4 / 16, "bootstrap": 1 / 25}
DF = {"BRR": 16, "Fay": 16, "JK2": 16, "JK1": 31, "SDR": 16, "bootstrap": 24}


def estimates(weights, logistic=False):
    """The coefficients of x and g with some weights, by normal equations or Newton's steps."""
    rows = FRAME["x"].notna().to_numpy()
    X = np.column_stack([np.ones(N), FRAME["x"], FRAME["g"] == "b", FRAME["g"] == "c"]).astype(float)[rows]
    w, y = weights[rows], (FRAME["yes"] == "yes" if logistic else FRAME["y"]).to_numpy(float)[rows]
    if not logistic:
        return np.linalg.solve(X.T @ (X * w[:, None]), X.T @ (w * y))
    b = np.zeros(4)
    for _ in range(30):
        p = 1 / (1 + np.exp(-X @ b))
        b = b + np.linalg.solve(X.T @ (X * (w * p * (1 - p))[:, None]), X.T @ (w * (y - p)))
    return b


@pytest.mark.parametrize("logistic", [False, True])
@pytest.mark.parametrize("method", MADE)
def test_errors_are_those_of_fits_with_each_of_the_weights(method, logistic, tmp_path, small_parts):  # noqa: ARG001
    study, chosen = with_weights(MADE[method]), {"weights": "w", "replicates": "r*", "replicates_are": method}
    study.frame().to_parquet(tmp_path / "f.parquet")
    b = estimates(W, logistic)
    off = np.array([estimates(own, logistic) - b for own in MADE[method]])
    V = SCALES[method] * off.T @ off
    pages = []
    for source in (study, mb.open_study(tmp_path / "f.parquet", in_parts=True).mark("g", "a")):
        fit = mb.fit_logistic(source, "yes", ["x", "g"], event="yes", **chosen) if logistic else mb.fit_linear(source, "y", ["x", "g"], **chosen)
        told = fit.coefficients[~fit.coefficients["base"]]
        assert told["estimate"].tolist() == pytest.approx(b.tolist(), rel=1e-9)
        assert told["se"].tolist() == pytest.approx(np.sqrt(np.diag(V)).tolist(), rel=1e-8)
        assert fit.df_rest == DF[method]
        if method == "BRR":
            assert "straight lines" in str(fit.checks())
            pages.append(re.sub(r"in .* rows taken at random", "", " ".join(str(fit).split("Does the model say")[1].split())))
        F = b[2:] @ np.linalg.solve(V[2:, 2:], b[2:]) / 2 * (DF[method] - 1) / DF[method]
        assert fit.term_tests.each[1][:3] == (pytest.approx(F, rel=1e-7), 2, DF[method] - 1)
    assert all(page.count("16 replicate weights") == 1 for page in pages)
    scaled = {**chosen, "replicates_scale": 0.4}
    other = mb.fit_linear(study, "y", ["x", "g"], **scaled)
    assert (other.coefficients["se"] / mb.fit_linear(study, "y", ["x", "g"], **chosen).coefficients["se"])[1] == pytest.approx(
        np.sqrt(0.4 / SCALES[method])
    )
    if method == "JK1" and not logistic:  # which is what leaving out each cluster comes to
        left = mb.fit_linear(study, "y", ["x", "g"], weights="w", cluster="unit", errors="CR3")
        pd.testing.assert_frame_equal(fit.coefficients, left.coefficients, rtol=1e-7)
        pd.testing.assert_frame_equal(fit.terms, left.terms, rtol=1e-7)


def test_areas_and_shares_have_the_errors_of_leaving_out_whole_units():
    study = with_weights(MADE["JK1"])
    fit = mb.fit_logistic(study, "yes", ["x", "g"], event="yes", weights="w", replicates="r*", replicates_are="JK1")
    clustered = mb.fit_logistic(study, "yes", ["x", "g"], event="yes", weights="w", cluster="unit")
    own, other = fit.classification(), clustered.classification()
    assert own.area == pytest.approx(other.area, rel=1e-9)
    assert own.area_high - own.area_low == pytest.approx(other.area_high - other.area_low, rel=0.02)
    assert own.allows_for == "what the replicate weights hold of the sample"
    shares, others = fit.calibration(), clustered.calibration()
    width, wide = (table["high"] - table["low"] for table in (shares, others))
    assert np.median(np.abs(width / wide - 1)) < 0.05
    assert "the intervals of the calibration allow for" in fit.calibration_test().untested


def test_every_command_a_plan_and_a_saved_fit_tell_the_same_errors(tmp_path):
    study = with_weights(MADE["Fay"])
    study.frame().to_csv(tmp_path / "f.csv", index=False)
    fit = mb.fit_linear(study, "y", ["x", "g"], weights="w", replicates="r*", replicates_are="Fay")
    model = ["f.csv", "--base", "g=a", "--outcome", "y", "--weights", "w", "--replicates", "r*", "--replicates-are", "fay"]
    told = run("fit", *model, "--terms", "x,g", "--save", "fit.json", cwd=tmp_path).stdout
    words = "errors from 16 replicate weights (r1 to r16, balanced repeated replication after Fay, with weights halved and half as large again)"
    assert words in " ".join(told.split())
    assert "F(3, 14)" in told
    line = next(line for line in told.splitlines() if re.match(r"  x +0\.\d", line))
    assert re.search(rf" {fit.coefficients['se'][1]:.2f} ", line), line
    for command in (["groups", *model, "--terms", "x,g"], ["groups", "fit.json"]):
        assert "16 replicate weights" in " ".join(run(*command, cwd=tmp_path).stdout.split())
    blocks = " ".join(run("blocks", *model, "--block", "one: x", "--block", "two: g", cwd=tmp_path).stdout.split())
    assert "none of the change with these errors" in blocks
    assert "bootstrap" not in blocks
    for command in (["check"], ["validate"], ["slopes", "x"], ["dominance"]):
        result = run(command[0], *model, "--terms", "x,g", *command[1:], cwd=tmp_path)
        assert result.returncode == 0, result.stderr
    narrow = run("fit", *model, "--terms", "x,g", "--in-parts", cwd=tmp_path)
    assert "16 replicate weights" in " ".join(narrow.stdout.split())
    refused = run("fit", *model, "--terms", "x,g", "--bootstrap", "100", cwd=tmp_path)
    assert refused.returncode == 2
    assert "Replicate weights are samples of the survey already" in refused.stderr
    mb.write_plan(tmp_path / "p.toml", mb.open_study(tmp_path / "f.csv").mark("g", "a"), {"f": fit}, data=tmp_path / "f.csv")
    again = mb.read_plan(tmp_path / "p.toml").make()["f"]
    pd.testing.assert_frame_equal(again.coefficients, fit.coefficients, rtol=1e-7)
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    assert "Standard errors are from 16 replicate weights" in (tmp_path / "out" / "methods.txt").read_text("utf-8")
    noise = np.random.default_rng(1).normal(size=(2, N))
    values = mb.Study(study.frame().assign(pv1m=FRAME["y"] + noise[0], pv2m=FRAME["y"] + noise[1])).mark("g", "a")
    both = mb.fit_imputations(values, ["pv1m", "pv2m"], ["x", "g"], weights="w", replicates="r*", replicates_are="Fay")
    each = [mb.fit_linear(values, f"pv{k}m", ["x", "g"], weights="w", replicates="r*", replicates_are="Fay").coefficients for k in (1, 2)]
    within, between = sum(t["se"] ** 2 for t in each) / 2, (each[0]["estimate"] - each[1]["estimate"]) ** 2 / 2
    assert both.coefficients["se"].tolist() == pytest.approx(np.sqrt(within + 1.5 * between).tolist(), rel=1e-9)


def test_what_replicate_weights_do_not_go_with_is_refused_and_what_is_not_made_use_of_told(tmp_path):
    study, fit = with_weights(MADE["BRR"]), mb.fit_linear
    with pytest.warns(mb.MarkbaseWarning, match="`r1` to `r16` may be 16 replicate weights"):
        fit(study, "y", ["x"], weights="w")
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        fit(mb.Study(FRAME.assign(**{f"item{k}": rng.integers(1, 6, N) for k in range(1, 12)}, w=rng.uniform(1, 5, N))), "y", ["x"], weights="w")
    made = with_weights(MADE["JK2"])
    told = {name: [r.text for r in own] for name, own in made.remarks().items()}
    assert "16 replicate weights of `w`, `r1` to `r16`?" in told["r1"][0]
    assert not any(f"r{k}" in told for k in range(2, 17))
    panel = FRAME.assign(**{f"income{k}": np.exp(FRAME["y"] + 0.2 * rng.normal(size=N)) for k in range(1, 12)}, wealth=np.exp(FRAME["y"]))
    assert not any("replicate" in r.text for own in mb.Study(panel).remarks().values() for r in own)
    made.frame().to_csv(tmp_path / "j.csv", index=False)
    draft = run("start", "j.csv", "--outcome", "y", cwd=tmp_path).stdout
    assert '# replicates = "r*"' in draft
    assert "r1 to r16, 16 columns (may be replicate weights)" in draft
    assert 'terms = ["g", "x", "yes"]' in draft
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        fit(with_weights(10 * MADE["BRR"]), "y", ["x"], weights="w")
    factors = mb.Study(FRAME.assign(**{f"f{k}": own for k, own in enumerate(1 + 0.5 * HALVES, 1)}))
    with pytest.warns(mb.MarkbaseWarning, match="On average `f1` is .* factors that the weights are to be multiplied with first"):
        fit(factors, "y", ["x"], weights="w", replicates="f*", replicates_are="Fay")
    rare = with_weights(MADE["BRR"]).frame().assign(g=np.where(FRAME["unit"] == 0, "d", FRAME["g"]))
    gaps = study.frame().assign(r3=study.frame()["r3"].where(FRAME.index != 7))
    for data, outcome, terms, settings, words in (
        (study, "y", ["x"], {"replicates": "r*"}, "Say how the replicate weights were made"),
        (study, "y", ["x"], {"replicates": "r*", "replicates_are": "BRR", "weights": None}, "go with the weights of the sample itself"),
        (study, "y", ["x"], {"replicates": "r*", "replicates_are": "JK3"}, "no replicate weights 'JK3'"),
        (study, "y", ["x"], {"replicates": "q*", "replicates_are": "BRR"}, "No column has a name that fits `q*`"),
        (study, "y", ["x"], {"replicates": "r1", "replicates_are": "BRR"}, "two replicate weights or more"),
        (study, "y", ["x"], {"replicates": ["g", "r1"], "replicates_are": "BRR"}, "`g` is categorical"),
        (study, "y", ["x"], {"replicates": ["w", "r1"], "replicates_are": "BRR"}, "`w` is the weights of the sample itself"),
        (study, "y", ["x"], {"replicates": ["x", "r1"], "replicates_are": "BRR"}, "`x` is a column of the model"),
        (study, "y", ["x"], {"replicates": "r*", "replicates_are": "BRR", "replicates_scale": 0.0}, "is above 0"),
        (study, "y", ["x"], {"replicates_are": "BRR"}, "Name the replicate weights themselves"),
        (study, "y", ["x"], {"replicates": "r*", "replicates_are": "BRR", "cluster": "unit"}, "leave clusters (`unit`) out"),
        (study, "y", ["x"], {"replicates": "r*", "replicates_are": "BRR", "errors": "HC3"}, "leave `HC3` errors out"),
        (study, "y", ["x"], {"replicates": "r*", "replicates_are": "BRR", "fixed_effects": "g"}, "levels are not taken out"),
        (study, "y", ["x"], {"replicates": "r*", "replicates_are": "BRR", "weights_are": "frequency"}, "not with frequencies"),
        (mb.Study(gaps), "y", ["x"], {"replicates": "r*", "replicates_are": "BRR"}, "`r3` are missing in 1 row"),
        (mb.Study(rare), "y", ["x", "g"], {"replicates": "r*", "replicates_are": "BRR"}, "do not tell all coefficients"),
    ):  # fmt: skip
        with pytest.raises(mb.MarkbaseError, match=re.escape(words)):
            fit(data, outcome, terms, **{"weights": "w", **settings})
    few = fit(study, "y", ["x", "g", mb.interaction("x", "g")], weights="w", replicates=["r2", "r3", "r4"], replicates_are="BRR")
    assert "3 replicate weights cannot carry a joint test" in few.overall.untested
    here, there = FRAME["unit"] == 0, FRAME["unit"] < 4  # without unit 0 all rows of `d` say yes
    one = mb.Study(
        with_weights(MADE["JK1"]).frame().assign(g=np.where(there, "d", "a"), yes=np.where(there, np.where(here, "no", "yes"), FRAME["yes"]))
    )
    with pytest.raises(mb.FitError, match="With the replicate weights `r1` the likelihood has no largest value"):
        mb.fit_logistic(one, "yes", ["g"], event="yes", weights="w", replicates="r*", replicates_are="JK1")
