"""Rows that come in parts, held out and drawn at random: what is told of them is told of the same rows in memory."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from markbase.reports.figure_sets import figures_of
from surveys import PLAIN, listed, same

pytestmark = [pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning"), pytest.mark.usefixtures("small_parts")]


def _folds(rows, folds, seed, turn):
    """Return the part each row is held out in: its place, mixed as SplitMix64 says, in whole numbers of Python."""
    start, mask, found = int(np.random.default_rng([seed, turn]).integers(1 << 62)), (1 << 64) - 1, []
    for place in range(rows):
        z = (place + start + 1) * 0x9E3779B97F4A7C15 & mask
        z = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9 & mask
        z = (z ^ (z >> 27)) * 0x94D049BB133111EB & mask
        found.append((z ^ (z >> 31)) % folds)
    return np.array(found)


@pytest.mark.parametrize("weights", [None, "weight"])
def test_rows_in_parts_are_held_out_in_their_turn_as_by_hand(studies, weights):
    terms = ["age", "rehearsals", "concerts"]
    errors = "HC1" if weights else None
    fit = mb.fit_linear(studies[1], "belonging", terms, weights=weights, errors=errors)
    found = mb.cross_validate(fit, folds=4, repeats=2, seed=5).table.set_index("figure")
    frame = studies[0].frame()
    here = frame[["belonging", *terms, *([weights] if weights else [])]].notna().all(axis=1).to_numpy()
    y, w = frame["belonging"].to_numpy(float), frame[weights].to_numpy(float) if weights else np.ones(len(frame))
    X, misses, shares = np.column_stack([np.ones(len(frame)), frame[terms].to_numpy(float)]), [], []
    for turn in range(2):
        fold, e, bare = _folds(len(frame), 4, 5, turn), np.full(len(frame), np.nan), np.full(len(frame), np.nan)
        for k in range(4):
            train, test = here & (fold != k), here & (fold == k)
            root = np.sqrt(w[train])
            b = np.linalg.lstsq(X[train] * root[:, None], y[train] * root, rcond=None)[0]
            e[test], bare[test] = y[test] - X[test] @ b, y[test] - np.average(y[train], weights=w[train])
        misses.append(np.sqrt(np.average(e[here] ** 2, weights=w[here])))
        shares.append(1 - w[here] @ e[here] ** 2 / (w[here] @ bare[here] ** 2))
    for figure, wanted in (("root mean squared error", misses), ("R²", shares)):
        row = found.loc[figure]
        np.testing.assert_allclose(row[["lowest", "held_out", "highest"]].astype(float), [min(wanted), np.mean(wanted), max(wanted)], rtol=1e-9)  # fmt: skip


def test_whole_clusters_are_held_out_in_parts_as_in_memory(studies, fits):
    for kind in ("linear", "logistic"):
        whole, parts = (mb.cross_validate(f, repeats=1, seed=3) for f in fits(kind, cluster="choir"))
        same(listed(whole.table.iloc[:, 1:]), listed(parts.table.iloc[:, 1:]), 1e-3 if kind == "logistic" else 1e-9)
        assert (whole.folds, parts.folds, parts.cluster) == (10, 10, "choir")
    for kept, held in (s.hold_out(0.3, seed=6, whole="choir") for s in studies):
        of = [set(part.levels("choir").query("count > 0")["level"]) - {"blank"} for part in (kept, held)]
        assert not of[0] & of[1]
        assert len(of[0] | of[1]) == 24
        assert 0.2 < held.rows / studies[0].rows < 0.4
        assert f"{len(of[1])} of 24 whole levels of `choir`" in held.trail.steps[-1].text


def test_a_logistic_fit_in_parts_is_classified_on_rows_held_out(fits):
    whole, parts = fits("logistic")
    told, memory = parts.classification(folds=3, seed=2).held_out, whole.classification(folds=3, seed=2).held_out
    n = told.table.to_numpy().sum()
    assert (n + told.left_out, told.folds) == (whole.sample.used, 3)
    assert told.table.sum(axis=1).tolist() == whole.classification().table.sum(axis=1).tolist()
    assert abs(told.area - memory.area) < 0.02 < parts.classification().area - 0.5
    held = mb.cross_validate(parts, folds=3, repeats=1, seed=2).table.set_index("figure")
    assert held.loc["classified correctly", "held_out"] == pytest.approx(np.trace(told.table) / n, abs=0.02)
    assert (held["held_out"] < held["of_the_fit"])["area under the curve"]


@pytest.mark.parametrize("weights", [None, "weight"])
def test_whole_clusters_are_drawn_of_rows_in_parts_as_in_memory(studies, weights):
    blocks = {"who": ["age", "voice"], "taking part": [mb.interaction("rehearsals", "joined_through")]}
    made = [mb.fit_blocks(s, "belonging", blocks, cluster="choir", weights=weights).bootstrap(300, seed=4) for s in studies]
    same(made[0].steps, made[1].steps, 1e-9)
    assert "whole levels of choir" in " ".join(str(made[1]).split())


def test_a_share_held_out_is_drawn_row_by_row_and_scores_the_fit(studies):
    kept, rest = studies[1].hold_out(0.25, seed=3)
    ages = [next(iter(studies[1].hold_out(0.25, seed=k)[1].parts()))["age"].values[:9].tolist() for k in (3, 3, 4)]
    assert str(ages[0]) == str(ages[1]) != str(ages[2])
    assert kept.rows + rest.rows == 2003
    assert 0.22 < rest.rows / 2003 < 0.28
    found = mb.score(mb.fit_linear(kept, "belonging", PLAIN), rest)
    in_memory = [mb.Study(pd.concat([p.frame() for p in s.parts()], ignore_index=True)) for s in (kept, rest)]
    wanted = mb.score(mb.fit_linear(in_memory[0], "belonging", PLAIN), in_memory[1])
    same(found.table, wanted.table, 1e-9)
    assert figures_of(wanted)
    assert not figures_of(found)
    with pytest.raises(mb.FitError, match="Predictions of rows that are read in parts are not kept"):
        mb.draw_score(found)
    sample = studies[1].sample(100, seed=2)
    assert sample.rows == 100
    assert "random sample: 100 of 2,003 rows" in str(sample.trail)


def test_rows_held_out_are_not_among_those_kept_of_the_others(studies):
    whole = studies[1]["age"].values.source.kept.places
    for some in studies[1].hold_out(share=0.3, seed=5):
        mask = some["age"].values.mask
        assert 0 < mask.kept.sum() < len(whole)
        numbers = np.concatenate([part["singer_id"].values for part in some.parts()])
        assert some["singer_id"].values.kept.tolist() == [v for v in studies[1]["singer_id"].values.kept.tolist() if v in set(numbers.tolist())]  # fmt: skip


@pytest.mark.parametrize("seed", range(4))
def test_whatever_the_seed_both_parts_have_their_share_of_the_rows_in_memory(studies, seed):
    kept, held = studies[1].hold_out(share=0.5, seed=seed)
    there = [len(s["age"].values.kept) / s.rows for s in (kept, held)]
    assert min(there) > 0.6 * max(there)
    assert "belonging" in str(mb.fit_linear(kept, "belonging", PLAIN))


def test_few_rows_of_many_in_parts_are_taken_into_memory(tmp_path):
    rng = np.random.default_rng(2)
    frame = pd.DataFrame({"x": rng.normal(size=2000), "g": rng.choice(["a", "b"], 2000), "town": np.where(np.arange(2000) % 25, "big", "small")})  # fmt: skip
    frame["y"], frame["asked"] = frame["x"] + rng.normal(size=2000), frame["x"].where(rng.random(2000) < 0.03)
    frame.to_parquet(tmp_path / "n.parquet", row_group_size=300)
    parts, whole = mb.open_study(tmp_path / "n.parquet", in_parts=True), mb.Study(frame)
    conditions = {"town": ["small"]}, {"asked": {"present": True}}
    for terms, kept in zip((["x", "g"], ["asked", "g"]), conditions, strict=True):
        own, wanted = (s.derive("twice", sum=["x", "y"]).keep(kept) for s in (parts, whole))
        pd.testing.assert_frame_equal(own.frame(), wanted.frame())
        fits = [mb.fit_linear(s, "y", terms) for s in (own, wanted)]
        assert str(fits[0]).replace("n.parquet", "data") == str(fits[1])
        assert str(mb.screen(own, ["x", "g"], method="spearman"))  # which needs all rows at once
    with pytest.raises(mb.FitError, match=r"Only \d+ of 2,000 rows have a value .* Keep these rows first \(`keep`, `{\"asked\": {\"present\": true}}`\)"):  # fmt: skip
        mb.fit_linear(parts, "y", ["asked", "g"])
