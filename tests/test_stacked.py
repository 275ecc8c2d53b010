"""Several files that hold one table, one below another, in memory and in parts."""

import numpy as np
import pandas as pd
import pytest

import markbase as mb
from command import run
from test_linear import _quietly as quietly

WRITERS = {
    "csv": lambda f, p: f.to_csv(p, index=False), "tsv": lambda f, p: f.to_csv(p, index=False, sep="\t"), "parquet": lambda f, p: f.to_parquet(p),
    "xlsx": lambda f, p: f.to_excel(p, index=False), "csv.gz": lambda f, p: f.to_csv(p, index=False),
}  # fmt: skip


def waves(kind, folder, names=("w_2019", "w_2020", "w_x"), **changes):
    rng, frames = np.random.default_rng(5), []
    for k, name in enumerate(names):
        frame = pd.DataFrame({"g": rng.choice(["a", "b", "c"], 30 + k), "x": rng.normal(size=30 + k).round(3), "n": np.arange(30 + k)})
        frame.loc[k, "x"] = np.nan
        frames.append(changes.get(name, lambda f: f)(frame))
        (folder / name).parent.mkdir(exist_ok=True, parents=True)
        WRITERS[kind](frames[-1], folder / f"{name}.{kind}")
    return pd.concat(frames, ignore_index=True), np.repeat(["2019", "2020", "x"][: len(names)], [len(f) for f in frames])


@pytest.mark.parametrize(("kind", "in_parts"), [(k, p) for k in WRITERS for p in (False, True) if (k, p) not in (("xlsx", True), ("csv.gz", False))])
def test_rows_of_files_stand_one_below_another_and_know_their_file(kind, in_parts, tmp_path):
    whole, told = waves(kind, tmp_path)
    (tmp_path / "~$w_2019.xlsx").write_bytes(b"locked")  # as programs leave it beside a file that is open
    for path in (tmp_path, tmp_path / f"w_*.{kind}"):
        study = mb.open_study(path, {"columns": {"wave": {"base": "2020"}}}, file_column="wave", in_parts=in_parts)
        found = pd.concat([part.frame() for part in study.parts()], ignore_index=True)
        assert found["wave"].tolist() == told.tolist()
        assert found["g"].tolist() == whole["g"].tolist()
        np.testing.assert_array_equal(found[["x", "n"]].to_numpy(float), whole[["x", "n"]].to_numpy(float))
        assert list(study.columns) == ["wave", "g", "x", "n"]
        fit = mb.fit_linear(study, "x", ["wave"])
        means = whole["x"].groupby(told).mean()
        assert fit.coefficients["estimate"].iloc[0] == pytest.approx(means["2020"], rel=1e-9)
        some = mb.open_study(path, columns=["wave"], file_column="wave", in_parts=in_parts)
        assert some.levels("wave")["count"].tolist() == [30, 31, 32]
        assert mb.open_study(path, in_parts=in_parts).columns == ("g", "x", "n")
    waves(kind, tmp_path / "more", ("north/w", "south/w"), **{"south/w": lambda f: f if in_parts else f.drop(columns="n")})
    deep = quietly(mb.open_study, tmp_path / "more", file_column="land", in_parts=in_parts)
    assert deep.levels("land")[["level", "count"]].to_numpy().tolist() == [["north", 30], ["south", 31]]
    assert in_parts or dict(deep["n"].missing_counts()) == {f"not in {tmp_path.as_posix()}/more/south/w.{kind}": 31}


def test_a_column_that_a_file_does_not_have_lacks_values_for_that_reason(tmp_path):
    waves("csv", tmp_path, w_2020=lambda f: f.rename(columns={"g": "G"}).assign(mood=3), w_x=lambda f: f.drop(columns="n")[["g", "x"]])
    with pytest.warns(mb.MarkbaseWarning) as told:
        study = mb.open_study(tmp_path / "*.csv", {"columns": {"mood": {"missing": [7]}}})
    assert [str(w.message) for w in told] == [
        "Not all tables have `g` (in 2 tables of 3), `n` (in 2 tables of 3), `G` (in 1 table of 3) and `mood` (in 1 table of 3): the rows of the others have gaps there.",
        "`G` and `g` are in no table both: if they are the same, call them so in the files.",
    ]
    assert quietly(mb.open_study, tmp_path / "*.csv", columns=["x"]).columns == ("x",)
    reasons = {name: dict(study[name].missing_counts()) for name in study.columns}
    assert reasons == {
        "x": {"blank": 3}, "g": {"not in w_2020.csv": 31}, "n": {"not in w_x.csv": 32}, "G": {"not in w_2019.csv": 30, "not in w_x.csv": 32},
        "mood": {"not in w_2019.csv": 30, "not in w_x.csv": 32},
    }  # fmt: skip
    with pytest.raises(mb.MarkbaseError, match=r"has other columns|another first line"):
        mb.open_study(tmp_path, in_parts=True)


@pytest.mark.parametrize(
    ("path", "more", "what"),
    [
        ("*.csv", {"file_column": "x"}, "have a column `x` themselves"), ("w_x.csv", {"file_column": "f"}, "is one file, and `f` would be the same"),
        ("w_x.csv", {"file_column": "f", "in_parts": True}, "is one file"), ("*.csv", {"file_column": "x", "in_parts": True}, "have a column `x` themselves"),
        ("q*.csv", {}, "No file has a name like"), ("deep", {}, "has no column of"), ("none", {}, "no file|not read"), ("*.toml", {}, "is not read with others"),
        ("empty", {}, "holds no data file"), ("*.gz", {}, "is packed, or one of Arrow's own"),
    ],
)  # fmt: skip
def test_what_cannot_be_put_together_is_refused(path, more, what, tmp_path, monkeypatch):
    waves("csv", tmp_path)
    waves("csv", tmp_path, ("deep/one", "deep/two"), **{"deep/two": lambda f: f.rename(columns=str.upper)})
    (tmp_path / "empty").mkdir()
    for name in ("a.toml", "a.csv.gz"):
        (tmp_path / name).write_text("a = 1")
    with pytest.raises(mb.MarkbaseError, match=what):
        mb.open_study(tmp_path / path, **more)
    monkeypatch.setattr("markbase.files.stacked._MOST_BYTES", 100)
    with pytest.raises(mb.MarkbaseError, match=r"3 files of .* are read in parts; open them with in_parts=True"):
        mb.open_study(tmp_path / "w_*.csv")


def test_sheets_stand_one_below_another_too(tmp_path):
    whole, told = waves("csv", tmp_path)
    with pd.ExcelWriter(tmp_path / "all.xlsx") as book:
        for wave in ("2019", "2020", "x"):
            whole[told == wave].to_excel(book, sheet_name=wave, index=False)
    study = mb.open_study(tmp_path / "all.xlsx", sheet="*", file_column="wave")
    assert study.frame()["wave"].tolist() == told.tolist()
    np.testing.assert_array_equal(study["x"].values, whole["x"])
    some = mb.open_study(tmp_path / "all.xlsx", sheet="20*", file_column="wave")
    assert some.frame()["wave"].tolist() == [2019] * 30 + [2020] * 31
    with pytest.raises(mb.MarkbaseError, match=r"has no sheet like `q\*`; there are `2019`, `2020` and `x`"):
        mb.open_study(tmp_path / "all.xlsx", sheet="q*")


def test_the_command_and_plans_read_several_files(tmp_path):
    whole, told = waves("csv", tmp_path)
    mean = whole["x"].groupby(told).mean()["2020"] - whole["x"].groupby(told).mean()["2019"]
    options = ["--outcome", "x", "--terms", "wave", "--base", "wave=2019", "--json"]
    for more in ([], ["--in-parts"]):
        assert f'"estimate": {mean:.10f}'[:-2] in run("fit", "w_*.csv", "--file-column", "wave", *options, *more, cwd=tmp_path).stdout
    assert run("prepare", "w_*.csv", "--file-column", "wave", "--write-plan", "p.toml", cwd=tmp_path).returncode == 0
    assert f'"estimate": {mean:.10f}'[:-2] in run("fit", "p.toml", *options, cwd=tmp_path).stdout
    predicted = run("predict", "p.toml", *options[:4], "--for", "w_20*.csv", "--into", "-", cwd=tmp_path).stdout
    assert len(predicted.splitlines()) == 62
