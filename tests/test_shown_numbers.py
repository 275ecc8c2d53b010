"""What pages show is what the tables hold, number by number; and every interval and statistic against a closed form."""

import math

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import brentq

import markbase as mb
from markbase.core.formatting import MINUS, ratio_with_ends
from markbase.core.inference.distributions import p_of_t
from markbase.show.page import Table
from markbase.show.renderer import page_of
from reference import made_up, mp

pytestmark = pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")


def choir(rows=240):
    frame = pd.DataFrame(made_up(rows, seed=4))
    frame["high"] = np.where(frame["score"] + 5 * np.random.default_rng(1).normal(size=rows) > 38, "y", "n")
    frame["team"] = [f"t{k % 31}" for k in range(rows)]
    return frame


def fits(level=0.95):
    study = mb.Study(choir()).mark("voice", "alto").mark("day", "Mon")
    terms = ["voice", "day", "age", "km"]
    return {
        "linear": mb.fit_linear(study, "score", terms, level=level),
        "HC3": mb.fit_linear(study, "score", terms, errors="HC3", level=level),
        "clustered": mb.fit_linear(study, "score", terms, cluster="team", level=level),
        "logistic": mb.fit_logistic(study, "high", terms, event="y", level=level),
    }


def number_of(text):
    """Read a number as it is shown."""
    return float(text.replace(MINUS, "-").replace(",", "").replace("%", ""))


def near(text, value):
    """Say whether a shown number is a value, to the last digit that is shown."""
    if text.startswith("<"):
        return value < 0.001
    shown = text.replace(MINUS, "-").replace("%", "")
    places = len(shown.split(".")[1]) if "." in shown else 0
    return abs(number_of(text) - value) <= 0.5000001 * 10.0**-places


def tables(result):
    return [(s.title, b) for s in page_of(result).sections for b in s.blocks if isinstance(b, Table)]


def table_with(result, head):
    return next(t for _, t in tables(result) if head in t.heads)


@pytest.mark.parametrize("kind", ["linear", "HC3", "clustered", "logistic"])
@pytest.mark.parametrize("level", [0.95, 0.8])
def test_every_cell_of_the_coefficients_is_the_number_of_its_column(kind, level):
    fit = fits(level)[kind]
    shown = [r for r in table_with(fit, "term, level").rows if r.kind == "plain"]
    held = fit.coefficients[~fit.coefficients["base"]]
    assert len(shown) == len(held)
    assert f"{100 * level:g}% CI" in table_with(fit, "term, level").heads
    for row, r in zip(shown, held.itertuples(), strict=True):
        low, high = row.cells[3 if kind == "logistic" else 4].split(" to ")
        if kind == "logistic":
            ratios = [(row.cells[2], r.odds_ratio), (low, r.odds_low), (high, r.odds_high)]
            pairs = [*ratios, (row.cells[4], r.estimate), (row.cells[5], r.se), (row.cells[6], r.p)]
        else:
            told = (*row.cells[2:4], low, high, row.cells[5])
            pairs = list(zip(told, (r.estimate, r.se, r.low, r.high, r.p), strict=True))
        assert all(near(text, value) for text, value in pairs), (row.cells, r)
        if r.level:
            assert near(row.cells[1], r.n)
        if row.strip:
            assert (row.strip.low, row.strip.middle, row.strip.high) == (r.low, r.estimate, r.high)
    bases = [r.cells[0].strip() for r in table_with(fit, "term, level").rows if r.kind == "base"]
    assert bases == ["alto", "Mon"]


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_every_cell_of_the_other_tables_is_the_number_of_its_column(kind):
    fit = fits()[kind]
    test = next(t for _, t in tables(fit) if t.heads[:2] == ("term", "df"))
    for row, r in zip(test.rows, fit.terms.itertuples(), strict=True):
        assert (row.cells[0], row.cells[1]) == (r.term, str(r.df))
        assert near(row.cells[2], r.statistic)
        assert near(row.cells[3], r.p)
    text = " ".join(str(fit).split()).replace(MINUS, "-")
    s = fit.strength
    if kind == "linear":
        assert f"R² {s.r2:.3f} of the variation".replace("0.", ".", 1) in text
        assert f"{s.r2_adjusted:.3f})".replace("0.", ".", 1) in text
        assert f"{s.residual_sd:.2f} units; with no terms at all it is {fit.outcome_sd:.2f}" in text
        assert f"F({fit.overall.df}, {fit.overall.df_rest}) = {fit.overall.statistic:.2f}" in text
    else:
        for name, value in (("Tjur", s.tjur), ("McFadden", s.mcfadden), ("Nagelkerke", s.nagelkerke)):
            assert f"{name} {value:.3f}".replace("0.", ".", 1) in text
        assert f"{s.loglik:,.2f}; with no terms at all {s.loglik_null:,.2f}" in text
    blocks = {"a": ["voice", "age"], "b": ["km"]}
    study = mb.Study(choir()).mark("voice", "alto")
    entry = mb.fit_blocks(study, "score" if kind == "linear" else "high", blocks, kind=kind, **({} if kind == "linear" else {"event": "y"}))
    table = table_with(entry, "block")
    for row, r in zip(table.rows[kind == "logistic" :], entry.steps.to_dict("records"), strict=True):  # no terms stand first
        cells = dict(zip(table.heads, row.cells, strict=False))
        keys = {"R²": "r2", "adjusted": "r2_adjusted", "change": "r2_change", "F": "statistic", "p": "p", "parameters": "parameters"}
        for head, key in keys.items():
            if cells.get(head) and key in r:
                assert near(cells[head], r[key]), (head, cells, r)


@pytest.mark.parametrize("level", [0.95, 0.9])
def test_every_interval_has_the_tails_it_says(level):
    found = fits(level)
    for kind, fit in found.items():
        df = {"linear": 240 - 8, "HC3": 240 - 8, "clustered": 30, "logistic": math.inf}[kind]
        half = brentq(lambda t, df=df: float(p_of_t(t, df)) - (1 - level), 0.1, 20)
        table = fit.coefficients[~fit.coefficients["base"]]
        np.testing.assert_allclose(table["high"] - table["estimate"], half * table["se"], rtol=1e-9)
        np.testing.assert_allclose(table["estimate"] - table["low"], half * table["se"], rtol=1e-9)
        np.testing.assert_allclose(table["p"], p_of_t(table["estimate"] / table["se"], df), rtol=1e-12)
        groups = fit.groups("voice")
        others = groups[~groups["base"]]
        np.testing.assert_allclose((others["high"] - others["low"]) / 2, half * others["se"], rtol=1e-9)
        np.testing.assert_allclose(others["difference"], (others["high"] + others["low"]) / 2, rtol=1e-9)
        pairs = fit.between("voice", "bonferroni")
        wide = brentq(lambda t, df=df: float(p_of_t(t, df)) - (1 - level) / 6, 0.1, 30)
        np.testing.assert_allclose((pairs["high"] - pairs["low"]) / 2, wide * pairs["se"], rtol=1e-9)
        np.testing.assert_allclose(pairs["p_corrected"], np.minimum(6 * pairs["p"], 1), rtol=1e-12)
        slopes = fit.predict({"voice": "bass", "day": "Tue", "age": 40, "km": 3}).iloc[0]
        if kind == "logistic":
            eta = math.log(slopes["probability"] / (1 - slopes["probability"]))
            ends = [math.log(v / (1 - v)) for v in (slopes["low"], slopes["high"])]
            np.testing.assert_allclose(ends, [eta - half * slopes["se"], eta + half * slopes["se"]], rtol=1e-9)
            marginal = fit.marginal[~fit.marginal["base"]]
            np.testing.assert_allclose((marginal["high"] - marginal["low"]) / 2, half * marginal["se"], rtol=1e-9)
            np.testing.assert_allclose(marginal["p"], p_of_t(marginal["effect"] / marginal["se"], math.inf), rtol=1e-10)
            profile = fit.profile()
            fall = 2 * (fit.loglik - _held_at("age", profile.set_index("term").loc["age", "low"]))
            assert fall == pytest.approx(half**2, rel=1e-6)
        else:
            assert slopes["high"] - slopes["predicted"] == pytest.approx(half * slopes["se"], rel=1e-9)
            person = math.hypot(slopes["se"], fit.strength.residual_sd)
            assert slopes["one_high"] - slopes["predicted"] == pytest.approx(half * person, rel=1e-9)


def _held_at(term, value):
    """Maximise the log-likelihood over the other coefficients by hand, with one held."""
    frame = choir()
    columns = [
        np.ones(240),
        *((frame["voice"] == v).to_numpy(float) for v in ("bass", "soprano", "tenor")),
        *((frame["day"] == d).to_numpy(float) for d in ("Tue", "Wed")),
        frame["km"].to_numpy(),
    ]
    X, y, offset = np.column_stack(columns), (frame["high"] == "y").to_numpy(float), value * frame[term].to_numpy()
    b = np.zeros(X.shape[1])
    for _ in range(60):
        p = 1 / (1 + np.exp(-(X @ b + offset)))
        b += np.linalg.solve(X.T @ (X * (p * (1 - p))[:, None]), X.T @ (y - p))
    eta = X @ b + offset
    return float(np.sum(y * eta - np.logaddexp(0, eta)))


def test_strength_is_what_its_definitions_say():
    fit, frame = fits()["linear"], choir()
    y, e, n, p = frame["score"].to_numpy(), fit.residuals.to_numpy(), 240, 8
    rss, tss = float(e @ e), float(((y - y.mean()) ** 2).sum())
    loglik = float(mp.fsum(-mp.log(mp.sqrt(2 * mp.pi * rss / n)) - mp.mpf(v) ** 2 / (2 * rss / n) for v in e))
    s = fit.strength
    wanted = [1 - rss / tss, 1 - (rss / (n - p)) / (tss / (n - 1)), math.sqrt(rss / (n - p)), loglik]
    wanted += [2 * (p + 1) - 2 * loglik, math.log(n) * (p + 1) - 2 * loglik]
    np.testing.assert_allclose((s.r2, s.r2_adjusted, s.residual_sd, s.loglik, s.aic, s.bic), wanted, rtol=1e-10)


def test_grids_and_comparisons_turn_round_rightly():
    logistic, linear = fits()["logistic"], fits()["linear"]
    odds = logistic.between_grid("voice", show="odds_ratio")
    np.testing.assert_allclose(odds.to_numpy() * odds.to_numpy().T, np.where(np.eye(4) == 1, np.nan, 1.0))
    low, high = (linear.between_grid("voice", show=k).to_numpy() for k in ("low", "high"))
    np.testing.assert_allclose(low, -high.T)
    assert np.nanmax(low - high) < 0
    pairs = linear.between("voice", "holm")
    order = np.argsort(pairs["p"].to_numpy())
    stepped = np.minimum(np.maximum.accumulate(pairs["p"].to_numpy()[order] * (6 - np.arange(6))), 1)
    np.testing.assert_allclose(pairs["p_corrected"].to_numpy()[order], stepped)
    told = {(r.level, r.against): r.difference for r in pairs.itertuples()}
    table = linear.coefficients.set_index(["term", "level"])["estimate"]
    assert told["tenor", "alto"] == pytest.approx(table["voice", "tenor"])
    assert told["tenor", "bass"] == pytest.approx(table["voice", "tenor"] - table["voice", "bass"])
    standardised = linear.standardised.set_index(["term", "level"])
    frame = choir()
    assert standardised.loc[("age", ""), "estimate"] == pytest.approx(table["age", ""] * frame["age"].std() / frame["score"].std(), rel=1e-10)  # fmt: skip
    assert standardised.loc[("voice", "bass"), "estimate"] == pytest.approx(table["voice", "bass"] / frame["score"].std(), rel=1e-10)


@pytest.mark.parametrize("shift", [2e-5, 0.02, 5.0])
def test_an_odds_ratio_and_its_interval_are_written_alike_everywhere(shift, tmp_path):
    rng = np.random.default_rng(3)
    x = rng.normal(0, 1 / shift, 4000)
    data = pd.DataFrame({"x": x, "part": rng.choice(["a", "b"], 4000)})
    data["y"] = np.where(rng.random(4000) < 1 / (1 + np.exp(-x * shift)), "yes", "no")
    fit = mb.fit_logistic(mb.Study(data).mark("part", "a"), "y", ["x", "part"], event="yes")
    row = next(r for r in table_with(fit, "ratio").rows if r.cells[0] == "x")
    low, high = row.cells[3].split(" to ")
    mb.write_document([fit], tmp_path / "t.md")
    line = next(line for line in (tmp_path / "t.md").read_text().splitlines() if line.split("|")[1:2] == [" x "])
    assert [row.cells[2], row.cells[3]] == [c.strip() for c in line.split("|")[2:4]]
    assert f"odds ratio {row.cells[2]}, 95% CI {low} to {high}," in " ".join(str(fit.reading()).split())
    ends = fit.coefficients.set_index("term").loc["x", ["odds_low", "odds_high"]]
    assert [number_of(end) > 1 for end in (low, high)] == (ends > 1).tolist()
    assert ratio_with_ends(0.0111, 1e-5, 544219.421, 4.6) == ("0.011", "less than 0.0001", "544,219")


@given(log=st.floats(-2, 2), low=st.floats(1e-5, 3), up=st.booleans())
def test_it_shows_on_which_side_of_1_the_interval_of_an_odds_ratio_ends(log, low, up):
    near = low if up else -low  # how far the nearer end is from 1, in logarithms
    se = abs(log - near) / 1.96
    ends = sorted([near, 2 * log - near])
    shown = ratio_with_ends(math.exp(log), *(math.exp(end) for end in ends), se)
    for text, end in zip(shown[1:], ends, strict=True):
        if 1e-5 <= abs(end) < 6:
            assert (number_of(text) > 1) == (end > 0), (shown, ends)
