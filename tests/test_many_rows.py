"""What is told unasked of very many rows, and of rows in parts: what is told of few in memory, counted on all, or of some at random, which is said."""

import re
import warnings

import numpy as np
import pandas as pd
import pytest

import markbase as mb

ROWS, SITES = 3000, 600


@pytest.fixture(scope="module")
def frame():
    rng = np.random.default_rng(1)
    site, voice = rng.permutation(np.repeat(np.arange(SITES), 5)), rng.choice([*"abst"], ROWS)
    table = pd.DataFrame({"age": rng.normal(45, 12, ROWS).round(), "voice": voice, "before": rng.normal(50, 9, ROWS).round(1)})
    table["site"], table["climate"] = [f"s{k}" for k in site], rng.integers(0, 99, SITES)[site].astype(float)
    table["after"] = (table["before"] / 2 + rng.normal(25, 8, ROWS)).round(1)
    table[["i1", "i2", "i3", "i4"]], table[["p1", "p2", "p3"]] = (rng.integers(1.0, 6, (ROWS, 4)), 100 * rng.dirichlet([2, 2, 2], ROWS).round(2))  # fmt: skip
    table["change"], table["total"] = table["after"] - table["before"], table[["i1", "i2", "i3", "i4"]].sum(axis=1)
    table["hours"] = np.where(rng.random(ROWS) < 0.1, np.nan, rng.gamma(2, 2, ROWS).round(1))
    bent = ((table["age"] - 45) / 12) ** 2
    table["glad"] = (table["age"] / 3 - 2 * bent + (voice == "a") + rng.normal(0, 2 + bent, ROWS) + rng.normal(0, 3, SITES)[site])  # fmt: skip
    table["gone"] = rng.binomial(table["age"].clip(9).astype(int), 0.3)
    table["rate"] = (100 * table["gone"] / table["age"].clip(9)).round(1)
    table["members"] = table["age"].clip(9)
    table["stays"] = np.where(rng.random(ROWS) < 1 / (1 + np.exp(1 - bent)), "yes", "no")
    return table


def told(study, model):
    """Fit a model, and return it with all that is told of it."""
    outcome, terms, *fixed = (side.split() for side in model.split("|"))
    study, more = study.cut("age", [40, 50], labels=["young", "mid", "old"], name="band"), {"event": "yes"} if outcome == ["stays"] else {}
    with warnings.catch_warnings(record=True) as remarks:
        warnings.simplefilter("always")
        fit = (mb.fit_logistic if more else mb.fit_linear)(study, *outcome, terms, **more, **({"fixed_effects": fixed[0]} if fixed else {}))
        pages = [*(str(r.message) for r in remarks), str(fit), str(fit.checks())]
    return fit, " ".join("\n".join(pages).split()).replace("n.parquet", "data")


TOLD = {
    "glad | age hours voice": r"line of age bends downward \(its square",
    "glad | band hours": r"Residuals spread more .* robust errors \(HC3\), which allow for it, are",
    "glad | voice climate": r"rows of one site as independent.*intraclass correlation",
    "glad | voice band": r"cut out of age.*within the levels glad goes on changing",
    "stays | age hours": r"Along age the log odds bend upward \(its square",
    "glad | age hours | site": r"line of age bends downward \(its square",
    "change | before age": r"change is after − before in every row",
    "total | i1 age": r"total is the sum of i1, i2, i3 and i4 in every row",
    "age | p1 p2 p3 hours": r"p1, p2 and p3 add up to \S+ to \S+ in every row",
    "rate | members before": r"rate is gone per 100 members in every row, and members is in the model: .* a share of 9 in one row",
    "climate | age voice": r"climate has one value for each site: these 3,000 rows hold 600 outcomes",
    "stays | voice band": r"Pearson, 12 combinations of the terms",
    "stays | voice": r"a coefficient for every combination of its terms",
}
NEARLY = r"(chi²\(8\) = \S+ p \S+ \S+ \(Hosmer|, each to within \S+ as rows of nearly equal probability count as ties|area under the curve \S+)"
"""Of rows in parts probabilities are put into cells."""


@pytest.mark.parametrize("model", TOLD)
def test_what_is_told_of_rows_in_parts_is_what_is_told_of_these_rows_in_memory(frame, tmp_path, model):
    frame.to_parquet(tmp_path / "n.parquet", row_group_size=400)
    _, wanted = told(mb.Study(frame), model)
    _, found = told(mb.open_study(tmp_path / "n.parquet", in_parts=True), model)
    assert re.search(TOLD[model], wanted)
    nearly = NEARLY if model == "stays | age hours" else "$^"
    assert re.sub(nearly, "", found) == re.sub(nearly, "", wanted)


@pytest.mark.parametrize("model", [m for m, what in TOLD.items() if "every row" in what or "one value" in what])
def test_what_holds_in_all_rows_but_one_that_is_not_in_memory_is_not_told(frame, tmp_path, monkeypatch, model):
    monkeypatch.setattr("markbase.core.rows.table.KEPT_ROWS", 300)
    frame.assign(row=np.arange(ROWS) + 0.5).to_parquet(tmp_path / "n.parquet", row_group_size=400)
    kept = mb.open_study(tmp_path / "n.parquet", in_parts=True)["row"].values.kept
    one = next(k for k in range(ROWS) if k + 0.5 not in kept and frame["hours"].notna()[k])
    assert re.search(TOLD[model], told(mb.open_study(tmp_path / "n.parquet", in_parts=True), model)[1])
    frame = frame.copy()
    frame.loc[one, ["change", "total", "p1", "climate", "rate"]] += 7
    frame.to_parquet(tmp_path / "n.parquet", row_group_size=400)
    assert not re.search(TOLD[model], told(mb.open_study(tmp_path / "n.parquet", in_parts=True), model)[1])


@pytest.mark.parametrize("source", ["memory", "parts", "numbers in parts"])
@pytest.mark.parametrize("model", list(TOLD)[:5])
def test_of_very_many_rows_some_are_looked_at_and_that_is_said(frame, tmp_path, monkeypatch, model, source):
    if "numbers" in source:  # whose levels are not counted
        monkeypatch.setattr("markbase.core.rows.table.KEPT_ROWS", 2999)
        frame = frame.assign(site=frame["site"].str[1:].astype(float) * 3 + 7000)
    frame.to_parquet(tmp_path / "n.parquet")
    exact, whole = told(mb.Study(frame), model)
    monkeypatch.setattr("markbase.core.checks.some_rows._MANY", ROWS - 1)
    monkeypatch.setattr("markbase.core.checks.some_rows._SOME", 1500)
    study = mb.open_study(tmp_path / "n.parquet", in_parts=True) if "parts" in source else mb.Study(frame)
    fit, text = told(study, model)
    lead = re.split(r" ?\.\*|, which", TOLD[model])[0]
    assert re.search(rf"{lead}[^▲]*? in {fit._on_some.sample.used:,} rows taken at random", text)
    if "climate" in model:  # as many levels, and as large an effect, as all rows have
        levels, effect = (r"· rows together: site( \(600 levels\))?, which", r"what is the same in all of them is about (\S+) times")
        assert bool(re.search(levels, text)[1]) != ("numbers" in source)
        assert "cluster the errors by site, where" in text
        assert float(re.search(effect, text)[1]) == pytest.approx(float(re.search(effect, whole)[1]), rel=0.15)
    assert fit.coefficients["estimate"].to_numpy() == pytest.approx(exact.coefficients["estimate"].to_numpy(), rel=1e-9)
    if "glad" in model:
        some = fit._on_some
        hand, _ = told(mb.Study(frame[frame["glad"].isin(some.outcome.values)]), model)
        assert hand.strength.residual_sd == pytest.approx(some.strength.residual_sd, rel=1e-9)


def test_a_fit_of_some_rows_that_nobody_asked_for_makes_no_remarks(frame, monkeypatch):
    for name, value in (("_MANY", 100), ("_SOME", 40), ("_A_COEFFICIENT", 2)):  # fewer clusters than 30 have rows among 40
        monkeypatch.setattr(f"markbase.core.checks.some_rows.{name}", value)
    fit = mb.fit_logistic(frame.assign(team=[f"t{k % 40}" for k in range(ROWS)]), "stays", ["age", "voice"], event="yes", cluster="team")
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert str(fit)
        assert fit._on_some.errors.clusters < 30 < fit.errors.clusters
