"""Data, codebooks and plans, in and out."""

import importlib.util
import json
import re
import shlex

import numpy as np
import openpyxl
import pandas as pd
import polars
import pyarrow
import pytest

import markbase as mb
from command import BOOK, DATA, run

STRANGE = ["=1+1", "+plus", "-minus", "@at", "'quoted", "a,b", 'say "so"', "line\nbreak", "-3", "ünïcode"]


def strange():
    return mb.Study(pd.DataFrame({"g": STRANGE * 2, "x": np.linspace(-1, 1, 20) / 3, "=n": range(20)}))


@pytest.mark.parametrize("suffix", ["csv", "tsv", "txt", "xlsx", "ods", "parquet"])
def test_what_is_written_reads_back_to_the_last_bit(suffix, tmp_path):
    path = tmp_path / f"data.{suffix}"
    study = strange()
    mb.write_data(study, path)
    again = mb.open_study(path)
    assert sorted(v.label for v in again["g"].levels) == sorted(STRANGE)
    np.testing.assert_allclose(again["x"].values, study["x"].values, rtol=1e-15 if suffix == "xlsx" else 0, atol=0)
    with pytest.raises(mb.FileError, match="is there already and was not written over"):
        mb.write_data(study, path)
    mb.write_data(study, path, replace=True)
    assert list(tmp_path.iterdir()) == [path]


def test_no_text_is_a_formula_to_a_spreadsheet(tmp_path):
    mb.write_data(strange(), tmp_path / "s.csv")
    cells = pd.read_csv(tmp_path / "s.csv", dtype=str)
    assert not cells["g"].str.match(r"[=+@]|-[^\d]").any()
    assert cells.columns.tolist() == ["g", "x", "'=n"]
    assert "-3" in set(cells["g"])
    mb.write_data(strange(), tmp_path / "s.xlsx")
    sheet = openpyxl.load_workbook(tmp_path / "s.xlsx")["data"]
    assert {cell.data_type for row in sheet.iter_rows() for cell in row} == {"s", "n"}


def test_a_missing_extra_is_named(tmp_path, monkeypatch):
    (tmp_path / "d.xlsx").write_bytes(b"PK")
    monkeypatch.setattr(importlib.util, "find_spec", lambda _: None)
    with pytest.raises(mb.FileError, match=r"pip install openpyxl adds it"):
        mb.open_study(tmp_path / "d.xlsx")
    with pytest.raises(mb.FileError, match=r"pip install pyarrow adds it"):
        mb.write_data(strange(), tmp_path / "d.parquet")


@pytest.mark.parametrize("name", ["broken.xlsx", "broken.ods", "broken.parquet"])
def test_a_broken_file_is_one_sentence(name, tmp_path):
    (tmp_path / name).write_bytes(b"not what it says")
    with pytest.raises(mb.FileError, match="cannot be read as") as caught:
        mb.open_study(tmp_path / name)
    assert "\n" not in str(caught.value)


def test_sheets_are_chosen_by_name(tmp_path):
    with pd.ExcelWriter(tmp_path / "two.xlsx") as writer:
        pd.DataFrame({"a": [1, 2]}).to_excel(writer, sheet_name="first", index=False)
        pd.DataFrame({"b": ["x", "NA"]}).to_excel(writer, sheet_name="second", index=False)
    assert mb.open_study(tmp_path / "two.xlsx", sheet="second")["b"].valid == 2
    with pytest.warns(mb.MarkbaseWarning, match="2 sheets; the first, `first`, was read"):
        mb.open_study(tmp_path / "two.xlsx")
    with pytest.raises(mb.FileError, match="no sheet `third`; there are `first` and `second`"):
        mb.open_study(tmp_path / "two.xlsx", sheet="third")


def test_any_table_gives_the_same_study():
    frame = mb.demo.choirs().frame()
    frame = frame.astype({name: object for name in frame.columns if frame[name].dtype == "category"})
    plain = mb.Study(frame)
    for table in (polars.from_pandas(frame), pyarrow.Table.from_pandas(frame)):
        study = mb.Study(table)
        for name in ("age", "belonging", "voice", "joined_through", "rehearsal_day", "stays"):
            labels = [[v.label for v in s[name].levels] for s in (study, plain)]
            assert labels[0] == labels[1], name
            np.testing.assert_array_equal(study[name].values, plain[name].values)
    with pytest.raises(mb.MarkbaseError, match="not of a LazyFrame; call `collect"):
        mb.Study(polars.LazyFrame({"a": [1]}))
    sizes = polars.Series("size", ["l", "s"], dtype=polars.Enum(["s", "m", "l"]))
    assert [v.label for v in mb.Study(sizes.to_frame())["size"].levels] == ["s", "m", "l"]
    numbers = np.arange(5.0)
    assert np.shares_memory(mb.Study(pd.DataFrame({"x": numbers}, copy=False))["x"].values, numbers)


def test_a_drafted_codebook_marks_its_guesses_and_reads_back(tmp_path):
    raw = mb.open_study(DATA)
    text = mb.codebook_text(raw)
    assert text.count("# guessed: numeric") + text.count("# guessed: categorical") == 18
    done = run("look", DATA, "--write-codebook", str(tmp_path / "b.toml"))
    assert (done.returncode, (tmp_path / "b.toml").read_text()) == (0, text)
    again = mb.open_study(DATA, tmp_path / "b.toml")
    assert [again[c].kind for c in again.columns] == [raw[c].kind for c in raw.columns]
    assert not again.overview()["guessed"].any()
    full = mb.demo.choirs().mark("voice", "alto")
    mb.write_codebook(full, tmp_path / "full.toml")
    assert "guessed" not in (tmp_path / "full.toml").read_text()
    back = mb.open_study(DATA, tmp_path / "full.toml")
    assert back["age"].missing_counts() == full["age"].missing_counts()
    assert back["voice"].base.chosen


def test_prepare_writes_a_plan_that_does_it_again(tmp_path):
    steps = ['do = "merge_levels", column = "voice", targets = {tenor = ["tennor"]}, reason = "a slip"', '{do = "cut", column = "age", edges = [30, 45], name = "band"}']  # fmt: skip
    plan = tmp_path / "sub" / "p.toml"
    options = [x for step in steps for x in ("--prepare", step)]
    done = run("prepare", DATA, "--codebook", BOOK, *options, "--base", "voice=alto", "--check", "band", "--coding", "band",
               "--write-plan", str(plan), "--into", str(tmp_path / "out.csv"))  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "Merged tennor into tenor" in done.stdout
    assert "every row is accounted for" in done.stdout
    assert "all counts agree" in done.stdout
    study = mb.read_plan(plan).open()
    assert [s.action for s in study.trail] == ["open", "merge_levels", "cut", "mark"]
    assert study.trail.steps[1].reason == "a slip"
    written = pd.read_csv(tmp_path / "out.csv")
    assert written["band"].value_counts().to_dict() == dict(zip(study.levels("band")["level"], study["band"].counts, strict=False))
    again = run("prepare", str(plan), "--json")
    told = json.loads(again.stdout)
    assert [s["do"] for s in told["steps"]] == ["open", "merge_levels", "cut", "mark"]
    assert all(s["check"] is None or s["check"]["passed"] for s in told["steps"])
    fit = run("fit", str(plan), "--outcome", "belonging", "--terms", "band,voice", "--json")
    assert json.loads(fit.stdout)["strength"]["r2"] == mb.fit_linear(study, "belonging", ["band", "voice"]).strength.r2


BAD_PLANS = [
    ("[data]\nfile = 'x.csv'\n[prepar]\n", "unknown key `prepar`. Did you mean `prepare`"),
    ("[data]\nfil = 'x.csv'\n", "a plan says where the data are"),
    ("[data]\nfile = 'x.csv'\nsheets = 'a'\n", "unknown key `sheets`. Did you mean `sheet`"),
    ("[data]\nfile = 'x.csv'\n[prepare]\ndo = 'mark'\n", "write [[prepare]] above each"),
    ("[data]\nfile = 'nothing.csv'\n", "There is no file"),
    ("[data\n", "is not TOML"),
    (f"[data]\nfile = {DATA!r}\n[[prepare]]\ndo = 'mark'\ncolumn = 'voise'\nbase = 'alto'\n", "prepare, step 1: choirs.csv has no column `voise`. Did you mean `voice`"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "told"), BAD_PLANS, ids=[told for _, told in BAD_PLANS])
def test_a_bad_plan_is_one_line_and_exit_2(text, told, tmp_path):
    (tmp_path / "p.toml").write_text(text)
    done = run("look", "p.toml", cwd=tmp_path)
    assert done.returncode == 2
    assert told in done.stderr
    assert len(done.stderr.splitlines()) == 1


def test_look_offers_the_step_that_mends_each_remark(tmp_path):
    frame = pd.DataFrame({"town": ["Alm", "alm", "Álm", "Berg"] * 30, "n": [1, 2, 3, -9] * 30})
    frame["id"] = [f"P{k}" for k in range(120)]
    frame["money"] = ["10", "20", "30", "refused"] * 30
    frame["rate"] = [0.5, np.inf, 2.5, -np.inf] * 30
    study = mb.Study(frame)
    remarks = study.remarks()
    assert "differ only by case, blanks or accents" in remarks["town"][0].text
    mended = study.prepare([step for told in remarks.values() for remark in told for step in remark.mend])
    assert len(mended["town"].levels) == 2
    assert mended["n"].missing_counts() == [("code -9", 30)]
    assert mended["id"].role == "identifier"
    assert mended["rate"].valid == 60
    assert (mended["money"].kind, mended["money"].valid) == ("numeric", 90)
    frame["sex"], frame["pay"] = [1, 2] * 60, np.exp(np.linspace(0, 9, 120))
    frame.to_csv(tmp_path / "t.csv", index=False)
    shown = run("look", "t.csv", cwd=tmp_path).stdout
    lines = re.sub(r"\n {9}(?!→)", " ", shown).splitlines()
    offered = [line.partition("→ ")[2] for line in lines if "→ --" in line]
    assert {"--categorical sex", "--as id=identifier", "--log pay"} <= set(offered)
    assert len(offered) >= 7
    typed = run("prepare", "t.csv", *(part for line in offered for part in shlex.split(line)), cwd=tmp_path)
    assert typed.returncode == 0, typed.stderr
    assert "Made `log_pay`".replace("`", "") in typed.stdout
    assert "study.as_categorical('sex')" in str(mb.Study(frame))  # from Python in Python's own words
    assert "--" not in str(mb.Study(frame)).replace("---", "")
