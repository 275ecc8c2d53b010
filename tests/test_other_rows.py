"""Other rows, prepared as those of a fit were: whatever levels they lack, the predictions are those of the same rows among all others."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase.core.study.trail import inline

rng = np.random.default_rng(31)
N = 400
FRAME = pd.DataFrame({
    "y": rng.normal(5, 2, N), "edu": rng.choice(["low", "mid", "high"], N), "part": rng.choice(["a", "b", "c", "d"], N),
    "code": rng.choice([1, 2, 3], N), "x": rng.uniform(1, 9, N).round(2), "when": rng.choice(["2020-01-31", "2021-06-01", "2022-03-03"], N),
})  # fmt: skip
FRAME["extra"] = 1
FEW = FRAME.drop(columns="extra")[(FRAME["edu"] == "mid") & FRAME["part"].isin(["a", "b"]) & (FRAME["code"] == 2) & (FRAME["when"] < "2022")]
STEPS = {
    "against_rest": ([{"column": "part", "level": "d", "name": "q"}], "q"),
    "as_categorical": ([{"column": "code", "labels": {"1": "one", "2": "two"}, "order": ["3", "one", "two"], "expect": {"one": int((FRAME["code"] == 1).sum())}}], "code"),
    "by code": ([{"do": "as_categorical", "column": "code", "labels": {"1": "one", "2": "two"}}, {"do": "against_rest", "column": "code", "level": "2", "name": "q"}], "q"),
    "as_numeric": ([{"column": "edu", "scores": {"low": 1, "mid": 2, "high": 4}}], "edu"),
    "as_ordinal": ([{"column": "edu", "order": ["low", "mid", "high"]}], "edu"),
    "blank": ([{"column": "part", "codes": ["d"]}], "part"),
    "calculate": ([{"name": "q", "expression": "log(x) + x^2 / 10"}], "q"),
    "classify": ([{"name": "q", "levels": {"one": [{"edu": "low"}, {"part": ["c", "d"], "x": {"above": 3}}], "two": {"part": {"is_not": "d"}}}, "otherwise": "rest"}], "q"),
    "combine_groups": ([{"columns": ["edu", "part"], "name": "q"}], "q"),
    "cut": ([{"column": "x", "quantiles": 3, "name": "q"}], "q"),
    "from_date": ([{"column": "when", "take": "weekday", "name": "q"}], "q"),
    "event": ([{"column": "edu", "event": "high", "name": "q"}], "q"),
    "merge_levels": ([{"column": "part", "below": 100, "into": "few"}, {"column": "part", "targets": {"cd": ["c", "few"]}, "name": "q"}], "q"),
    "rename": ([{"columns": {"part": "voice", "extra": "more"}}], "voice"),
    "derive": ([{"name": "q", "z": "x"}], "q"),
    "code_as": ([{"column": "edu", "scheme": "effect"}], "edu"),
}  # fmt: skip


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("step", STEPS)
def test_predictions_are_those_of_the_same_rows_among_all_others(step, tmp_path, small_parts):  # noqa: ARG001
    steps, term = STEPS[step]
    done = [{"do": step, **own} for own in steps]
    study = mb.Study(FRAME).prepare([{"do": "mark", "column": "part", "base": "b"}, *done])
    fit = mb.fit_linear(study, "y", [term])
    wanted = fit.predict(study)[["predicted", "se"]].to_numpy()[FEW.index]
    FEW.to_parquet(tmp_path / "few.parquet")
    FRAME.to_csv(tmp_path / "all.csv", index=False)
    for new in (mb.Study(FEW), mb.open_study(tmp_path / "few.parquet", in_parts=True)):
        found = [fit.predict(part)[["predicted", "se"]] for part in new.prepare_like(study).parts()]
        np.testing.assert_allclose(pd.concat(found), wanted, rtol=1e-11)
    model = ["--outcome", "y", "--terms", term, "--for", "few.parquet", "--into", "new.csv"]
    told = run("predict", "all.csv", *[a for own in done for a in ("--prepare", inline(own))], *model, cwd=tmp_path)
    assert told.returncode == 0, told.stderr
    np.testing.assert_allclose(pd.read_csv(tmp_path / "new.csv")[["predicted", "se"]], wanted, rtol=1e-9)


def test_what_looks_at_other_rows_is_left_out_and_said_and_what_fails_is_named():
    study = mb.Study(FRAME).keep({"x": {"above": 2}}).derive("own", centre="x", within="part").derive("log_x", log="x")
    new = mb.Study(FEW[["part", "x"]])
    with pytest.warns(mb.MarkbaseWarning, match="The step `keep` is not carried out on `data`: it looks at other rows, or chooses them"):
        assert new.prepare_like(study, ["log_x"]).columns == ("part", "x", "log_x")
    with pytest.warns(mb.MarkbaseWarning) as told:
        new.prepare_like(study)
    assert [str(w.message).split("`")[1] for w in told] == ["keep", "derive"]
    bare = mb.Study(FEW[["part"]])
    with pytest.warns(mb.MarkbaseWarning), pytest.raises(mb.MarkbaseError, match=r"^data, step `derive` of `log_x`: data has no column `x`"):
        bare.prepare_like(study, ["log_x"])
    with pytest.warns(mb.MarkbaseWarning):
        assert bare.prepare_like(study, ["part"]).columns == ("part",)
