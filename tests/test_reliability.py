"""Reliability of scales: exact rational arithmetic, other items left out by hand, tails of F at 50 digits, items turned round."""

import json
import re
import shlex
import warnings
from fractions import Fraction

import mpmath as mp
import numpy as np
import pandas as pd
import pytest
import scipy.optimize
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from command import run
from markbase.core.inference.distributions import t_quantile
from markbase.core.screening.one_factor import OneFactor, one_factor
from reference import spread_by_rows, z_of

ITEMS = ["welcome", "friends", "heard", "stranger", "part_of_it", "would_miss"]
TURNED = {1: 5, 2: 4, 3: 3, 4: 2, 5: 1}
FILES = [mb.demo.path("choir_items.csv"), "--codebook", mb.demo.path("choir_items.codebook.toml")]


def covariance(a, b):
    n, means = len(a), (sum(a) / len(a), sum(b) / len(b))
    return sum((x - means[0]) * (y - means[1]) for x, y in zip(a, b, strict=True)) / (n - 1)


def alpha(columns):
    total = [sum(row) for row in zip(*columns, strict=True)]
    k = len(columns)
    return Fraction(k, k - 1) * (1 - sum(covariance(c, c) for c in columns) / covariance(total, total))


def correlation(a, b):
    with mp.workdps(50):
        a, b, both = (mp.mpf(v.numerator) / v.denominator for v in (covariance(a, a), covariance(b, b), covariance(a, b)))
        return both / mp.sqrt(a * b)


def _log_left(*columns):
    S, k = np.cov(columns[:-1], aweights=columns[-1], ddof=0), len(columns) - 1
    return np.log(1 - k / (k - 1) * (1 - np.trace(S) / S.sum()))


@settings(deadline=None, max_examples=25)
@given(st.data(), st.integers(2, 6), st.sampled_from([0, 10**9]), st.integers(6, 40))
def test_every_figure_is_that_of_exact_arithmetic(data, k, far, n):
    seed = np.random.default_rng(data.draw(st.integers(0, 10**6)))
    frame = pd.DataFrame({f"q{j}": far + np.round(seed.normal(size=n) * 8 + 3 * (j + 1) * seed.normal(size=n)) / 4 for j in range(k)})
    frame.loc[seed.integers(n), "q0"] = np.nan
    found = mb.reliability(mb.Study(frame), list(frame), level=0.9)
    columns = [[Fraction(v) for v in frame.dropna()[name]] for name in frame]
    exact, near = alpha(columns), frame.dropna().to_numpy() - far
    assert (found.sample.used, found.sample.rows) == (n - 1, n)
    assert found.alpha == pytest.approx(float(exact), rel=1e-9, abs=1e-9)
    for j, row in enumerate(found.table.itertuples()):
        others = columns[:j] + columns[j + 1 :]
        rest = float(correlation(columns[j], [sum(v) for v in zip(*others, strict=True)]))
        assert row.rest_r == pytest.approx(rest, abs=1e-9)
        half = float(mp.sqrt(2) * mp.erfinv(mp.mpf("0.9"))) / np.sqrt(n - 4)
        half *= max(1, spread_by_rows(z_of, near[:, j], near.sum(axis=1) - near[:, j]) * np.sqrt(n - 1))
        assert np.arctanh([row.rest_low, row.rest_high]) == pytest.approx(np.arctanh(rest) + np.array([-half, half]), abs=1e-5)
        assert row.sd**2 == pytest.approx(float(covariance(columns[j], columns[j])), rel=1e-9)
        if k > 2:
            assert row.alpha_without == pytest.approx(float(alpha(others)), rel=1e-8, abs=1e-8)
        else:
            assert np.isnan(row.alpha_without)
    pairs = [float(correlation(columns[a], columns[b])) for a in range(k) for b in range(a)]
    mean = sum(pairs) / len(pairs)
    assert found.mean_r == pytest.approx(mean, abs=1e-9)
    assert found.standardised_alpha == pytest.approx(k * mean / (1 + (k - 1) * mean), abs=1e-8)
    assert found.components == pytest.approx(np.linalg.eigvalsh(found.correlations)[::-1] / k)
    stretch = max(1, spread_by_rows(_log_left, *near.T) * np.sqrt((n - 1) * (k - 1) / (2 * k)))
    for end, tail in zip(found.interval, (0.95, 0.05), strict=True):  # (1 − end)/(1 − alpha) is a quantile of F
        d1, d2 = n - 2, (n - 2) * (k - 1)
        F = ((1 - end) / (1 - float(exact))) ** (1 / stretch)
        assert float(mp.betainc(d1 / 2, d2 / 2, 0, d1 * F / (d1 * F + d2), regularized=True)) == pytest.approx(tail, abs=1e-5)


@pytest.mark.parametrize("turned", [["stranger"], ["welcome"], ["friends", "heard"], ["welcome", "heard", "friends"]])
def test_items_worded_the_other_way_round_are_named_and_turned_back(turned):
    right = mb.demo.choir_items().as_numeric("stranger", scores=TURNED)
    wrong = right
    for name in turned:
        wrong = wrong.as_numeric(name, scores=TURNED)
    named = turned if len(turned) < 3 else [name for name in ITEMS if name not in turned]  # of halves that without the first
    clean, found = mb.reliability(right, ITEMS), mb.reliability(wrong, ITEMS)
    assert not clean.consistency.against
    assert list(found.consistency.against) == named
    frame = wrong.frame()[ITEMS].dropna()
    others = frame.drop(columns=named).sum(axis=1)
    for name, r in found.consistency.against.items():
        assert r == pytest.approx(np.corrcoef(frame[name], others)[0, 1])
    for flat in (0, 20):
        frame.iloc[:flat] = 5
        share, told = (frame.nunique(axis=1) == 1).mean(), " ".join(mb.reliability(frame, ITEMS).statements)
        assert (f"{share:.1%} of the rows give the same answer to all 6 items" in told) == (share >= 0.02) == (flat > 0)
    with pytest.warns(mb.MarkbaseWarning, match=f"`{named[0]}`.* go(es)? against the other items"):
        made = wrong.derive("home", mean=ITEMS)
    assert f"Cronbach's alpha {found.alpha:.2f}".replace("0.", ".").replace("-", "−") in made.trail.steps[-1].text
    for step in found.mend:
        wrong = wrong.as_numeric(step["column"], scores=step["scores"])
    assert mb.reliability(wrong, ITEMS).alpha == pytest.approx(clean.alpha)
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert "alpha .88 in the 360 rows" in right.derive("home", sum=ITEMS).trail.steps[-1].text
        assert "alpha" not in mb.demo.choirs().derive("all", sum=["rehearsals", "concerts"]).trail.steps[-1].text


def discrepancy(theta, S):
    loadings, unique = np.split(theta, 2)
    sigma = np.outer(loadings, loadings) + np.diag(np.exp(unique))
    return np.linalg.slogdet(sigma)[1] + np.trace(np.linalg.solve(sigma, S))


def log_left(*columns):
    factor = one_factor(np.cov(columns[:-1], aweights=columns[-1], ddof=0))
    return np.log(1 - factor.omega)


@pytest.mark.parametrize("k", [3, 5, 9])
def test_omega_is_that_of_the_likeliest_factor_and_alpha_where_items_belong_alike(k, small_parts, tmp_path):  # noqa: ARG001
    rng = np.random.default_rng(k)
    loadings, unique, n = rng.uniform(0.5, 1.5, k), rng.uniform(0.3, 2, k), 160
    frame = pd.DataFrame(np.outer(rng.normal(size=n), loadings) + rng.normal(size=(n, k)) * np.sqrt(unique), columns=[f"q{j}" for j in range(k)])
    frame.loc[:, ["q0", "q1"]] += 1.2 * rng.normal(size=(n, 1)) * (k == 9)
    S, found = np.cov(frame.T), mb.reliability(frame, list(frame))
    best = scipy.optimize.minimize(discrepancy, np.concatenate([loadings, np.log(unique)]), args=(S,), tol=1e-13)
    own, rest = np.split(best.x, 2)
    assert found.omega == pytest.approx(own.sum() ** 2 / (own.sum() ** 2 + np.exp(rest).sum()), rel=1e-6)
    assert found.table["loading"].tolist() == pytest.approx((own / np.sqrt(np.diag(S))).tolist(), rel=1e-4)
    theta = np.concatenate([found.factor.loadings, np.log(found.factor.unique)])
    assert discrepancy(theta, S) <= best.fun + 1e-12
    if k == 3:  # three covariances tell three loadings
        assert found.factor.loadings == pytest.approx(
            np.sqrt([S[0, 1] * S[0, 2] / S[1, 2], S[0, 1] * S[1, 2] / S[0, 2], S[0, 2] * S[1, 2] / S[0, 1]]), rel=1e-9
        )
    half = np.log((1 - found.omega_interval[0]) / (1 - found.omega_interval[1])) / 2 / t_quantile(0.95, n - 1)
    assert half == pytest.approx(spread_by_rows(log_left, *frame.to_numpy().T), rel=1e-5)
    for factor in (1e-3, 10.0):  # in any unit
        assert mb.reliability(frame * factor + 1e6, list(frame)).omega == pytest.approx(found.omega, rel=1e-7)
    turned = mb.reliability(frame.assign(q0=-frame["q0"]), list(frame))
    assert turned.table["loading"].abs().tolist() == pytest.approx(found.table["loading"].tolist(), rel=1e-9)
    same = " ".join(found.statements)
    assert ("between `q0` and `q1`, which share more than that" in same) == (k == 9)
    few = mb.reliability(frame.head(25), list(frame))  # in which much is left by chance
    assert k != 5 or (np.abs(few.factor.left).max() > 0.1 and "share more" not in " ".join(few.statements))
    frame.to_parquet(tmp_path / "f.parquet")
    assert mb.reliability(mb.open_study(tmp_path / "f.parquet", in_parts=True), list(frame)).omega == pytest.approx(found.omega, rel=1e-10)
    alike = OneFactor(np.full(k, 0.7), unique, np.full((k, k), 0.49) + np.diag(unique))
    assert one_factor(alike.covariance).omega == pytest.approx(k / (k - 1) * (1 - np.trace(alike.covariance) / alike.covariance.sum()), rel=1e-9)


def test_where_one_factor_leaves_an_item_nothing_of_its_own_there_is_no_omega():
    rng = np.random.default_rng(2)
    one, noise, more = rng.normal(size=(3, 400))
    frame = pd.DataFrame({"a": one, "b": 0.6 * one + noise, "c": 0.6 * one - 0.3 * noise + more})
    found = mb.reliability(frame, ["a", "b", "c"])
    assert np.isnan(found.omega)
    assert "none: one factor would leave an item without a variance of its own" in " ".join(str(found).split())
    assert found.table["loading"].isna().all()
    assert "omega" not in str(mb.reliability(frame, ["a", "b"]))


def test_what_hardly_belongs_is_said_and_what_cannot_be_told_is_refused():
    rng = np.random.default_rng(4)
    shared = rng.normal(size=300)
    frame = pd.DataFrame({name: shared + 0.6 * rng.normal(size=300) for name in "abc"} | {"flat": 7.0})
    frame = frame.assign(alone=rng.normal(size=300), still=2.1, few=np.where(frame.index < 2, 1.0, np.nan), word="x")
    study = mb.Study(frame)
    unlike = mb.reliability(mb.Study(frame.assign(b=5 * frame["b"])), ["a", "b", "c"]).statements
    assert any("`b` varies" in s and "times as much as `" in s for s in unlike)
    assert not any("times as much" in s for s in mb.reliability(study, ["a", "b", "c"]).statements)
    assert "Without alone alpha would be .90: a reason" in str(mb.reliability(study, [*"abc", "alone"]))
    apart = mb.Study(pd.DataFrame({"a": [1, 2, 3, 4, 5, 6], "b": [3, 5, 1, 6, 2, 3]}))
    assert mb.reliability(apart, ["a", "b"]).statements[0].startswith("On average the items do not go together")
    assert str(mb.reliability(study, ["a", "b"]).statements[0]).startswith("Of two items")
    drawn = mb.reliability(study.as_role("c", "weight"), ["a", "b"]).statements
    assert "Rows are taken for independent and count alike: no account is taken of the weights in `c` (its role)." in drawn
    opposite = mb.reliability(mb.Study(frame.assign(b=-frame["a"])), ["a", "b"])
    assert np.isnan(opposite.alpha)
    assert "none: the sum of the items does not vary" in str(opposite)
    for items, message in (
        (["a"], "there is `a` alone"), ("ab", "a list of texts, not 'ab'"), (["a", "a"], "`a` is given twice"), (["a", "still"], "`still` does not vary"),
        (["a", "few"], "Only 2 of 300 rows"), (["a", "word"], "give its levels numbers first"), (["a", "d"], "no column `d`"), (["flat", "still"], "`flat` and `still` do not vary.*they go"),
    ):  # fmt: skip
        with pytest.raises(mb.MarkbaseError, match=message):
            mb.reliability(study, items)
    with pytest.raises(mb.MarkbaseError, match="between 0 and 1"):
        mb.reliability(study, ["a", "b"], level=95)


def test_items_are_taken_for_answers_and_a_mean_of_them_for_what_it_is():
    told = run("look", FILES[0], "--width", 400).stdout
    assert told.count("5 whole numbers, 1 to 5 as in 5 other columns: answers on one scale?") == 1
    assert f"→ --categorical '{', '.join(ITEMS)}'\n" in told
    study = mb.demo.choir_items()
    assert "`welcome` has 5 values, 1 to 5" in mb.fit_linear(study, "welcome", ["heard"]).reading().cautions[1]
    t = [mb.open_study(*FILES[::2], in_parts=p).derive("t", sum=ITEMS[:3]).trail.steps[-1].text for p in (False, True)]
    assert "Cronbach's alpha" in t[0] == t[1]
    made = study.derive("home", mean=["welcome", "friends"])
    assert not any("values, 1" in c for c in mb.fit_linear(made, "home", ["heard"]).reading().cautions)


def test_the_command_and_a_plan_tell_the_same(tmp_path):
    found = mb.reliability(mb.demo.choir_items(), ITEMS)
    told = json.loads(run("reliability", *FILES, ",".join(ITEMS), "--json").stdout)
    assert (told["alpha"], told["low"], told["high"]) == (found.alpha, *found.interval)
    pd.testing.assert_frame_equal(pd.DataFrame(told["table"]), found.table)
    way = run("reliability", *FILES, ",".join(ITEMS), "--width", 400).stdout.split("→ ")[1].splitlines()[0]
    assert " .88, 95% CI" in run("reliability", *FILES, ",".join(ITEMS), *shlex.split(way)).stdout
    mb.report([found, mb.demo.choirs()], tmp_path / "page.html")
    assert not re.search(r"study\.\w+\(|--prepare", (tmp_path / "page.html").read_text())
    assert "`welcome` alone" in run("reliability", *FILES, "welcome").stderr
    text = f"[data]\nfile = '{FILES[0]}'\n\n[[reliability]]\nname = 'At home'\nitems = {ITEMS}\n"
    plan = tmp_path / "items.plan.toml"
    plan.write_text(text)
    assert run("run", plan, "--into", tmp_path / "out").returncode == 0
    written = json.loads((tmp_path / "out" / "results.json").read_text())["reliability"]["At home"]
    assert written == {k: told[k] for k in written}
    assert "stranger</b> goes against the other items" in (tmp_path / "out" / "report.html").read_text()
    for old, new, message in (
        ("[[reliability]]", "[reliability]", r"write \[\[reliability\]\] above each scale"),
        (str(ITEMS), "['welcome']", r"line 6: a \[\[reliability\]\] names two items or more"),
        ("'heard'", "'herd'", "line 6: there is no column `herd`.*Did you mean `heard`"),
        ("name = ", "level = 95\nname = ", "line 5: `level` is a confidence level"),
    ):
        plan.write_text(text.replace(old, new))
        said = run("run", plan, "--into", tmp_path / "no")
        assert said.returncode == 2
        assert re.search(message, said.stderr), said.stderr
