"""Blocks, what each adds, and how estimates move: against separate fits and definitions."""

import re

import numpy as np
import pandas as pd
import pytest
from scipy.optimize import brentq
from scipy.stats import ncf, norm

import markbase as mb
from reference import hotelling
from yes_no import choir

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
BLOCKS = {"background": ["voice", "age"], "taking part": ["km"], "when": ["day", mb.interaction("age", "voice")]}
BENT = mb.polynomial("age", 2)
CURVED = {"straight": ["voice", "age"], "curve": [BENT, "km"], "differs": ["day", mb.interaction("age", "voice")], "and curves": [mb.interaction(BENT, "voice")]}  # fmt: skip


def gappy(rows=300):
    """Return the made-up table with gaps that a later block brings in."""
    frame = choir(rows)
    frame.loc[frame.index % 17 == 3, "km"] = np.nan
    frame.loc[frame.index % 23 == 5, "day"] = None
    return frame


def study_of(frame):
    return mb.Study(frame).mark("voice", "alto").mark("day", "Mon")


def terms_up_to(name, blocks):
    """Return the terms after a block, a curve in the place of its straight line."""
    found = {}
    for block, terms in blocks.items():
        found |= {frozenset(re.findall(r"age|voice|km|day", getattr(term, "name", term))): term for term in terms}
        if block == name:
            return list(found.values())
    raise KeyError(name)


SETTINGS = {"classical": {}, "HC3": {"errors": "HC3"}, "clustered": {"cluster": "team"}, "frequencies": {"weights": "times", "weights_are": "frequency"}}  # fmt: skip


@pytest.mark.parametrize("blocks", [BLOCKS, CURVED], ids=["straight", "curved"])
@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("setting", SETTINGS)
def test_every_rung_is_the_fit_of_its_terms_on_the_rows_of_all(kind, setting, blocks):
    frame = gappy()
    outcome, more = ("score", {}) if kind == "linear" else ("stays", {"event": "yes"})
    hierarchy = mb.fit_blocks(study_of(frame), outcome, blocks, kind=kind, **more, **SETTINGS[setting])
    complete = frame.dropna().reset_index(drop=True)
    make = mb.fit_linear if kind == "linear" else mb.fit_logistic
    below = None
    for name, block, step in zip(blocks, hierarchy, hierarchy.steps.itertuples(), strict=True):
        alone = make(study_of(complete), outcome, terms_up_to(name, blocks), **more, **SETTINGS[setting])
        assert step.used == len(complete) == alone.sample.used
        for column in ("estimate", "se", "p"):
            np.testing.assert_allclose(block.coefficients[column], alone.coefficients[column], rtol=1e-8, atol=1e-12)
        assert step.parameters == len(alone.coefficients[~alone.coefficients["base"]])
        assert (step.aic, step.bic) == pytest.approx((alone.strength.aic, alone.strength.bic), rel=1e-10)
        moves = hierarchy.moves.set_index(["term", "level"])[name].dropna()
        assert moves.tolist() == pytest.approx(alone.coefficients["estimate"].tolist(), rel=1e-8, abs=1e-12)
        if setting in ("classical", "frequencies") and below is not None:
            df = step.parameters - (len(below.coefficients[~below.coefficients["base"]]))
            if kind == "linear":
                gain = below.strength.residual_ss - alone.strength.residual_ss
                wanted = gain / df / (alone.strength.residual_ss / alone.df_rest)
                assert step.r2_change == pytest.approx(alone.strength.r2 - below.strength.r2, rel=1e-9)
                assert step.f2 == pytest.approx(gain / alone.strength.residual_ss, rel=1e-8)
            else:
                wanted = 2 * (alone.loglik - below.loglik)
            assert (step.statistic, step.df) == (pytest.approx(wanted, rel=1e-8), df)
        elif below is not None:
            rows = [
                k
                for k, r in enumerate(alone.coefficients.itertuples())
                if r.term not in {t.name for t in below.model_terms} and not r.base and k
                if "(quadratic)" not in r.term or "²" in r.level  # the straight line was there before
            ]
            b, V = alone.coefficients["estimate"].to_numpy()[rows], alone.covariance.to_numpy()[np.ix_(rows, rows)]
            wanted, rest = b @ np.linalg.solve(V, b), alone.df_rest
            if np.isfinite(rest):
                wanted, rest = (wanted / len(rows), rest) if setting != "clustered" else hotelling(wanted, len(rows), rest)
            assert (step.statistic, step.df_rest) == (pytest.approx(wanted, rel=1e-7), rest)
            assert step.test == ("Wald F" if np.isfinite(rest) else "Wald")
        if below is not None and kind == "linear":
            moved = hierarchy.movements.query("block == @name").set_index(["term", "level"])
            was, now = (f.coefficients.set_index(["term", "level"])["estimate"].loc[moved.index] for f in (below, alone))
            np.testing.assert_allclose(moved[["before", "after"]].to_numpy().T, [was, now], rtol=1e-7, atol=1e-10)
        below = alone
    assert hierarchy.rows_alone[0] == 300 > hierarchy.rows_alone[1] > hierarchy.rows_alone[-1] == len(complete)


def test_lower_terms_that_are_added_enter_with_the_interaction_that_needs_them():
    blocks = {"a": ["km"], "b": [mb.interaction("age", "voice")], "c": ["day"]}
    found = mb.fit_blocks(study_of(choir(150)), "score", blocks)
    assert found.added == (("km",), ("age", "voice", "age × voice"), ("day",))
    assert [t.name for t in found["b"].model_terms] == ["km", "age", "voice", "age × voice"]


def _noncentral(step, before, n):
    """Return the ends by the noncentral F, 0 where even no effect puts less below what was seen."""
    df, ends = (step["df"], step["df_rest"]), []
    for share in (0.975, 0.025):
        found = 0.0
        if ncf.cdf(step["statistic"], *df, 0) > share:
            found = brentq(lambda shift, p=share: ncf.cdf(step["statistic"], *df, shift) - p, 0, 1e5, rtol=1e-14)
        ends.append(found / (n + found) * (1 - before))
    return ends


@pytest.mark.parametrize("steep", [0.0, 0.1, 3.0])
@pytest.mark.parametrize("how", [{}, {"weights": "times", "weights_are": "frequency"}, {"fixed_effects": "team"}])
@pytest.mark.parametrize("far", [0.0, 1e9])
def test_the_interval_of_a_change_is_the_wider_of_the_noncentral_f_and_of_what_single_rows_move(steep, how, far):
    rng = np.random.default_rng(4)
    frame = pd.DataFrame({"x": rng.normal(size=120), "z": rng.exponential(size=120), "times": rng.integers(1, 4, 120)})
    frame["team"], noise = [f"t{k % 9}" for k in range(120)], rng.normal(size=120)
    frame["y"] = (frame["x"] + steep * frame["z"] + noise + far).round(6)  # the same digits, far from 0
    steps = mb.fit_blocks(mb.Study(frame), "y", {"a": ["x"], "b": ["z"]}, **how).steps
    rows = frame.loc[frame.index.repeat(frame["times"])] if "weights" in how else frame
    beside = [pd.get_dummies(rows["team"]).to_numpy(float)] if "fixed_effects" in how else [np.ones((len(rows), 1))]
    for step, low, high, before in _moved(steps, beside, [rows[[name]].to_numpy() for name in "xz"], rows["y"] - far):
        wanted = _noncentral(step, before, len(rows))
        told = step["change_low"], step["change_high"]
        assert told == pytest.approx((min(wanted[0], low), max(wanted[1], high)), rel=1e-5, abs=1e-9)
        assert (told[0] > 0) == (step["p"] < 0.05)


def _moved(steps, beside, added, y):
    """Yield each block, the interval of its change by how much rows move it, and R² before it, by hand."""
    left = []  # squared residuals of no term, of the first block and of both
    for k in range(len(added) + 1):
        X = np.hstack([*beside, *added[:k]])
        left.append((np.asarray(y) - X @ np.linalg.lstsq(X, np.asarray(y), rcond=None)[0]) ** 2)
    total = left[0].sum()
    for k, step in enumerate(steps.to_dict("records")):
        d = (left[k].sum() - left[k + 1].sum()) / total
        moves = (left[k] - left[k + 1] - d * left[0]) / total
        reach = 1.959964 * np.sqrt((moves**2).sum() * len(y) / step["df_rest"]) / (2 * np.sqrt(d * (1 - d)))
        by_chance = left[k + 1].sum() / total * step["df"] / step["df_rest"]
        angle = np.arcsin(np.sqrt(max(d - by_chance, 0)))
        low, high = np.sin(np.clip(angle + np.array([-reach, reach]), 0, np.pi / 2)) ** 2
        yield step, low, high, 1 - left[k].sum() / total


def test_how_rows_move_a_change_is_told_by_an_even_spread_of_many_rows(tmp_path, monkeypatch):
    monkeypatch.setattr("markbase.files.parts.table_files.PART_ROWS", 7_000)
    rng, n = np.random.default_rng(5), 73_728  # of the rows used one in three is looked at
    frame = pd.DataFrame({"x": rng.normal(size=n), "z": rng.exponential(size=n), "voice": rng.choice(["a", "b", "c"], n)})
    frame["y"] = 1e9 + frame["x"] + frame["z"] + (frame["voice"] == "b") + rng.normal(size=n)
    frame = frame.sort_values("z", ignore_index=True)
    frame.loc[::3, "x"] = np.nan  # places that come again and again
    frame.to_parquet(tmp_path / "all.parquet", row_group_size=7_000)
    blocks = {"a": ["x"], "b": ["z", "voice"]}
    held = mb.fit_blocks(mb.Study(frame), "y", blocks).steps
    parts = mb.fit_blocks(mb.open_study(tmp_path / "all.parquet", in_parts=True), "y", blocks).steps
    pd.testing.assert_frame_equal(held, parts, rtol=1e-7)
    rows = frame.dropna()
    z = np.column_stack([rows["z"], rows["voice"] == "a", rows["voice"] == "b"]).astype(float)
    for step, low, high, _ in _moved(held, [np.ones((len(rows), 1))], [rows[["x"]].to_numpy(), z], rows["y"] - 1e9):
        width = high - low
        assert (step["change_low"], step["change_high"]) == pytest.approx((low, high), abs=0.02 * width)
        assert width > 1.1 * np.ptp(_noncentral(step, step["r2"] - step["r2_change"], len(rows)))


def test_a_change_that_is_not_clear_has_an_interval_from_0():
    nothing = mb.fit_blocks(study_of(gappy()), "score", {"one": ["age"], "chance": ["times"]}).steps.iloc[1]
    assert nothing["change_low"] == 0.0


@pytest.mark.parametrize(("aim", "said"), [(1e-4, "No interval is told"), (0.0725, "Chance alone"), (1.5, "")])
def test_what_chance_alone_would_show_is_said_where_a_block_shows_no_more(aim, said):
    rng = np.random.default_rng(3)
    x, noise = rng.normal(size=(200, 4)), rng.normal(size=200)
    Q = np.linalg.qr(np.column_stack([np.ones(200), x]))[0]
    e, along = noise - Q @ (Q.T @ noise), Q[:, 2]
    y = x[:, 0] + e + along * np.sqrt(aim * 3 * (e @ e) / 195)  # F of the last three columns is what is aimed at
    table = pd.DataFrame(x, columns=list("abcd")).assign(y=y)
    hierarchy = mb.fit_blocks(table, "y", {"one": ["a"], "chance": ["b", "c", "d"]})
    step = hierarchy.steps.iloc[1]
    assert step["statistic"] == pytest.approx(aim, rel=1e-6)
    assert np.isnan(step["change_low"]) == np.isnan(step["change_high"]) == (ncf.cdf(aim, 3, 195, 0) < 0.025)
    (cautions,) = [s.cautions for s in hierarchy.reading().statements if s.term == "chance" and not s.level]
    seen = [mb.fit_blocks(table.assign(**dict(zip("bcd", rng.normal(size=(3, 200)), strict=True))), "y", {"a": ["a"], "b": ["b", "c", "d"]}).steps["r2_change"][1] for _ in range(200)]  # fmt: skip
    found = [float(re.search(r"seem to add (\S+) percentage", c)[1]) for c in cautions if said and c.startswith(said)]
    assert len(found) == bool(said)
    assert all(abs(v - 100 * np.mean(seen)) < 3 * 100 * np.std(seen) / np.sqrt(200) for v in found)


RESAMPLED = {"rows": {}, "clusters": {"cluster": "team"}, "weights": {"weights": "times"}}
RESAMPLED["weighted clusters"] = RESAMPLED["clusters"] | RESAMPLED["weights"]


@pytest.mark.parametrize("kind", ["linear", "logistic"])
@pytest.mark.parametrize("what", RESAMPLED)
def test_samples_are_rows_or_clusters_drawn_and_fitted_by_hand(kind, what):
    frame = choir(260)
    study, draws = mb.Study(frame).mark("voice", "alto"), 100
    outcome, more = ("score", {}) if kind == "linear" else ("stays", {"event": "yes"})
    blocks = {"first": ["age"], "then": ["voice", "km"]}
    hierarchy = mb.fit_blocks(study, outcome, blocks, kind=kind, **more, **RESAMPLED[what])
    found = hierarchy.bootstrap(draws, seed=8).steps
    rng, teams = np.random.default_rng(8), pd.factorize(frame["team"].str[1:].astype(int), sort=True)[0]
    columns = [np.ones(260), frame["age"], *(frame["voice"] == v for v in ("soprano", "tenor", "bass")), frame["km"]]
    X = np.column_stack(columns).astype(float)
    y = frame["score"].to_numpy() if kind == "linear" else (frame["stays"] == "yes").to_numpy(float)

    def share(X, w):
        if kind == "linear":
            root = np.sqrt(w)
            miss = y - X @ np.linalg.lstsq(X * root[:, None], y * root, rcond=None)[0]
            return 1 - w @ miss**2 / (w @ (y - w @ y / w.sum()) ** 2)
        b = np.zeros(X.shape[1])
        for _ in range(30):
            p = 1 / (1 + np.exp(-X @ b))
            step = np.linalg.solve(X.T @ (X * (w * p * (1 - p))[:, None]), X.T @ (w * (y - p)))
            b += step
            if np.abs(step).max() < 1e-12:
                break
        if np.abs(step).max() > 1e-6:
            return np.nan  # separated: no maximum
        rate = w @ y / w.sum()
        return 1 - w @ np.log(np.where(y, p, 1 - p)) / (w @ np.log(np.where(y, rate, 1 - rate)))

    changes = []
    for _ in range(draws):
        if "clusters" in what:
            count = teams.max() + 1
            w = np.bincount(rng.integers(0, count, count), minlength=count)[teams].astype(float)
        else:
            w = np.bincount(rng.integers(0, 260, 260), minlength=260)
        w = w * (frame["times"] if "weight" in what else 1.0)
        w = np.asarray(w, dtype=float)
        changes.append(np.diff([0, share(X[:, :2], w), share(X, w)]))
    changes, seen = np.array([c for c in changes if np.isfinite(c).all()]), found["r2_change" if kind == "linear" else "mcfadden_change"]
    for k in range(2):
        shift = 2 * norm.ppf(np.clip(np.mean(changes[:, k] < seen[k]), 0.005, 0.995))
        wanted = np.quantile(changes[:, k], norm.cdf([shift - norm.ppf(0.975), shift + norm.ppf(0.975)]))
        np.testing.assert_allclose(found.loc[k, ["change_low", "change_high"]].astype(float), wanted, rtol=1e-8)


def test_samples_agree_with_the_noncentral_f_and_are_refused_where_they_say_nothing():
    hierarchy = mb.fit_blocks(study_of(choir(4000)), "score", BLOCKS)
    drawn = hierarchy.bootstrap(1500)
    for end in ("change_low", "change_high"):
        np.testing.assert_allclose(drawn.steps[end][:2], hierarchy.steps[end][:2], atol=0.006)
    pd.testing.assert_frame_equal(hierarchy.bootstrap(150, seed=2).steps, hierarchy.bootstrap(150, seed=2).steps)
    assert "1,500 samples of rows" in str(drawn)
    with pytest.raises(mb.MarkbaseError, match="it must be a whole number, 100 or more"):
        hierarchy.bootstrap(99)
    inside = mb.fit_blocks(study_of(gappy()), "score", {"a": ["age"], "b": ["km"]}, fixed_effects="team")
    with pytest.raises(mb.FitError, match="levels taken out; give the column as a term"):
        inside.bootstrap()
    firth = mb.fit_blocks(study_of(gappy()), "stays", {"a": ["age"]}, kind="logistic", event="yes", penalty="firth")
    with pytest.raises(mb.FitError, match="not drawn for penalised likelihood"):
        firth.bootstrap()
    thin = gappy(60).assign(odd=lambda d: np.where(d.index < 3, "rare", "usual"), y=lambda d: d.index % 3 == 1)
    rare = mb.fit_blocks(mb.Study(thin), "y", {"a": ["odd"]}, kind="logistic", event=True)
    with pytest.raises(mb.FitError, match=r"of 100 samples a model could not be fitted"):
        rare.bootstrap(100)


def test_inflation_of_each_rung_is_that_of_its_terms():
    complete = gappy().dropna().reset_index(drop=True)
    hierarchy = mb.fit_blocks(study_of(complete), "score", {"a": ["age"], "b": ["voice", "km"]})
    screen = mb.screen(study_of(complete), ["age", "voice", "km"], outcome="score")
    assert hierarchy.vif["b"].tolist() == pytest.approx(screen.terms["comparable"].tolist(), rel=1e-9)
    assert hierarchy.vif["a"].tolist()[0] == pytest.approx(1.0)


WRONG = {
    "no block": ({}, {}, "Give the blocks in order"),
    "an empty block": ({"a": []}, {}, "Block `a` needs a list"),
    "a text": ({"a": "age"}, {}, "Block `a` needs a list"),
    "a term twice": ({"a": ["age"], "b": ["age"]}, {}, "`age` stands in two blocks"),
    "a term twice in a block": ({"a": ["age", "age"]}, {}, "`age` stands in block `a` twice"),
    "a line after its curve": ({"a": [BENT], "b": ["age"]}, {}, r"`age \(quadratic\)` contains `age` already"),
    "a line beside its curve": ({"a": ["age", BENT]}, {}, r"of the same columns; leave one out of block `a`"),
    "a product before its curve": ({"a": ["age", mb.interaction(BENT, "voice")], "b": [BENT]}, {}, r"stands in a block before `age \(quadratic\)`"),
    "no such kind": ({"a": ["age"]}, {"kind": "probit"}, "There is no kind 'probit'"),
    "no such column": ({"a": ["aeg"]}, {}, "no column `aeg`"),
}  # fmt: skip


@pytest.mark.parametrize("case", WRONG)
def test_blocks_that_cannot_be_entered_are_refused(case):
    blocks, settings, message = WRONG[case]
    with pytest.raises(mb.MarkbaseError, match=message):
        mb.fit_blocks(study_of(gappy()), "score", blocks, **settings)


@pytest.mark.parametrize(
    "setting",
    [
        *({}, {"errors": "HC3"}, {"fixed_effects": "choir"}, {"weights": "weight"}, {"cluster": "choir"}),
        *({"kind": "logistic"}, {"kind": "logistic", "cluster": "choir"}),
    ],
    ids=str,
)
@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_a_movement_is_that_of_the_estimates_and_its_error_that_of_the_combination(setting):
    study = mb.demo.plan().open()
    logistic = "kind" in setting
    outcome = "stays" if logistic else "belonging"
    blocks = {"a": ["age", "voice"], "b": ["rehearsals", "travel_km"]}
    hierarchy = mb.fit_blocks(study, outcome, blocks, **setting, **({"event": "yes"} if logistic else {}))
    small, large = hierarchy.fits
    table = hierarchy.movements
    assert table["block"].unique().tolist() == ["b"]
    assert table[["term", "level"]].to_numpy().tolist() == [["age", ""], ["voice", "soprano"], ["voice", "tenor"], ["voice", "bass"]]
    before, after = (f.coefficients.set_index(["term", "level"]) for f in (small, large))
    keys = list(zip(table["term"], table["level"], strict=True))
    np.testing.assert_allclose(table["after"], after.loc[keys, "estimate"], rtol=1e-12)
    used = study.keep({n: {"present": True} for n in (outcome, "age", "voice", "rehearsals", "travel_km")}).frame()
    X = np.column_stack([np.ones(len(used)), used["age"], *(used["voice"] == v for v in ("soprano", "tenor", "bass"))]).astype(float)
    Z = used[["rehearsals", "travel_km"]].to_numpy(float)
    root = np.sqrt(used["weight"].to_numpy(float))[:, None] if "weights" in setting else 1.0
    if "fixed_effects" in setting:  # within the levels
        D = np.column_stack([used["choir"] == v for v in used["choir"].unique()]).astype(float)
        X, Z = (M - D @ np.linalg.lstsq(D, M, rcond=None)[0] for M in (X[:, 1:], Z))
        A = np.linalg.lstsq(X, Z, rcond=None)[0]
    else:
        A = np.linalg.lstsq(X * root, Z * root, rcond=None)[0][1:]
    added = [("rehearsals", ""), ("travel_km", "")]
    np.testing.assert_allclose(table["change"], -A @ after.loc[added, "estimate"].to_numpy(float), rtol=1e-6)
    V = large.covariance.loc[["rehearsals", "travel_km"], ["rehearsals", "travel_km"]].to_numpy()
    as_they_are = np.sqrt(np.einsum("ij,jk,ik->i", A, V, A))
    # and what is carried varies over samples of rows: it is a regression of its own, with errors of the same kind
    XR, v = X * root, (Z @ after.loc[added, "estimate"].to_numpy(float))[:, None] * root
    inverse, levels = np.linalg.inv(XR.T @ XR), used["choir"].nunique() if "fixed_effects" in setting else 0
    left, (n, k) = v - XR @ inverse @ XR.T @ v, (len(XR), XR.shape[1] + levels)
    scores = XR * left
    if "cluster" in setting:
        scores = np.array([scores[used["choir"] == c].sum(axis=0) for c in used["choir"].unique()])
        middle = scores.T @ scores * len(scores) / (len(scores) - 1) * (n - 1) / (n - k)
    elif set(setting) & {"errors", "weights"}:
        scores = scores / (1 - np.einsum("ij,jk,ik->i", XR, inverse, XR))[:, None]
        middle = scores.T @ scores
    else:
        middle = XR.T @ XR * float((left**2).sum()) / (n - k)
    over_samples = np.sqrt(np.diag(inverse @ middle @ inverse))[-4:]
    np.testing.assert_allclose(table["se"], np.hypot(as_they_are, over_samples), rtol=1e-6)
    if not logistic:  # of a logistic fit the smaller model is on another scale
        np.testing.assert_allclose(table["before"], before.loc[keys, "estimate"], rtol=1e-9)
    if setting in ({}, {"fixed_effects": "choir"}):  # Clogg, Petkova & Haritou's own formula
        s2 = (large.strength.residual_sd / small.strength.residual_sd) ** 2
        own = np.sqrt(after.loc[keys, "se"].to_numpy(float) ** 2 - before.loc[keys, "se"].to_numpy(float) ** 2 * s2)
        np.testing.assert_allclose(as_they_are, own, rtol=1e-7)


def test_a_tenth_of_a_standard_error_is_no_movement():
    rng = np.random.default_rng(11)
    x, z = rng.normal(size=(2, 120))
    y = 0.17 * x + rng.normal(size=120)
    frame = pd.DataFrame({"x": x, "z": z, "y": y})
    for seed in range(200):  # p on the two sides of .05 in the two models, and yet no movement
        frame["y"] = 0.17 * x + np.random.default_rng(seed).normal(size=120)
        entry = mb.fit_blocks(mb.Study(frame), "y", {"a": ["x"], "b": ["z"]})
        p = [f.coefficients["p"][1] for f in entry.fits]
        if (p[0] < 0.05) != (p[1] < 0.05) and entry.movements["p"][0] > 0.05:
            break
    else:
        raise AssertionError("no such draw")
    told = [s.text for s in entry.reading().statements]
    assert len(told) == 2
    rest = [text.replace("no clear", "") for text in told[1:] if "Adding" not in text]
    assert not any("moves" in text or "clear." in text for text in rest)


@pytest.mark.parametrize("noise", [2e-2, 4e-3])
def test_the_interval_of_a_change_that_is_nearly_everything_is_as_wide_as_its_share_is_uncertain(noise):
    rng = np.random.default_rng(9)
    frame = pd.DataFrame({"x": rng.normal(size=800), "z": rng.normal(size=800)})
    frame["y"] = frame["x"] + frame["z"] + noise * rng.normal(size=800)
    row = mb.fit_blocks(mb.Study(frame), "y", {"all": ["x", "z"]}).steps.iloc[0]
    left = 1 - row["r2_change"]
    ends = np.array([row["change_low"], row["change_high"]])
    # over samples of normal rows the log of what is left varies by 4R²/n, twice as much as by the noncentral F
    half = 1.96 * np.sqrt(4 / row["df_rest"])
    np.testing.assert_allclose(np.log((1 - ends) / left), [half, -half], rtol=0.15)
    assert (row["df"] * row["statistic"] > 1e7) == (noise < 1e-2)
