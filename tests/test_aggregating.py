"""One row of the rows of each group: measures by their definitions."""

import math
from fractions import Fraction

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from command import run
from test_linear import _quietly as quietly

CELL = st.sampled_from(["", "a", "b", "c"])
ROW = st.tuples(CELL, st.sampled_from(["", "1", "2", "11"]), st.one_of(st.none(), st.integers(-4000, 4000)), CELL)
MEASURES = {"n": "rows", **{f"x_{m}": {m: "x"} for m in ("mean", "sum", "sd", "low", "high", "median")}, "some": {"share": "v", "of": ["b", "c"]}}
MEASURES |= {f"w_{m}": {m: "x", "weights": "w"} for m in ("mean", "sum", "sd")} | {"w_some": {"share": "v", "of": ["b", "c"], "weights": "w"}}


def exact(measure, own, heavy=None):
    """Return a measure of whole thousandths, with weights in quarters, by its definition in rational numbers."""
    pairs = sorted((Fraction(v, 1000), Fraction(w, 4)) for v, w in zip(own, heavy or [4] * len(own), strict=True))
    own, all_of_them = [v for v, _ in pairs], sum(w for _, w in pairs)
    mean = sum(w * v for v, w in pairs) / all_of_them if own else None
    if not own or (measure == "sd" and len(own) < 2):
        return math.nan
    middle = (own[(len(own) - 1) // 2] + own[len(own) // 2]) / 2
    about = sum(w * (v - mean) ** 2 for v, w in pairs) / all_of_them
    spread = math.sqrt(about * len(own) / (len(own) - 1)) if len(own) > 1 else None
    return float({"mean": mean, "sum": mean * all_of_them, "low": own[0], "high": own[-1], "median": middle, "sd": spread}[measure])


@given(rows=st.lists(ROW, min_size=1, max_size=25), two=st.booleans(), shift=st.sampled_from([0, 10**12]), cut=st.integers(5, 12))
@settings(max_examples=60)
def test_measures_are_those_of_their_definitions_whatever_the_gaps_the_keys_and_the_parts(rows, two, shift, cut, tmp_path_factory):
    frame = pd.DataFrame(rows, columns=["g", "k", "x", "v"])
    frame["x"] = [None if pd.isna(v) else f"{(int(v) + shift) / 1000:.3f}" for v in frame["x"]]
    weights = [None if i % 7 == 3 else i * 3 % 5 for i in range(len(rows))]
    frame["w"] = [None if w is None else w / 4 for w in weights]
    frame["same"] = [{"a": "p", "b": "q", "c": "", "": "r"}[g] for g in frame["g"]]
    folder = tmp_path_factory.mktemp("rows")
    for at in range(0, len(frame), cut):
        frame[at : at + cut].to_csv(folder / f"{at:03d}.csv", index=False)
    book = {
        "columns": {n: {"kind": "categorical", "levels": list(levels)} for n, levels in {"g": "abc", "v": "abc", "same": "pqr"}.items()}
        | {n: {"kind": "numeric"} for n in ("k", "x", "w")}
    }
    weighted = any(w for w in weights)
    keys = ["g", "k"] if two else ["g"]
    place = [(" abc".find(r[0] or "-"), int(r[1] or -1)) if two else (" abc".find(r[0] or "-"),) for r in rows]
    groups = sorted({p for p in place if min(p) >= 0})
    for in_parts in (False, True):
        study = quietly(mb.open_study, folder, book, in_parts=in_parts)
        wanted = {n: m for n, m in MEASURES.items() if (n != "x_median" or not in_parts) and (weighted or n[0] != "w")}
        if not groups:
            with pytest.raises(mb.MarkbaseError, match="No row has a value in `g`"):
                study.aggregate(keys, wanted)
            continue
        made = quietly(study.aggregate, keys, wanted)
        found = made.frame()
        assert [tuple(row) for row in found[keys].itertuples(index=False)] == [(" abc"[p[0]], *p[1:]) for p in groups]
        for k, group in enumerate(groups):
            own = [r for r, p in zip(rows, place, strict=True) if p == group]
            values = [r[2] + shift for r in own if r[2] is not None]
            assert found["n"][k] == len(own)
            for measure in ("mean", "sum", "sd", "low", "high", *(() if in_parts else ("median",))):
                wanted_value = exact(measure, values)
                assert float(found[f"x_{measure}"].astype(float)[k]) == pytest.approx(
                    wanted_value, rel=1e-12, abs=1e-15 * (4 + shift / 1000), nan_ok=True
                )
            heavy = [(r, w) for r, w, p in zip(rows, weights, place, strict=True) if p == group and w]
            pairs = [(r[2] + shift, w) for r, w in heavy if r[2] is not None]
            for measure in ("mean", "sum", "sd") if weighted else ():
                told = float(found[f"w_{measure}"].astype(float)[k])
                assert told == pytest.approx(exact(measure, *map(list, zip(*pairs, strict=True))) if pairs else math.nan, rel=1e-12, abs=1e-15 * (4 + shift / 1000), nan_ok=True)  # fmt: skip
            if weighted and (whole := sum(w for r, w in heavy if r[3])):
                assert float(found["w_some"].astype(float)[k]) == pytest.approx(sum(w for r, w in heavy if r[3] in ("b", "c")) / whole)
            answers = [r[3] for r in own if r[3]]
            share = sum(a in "bc" for a in answers) / len(answers) if answers else math.nan
            assert float(found["some"].astype(float)[k]) == pytest.approx(share, nan_ok=True)
        why = dict(made["x_sd"].missing_counts())
        bare = [sum(r[2] is not None for r, p in zip(rows, place, strict=True) if p == g) for g in groups]
        assert (why.get("no value in its rows", 0), why.get("one value alone", 0)) == (bare.count(0), bare.count(1))
        assert [None if pd.isna(v) else v for v in found["same"]] == [{1: "p", 2: "q", 3: None}[p[0]] for p in groups]
        constant = all(len({r[2] for r, p in zip(rows, place, strict=True) if p == group}) == 1 for group in groups)
        assert ("x" in made.columns) == constant  # what is the same in all rows of each stays


@pytest.mark.parametrize(
    ("by", "columns", "what"),
    [
        ("choir", {}, "Say of each new column what it is"), ("choir", {"n": "mean"}, '`n` is "rows", or one measure'), ([], {"n": "rows"}, "Name the group"),
        ("choir", {"n": {"mode": "age"}}, "There is no measure `mode` for `n`"), ("choir", {"n": {"mean": "aeg"}}, "no column 'aeg'.* Did you mean `age`"),
        ("choir", {"n": {"mean": "voice"}}, "`voice` is categorical and has no mean"), ("choir", {"n": {"share": "age", "of": 3}}, "`age` is numeric and has no levels"),
        ("choir", {"n": {"share": "voice"}}, "`of` says which levels"), ("choir", {"n": {"mean": "age", "of": "x"}}, "`of` says which levels"),
        ("choir", {"n": {"share": "voice", "of": [["treble"]]}}, "no level `.'treble'.`"), ("choir", {"choir": "rows"}, "stays a column"),
        ("choir", {"n": {"median": "age", "weights": "weight"}}, "the median has none"), ("voice", {"n": {"mean": "age", "weights": "below"}}, "none of them below 0 and some above; `below` goes from -"), ("choir", {"n": {"mean": "age", "weights": "voice"}}, "`voice` is categorical: weights"),
        ("choir", {"n": {"mean": "age", "weights": "singer_idd"}}, "no column 'singer_idd' of weights"), ("choir", {"n": {"sum": "age", "weights": "way"}}, "no column 'way'"),
        ("belonging", {"n": "rows"}, "not in whole numbers"), ("chior", {"n": "rows"}, "no column `chior`"), (["choir", "choir"], {"n": "rows"}, "different groups"),
    ],
)  # fmt: skip
def test_what_is_no_measure_is_refused(by, columns, what):
    with pytest.raises(mb.MarkbaseError, match=what):
        mb.demo.choirs().derive("below", centre="satisfaction").aggregate(by, columns)
    with pytest.raises(mb.MarkbaseError, match="`x` holds infinite values, of which there is no sum"):
        mb.Study(pd.DataFrame({"g": ["a", "b"], "x": [1.0, np.inf]})).aggregate("g", {"n": {"sum": "x"}})


def test_what_was_aggregated_of_a_file_is_joined_by_a_plan(tmp_path):
    study, seasons, files = mb.demo.choirs(), mb.demo.choir_terms(), [mb.demo.path(name) for name in mb.demo.FILES[:2]]
    terms = seasons.aggregate("choir", {"seasons": "rows", "attendance": {"mean": "attendance"}}, reason="over the seasons")
    assert terms.trail.steps[-1].text == (
        "Aggregated 191 rows by `choir` into 24, of 7 to 8 rows each: `seasons` (rows) and `attendance` (mean of `attendance`); 3 other columns are left out."
    )
    assert (terms["choir"].role, terms["attendance"].unit) == ("identifier", seasons["attendance"].unit)
    both = study.join(terms, "choir")
    fit = quietly(mb.fit_linear, both, "belonging", ["age", "attendance"], cluster="choir", errors="CR3")
    mb.write_plan(tmp_path / "p.toml", both, {"f": fit}, data=files[0], codebook=files[1])
    assert 'do = "aggregate"' in (tmp_path / "p.toml").read_text()
    again = quietly(mb.read_plan(tmp_path / "p.toml").make)["f"]
    np.testing.assert_array_equal(again.coefficients["se"], fit.coefficients["se"])
    with pytest.warns(mb.MarkbaseWarning, match="Rows count alike in `share`, though `weight` has their weights"):
        study.aggregate("choir", {"share": {"share": "voice", "of": "alto"}, "n": {"sum": "weight"}})
    assert study.aggregate("choir", {"share": {"mean": "age", "weights": "weight"}, "m": {"mean": "age"}}).rows == 24  # which is meant
    step = 'do = "aggregate", by = "choir", columns = {n = "rows", age = {mean = "age"}}'
    done = run("prepare", files[0], "--codebook", files[1], "--prepare", step, "--into", "-", cwd=tmp_path)
    mean = float(study.frame().groupby("choir", observed=True)["age"].mean().iloc[0])
    assert done.stdout.splitlines()[:2] == ["choir,n,age", f"Avenmoss,69,{mean!r}"]
    with pytest.raises(mb.MarkbaseError, match="a median by group needs all rows in memory"):
        mb.open_study(files[0], in_parts=True).aggregate("choir", {"m": {"median": "age"}})
