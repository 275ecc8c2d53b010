"""What estimates would be without each cluster, and errors that come of it."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from reference import made_up
from test_linear import _quietly as quietly

TERMS = ["voice", "age", "km"]


def survey(rows=260):
    """Return rows of 11 teams, each of two or three rooms."""
    rng, frame = np.random.default_rng(8), pd.DataFrame(made_up(rows))
    team = rng.choice(11, rows, p=np.arange(1, 12) / 66)
    frame = frame.assign(team=[f"t{k:02d}" for k in team], room=[f"r{k:02d}{c}" for k, c in zip(team, frame["day"], strict=True)])
    frame["score"] += rng.normal(0, 4, 11)[team]
    return frame.assign(times=rng.integers(1, 4, rows) + 0.0, high=np.where(frame["score"] > 38, "y", "n"))


TIMES = {"weights": "times", "weights_are": "frequency"}
SETTINGS = [{}, {"weights": "times"}, TIMES, {"fixed_effects": "room"}, {"fixed_effects": "team"}]


@pytest.mark.parametrize("setting", SETTINGS, ids=str)
@pytest.mark.parametrize("far", [0.0, 1e9])
def test_estimates_without_a_cluster_are_those_of_a_fit_without_it_and_cr3_is_made_of_them(setting, far):
    frame = survey()
    frame["age"] += far
    study = mb.Study(frame).mark("voice", "alto")
    fit = quietly(mb.fit_linear, study, "score", TERMS, cluster="team", errors="CR3", **setting)
    table, start, moves = fit.without_clusters(), int("fixed_effects" in setting), []
    told = fit.coefficients[~fit.coefficients["base"]].iloc[start:]
    for team, own in table.groupby("cluster"):
        rest = mb.Study(frame[frame["team"] != team]).mark("voice", "alto")
        alone = quietly(mb.fit_linear, rest, "score", TERMS, **setting).coefficients
        alone = alone[~alone["base"]].iloc[start:]
        np.testing.assert_allclose(own["without"], alone["estimate"], rtol=1e-9 if not far else 1e-6)
        here = frame[frame["team"] == team]
        assert set(own["rows"]) == {here["times"].sum() if "weights_are" in setting else len(here)}
        moves.append(alone["estimate"].to_numpy() - told["estimate"].to_numpy())
    se = np.sqrt(10 / 11 * np.square(moves).sum(axis=0))
    slopes = slice(0 if not far else 1, None)  # far from 0 the intercept has fewer digits
    np.testing.assert_allclose(told["se"].to_numpy()[slopes], se[slopes], rtol=1e-9 if not far else 1e-6)
    np.testing.assert_allclose(table["moves"], np.ravel(moves) / np.tile(told["se"], 11), atol=1e-6)
    assert (fit.df_rest, fit.errors.kind) == (10, "CR3")
    smaller = quietly(mb.fit_linear, study, "score", TERMS[:-1], cluster="team", errors="CR3", **setting)
    np.testing.assert_allclose(fit.without("km").coefficients["se"], smaller.coefficients["se"], rtol=1e-9)


@pytest.mark.parametrize("setting", [{}, {"weights": "times"}, TIMES], ids=str)
def test_clusters_of_fewer_rows_than_columns_move_estimates_as_refits_do(setting, monkeypatch):
    monkeypatch.setattr("markbase.core.inference.clustered_errors._CELLS", 200)  # several batches
    frame = survey(90)
    frame["team"] = [f"t{k:02d}" for k in np.repeat(np.arange(24), [1, 2, 3, 4, 5, 9] * 3 + [1, 2, 3, 4, 4, 4])]
    frame.loc[(frame["team"] == "t02") & (frame.index % 3 > 0), "voice"] = "contralto"  # which one cluster decides alone
    fit = quietly(mb.fit_linear, mb.Study(frame).mark("voice", "alto"), "score", TERMS, cluster="team", errors="CR3", **setting)
    for team, own in fit.without_clusters().groupby("cluster"):
        alone = quietly(mb.fit_linear, mb.Study(frame[frame["team"] != team]).mark("voice", "alto"), "score", TERMS, **setting)
        wanted = alone.coefficients.set_index(["term", "level"])["estimate"]
        wanted = [wanted.get(key, np.nan) for key in zip(own["term"], own["level"], strict=True)]
        np.testing.assert_allclose(own["without"], wanted, rtol=1e-9)


def test_a_logistic_fit_takes_one_step_without_each_cluster():
    frame = survey()
    study, more = mb.Study(frame).mark("voice", "alto"), {"event": "y", "cluster": "team", "errors": "CR3"}
    fit = quietly(mb.fit_logistic, study, "high", TERMS, **more)
    told = fit.coefficients[~fit.coefficients["base"]]
    columns = [*(frame["voice"] == v for v in ("bass", "soprano", "tenor")), frame["age"], frame["km"]]
    X = np.column_stack([np.ones(260), *columns]).astype(float)
    b, y = told["estimate"].to_numpy(), (frame["high"] == "y").to_numpy()
    q = 1 / (1 + np.exp(-X @ b))
    steps = []
    for team in sorted(set(frame["team"])):
        m = (frame["team"] != team).to_numpy()
        steps.append(np.linalg.solve((X[m] * (q * (1 - q))[m, None]).T @ X[m], X[m].T @ (y - q)[m]))
    np.testing.assert_allclose(fit.without_clusters()["without"], (b + steps).ravel(), rtol=1e-8)
    np.testing.assert_allclose(told["se"], np.sqrt(10 / 11 * np.square(steps).sum(axis=0)), rtol=1e-8)
    with pytest.raises(mb.MarkbaseError, match="no clusters that could be left out"):
        quietly(mb.fit_logistic, study, "high", TERMS, event="y").without_clusters()


def test_what_one_cluster_decides_alone_or_most_of_is_named(monkeypatch):
    frame = survey()
    frame.loc[frame["team"] == "t06", "voice"] = np.resize(["solo", "alto"], (frame["team"] == "t06").sum())
    fit = quietly(mb.fit_linear, mb.Study(frame).mark("voice", "alto"), "score", TERMS, cluster="team", errors="CR3")
    table, se = fit.without_clusters(), fit.coefficients.set_index("level")["se"]
    lost = table[table["without"].isna()]
    assert lost[["cluster", "level"]].to_numpy().tolist() == [["t06", "solo"]]
    assert np.isnan(se["solo"])
    assert np.isfinite(se.drop("solo")).all()
    weighing = {"weights": "times", "cluster": "team"}
    heavy = quietly(mb.fit_linear, mb.Study(frame.assign(times=1.0 + 2 * (frame["team"] == "t06"))), "score", TERMS, **weighing).coefficients  # fmt: skip
    assert heavy.set_index("level")["se"].isna().tolist() == [level == "solo" for level in heavy["level"]]
    alone, largest = (f for f in fit.checks().findings if f.about.startswith("clusters"))
    assert alone.figures == "told by one `team` alone: `voice: solo` by `t06`"
    assert largest.meaning.startswith("no single cluster")
    own = table[table["level"] == "bass"].sort_values("without")
    ax = mb.draw_clusters(fit, "voice: bass")
    assert [t.get_text() for t in ax.get_yticklabels()] == own["cluster"].tolist()
    np.testing.assert_allclose([line.get_xdata()[0] for line in ax.lines[1:]], own["without"])
    for name, told in (("voice: solo", "a cluster decides it alone"), ("voice: bas", "Did you mean `voice: bass`")):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.draw_clusters(fit, name)
    frame.loc[frame["team"] == "t10", "score"] += 8 * frame["km"]
    pulled = quietly(mb.fit_linear, mb.Study(frame).mark("voice", "alto"), "score", TERMS, cluster="team").checks()
    assert pulled.clusters["cluster"][0] == "t10"
    told = next(f for f in pulled.findings if f.about == "clusters")
    assert told.figures.endswith("without `team` `t10`")
    assert "three times as much, in squares, as all others together" in told.meaning
    assert "t10" in str(pulled)
    with pytest.raises(mb.FitError, match="Levels of `day` that are taken out lie in several clusters of `team`"):
        quietly(mb.fit_linear, mb.Study(frame), "score", TERMS, cluster="team", errors="CR3", fixed_effects="day")
    crossed = quietly(mb.fit_linear, mb.Study(frame), "score", TERMS, cluster="team", fixed_effects="day")
    assert crossed.checks().clusters is None
    monkeypatch.setattr("markbase.core.checks.clusters_left_out._FEW_ENOUGH", 10)  # nobody looks at more unasked
    assert fit.checks().clusters is None
    assert len(fit.without_clusters()) == 11 * 7


@pytest.mark.parametrize("errors", ["CR1", "CR3"])
def test_parts_that_lack_clusters_or_have_none_change_nothing(small_parts, errors, tmp_path):  # noqa: ARG001 - it sets how large parts are
    frame = survey(1400).sort_values("team", ignore_index=True)
    frame.loc[frame["team"] == "t04", "voice"] = np.resize(["solo", "alto"], (frame["team"] == "t04").sum())
    frame.loc[501:1010, "km"] = np.nan  # a part of gaps alone
    frame.to_parquet(tmp_path / "sorted.parquet")
    studies = [mb.open_study(tmp_path / "sorted.parquet", in_parts=p).mark("voice", "alto") for p in (False, True)]
    told = [quietly(mb.fit_linear, s, "score", TERMS, cluster="team", errors=errors) for s in studies]
    pd.testing.assert_frame_equal(*(fit.coefficients for fit in told), rtol=1e-9)
    pd.testing.assert_frame_equal(*(fit.without_clusters() for fit in told), rtol=1e-8)
    assert told[1].coefficients["se"].isna().sum() == 1


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("in_parts", [False, True])
def test_whole_numbers_that_were_guessed_numeric_are_groups_where_levels_are_asked_for(tmp_path, in_parts):
    frame = pd.DataFrame(made_up(200)).assign(team=3 + np.arange(200) % 23, half=np.arange(200) % 23 % 2, ids=np.arange(200) * 7)
    frame.to_csv(tmp_path / "n.csv", index=False)
    named = mb.Study(frame.assign(team=frame["team"].map("t{:02d}".format), half=frame["half"].map("h{}".format)))
    numbers = mb.open_study(tmp_path / "n.csv", in_parts=in_parts)
    for options in ({"cluster": "team"}, {"cluster": "team", "strata": "half"}, {"fixed_effects": "team"}):
        with pytest.warns(mb.MarkbaseWarning, match="`team` was guessed numeric; its whole numbers are taken as codes"):
            own = mb.fit_linear(numbers, "score", ["age", "km"], **options)
        wanted = mb.fit_linear(named, "score", ["age", "km"], **options)
        pd.testing.assert_frame_equal(own.coefficients, wanted.coefficients, rtol=1e-9)
    with pytest.warns(mb.MarkbaseWarning, match="as clusters are"):
        kept, _ = numbers.hold_out(share=0.3, seed=1, whole="team")
    assert kept.rows < 200
    hinted = str(mb.fit_linear(numbers.as_role("team", "cluster"), "score", ["age"]))
    assert "of one team may go together" in " ".join(hinted.split())
    long = mb.Study(frame.assign(team=2.0**60 + frame["team"] * 2.0**12))  # numbers whose last digits are lost
    assert mb.fit_linear(long.as_role("team", "cluster"), "score", ["age"]).df_rest == 198
    with pytest.warns(mb.MarkbaseWarning, match="`team` is numeric; its whole numbers are taken as codes"):
        assert mb.fit_linear(numbers.as_numeric("team"), "score", ["age"], cluster="team").errors.clusters == 23
    with pytest.raises(mb.ColumnError, match="`km` is numeric, and not in whole numbers; clusters are the levels"):
        mb.fit_linear(numbers, "score", ["age"], cluster="km")


def test_clusters_told_by_numbers_may_be_more_than_codes_are(tmp_path):
    k, path = np.arange(2600), tmp_path / "n.csv"
    for team in (k // 2, 7 - k // 2 * 1000, np.where(k % 50 == 0, np.nan, k // 2 + 1e9)):  # close together, far apart, with gaps
        frame = pd.DataFrame({"team": team, "x": np.sin(k), "y": np.cos(k * 1.7)})
        frame.to_csv(path, index=False)
        texts = mb.fit_linear(frame.assign(team=frame["team"].map("t{:.0f}".format, na_action="ignore")), "y", ["x"], cluster="team")
        for in_parts in (False, True):
            with pytest.warns(mb.MarkbaseWarning, match="as clusters are"):
                fit = mb.fit_linear(mb.open_study(path, in_parts=in_parts), "y", ["x"], cluster="team")
            assert fit.errors.clusters == texts.errors.clusters == 1300
            assert fit.coefficients["se"].to_numpy() == pytest.approx(texts.coefficients["se"].to_numpy(), rel=1e-12)
