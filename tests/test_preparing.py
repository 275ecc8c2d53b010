"""Every recode: counts preserved, missing preserved, the source untouched, the trail replayed to the same bytes."""

import json
import tomllib
import warnings
from collections import Counter

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase.core.study.replay import STEPS
from markbase.files.data_writing import table_bytes


def quietly(call, *arguments, **settings):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", mb.MarkbaseWarning)
        return call(*arguments, **settings)


def same(one, other):
    return table_bytes(one.frame(), ".csv") == table_bytes(other.frame(), ".csv")


def from_above(before, after, name):
    """Hold a column that was filled against a walk down its rows: blank is 1 among reasons."""
    last, rows = None, []
    for value, why in zip(before[name].values.tolist(), before[name].reasons().tolist(), strict=True):
        last = (value, why) if why != 1 or last is None else last
        rows.append(last)
    own = list(zip(after[name].values.tolist(), after[name].reasons().tolist(), strict=True))
    return str(own) == str(rows) and any(why == 1 for why in before[name].reasons().tolist())


# each step on the demo data, what the remark must say ("" for none), and what must be true of source and result
def _quarters(study, values, labels):
    """Each edge is the value between two others that leaves the share below it nearest to a quarter, and so on; what follows repeats it."""
    edges, told = study.trail.steps[-1].settings["edges"], values[~np.isnan(values)]
    for k, edge in enumerate(edges, 1):
        off = [abs(np.mean(told < v) - k / 4) for v in np.unique(told)]
        assert abs(np.mean(told < edge) - k / 4) == min(off)
    assert labels == [
        f"lowest quarter (below {edges[0]:g})",
        *(f"{n} quarter ({a:g} to below {b:g})" for n, a, b in zip(("2nd", "3rd"), edges, edges[1:], strict=False)),
        f"highest quarter ({edges[2]:g} and more)",
    ]
    return study["q"].counts.tolist() == np.histogram(told, [-np.inf, *edges, np.inf])[0].tolist()


STEPS_TRIED = [
    ({"do": "as_role", "column": "choir", "role": "identifier"}, "", lambda _, b: b["choir"].role == "identifier"),
    ({"do": "as_numeric", "column": "rehearsal_day"}, "", lambda a, b: b["rehearsal_day"].values[:9].tolist() == (a["rehearsal_day"].values[:9] + 1).tolist()),
    ({"do": "as_numeric", "column": "voice", "scores": {"soprano": 4, "alto": 3, "tenor": 2, "tennor": 2, "bass": 1.5}}, "", lambda a, b: b["voice"].values[:99].tolist() == np.array([4, 3, 2, 1.5, 2])[a["voice"].values[:99]].tolist() and b["voice"].unit is None),
    ({"do": "as_numeric", "column": "rehearsals", "scores": {str(k): -k for k in range(2, 21)}}, "", lambda a, b: np.array_equal(b["rehearsals"].values, -a["rehearsals"].values)),
    ({"do": "as_categorical", "column": "satisfaction", "labels": {"1": "poor", "5": "great", "9": "?"}}, "no label for codes `2`, `3` and `4`; no row has `?`", lambda _, b: b["satisfaction"].levels[0].label == "poor"),
    ({"do": "as_ordinal", "column": "satisfaction", "order": [5, 4, 3, 2, 1]}, "", lambda _, b: b["satisfaction"].levels[0].label == "5"),
    ({"do": "rename", "columns": {"age": "voice", "voice": "part of the choir"}}, "", lambda a, b: b["voice"].values is a["age"].values and b.columns[2:4] == ("part of the choir", "joined_through")),
    ({"do": "keep", "conditions": {"rehearsals": {"among": [10, 12]}}}, "", lambda a, b: b.rows == np.isin(a["rehearsals"].values, [10, 12]).sum()),
    ({"do": "blank", "column": "age", "codes": {"45": "odd"}, "ranges": [[80, 90]]}, "among the other values", lambda a, b: b["age"].valid == np.sum((a["age"].values != 45) & (a["age"].values < 80))),
    ({"do": "blank", "column": "belonging", "codes": [-99]}, "`-99` is never seen", lambda a, b: b["belonging"].valid == a["belonging"].valid),
    ({"do": "blank", "column": "voice", "codes": ["tennor"]}, "", lambda a, b: len(b["voice"].levels) == 4 and b["voice"].valid == a["voice"].valid - 6),
    ({"do": "fill_blank", "column": "age", "value": 40}, "", lambda a, b: b["age"].valid == a["age"].valid + 31 and b["age"].missing_counts() == [("no answer (-9)", 12)]),
    ({"do": "fill_blank", "column": "joined_through", "value": "unasked"}, "", lambda a, b: b["joined_through"].counts.tolist() == [*a["joined_through"].counts, 18] and b["joined_through"].valid == b.rows),
    ({"do": "fill_blank", "column": "joined_through", "value": "friend"}, "", lambda a, b: b["joined_through"].counts[0] == a["joined_through"].counts[0] + 18),
    ({"do": "fill_down", "column": "age"}, "", lambda a, b: from_above(a, b, "age")),
    ({"do": "fill_down", "column": "joined_through"}, "", lambda a, b: from_above(a, b, "joined_through")),
    ({"do": "keep_levels", "column": "voice", "levels": ["alto", "bass"]}, "", lambda a, b: b["voice"].valid == a["voice"].counts[[1, 3]].sum() and [v.label for v in b["voice"].levels] == ["alto", "bass"]),
    ({"do": "merge_levels", "column": "voice", "targets": {"tenor": ["tennor"]}}, "", lambda a, b: b["voice"].counts[2] == a["voice"].counts[[2, 4]].sum() and not b["voice"].levels[2].mixture),
    ({"do": "merge_levels", "column": "joined_through", "below": 30, "into": "other", "name": "joined"}, "`other` is a mixture of `workplace` and `festival`", lambda a, b: b["joined"].counts[-1] == 46 and len(a["joined_through"].levels) == 6),
    ({"do": "merge_levels", "column": "joined_through", "below_share": 0.16, "into": "rest"}, "mixture", lambda _, b: len(b["joined_through"].levels) == 4),
    ({"do": "against_rest", "column": "voice", "level": "bass", "name": "bass_or_not"}, "`not bass` is a mixture", lambda a, b: b["bass_or_not"].base.chosen and b["bass_or_not"].counts.tolist() == [2003 - a["voice"].counts[3], a["voice"].counts[3]]),
    ({"do": "against_rest", "column": "joined_through", "level": "family", "name": "by_family"}, "is a mixture", lambda a, b: b["by_family"].valid == a["joined_through"].valid < b.rows and b["by_family"].counts[1] == a["joined_through"].counts[1]),
    ({"do": "combine_groups", "columns": ["joined_through", "stays"], "name": "n"}, "thin: `workplace/no` (9)", lambda a, b: b["n"].valid == np.sum(a["joined_through"].present & a["stays"].present) and all(b["n"].levels[k].label == f"{j}/{s}" for k, j, s in zip(b["n"].values, _labels(a["joined_through"]), _labels(a["stays"]), strict=True) if k >= 0)),
    ({"do": "combine_groups", "columns": ["stays", "rehearsal_day", "voice"], "name": "n", "between": " & "}, "combinations without a row; thin:", lambda _, b: [v.label for v in b["n"].levels][:2] == ["no & Monday & soprano", "no & Monday & alto"]),
    ({"do": "coalesce", "columns": ["joined_through", "voice"], "name": "n"}, "`voice` has another value than the one taken in 1,985 rows, first in row 1", lambda a, b: _labels(b["n"]) == [j or v for j, v in zip(_labels(a["joined_through"]), _labels(a["voice"]), strict=True)]),
    ({"do": "coalesce", "columns": ["age", "years_singing"], "name": "n"}, "`years_singing` has another value", lambda a, b: np.array_equal(b["n"].values, np.where(a["age"].present, a["age"].values, a["years_singing"].values))),
    ({"do": "cut", "column": "age", "edges": [30, 45, 90], "name": "band"}, "no row falls into `90 and more`", lambda a, b: b["band"].counts[0] == np.sum(a["age"].values < 30)),
    ({"do": "cut", "column": "age", "edges": [30], "name": "band", "edge_goes": "down", "labels": ["to 30", "older"]}, "", lambda a, b: b["band"].counts[0] == np.sum(a["age"].values <= 30)),
    ({"do": "cut", "column": "practice_hours", "quantiles": 4, "name": "q"}, "", lambda a, b: _quarters(b, a["practice_hours"].values, b["q"].labels)),
    ({"do": "cut", "column": "satisfaction", "quantiles": 4, "name": "q", "labels": ["a", "b", "c", "d"]}, "far from equal: bands of 12% to 38% of the rows, as equal values stay together", lambda a, b: b["q"].counts[3] == np.sum(a["satisfaction"].values == 5)),
    ({"do": "cut", "column": "belonging", "quantiles": 23, "name": "q"}, "", lambda _, b: [" ".join(b["q"].labels[k - 1].split()[:3]) for k in (1, 2, 3, 4, 11, 12, 13, 21, 22, 23)] == [f"{w} of 23" for w in ("lowest", "2nd", "3rd", "4th", "11th", "12th", "13th", "21st", "22nd", "highest")]),
    ({"do": "split_at", "column": "satisfaction", "above": 3, "name": "satisfied"}, "sensitive at 3", lambda a, b: b["satisfied"].counts[1] == np.sum(a["satisfaction"].values > 3)),
    ({"do": "split_at", "column": "travel_km", "at_least": 10, "name": "far", "labels": ["near", "far"]}, "", lambda a, b: b["far"].counts[1] == np.sum(a["travel_km"].values >= 10)),
    ({"do": "event", "column": "stays", "event": "yes"}, "", lambda _, b: b["stays"].levels[b["stays"].event].label == "yes"),
    ({"do": "event", "column": "stays", "event": "no"}, "the event is `no`: is that the side", lambda _, b: b["stays"].event == 1),
    ({"do": "event", "column": "satisfaction", "event": [4, 5], "name": "content"}, "mixture", lambda a, b: b["content"].counts[1] == np.sum(a["satisfaction"].values >= 4)),
    ({"do": "multiple_response", "column": "joined_through", "answer": "evening", "separator": " ", "name": "n"}, "rows without any answer stay missing", lambda _, b: b["n"].counts.tolist() == [1505, 480]),
    ({"do": "derive", "name": "n", "log": "practice_hours"}, "", lambda a, b: np.allclose(np.exp(b["n"].values), a["practice_hours"].values, equal_nan=True)),
    ({"do": "derive", "name": "n", "level_mean": "age", "within": "joined_through"}, "", lambda a, b: np.allclose(b["n"].values, a.frame().groupby("joined_through")["age"].transform("mean"), equal_nan=True, rtol=1e-14) and b["n"].valid == a["joined_through"].valid),
    ({"do": "derive", "name": "n", "log1p": "concerts"}, "", lambda a, b: np.allclose(np.expm1(b["n"].values), a["concerts"].values)),
    ({"do": "derive", "name": "n", "sqrt": "concerts"}, "", lambda a, b: np.allclose(b["n"].values ** 2, a["concerts"].values)),
    ({"do": "derive", "name": "n", "cube_root": "age"}, "", lambda a, b: np.allclose(b["n"].values ** 3, a["age"].values, equal_nan=True)),
    ({"do": "derive", "name": "n", "square": "age"}, "", lambda a, b: np.allclose(b["n"].values, a["age"].values ** 2, equal_nan=True)),
    ({"do": "derive", "name": "n", "reciprocal": "travel_km"}, "", lambda a, b: np.allclose(b["n"].values * a["travel_km"].values, 1)),
    ({"do": "derive", "name": "n", "centre": "age", "within": "choir"}, "", lambda a, b: np.allclose(pd.Series(b["n"].values).groupby(a["choir"].values).mean(), 0, atol=1e-12)),
    ({"do": "derive", "name": "n", "z": "age"}, "", lambda _, b: np.isclose(np.nanstd(b["n"].values, ddof=1), 1) and abs(np.nanmean(b["n"].values)) < 1e-12),
    ({"do": "derive", "name": "n", "unit_range": "age"}, "", lambda _, b: (np.nanmin(b["n"].values), np.nanmax(b["n"].values)) == (0, 1)),
    ({"do": "derive", "name": "n", "sum": ["rehearsals", "concerts"]}, "", lambda a, b: np.array_equal(b["n"].values, a["events"].values)),
    ({"do": "derive", "name": "n", "mean": ["age", "satisfaction"], "least": 1}, "do not all span the same range", lambda a, b: b["n"].valid == np.sum(a["age"].present | a["satisfaction"].present)),
    ({"do": "derive", "name": "n", "difference": ["age", "years_singing"]}, "", lambda a, b: np.allclose(b["n"].values, a["age"].values - a["years_singing"].values, equal_nan=True)),
    ({"do": "derive", "name": "n", "ratio": ["rehearsals", "concerts"]}, "with `concerts` = 0 left missing", lambda a, b: b["n"].valid == np.sum(a["concerts"].values > 0)),
    ({"do": "derive", "name": "n", "rate": ["concerts", "rehearsals"], "per": 100}, "", lambda a, b: np.allclose(b["n"].values, 100 * a["concerts"].values / a["rehearsals"].values)),
    ({"do": "mark", "column": "voice", "by": "lowest_mean", "of": "age"}, "chosen by looking at `age`", lambda _, b: b["voice"].base.looked_at == "age"),
    ({"do": "code_as", "column": "voice", "scheme": "effect"}, "", lambda _, b: b["voice"].scheme == "effect"),
    ({"do": "keep", "conditions": {"age": {"at_least": 18, "below": 60}, "voice": ["alto", "bass"], "stays": {"is_not": "no"}}}, "", lambda a, b: b.rows == np.sum((a["age"].values >= 18) & (a["age"].values < 60) & np.isin(a["voice"].values, [1, 3]) & (a["stays"].values == 1))),
    ({"do": "leave_out_repeats", "columns": ["voice", "age"]}, "differ from it in other columns", lambda a, b: b.rows == len({(v, r if np.isnan(x) else x) for v, r, x in zip(a["voice"].values, a["age"].reasons(), a["age"].values, strict=True)})),
    ({"do": "keep", "conditions": {"age": {"above": 30, "at_most": 60}}}, "", lambda a, b: b.rows == np.sum((a["age"].values > 30) & (a["age"].values <= 60))),
    ({"do": "sample", "rows": 500, "seed": 4}, "", lambda a, b: b.rows == 500 and set(b["singer_id"].values.tolist()) < set(a["singer_id"].values.tolist())),
    ({"do": "hold_out", "share": 0.25, "seed": 3, "within": "joined_through", "part": "held_out"}, "no held-out row of `voice` is `tennor`", lambda _, b: abs(b.rows - 501) <= 3),
]  # fmt: skip


def _labels(column):
    """The label of each row's level, empty where it has none."""
    return [column.levels[k].label if k >= 0 else "" for k in column.values]


@pytest.mark.parametrize(("step", "told", "holds"), STEPS_TRIED, ids=lambda v: json.dumps(v) if isinstance(v, dict) else "")
def test_each_step_is_right_verified_and_on_record(step, told, holds):
    before = mb.demo.choirs()
    source = table_bytes(before.frame(), ".csv")
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        after = before.prepare([step])
    remarks = " ".join(str(w.message) for w in caught)
    assert told in remarks
    assert bool(remarks) == bool(told), remarks
    assert holds(before, after)
    assert table_bytes(before.frame(), ".csv") == source
    record = json.loads(json.dumps(after.trail.record()))
    assert same(quietly(mb.demo.choirs().prepare, record), after)
    last = after.trail.steps[-1]
    assert last.action == step["do"]
    if last.check is not None:
        assert last.check.passed
        if "rows" in last.check.table and "old" in last.check.table:
            assert last.check.table["rows"].sum() == before.rows
            source = before[last.check.source.split(", ")[0]]
            if source.is_categorical:  # every pair of an old and a new level, counted another way
                new = after[last.check.column]
                shown = _labels(new) if new.is_categorical else ["" if np.isnan(v) else f"{v:g}" for v in new.values]
                pairs = Counter(zip(_labels(source), shown, strict=True))
                told = {(r.old, r.new): r.rows for r in last.check.table.itertuples()}
                for (old, new), rows in pairs.items():
                    here = [n for (o, w), n in told.items() if (o == old or not old) and (w == new or not new)]
                    assert rows <= sum(here) if not (old and new) else here == [rows]
    for name in after.columns:  # every missing row has a reason
        column = after[name]
        assert sum(rows for _, rows in column.missing_counts()) == len(column.values) - column.valid


def test_every_step_that_can_be_written_down_is_tried():
    elsewhere = {"lag", "from_clock", "from_date", "as_long", "join", "aggregate", "calculate", "classify"}  # below, and in files of their own
    assert {step["do"] for step, _, _ in STEPS_TRIED} | elsewhere == set(STEPS)


REFUSED = [
    ({"do": "derive", "name": "n", "log": "concerts"}, "needs values above 0, and 18 rows are not .* log1p takes zeros"),
    ({"do": "derive", "name": "n", "level_mean": "age"}, "is that of its levels in a group: name one as `within`"),
    ({"do": "derive", "name": "n", "z": "voice"}, "`voice` is categorical, so `z` is refused: an indicator has no standard deviation"),
    ({"do": "derive", "name": "n", "lgo": "age"}, "knows no `lgo`. Did you mean `log`"),
    ({"do": "derive", "name": "n", "log": "age", "sqrt": "age"}, "one thing"),
    ({"do": "derive", "name": "n", "log": "age", "least": 2}, "`least` belongs to `mean` or `sum`"),
    ({"do": "derive", "name": "age", "log": "age"}, "a column `age` already, and nothing is overwritten"),
    ({"do": "derive", "name": "n", "sum": ["age"]}, "needs two or more columns"),
    ({"do": "merge_levels", "column": "voice", "targets": {"a": ["alto"], "b": ["alto"]}}, "into `a` and into `b`; choose one"),
    ({"do": "merge_levels", "column": "voice", "targets": {"x": ["altos"]}}, "no level `altos`. Did you mean `alto`"),
    ({"do": "merge_levels", "column": "voice", "below": 2}, "No level is below 2 rows"),
    ({"do": "merge_levels", "column": "age", "below": 30}, "`age` is numeric"),
    ({"do": "keep_levels", "column": "age", "levels": [30]}, "`age` is numeric"),
    ({"do": "keep_levels", "column": "stays", "levels": ["yes", "no"]}, "no other level with a row"),
    ({"do": "keep_levels", "column": "voice", "levels": ["altos"]}, "no level `altos`. Did you mean `alto`"),
    ({"do": "cut", "column": "age", "edges": [45, 30], "name": "n"}, "numbers that rise"),
    ({"do": "cut", "column": "age", "edges": [45], "labels": ["a"], "name": "n"}, "make 2 bands"),
    ({"do": "cut", "column": "satisfaction", "quantiles": 5, "name": "n"}, "too few different values for 5 bands of about as many rows each: 3 alone is in 38% of the rows"),
    ({"do": "cut", "column": "age", "quantiles": 1, "name": "n"}, "into 2 to 100 bands"), ({"do": "cut", "column": "voice", "quantiles": 2, "name": "n"}, "nothing to cut"),
    ({"do": "cut", "column": "age", "quantiles": 2, "edges": [30], "name": "n"}, "at edges, or at quantiles, and not at both"),
    ({"do": "split_at", "column": "age", "above": 200, "name": "n"}, "No row of `age` would be `high`"),
    ({"do": "event", "column": "voice", "event": "alto"}, "more than two levels; give the two-level group a name"),
    ({"do": "event", "column": "stays", "event": ["yes", "no"], "name": "n"}, "Every row"),
    ({"do": "fill_blank", "column": "voice", "value": "none"}, "`voice` has no blank row"),
    ({"do": "fill_down", "column": "voice"}, "`voice` has no blank row, so there is nothing to fill"),
    ({"do": "fill_blank", "column": "age", "value": "none"}, "`age` is numeric, so what its blank rows hold is a number, not 'none'"),
    ({"do": "combine_groups", "columns": ["voice", "age"], "name": "n"}, "`age` is numeric: groups are combined"),
    ({"do": "combine_groups", "columns": ["voice", "voice"], "name": "n"}, "Two different groups or more are combined, not `voice` and `voice`"),
    ({"do": "coalesce", "columns": ["voice", "age"], "name": "n"}, "`age` is numeric and `voice` categorical: declare them alike"),
    ({"do": "coalesce", "columns": ["age", "travel_km"], "name": "n"}, "not `travel_km` in km and `age` in years: bring them to one unit first"),
    ({"do": "multiple_response", "column": "age", "answer": "a", "name": "n"}, "`age` is numeric: each of its cells"),
    ({"do": "multiple_response", "column": "voice", "answer": "altos", "name": "n"}, "the answer `altos` between `;`. Did you mean `alto`"),
    ({"do": "multiple_response", "column": "stays", "answer": "yes", "separator": "", "name": "n"}, "`separator` is the text between"),
    ({"do": "code_as", "column": "voice", "scheme": "trend"}, "declare it with `as_ordinal` first"),
    ({"do": "code_as", "column": "voice", "scheme": "dummies"}, "no coding of `voice`; there are `adjacent`, `effect`, `indicator`"),
    ({"do": "as_categorical", "column": "belonging", "labels": {"1": "a", "2": "a"}}, "`a` of `belonging` is given to two codes"),
    ({"do": "as_numeric", "column": "voice"}, "its level `soprano` .676 rows. is no number"),
    ({"do": "as_numeric", "column": "voice", "scores": {"alto": 1, "bass": 2}}, "No score is given for `soprano` .676 rows., `tenor` .252 rows. and `tennor`"),
    ({"do": "as_numeric", "column": "voice", "scores": {"altos": 1}}, "no level `altos` to be given a number. Did you mean `alto`"),
    ({"do": "as_numeric", "column": "voice", "scores": {"alto": "low"}}, "`scores` of `as_numeric` is a table of numbers"),
    ({"do": "blank", "column": "age", "codes": ["x"]}, "a code to blank is a number, not `x`"),
    ({"do": "blank", "column": "voice", "ranges": [[1, 2]]}, "ranges say nothing"),
    ({"do": "keep", "conditions": {"age": {"over": 3}}}, "`over` is no test for `age`"),
    ({"do": "keep", "conditions": {"age": {"above": 300}}}, "No row of 2,003 meets the condition"),
    ({"do": "rename", "columns": {}}, "Say which columns are to be called what"),
    ({"do": "rename", "columns": {"age": "voice"}}, "Two columns would be called `voice`, and nothing is overwritten"),
    ({"do": "rename", "columns": {"age": " "}}, "A new name of `age` is blank"),
    ({"do": "recode", "column": "voice"}, "no step `recode`. Here it is `merge_levels`, `classify` or `cut`"),
    ({"do": "leave_out_repeats"}, "No row of 2,003 is the same as a row before it in all 18 columns"),
    ({"do": "leave_out_repeats", "columns": ["voices"]}, "no column `voices`"),
    ({"do": "keep", "conditions": {"voice": {"above": 3}}}, "`above` says nothing; `among` takes a list"),
    ({"do": "hold_out", "share": 2, "seed": 1}, "must lie between 0 and 1"),
    ({"do": "lag", "column": "age", "order": "travel_km", "name": "n"}, "whole numbers"),
    ({"do": "mark", "column": "voice", "colour": "alto"}, "`mark` has no setting `colour`"),
    ({"do": "marc", "column": "voice"}, "no step `marc`. Did you mean `mark`"),
    ({"do": "cut", "column": "age"}, "missing a required argument: 'name'"),
    ({"column": "age"}, "a step is a table that says what to do"),
]  # fmt: skip


@pytest.mark.parametrize(("step", "told"), REFUSED, ids=[told for _, told in REFUSED])
def test_a_refused_step_says_which_and_why(step, told):
    with pytest.raises(mb.MarkbaseError, match=rf"steps, step 2: .*{told}"):
        mb.demo.choirs().prepare([{"do": "mark", "column": "voice", "base": "alto"}, step])


WRONG = [None, "x", "", -1, 0, 1.5, float("nan"), True, [], {}, ["a", 1], [[]], {"a": 1}, {"a": [[1]]}]


@pytest.mark.parametrize("wrong", WRONG, ids=repr)
def test_a_setting_of_the_wrong_kind_is_refused_in_a_sentence_or_means_something(wrong):
    study = mb.demo.choirs()
    small = mb.Study(study.frame().head(300))
    for step, _, _ in STEPS_TRIED:
        for key in set(step) - {"do"}:
            said = ""
            try:
                after = quietly(small.prepare, [{**step, key: wrong}])
            except mb.MarkbaseError as problem:
                said = str(problem)
            assert said.startswith("steps, step 1: ") if said else str(after.trail), (step, key)


def test_holding_out_parts_the_rows_and_says_what_a_part_lacks():
    study = mb.demo.choirs()
    kept, held = study.hold_out(0.2, 7)
    assert kept.rows + held.rows == study.rows
    both = pd.concat([kept.frame(), held.frame()])["singer_id"].astype(str)
    assert sorted(both) == sorted(study.frame()["singer_id"].astype(str))
    assert same(study.hold_out(0.2, 7)[1], held)
    with pytest.warns(mb.MarkbaseWarning, match="no held-out row of `voice` is `tennor`"):
        study.hold_out(0.02, 1)


def test_a_logged_outcome_is_told_in_percent_of_its_source():
    study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    study = study.derive("log_practice", log="practice_hours")
    fit = mb.fit_linear(study, "log_practice", ["voice", "belonging"])
    row = fit.coefficients.set_index("level").loc["tenor"]
    text = next(s.text for s in fit.reading().statements if s.level == "tenor")
    assert f"the geometric mean of `practice_hours` is {100 * np.expm1(row['estimate']):.1f}% higher" in text
    alone = mb.fit_linear(study, "log_practice", ["voice"])
    means = study.frame().assign(l=np.log(study["practice_hours"].values)).groupby("voice", observed=True)["l"].mean()
    change = 100 * np.expm1(means["tenor"] - means["alto"])
    assert f"{change:.0f}%" in next(s.text for s in alone.reading().statements if s.level == "tenor").replace(f"{change:.1f}%", f"{change:.0f}%")  # fmt: skip


def test_a_base_chosen_by_looking_at_the_outcome_is_said_to_be():
    study = quietly(mb.demo.choirs().keep({"voice": {"is_not": "tennor"}}).mark, "voice", by="lowest_mean", of="belonging")
    assert study["voice"].levels[study["voice"].base.level].label == "soprano"
    told = mb.fit_linear(study, "belonging", ["voice"]).reading().statements[1].cautions
    assert "chosen by looking at the outcome" in told[0]


def test_a_toy_step_is_in_plans_on_the_command_line_and_on_the_trail_by_being_registered(monkeypatch, tmp_path):
    def powered(study, column: str, *, name: str, times: int = 2, reason: str = ""):
        assert times == 2
        return study.derive(name, square=column, reason=reason)

    monkeypatch.setitem(STEPS, "powered", powered)
    step = {"do": "powered", "column": "concerts", "name": "squared"}
    data = mb.demo.path("choirs.csv").as_posix()
    (tmp_path / "my.plan.toml").write_text(f'[data]\nfile = "{data}"\n[[prepare]]\ndo = "powered"\ncolumn = "concerts"\nname = "squared"\n')
    for study in (mb.demo.choirs().prepare([step]), mb.read_plan(tmp_path / "my.plan.toml").open()):
        assert np.array_equal(study["squared"].values, study["concerts"].values ** 2)
        assert "squared" in str(study.trail)
    typed = run("prepare", data, "--prepare", 'do = "powered", column = "concerts", name = "squared"')
    assert typed.returncode == 0, typed.stderr
    for wrong, told in (({"times": "x"}, "`times` of `powered` is a whole number"), ({"tims": 2}, "no setting `tims`")):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.demo.choirs().prepare([step | wrong])


MADE = {  # what the codebook declares, and what it says of it; "" where the column is that
    "log of three decimals": ({"lw": {"made": {"log": "wage"}}}, ""),
    "square": ({"square": {"made": {"square": "wage"}}}, ""),
    "z": ({"z": {"made": {"z": "wage"}}}, ""),
    "sum": ({"both": {"made": {"sum": ["wage", "hours"]}}}, ""),
    "not so in a row": ({"wrong": {"made": {"log": "wage"}}}, r"in 1 row of 90 it is not \(first in row 8: 9,"),
    "another operation": ({"square": {"made": {"log": "wage"}}}, "in 9. rows? of 90 it is not|in 90 rows of 90"),
    "no such operation": ({"lw": {"made": {"lgo": "wage"}}}, "no operation `lgo`.*Did you mean `log`"),
    "too many columns": ({"lw": {"made": {"log": ["wage", "hours"]}}}, "`log` is made of 1 column, not of 2"),
    "no such column": ({"lw": {"made": {"log": "wages"}}}, "Did you mean `wage`"),
    "of a group": ({"lw": {"made": {"log": "part"}}}, "is no numeric column"),
    "in a circle": ({"lw": {"made": {"log": "lw"}}}, "in a circle"),
    "no table": ({"lw": {"made": "log"}}, "one operation and its columns"),
    "a group": ({"part": {"kind": "categorical", "made": {"log": "wage"}}}, "only a numeric column"),
}


@pytest.mark.parametrize("case", MADE)
def test_a_column_declared_to_be_made_of_another_is_held_against_it_and_follows_it(case):
    rng = np.random.default_rng(4)
    wage = np.round(rng.uniform(5, 60, 90), 2)
    frame = pd.DataFrame({"wage": wage, "hours": rng.uniform(10, 40, 90), "part": rng.choice(list("ab"), 90)})
    frame["lw"], frame["square"], frame["both"] = np.log(wage).round(3), wage**2, wage + frame["hours"]
    frame["z"], frame["wrong"] = (wage - wage.mean()) / wage.std(ddof=1), np.log(wage)
    frame.loc[7, "wrong"] = 9.0
    frame["y"] = rng.normal(size=90) + wage
    columns, message = MADE[case]
    if message:
        with pytest.raises(mb.CodebookError, match=message):
            mb.Study(frame, codebook={"columns": columns})
        return
    study = mb.Study(frame, codebook={"columns": columns})
    name = next(iter(columns))
    again = mb.Study(frame, codebook=tomllib.loads(mb.codebook_text(study)))
    assert again[name].made.of == study[name].made.of == tuple(np.atleast_1d(next(iter(columns[name]["made"].values()))))
    fit = quietly(mb.fit_linear, study, "y", [name])
    at = {"wage": 12.5, "hours": 20.0}
    value = {"lw": np.log(12.5), "square": 12.5**2, "both": 32.5, "z": (12.5 - wage.mean()) / wage.std(ddof=1)}[name]
    found = quietly(fit.predict, pd.DataFrame([at]))["predicted"].iloc[0]
    b = fit.coefficients["estimate"]
    assert found == pytest.approx(b[0] + b[1] * value, rel=1e-12)


def test_counts_that_somebody_expects_tell_swapped_codes():
    study = mb.demo.choirs()
    counts = dict(zip(study.levels("rehearsal_day")["level"], study.levels("rehearsal_day")["count"], strict=True))
    monday, tuesday = int(counts["Monday"]), int(counts["Tuesday"])
    assert monday != tuesday
    kept = quietly(study.as_categorical, "rehearsal_day", expect={"Monday": monday})
    assert kept.trail.record()[-1]["expect"] == {"Monday": monday}
    told = f"`Monday` of `rehearsal_day` has {monday} rows, and {tuesday} were expected, as many as `Tuesday` has"
    with pytest.raises(mb.LevelError, match=told):
        quietly(study.as_categorical, "rehearsal_day", expect={"Monday": tuesday})
    with pytest.raises(mb.LevelError, match="look at the codes again"):
        quietly(study.as_categorical, "rehearsal_day", expect={"Monday": 7})


def test_what_a_hasty_analyst_would_miss_is_noticed_in_the_columns_and_again_in_the_fit():
    rng = np.random.default_rng(7)
    n = 600
    age = rng.integers(18, 90, n).astype(float)
    frame = pd.DataFrame({"y": 0.2 * age + rng.normal(0, 4, n), "age": age})
    frame["score"], frame["postcode"] = rng.integers(1, 6, n).astype(float), rng.integers(10, 60, n) * 1000
    frame.loc[:39, "age"], frame.loc[:9, "score"] = 99.0, 77.0
    frame["guess"], frame["isco_08"], frame["hours_soc"] = frame["y"] + rng.normal(0, 0.3, n), rng.integers(100, 999, n), rng.integers(100, 999, n)
    frame["sex"] = pd.Categorical(rng.choice(["1", "2"], n))
    part, frame["place"] = rng.choice(list("abcd"), n), rng.choice(["North", "South", "Total"], n)
    for level in "abc":
        frame[f"part_{level}"] = (part == level).astype(int)
    seen = {name: " ".join(r.text for r in told) for name, told in mb.Study(frame).remarks().items()}
    wanted = {
        "age": "`99` (40)",
        "score": "`77` (10)",
        "postcode": "postal codes, by its name",
        "isco_08": "codes of occupations, by its name",
        "sex": "codes alone",
    }
    assert all(words in seen[name] for name, words in wanted.items())
    usual = mb.Study(frame.assign(age=rng.integers(18, 100, n))).remarks()  # 99 is an age like others
    assert "missing answer" not in " ".join(r.text for r in usual.get("age", []))
    assert "hours_soc" not in seen
    codes = mb.Study(
        pd.DataFrame({"sic": rng.integers(1, 6, n), "nuts": rng.choice([10, 20], n), "nace": rng.choice([11, 25, 47], n), "isco": frame["isco_08"]}),
        {"columns": {"isco": {"kind": "numeric"}}},
    )
    assert {name: told[0].mend[0]["do"] for name, told in codes.remarks().items() if "by its name" in told[0].text} == {"nace": "as_categorical"}
    mended = mb.Study(frame).prepare(mb.Study(frame).remarks()["isco_08"][0].mend)["isco_08_group"]
    assert dict(zip(mended.labels, mended.counts, strict=True)) == (frame["isco_08"] // 100).astype(str).value_counts().to_dict()
    read = " ".join(str(quietly(mb.fit_linear, mb.Study(frame), "y", ["isco_08", "postcode"]).reading()).split())
    for words in ("isco_08 looks like codes of occupations, which measure nothing", "postcode looks like postal codes, which measure nothing"):
        assert words in read
    told = {
        r"`isco_08` looks like codes of occupations, which sort and do not measure": ["isco_08"],
        r"`age` is 99 in 40 rows, apart from all other values": ["age"],
        r"`guess` by itself all but reproduces `y` \(r 0.99": ["guess", "sex"],
        r"they look like the indicators of one group": ["part_a", "part_b", "part_c"],
        r"`place`: `Total` reads like the total of other rows, and counts as a level": ["place"],
    }
    for words, terms in told.items():
        with pytest.warns(mb.MarkbaseWarning, match=words):
            mb.fit_linear(mb.Study(frame), "y", terms)


OTHER = {"column": "joined_through"}
KEEPING = [
    {"do": "blank", **OTHER, "codes": ["festival"]},
    {"do": "keep_levels", **OTHER, "levels": ["friend", "family"]},
    {"do": "fill_blank", **OTHER, "value": "unasked"},
    {"do": "fill_down", **OTHER},
    {"do": "merge_levels", **OTHER, "targets": {"met": ["friend", "festival"]}},
    {"do": "as_ordinal", **OTHER, "order": ["family", "friend"]},
    {"do": "keep", "conditions": {"age": {"above": 40}}},
]


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("step", KEEPING, ids=lambda step: step["do"])
def test_a_base_that_was_chosen_stays_as_long_as_its_level_does(step):
    study = mb.demo.choirs().mark("joined_through", "family")
    after = study.prepare([step])["joined_through"]
    assert (after.base.chosen, after.levels[after.base.level].label) == (True, "family")
    gone = study.blank("joined_through", ["family"])["joined_through"]
    assert (gone.base.chosen, gone.base.level) == (False, int(np.argmax(gone.counts)))


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_merging_away_the_base_says_what_the_base_is_now():
    data = pd.DataFrame({"part": list("aabbbcdd") * 4, "y": range(32)})
    study = mb.Study(data).mark("part", "a")
    merged = study.merge_levels("part", {"low": ["a", "c"]})
    assert "the base `a` was merged: `low` is the base now" in merged.trail.steps[-1].check.notes
    assert merged["part"].levels[merged["part"].base.level].label == "low"
    kept = study.merge_levels("part", {"high": ["b", "d"]})
    assert not [n for n in kept.trail.steps[-1].check.notes if "base" in n]
    assert kept["part"].levels[kept["part"].base.level].label == "a"
    for call, words in (
        (lambda: study.merge_levels("part", below=3, below_share=0.1), "and one of them"),
        (lambda: study.merge_levels("part", into="b"), "Say which levels of `part` to merge"),
        (lambda: study.against_rest("part", "a", name="new", rest="a"), "cannot be called `a`"),
    ):
        with pytest.raises(mb.MarkbaseError, match=words):
            call()
