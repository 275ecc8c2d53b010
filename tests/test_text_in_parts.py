"""Text files in blocks: the same rows as read from the start, whatever their quotes, line ends and encodings."""

import csv
import gzip
import io

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

import markbase as mb
from markbase.files.parts import table_files, text_blocks
from surveys import same

pytestmark = [pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning"), pytest.mark.usefixtures("small_parts")]


@pytest.mark.parametrize("blocks", [True, False])
def test_names_and_levels_may_go_over_several_lines(blocks, tmp_path, monkeypatch):
    if not blocks:  # a quote within a cell: the file is parsed from its start
        monkeypatch.setattr(text_blocks, "_check_quotes", lambda *_: (_ for _ in ()).throw(text_blocks.UncutError))
    lines = "".join(f'{k % 3},{k / 4},"one\r\n{k % 2}"\n' for k in range(40))
    (tmp_path / "t.csv").write_bytes(f'"which\r\nof these",y,text\n{lines}'.encode())
    whole, parts = (mb.open_study(tmp_path / "t.csv", in_parts=p) for p in (False, True))
    assert whole.columns == parts.columns == ("which of these", "y", "text")
    assert list(whole.levels("text")["level"]) == list(parts.levels("text")["level"]) == ["one\n0", "one\n1"]
    same(*(mb.fit_linear(s, "y", ["which of these"]).coefficients for s in (whole, parts)), 1e-12)
    (tmp_path / "open.csv").write_text('a,"b\n' + "1,2\n" * 60_000, encoding="utf-8")
    for p in (False, True):
        with pytest.raises(mb.FileError, match=r"open.csv`, line 1: a quotation mark is opened and never closed"):
            mb.open_study(tmp_path / "open.csv", in_parts=p)


def test_texts_are_read_as_in_memory(tmp_path, monkeypatch):
    for home in (table_files, text_blocks):
        monkeypatch.setattr(home, "_BLOCK_BYTES", 4096)
    lines = [f"{k},{k % 5},{'x' if k == 1700 else k},{k / 7:.9f},' {k % 3}," for k in range(2000)]
    lines[3] = lines[3].replace("0.428571429", "nan")
    lines[5] = "5,-9,5,0.5,'=2+2,"
    (tmp_path / "t.csv").write_text("id,code,late,share,text,empty\n" + "\n".join(lines) + "\n", encoding="utf-8")
    book = {"columns": {"code": {"missing": {"-9": "no answer"}}, "share": {"missing": ["nan"]}}}
    whole, parts = (mb.open_study(tmp_path / "t.csv", codebook=book, in_parts=p) for p in (False, True))
    tables = [s.overview().drop(columns=["median", "levels"]) for s in (whole, parts)]
    tables[1]["remarks"] = tables[1]["remarks"].str.replace(r"(; )?median of a random .*? rows", "", regex=True)
    same(*tables, 1e-12)
    same(whole.levels("text"), parts.levels("text"))
    same(whole["late"].doubt, parts["late"].doubt)
    assert "first in row 1701" in parts["late"].doubt


cells = st.text(st.sampled_from('ab,"\n é'), min_size=1, max_size=6).map(lambda text: f"x{text}")


@given(
    rows=st.lists(st.tuples(cells, cells), min_size=1, max_size=30),
    quoting=st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]),
    end=st.sampled_from(["\n", "\r\n"]),
    size=st.integers(1, 60),
    name=st.sampled_from(["one", "one\nname", 'a "quoted" name']),
    encoding=st.sampled_from(["utf-8", "utf-8-sig", "latin-1"]),
    packed=st.booleans(),
)
@example([("1", "x\n2,y"), ("3", "z")], csv.QUOTE_MINIMAL, "\n", 13, "one", "utf-8", False)
def test_blocks_of_a_text_file_hold_its_rows_once(tmp_path_factory, rows, quoting, end, size, name, encoding, packed):
    text = io.StringIO()
    csv.writer(text, quoting=quoting, lineterminator=end).writerows([(name, "two"), *rows])
    data = text.getvalue().encode(encoding)
    path = tmp_path_factory.mktemp("blocks") / ("t.csv.gz" if packed else "t.csv")
    path.write_bytes(gzip.compress(data) if packed else data)
    mark = table_files.FileMark(str(path), path.stat().st_size, path.stat().st_mtime_ns)
    names = {"one": name, "two": "two"}
    table = table_files.TableFiles((mark,), "csv", "t", names, encoding=encoding.replace("-sig", ""))
    broken = any("\n" in cell for row in [(name,), *rows] for cell in row)
    for careful in (False, True):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(text_blocks, "_BLOCK_BYTES", size)
            patch.setattr(text_blocks, "_COLUMNS", 1 + size % 2)  # of more columns blocks are larger
            cut = text_blocks.cut_into_blocks(table, careful)
            blocks: list = []
            try:
                told = [b for block in cut for b in block.batches(list(names), list(names)) if not blocks.append(block)]
            except text_blocks.UncutError:
                assert broken
                assert not careful
                continue
        again = text_blocks.blocks_at(table, list(dict.fromkeys(block.cut for block in blocks)))
        for batches in (told, [b for block in again for b in block.batches(list(names), list(names))]):
            assert [tuple(row.values()) for batch in batches for row in batch.to_pylist()] == rows


@pytest.mark.parametrize("cell", ['5" pipe', '"a"b', '" a" ', 'x""y', 'x""'])
@pytest.mark.parametrize("broken", [False, True])
def test_stray_quotes_beside_broken_lines_are_read_from_the_start(tmp_path, monkeypatch, cell, broken):
    monkeypatch.setattr(text_blocks, "_BLOCK_BYTES", 64)
    lines = [f"{k},part {k % 3}" for k in range(200)]
    lines[100] = f"100,{cell}"
    lines[101] = '101,"part\n0"' if broken else lines[101]
    (tmp_path / "t.csv").write_text("n,text\n" + "\n".join(lines) + "\n")
    study = mb.open_study(tmp_path / "t.csv", in_parts=True)
    assert (study["n"].values.source.cuts == ()) == broken
    assert (study.rows, float(study["n"].values.sum()), len(study.levels("text"))) == (200, 19900.0, 4 + broken)
    assert mb.open_study(tmp_path / "t.csv", columns=["n"], in_parts=True)["n"].span == (0, 199)


@pytest.mark.parametrize("ends", ["\r", "\r\n", "\r\r\n"])
def test_lines_of_text_files_end_as_they_do(tmp_path, ends):
    lines = ["a,b", *(f"{k},{k % 3}" for k in range(90))]
    text = "".join(line + (ends if k != 2 else "\r") for k, line in enumerate(lines))
    (tmp_path / "t.csv").write_bytes(text.encode())
    study = mb.open_study(tmp_path / "t.csv", in_parts=True)
    assert (study.rows, float(study["a"].values.sum())) == (90, 4005.0)


def test_an_error_far_into_a_text_file_is_told_with_its_row(tmp_path, monkeypatch):
    for home in (table_files, text_blocks):
        monkeypatch.setattr(home, "_BLOCK_BYTES", 512)
    lines = [f"{k},{k % 5}" for k in range(900)]
    lines[700] += ",7"
    (tmp_path / "t.csv").write_text("a,b\n" + "\n".join(lines) + "\n")
    with pytest.raises(mb.FileError, match="#702: Expected 2 columns, got 3"):
        mb.open_study(tmp_path / "t.csv", in_parts=True)
