"""Files that do not begin with the names of their columns: titles above, labels below, columns without a name."""

import csv
import re
import warnings

import openpyxl
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import markbase as mb
from command import run

NAMES = ["ID", "Voice", "Age", "Score"]
LABELS = ["Respondent", "Which voice do\nyou sing?", "How old are you?", "Score"]
ROWS = [[str(k), "alto" if k % 3 else "tenor", str(20 + 7 * k % 50), str(k / 4)] for k in range(1, 13)]


def written(rows, path, separator=","):
    if path.suffix == ".xlsx":
        pd.DataFrame(rows).to_excel(path, index=False, header=False)
    else:
        with path.open("w", newline="", encoding="utf-8") as file:
            csv.writer(file, delimiter=separator).writerows(rows)
    return path


def seen(path, **settings):
    """Open a file, and return the study with what was remarked on."""
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        study = mb.open_study(path, **settings)
    return study, [str(w.message) for w in told]


def same(study, other):
    assert study.columns == other.columns
    pd.testing.assert_frame_equal(study.frame(), other.frame())


@given(
    above=st.lists(
        st.sampled_from([["Survey"], ["Survey, of 2024, in 3 valleys, by hand, all"], [], ["Survey, 2024", "", "", ""], ["", "of", "all", ""]]),
        max_size=3,
    ),
    between=st.lists(st.just(["", "n", "", ""]), max_size=2),
    labelled=st.booleans(),
    separator=st.sampled_from([",", ";", "\t"]),
    kind=st.sampled_from(["csv", "xlsx"]),
)
@settings(max_examples=40, deadline=None)
def test_a_layout_gives_the_study_of_the_file_without_what_stands_above(tmp_path_factory, above, between, labelled, separator, kind):
    folder = tmp_path_factory.mktemp("layout")
    plain = mb.open_study(written([NAMES, *ROWS], folder / "plain.csv"))
    padded = [row + [""] * (4 - len(row)) for row in above] if kind == "xlsx" else above
    own = [LABELS] if labelled else []
    path = written([*padded, NAMES, *own, *between, *ROWS], folder / f"data.{kind}", separator)
    layout = {"header": len(above) + 1}
    layout |= {"labels": len(above) + 2} if labelled else {}
    layout |= {"data": len(above) + 2 + labelled + len(between)} if between else {}
    study, told = seen(path, layout=layout)
    same(study, plain)
    assert not told
    assert study["Age"].label == ("How old are you?" if labelled else "")
    assert study["Voice"].label == ("Which voice do you sing?" if labelled else "")
    plan = folder / "plan.toml"
    says = ", ".join(f"{key} = {row}" for key, row in layout.items())
    plan.write_text(f'[data]\nfile = "{path.name}"\nlayout = {{{says}}}\n')
    same(mb.read_plan(plan).open(), plain)


def test_where_the_names_stand_is_found_and_said(tmp_path):
    titled = written([["Survey", "", "", ""], [""] * 4, NAMES, *ROWS], tmp_path / "titled.csv")
    with pytest.raises(mb.ColumnError, match=r"columns 2, 3 and 4 have no name in the header.*say in its layout that the header is row 3"):
        mb.open_study(titled)
    short = written([["Survey"], NAMES, *ROWS], tmp_path / "short.csv", ";")
    assert "is read as one column. Row 2 looks like that of the names (`ID`, `Voice` and `Age` …)" in seen(short)[1][0]
    ragged = written([["Survey", "2024"], NAMES, *ROWS], tmp_path / "ragged.csv")
    with pytest.raises(mb.FileError, match=r"4 cells where the first line names 2 columns.*the header is row 2"):
        mb.open_study(ragged)
    months = written([["Visitors"], ["Apr 2018", "May 2018", "Jun 2018"], *([str(k), str(k + 2), "7"] for k in range(20))], tmp_path / "months.csv")
    with pytest.raises(mb.FileError, match="the header is row 2"), pytest.warns(mb.MarkbaseWarning, match="Row 2 looks like that of the names"):
        mb.open_study(months)
    sheet = written([["Survey", "", "", ""], NAMES, *ROWS], tmp_path / "titled.xlsx")
    with pytest.raises(mb.ColumnError, match="the header is row 2"):
        mb.open_study(sheet)
    twice = written([NAMES, LABELS, ["{q1}", "{q2}", "{q3}", "{q4}"], *ROWS], tmp_path / "twice.csv")
    told = seen(twice)[1][0]
    assert "rows 2 and 3 look like rows of names and not of data (`ID`: `Respondent`, above numbers)" in told
    assert told.endswith("say in the layout that the labels are in row 2 and the data begin in row 4; they then stand beside the names.")
    assert "the data begin in row 4" in seen(twice, layout={"labels": 2})[1][0]
    assert not seen(twice, layout={"labels": 2, "data": 4})[1]
    labelled = written([NAMES, LABELS, *ROWS], tmp_path / "labelled.csv")
    assert "row 2 looks like a row of names and not of data (`ID`: `Respondent`, above numbers)" in seen(labelled)[1][0]
    assert "leave it out of the file" in seen(labelled, in_parts=True)[1][0]
    with pytest.raises(mb.FileError, match="in parts, the names are read of the first row"):
        mb.open_study(labelled, in_parts=True, layout={"labels": 2})
    done = run("look", str(labelled), "Age", "--layout", "labels=2")
    assert done.stdout.splitlines()[1] == "How old are you?"
    assert not done.stderr


@pytest.mark.parametrize(
    "rows",
    [
        [["7", "alto", "unknown", "3"], *ROWS],  # a text for a gap: other columns go on as they began
        [["x", "alto", "y", "z"], *ROWS],  # `alto` comes again
        [["a", "b", "c", "d"], ["e", "f", "g", "h"]],
        [["0", "", "not said", ""], *ROWS],
        [["a0", "bass", "not said", ""], *([f"a{row[0]}", *row[1:]] for row in ROWS)],
        [["3", "bass", "4", "5"], *ROWS],
    ],
)
def test_rows_of_data_are_not_taken_for_names(rows, tmp_path):
    assert not [t for t in seen(written([NAMES, *rows], tmp_path / "data.csv"))[1] if "row of names" in t]


@pytest.mark.parametrize("in_parts", [False, True])
def test_columns_without_a_name_are_called_by_their_place_and_empty_ones_are_none(in_parts, tmp_path):
    rows = [["", *NAMES[1:]], *ROWS]
    study, told = seen(written(rows, tmp_path / "first.csv"), in_parts=in_parts)
    assert study.columns == ("column_1", *NAMES[1:])
    assert told == ["`first.csv` has a column without a name; it is called `column_1`."]
    study, told = seen(written([[*row, ""] for row in [NAMES, *ROWS]], tmp_path / "last.csv"), in_parts=in_parts)
    assert (study.columns, told) == (tuple(NAMES), [])


@pytest.mark.parametrize("name", ["data.csv", "data.xlsx"])
def test_columns_of_the_same_name_are_told_apart_by_their_place(monkeypatch, name, tmp_path):
    rows = [["ID", "Voice", "ID ", "Voice_column_3"], *ROWS]
    path = written(rows, tmp_path / name)
    for large in (0, 1 << 40):
        monkeypatch.setattr("markbase.files.data._LARGE", large)
        study, told = seen(path)
        assert study.columns == ("ID_column_1", "Voice", "ID_column_3", "Voice_column_3")
        assert told == [f"`{name}` has 2 columns called `ID`; they are told apart as `ID_column_1` and `ID_column_3`."]
        assert study["ID_column_3"].values.tolist() == [float(row[2]) for row in ROWS]
    with pytest.raises(mb.ColumnError, match="`Voice` occurs more than once"):
        seen(written([["Voice", "x", "Voice", "Voice_column_3"], *ROWS], tmp_path / name))


@pytest.mark.parametrize(
    ("layout", "said"),
    [
        ({"head": 2}, "A layout knows no `head`. Did you mean `header`"),
        ({"header": 0}, "`header` of a layout is a row, counted from 1, not 0"),
        ({"labels": True}, "`labels` of a layout is a row"),
        ({"labels": 1}, "header and labels both in row 1"),
        ({"header": 3, "data": 3}, "begin below header and labels, not in row 3"),
        ({"header": 3, "last": 3}, "begin in row 4, so row 3 is not the last"),
        ({"header": 40}, "has 13 rows, and its layout names row 40"),
        ({"last": 14}, "has 13 rows, and its layout names row 14"),
        (3, "is a table of the rows that are `header`, `labels`, `data` and `last`, not 3"),
    ],
)
def test_a_layout_that_cannot_be_is_refused_in_a_sentence(layout, said, tmp_path):
    path = written([NAMES, *ROWS], tmp_path / "data.csv")
    with pytest.raises(mb.MarkbaseError, match=said):
        mb.open_study(path, layout=layout)
    plan = tmp_path / "plan.toml"
    if isinstance(layout, dict):
        says = ", ".join(f"{key} = {str(row).lower()}" for key, row in layout.items())
        plan.write_text(f'[data]\nfile = "data.csv"\nlayout = {{{says}}}\n')
        with pytest.raises(mb.MarkbaseError, match=said):
            mb.read_plan(plan).open()
        done = run("look", str(path), "--layout", ",".join(f"{k}={v}" for k, v in layout.items()))
        assert (done.returncode, done.stderr.count("\n")) == (2, 1)


@pytest.mark.parametrize("how", [{"layout": {"header": 2}}, {"sheet": "data"}, {"encoding": "cp1252"}])
def test_a_plan_that_is_written_reads_the_file_as_it_was_read(how, tmp_path):
    names = ["ID", "Stimme", "Größe", "Score"]
    if "sheet" in how:
        path = tmp_path / "data.xlsx"
        with pd.ExcelWriter(path) as book:
            pd.DataFrame([["first"], [1]]).to_excel(book, sheet_name="notes", index=False, header=False)
            pd.DataFrame([names, *ROWS]).to_excel(book, sheet_name="data", index=False, header=False)
    else:
        path = tmp_path / "data.csv"
        top = [["Survey"]] if "layout" in how else []
        text = "\n".join(",".join(row) for row in [*top, names, *ROWS])
        path.write_bytes(text.encode(how.get("encoding", "utf-8")))
    study = mb.open_study(path, **how)
    options = [part for key, value in how.items() for part in (f"--{key}", "header=2" if key == "layout" else value)]
    assert run("prepare", str(path), *options, "--write-plan", str(tmp_path / "p.toml")).returncode == 0
    assert run("start", str(path), *options, "--outcome", "Score", "--into", str(tmp_path / "s.toml")).returncode == 0
    mb.write_plan(tmp_path / "w.toml", study, {}, data=path, **how)
    for plan in ("p", "s", "w"):
        same(mb.read_plan(tmp_path / f"{plan}.toml").open(), study)


@pytest.mark.parametrize("kind", ["csv", "xlsx"])
@pytest.mark.parametrize(
    ("end", "said"),
    [
        (["Total", "", str(sum(int(row[2]) for row in ROWS)), ""], "is the sum of those above"),
        (["", "", str(sum(int(row[2]) for row in ROWS)), "19.5"], "`Age`: .* is the sum"),
        (["Mean:", "", "1", f"{sum(float(row[3]) for row in ROWS) / 12:.2f}"], "`Score`: 1.62 is the mean"),
        (["Total", "", "44", "0.5"], ""),  # neither
        (["14", "alto", str(sum(int(row[2]) for row in ROWS)), "2"], ""),  # a row like others
        (["14", "", "33", "2"], ""),
    ],
)
def test_a_row_of_totals_is_told_and_left_out_by_the_layout(kind, end, said, tmp_path):
    path = written([["Survey", "", "", ""], NAMES, *ROWS[:4], [""] * 4 if kind == "xlsx" else [], *ROWS[4:], end], tmp_path / f"data.{kind}")  # fmt: skip
    _, told = seen(path, layout={"header": 2})
    assert len(told) == bool(said)
    if said:
        assert re.search(rf"the last row .16. looks like a total and not like data .*{said}.*that the last row is 15", told[0])
    study, told = seen(path, layout={"header": 2, "last": 15})
    assert (study.rows, study["Age"].values.tolist(), told) == (12, [float(row[2]) for row in ROWS], [])


def test_notes_below_a_table_are_left_out_by_the_layout(tmp_path):
    path = written([NAMES, *ROWS, [], ["Source: a survey"], ["Made up"]], tmp_path / "data.csv")
    with pytest.raises(mb.FileError, match=r"line 15: 1 cell .* If the table ends above it, say in its layout that the last row is 13"):
        mb.open_study(path)
    same(mb.open_study(path, layout={"last": 13}), mb.open_study(written([NAMES, *ROWS], tmp_path / "plain.csv")))


@pytest.mark.parametrize("end", ["\n", "\r\n"])
@pytest.mark.parametrize("cell", ["", '""'])
@pytest.mark.parametrize("at", [(0,), (5, 6, 12), (12,), ()])
def test_rows_without_a_value_are_none_and_are_said(monkeypatch, tmp_path, end, cell, at):
    plain = mb.open_study(written([NAMES, *ROWS], tmp_path / "plain.csv"))
    nearly = ";".join(["", "", "", "7"])  # one value is a row
    lines = [";".join(NAMES), *(";".join(row) for row in ROWS), nearly]
    for before in sorted(at, reverse=True):
        lines.insert(before + 1, ";".join([cell] * 4))
    path = tmp_path / "data.csv"
    path.write_bytes(end.join(lines).encode())
    for large in (False, True):
        monkeypatch.setattr("markbase.files.data._LARGE", 0 if large else 1 << 40)
        study, told = seen(path)
        pd.testing.assert_frame_equal(study.frame()[:12], plain.frame())
        assert len(study.frame()) == 13
        rows = "1 row without any value was" if len(at) == 1 else f"{len(at)} rows without any value were"
        without = "it" if len(at) == 1 else "them"
        assert told == ([f"`data.csv`: {rows} left out; rows are counted without {without}."] if at else [])
    study, told = seen(path, in_parts=True)
    assert study.rows == 13 + len(at)
    rows = f"{len(at)} row{'s' * (len(at) > 1)} without any value;"
    assert [rows in sentence and "leave them out of the file" in sentence for sentence in told] == [True] * bool(at)


def test_merged_cells_count_for_their_rows_and_formulas_without_results_are_told(tmp_path):
    rows = [[*row, 2 * k] for k, row in enumerate(ROWS)]
    plain = mb.open_study(written([[*NAMES, "twice"], *rows], tmp_path / "plain.xlsx"))
    table = [[*NAMES, "twice"], *([*row[:4], "=A3*2"] for row in rows)]
    path = written([["Choir survey", *"    "], *table, [None] * 5, ["Asked in May.", *"    "]], tmp_path / "data.xlsx")
    book = openpyxl.load_workbook(path)
    sheet = book.active
    for first in (3, 6):  # the voice of rows 3 to 5 and 6 to 8 is the first of them
        sheet.merge_cells(start_row=first, end_row=first + 2, start_column=2, end_column=2)
    sheet.merge_cells("A1:E1")
    sheet.merge_cells("D9:E9")  # over columns: not a value of several rows
    sheet.merge_cells("A16:A18")  # a note below the table
    book.save(path)
    study, told = seen(path, layout={"header": 2, "last": 14})
    voices = [plain.frame()["Voice"][k - k % 3 if k < 6 else k] for k in range(12)]
    assert study.frame()["Voice"].tolist() == voices
    assert study.frame()["Age"].tolist() == plain.frame()["Age"].tolist()
    assert told == [
        "`data.xlsx`: `Voice` has merged cells (B3:B5, B6:B8); what they hold counts for each of their rows.",
        "`data.xlsx`: `twice` holds formulas without their results; open the file in a spreadsheet program, and save it.",
    ]
    assert seen(tmp_path / "plain.xlsx")[1] == []
