"""Coefficients in samples: each sample drawn and fitted by hand, ends by the published formula, movements by leaving rows out."""

import json
from statistics import NormalDist

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import BOOK, DATA, run
from reference import dense, made_up

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
TERMS = ["age", "voice", mb.interaction("age", "voice")]
OFTEN = {"weights": "times", "weights_are": "frequency"}
SETTINGS = {"rows": {}, "clusters": {"cluster": "team"}, "sampling": {"weights": "w"}, "frequencies": OFTEN}


def people():
    frame, rng, k = pd.DataFrame(made_up(150)), np.random.default_rng(8), np.arange(150)
    frame = frame.assign(voice=np.array(["alto", "bass", "tenor"])[k % 3], team=[f"t{j % 17:02d}" for j in k])
    frame = frame.assign(w=rng.uniform(0.3, 3, 150), times=rng.integers(1, 4, 150))
    return frame.assign(high=np.where(frame["score"] + rng.normal(0, 12, 150) > frame["score"].mean(), "y", "n"))


def solved(X, y, w, logistic):
    b = np.zeros(X.shape[1])
    for _ in range(30 if logistic else 1):
        p = 1 / (1 + np.exp(-X @ b)) if logistic else X @ b
        b = b + np.linalg.solve((X.T * (w * (p * (1 - p) if logistic else 1))) @ X, X.T @ (w * (y - p)))
    return b


def moved(X, y, w, setting, teams, logistic):
    """Return by what one step without each case, or to the first order each cluster, moves coefficients, and how often each is one."""
    eta = X @ solved(X, y, w, logistic)
    p = 1 / (1 + np.exp(-eta)) if logistic else eta
    v, scores = p * (1 - p) if logistic else np.ones(len(y)), X * (y - p)[:, None]
    H, less = (X.T * (w * v)) @ X, w if setting == "sampling" else np.ones(len(y))
    if setting == "clusters":
        return pd.DataFrame(scores).groupby(teams).sum() @ np.linalg.inv(H), np.ones(len(set(teams)))
    steps = [np.linalg.solve(H - t * c * np.outer(x, x), t * u) for t, c, x, u in zip(less, v, X, scores, strict=True)]
    return np.array(steps), w / less


@pytest.mark.parametrize("logistic", [False, True])
@pytest.mark.parametrize("setting", SETTINGS)
def test_each_sample_is_drawn_and_fitted_and_its_ends_are_accelerated_by_hand(setting, logistic):
    frame = people()
    study = mb.Study(frame).mark("voice", "alto")
    outcome, kind = ("high", mb.fit_logistic) if logistic else ("score", mb.fit_linear)
    fit = kind(study, outcome, TERMS, level=0.9, **SETTINGS[setting], **({"event": "y"} if logistic else {}))
    found = mb.bootstrap(fit, 100, seed=4)
    columns, names = dense(frame, ["age", "voice", ["age", "voice"]], {"voice": "alto"})
    X, labels = np.array(columns, dtype=float).T, [": ".join(filter(None, name)) for name in names]
    y = (frame["high"] == "y").to_numpy(float) if logistic else frame["score"].to_numpy()
    w = frame[SETTINGS[setting]["weights"]].to_numpy(float) if "weights" in SETTINGS[setting] else np.ones(150)
    rng, codes, wanted = np.random.default_rng(4), np.unique(frame["team"], return_inverse=True)[1], []
    units = codes if setting == "clusters" else np.arange(150)
    count = units.max() + 1
    for _ in range(100):
        if setting == "frequencies":
            often = rng.multinomial(int(w.sum()), w / w.sum())
        else:
            often = np.bincount(rng.integers(0, count, count), minlength=count)[units] * w
        wanted.append(solved(X, y, often, logistic))
    wanted = np.array(wanted)
    np.testing.assert_allclose(found.samples[labels], wanted, rtol=1e-7, atol=1e-8)
    again = mb.bootstrap(fit.rebase("voice", "bass"), 100, seed=4).samples["voice: alto"]
    np.testing.assert_allclose(again, -found.samples["voice: bass"], rtol=1e-8, atol=1e-9)
    table = found.table[~found.table["base"]].assign(label=[c for c in found.samples.columns if c in labels])
    moves, often = map(np.asarray, moved(X, y, w, setting, frame["team"].to_numpy(), logistic))
    moves = moves - often @ moves / often.sum()
    pull = often @ moves**3 / (6 * (often @ moves**2) ** 1.5)
    normal = NormalDist()
    for row in table.itertuples():
        own = wanted[:, labels.index(row.label)]
        assert (row.bias, row.se) == pytest.approx((own.mean() - row.estimate, own.std(ddof=1)), rel=1e-6, abs=1e-8)
        z0, a = normal.inv_cdf((own < row.estimate).mean()), pull[labels.index(row.label)]
        z = [z0 + normal.inv_cdf(p) for p in (0.05, 0.95)]
        ends = np.quantile(own, [normal.cdf(z0 + side / (1 - a * side)) for side in z])
        assert (row.low, row.high) == pytest.approx(tuple(ends), rel=1e-6)
    assert found.table.query("base")[["estimate", "bias", "se", "low", "high"]].eq(0).all(axis=None)
    if logistic:
        pairs = found.table[["low", "high", "fit_low", "fit_high"]].to_numpy()
        names = [f"odds_{end}" for end in ("low", "high", "fit_low", "fit_high")]
        np.testing.assert_allclose(found.table[names], np.exp(pairs))


@pytest.mark.parametrize("setting", ["sampling", "clusters"])
def test_samples_of_rows_that_are_laid_out_are_those_of_rows_that_are_not(monkeypatch, setting):
    frame = people().sort_values("high", ignore_index=True)  # samples without an event at a level, or without the level
    rare = frame.index.isin([0, 1, 2, 146, 147, 148, 149]) if setting == "sampling" else frame["team"] < "t03"
    frame["rare"] = np.where(rare, "r", "s")
    fit = mb.fit_logistic(mb.Study(frame), "high", ["rare", "age"], event="y", **SETTINGS[setting])
    found = mb.bootstrap(fit, 200)
    monkeypatch.setattr("markbase.core.estimation.laid_out_rows._MOST_NUMBERS", 0)
    again = mb.bootstrap(fit, 200)
    assert 0 < found.failed == again.failed
    np.testing.assert_allclose(found.samples, again.samples, rtol=1e-8)


def test_what_samples_and_errors_tell_apart_is_named_and_what_samples_cannot_do():
    rng = np.random.default_rng(2)
    x = rng.exponential(size=60)
    frame = pd.DataFrame({"x": x, "z": rng.normal(size=60), "team": [f"t{k % 9}" for k in range(60)]})
    frame["y"] = 0.45 * x + x**2 * rng.normal(size=60) / 3
    study = mb.Study(frame).as_role("team", "cluster")
    found = mb.bootstrap(mb.fit_linear(study, "y", ["x", "z"]), 400)
    row = found.table.query("term == 'x'").iloc[0]
    assert row["fit_low"] > 0 > row["low"]
    assert found.statements[0] == "By the interval of the samples not clear of 0, by that of the errors it is: `x`."
    assert found.statements[1].startswith("With 400 samples the ends are rough")
    assert "Those of one `team` may go together" in found.statements[2]
    few = mb.bootstrap(mb.fit_linear(mb.Study(frame.head(30)), "y", ["z"]), 100)
    assert few.statements[0].endswith("agree on which coefficients are clear of 0.")
    assert few.statements[2].startswith("Samples of only 30 rows")
    clustered = mb.bootstrap(mb.fit_linear(study, "y", ["x"], cluster="team"), 100)
    assert clustered.statements[-2].startswith("Samples are of 9 clusters. Where")


def test_what_cannot_be_drawn_is_refused_and_levels_that_are_missing_are_counted(tmp_path):
    frame = people().sort_values("high", ignore_index=True)
    frame["rare"] = np.where(frame.index.isin([0, 1, 148, 149]), "r", "s")
    study, logit = mb.Study(frame), {"event": "y"}
    found = mb.bootstrap(mb.fit_linear(study, "score", ["rare"]), 400)
    assert 0 < found.failed == 400 - len(found.samples)
    assert f"({found.failed} left out: a level had no row" in found.words
    mb.write_fit(mb.fit_linear(study, "score", ["age"]), tmp_path / "f.json")
    frame.to_csv(tmp_path / "p.csv", index=False)
    parts = mb.open_study(tmp_path / "p.csv", in_parts=True)
    for fit, draws, said in (
        (mb.fit_linear(study, "score", ["age"]), 50, "100 or more"),
        (mb.fit_linear(study, "score", ["age"], fixed_effects="team"), 100, "levels taken out"),
        (mb.fit_logistic(study, "high", ["age"], penalty="firth", **logit), 100, "need none"),
        (mb.fit_logistic(study, "high", ["rare"], **logit), 400, "could not be fitted"),
        (mb.read_fit(tmp_path / "f.json"), 100, "A saved fit has no rows"),
        (mb.fit_linear(parts, "score", ["age"]), 100, "drawing single rows"),
    ):
        with pytest.raises(mb.MarkbaseError, match=said):
            mb.bootstrap(fit, draws)
    for more, said in (({"seed": -1}, "The seed is -1; it must be"), ({"told": 3}, "`told` of `bootstrap` is a")):
        with pytest.raises(mb.MarkbaseError, match=said):
            mb.bootstrap(fit, 100, **more)
    both = [mb.bootstrap(mb.fit_linear(s, "score", ["age"], cluster="team"), 100) for s in (study, parts)]
    pd.testing.assert_frame_equal(*(b.table for b in both), rtol=1e-9)


def test_the_command_and_a_plan_tell_the_same(tmp_path):
    text = f'data = {{file = "{DATA}", codebook = "{BOOK}"}}\n[[fit]]\nname = "one"\noutcome = "belonging"\nterms = ["age"]\n'
    (tmp_path / "p.toml").write_text(text + "cluster = 'choir'\nbootstrap = 120\nseed = 3\n")
    found = mb.bootstrap(mb.fit_linear(mb.demo.choirs(), "belonging", ["age"], cluster="choir"), 120, seed=3)
    command = ["fit", "p.toml", "one", "--bootstrap", 120, "--seed", 3]
    told = json.loads(run(*command, "--json", cwd=tmp_path).stdout)["bootstrap"]
    assert run("run", "p.toml", "--into", "out", cwd=tmp_path).returncode == 0
    written = json.loads((tmp_path / "out" / "results.json").read_text())["fits"]["one"]["bootstrap"]
    for one in (told, written):
        assert (one["draws"], one["statements"]) == (120, list(found.statements))
        pd.testing.assert_frame_equal(pd.DataFrame(one["table"]), found.table, check_exact=True)
    low, high = found.table.loc[1, ["low", "high"]]
    page = " ".join(run(*command, cwd=tmp_path).stdout.split())
    assert f"{low:.3f} to {high:.3f} " in page
    assert f"| {low:.3f} to {high:.3f} |" in (tmp_path / "out" / "tables.md").read_text()
    assert "120, of whole levels of choir drawn with replacement, seed 3" in page
    assert "from 120 bootstrap samples of whole levels of choir (seed 3)" in (tmp_path / "out" / "methods.txt").read_text()
    for more in (["--guide"], ["--bootstrap", 20]):
        assert run(*command, *more, cwd=tmp_path).returncode == 2
