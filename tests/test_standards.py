"""Codebooks in the standards of data archives: nothing is lost on the way, and files of the shapes archives give are read."""

import json
import re
import warnings
from xml.etree import ElementTree

import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import markbase as mb
from markbase.core.study.codebook import DECLARABLE

FILES = ["b.toml", "b.xml", "b.json", "b-metadata.json", "b.schema.json", "b.csv"]
WORDS = st.text(st.characters(codec="utf-8", exclude_categories=["C", "Z"]), min_size=1, max_size=8)
LABELS = st.lists(WORDS, min_size=1, max_size=4).map(" ".join)


@st.composite
def entries(draw):
    """Draw the entry of a column, of every kind."""
    entry = {"label": draw(LABELS)} if draw(st.booleans()) else {}
    kind = draw(st.sampled_from(["numeric", "categorical", "ordinal", None]))
    codes = st.one_of(WORDS, st.integers(-99, 99).map(str))
    taken = draw(st.lists(codes, max_size=6, unique_by=str.casefold))
    cut = draw(st.integers(0, len(taken)))
    if kind:
        entry["kind"] = kind
    if kind in ("categorical", "ordinal") and taken[:cut]:
        labels = draw(st.one_of(st.just(taken[:cut]), st.lists(LABELS, min_size=cut, max_size=cut, unique=True)))
        entry["levels"] = dict(zip(taken[:cut], labels, strict=True))
        if draw(st.booleans()):
            entry["base"] = draw(st.sampled_from(labels))
    if taken[cut:]:
        told = draw(st.booleans())
        entry["missing"] = {code: draw(LABELS) for code in taken[cut:]} if told else taken[cut:]
    if kind == "numeric" and draw(st.booleans()):
        entry["unit"] = draw(st.one_of(LABELS, st.tuples(LABELS, LABELS).map(list)))
    if kind == "numeric" and draw(st.booleans()):
        how = draw(st.sampled_from(sorted(DECLARABLE)))
        least = DECLARABLE[how][0]
        of = [f"c{k}" for k in range(least)]
        entry["made"] = {how: of[0] if least == 1 else of}
    elif draw(st.booleans()):
        entry["role"] = draw(st.sampled_from(["identifier", "weight", "cluster", "stratum"]))
    return entry


@settings(max_examples=80, deadline=None, suppress_health_check=list(HealthCheck))
@given(columns=st.dictionaries(LABELS, entries(), min_size=1, max_size=3), title=st.one_of(st.just(""), LABELS))
@pytest.mark.parametrize("file", FILES[1:])
def test_a_codebook_is_the_same_after_a_way_through_every_standard(file, columns, title, tmp_path):
    from markbase.files import codebook as writing

    book = mb.Codebook.from_mapping({"title": title, "columns": columns})
    suffix = file[1:]
    write = {".xml": writing.ddi_text, ".json": writing.package_text, "-metadata.json": writing.csvw_text, ".schema.json": writing.schema_text, ".csv": writing.codebook_table_text}[suffix]  # fmt: skip
    path = tmp_path / file
    path.write_text(write(book, {next(iter(columns)): "guessed"}, "data.csv"), encoding="utf-8")
    again = mb.read_codebook(path, "data.csv")
    assert dict(again.columns) == dict(book.columns)
    assert list(again.columns) == list(book.columns)
    assert again.title == title or suffix == ".csv" or (suffix == ".xml" and not title)
    if suffix == ".xml":  # as other programs read it
        words = {"numeric": ("contin", "interval"), "categorical": ("discrete", "nominal"), "ordinal": ("discrete", "ordinal")}
        for told in ElementTree.parse(path).iterfind(".//{*}var"):
            kind = book.columns[told.get("name")].kind
            assert (told.get("intrvl"), told.get("nature")) == words.get(kind, (None, None))
    elif suffix.endswith("json"):
        told = json.loads(path.read_text(encoding="utf-8"))
        schema = told["resources"][0]["schema"] if "resources" in told else told.get("tableSchema", told)
        for field in schema.get("columns", schema.get("fields")):
            numeric = book.columns[field.get("titles", field["name"])].kind == "numeric"
            assert ("number" in (field.get("type"), field.get("datatype"))) == numeric


FRAME = pd.DataFrame(
    {
        "person": [101, 102, 103, 104, 105, 106],
        "festival": ["1", "2", "2", "9", "1", "2"],
        "liking": ["1", "3", "2", "3", "-1", "1"],
        "fee": ["12.5", "-99", "30", "7", "-98", "20"],
        "w": [1.0, 0.5, 1.5, 1.0, 1.2, 0.8],
    }
)
DDI = """<?xml version="1.0" encoding="UTF-8"?>
<!-- as a data archive gives it -->
<codeBook xmlns="ddi:codebook:2_5" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" version="2.5"
  xsi:schemaLocation="ddi:codebook:2_5 http://www.ddialliance.org/Specification/DDI-Codebook/2.5/XMLSchema/codebook.xsd">
 <stdyDscr><citation><titlStmt><titl>Festival goers</titl><IDNo>1</IDNo></titlStmt></citation></stdyDscr>
 <fileDscr ID="F1"><fileTxt><fileName>festival.csv</fileName></fileTxt></fileDscr>
 <fileDscr ID="F2"><fileTxt><fileName>halls.csv</fileName></fileTxt></fileDscr>
 <dataDscr>
  <var ID="V1" name="person" files="F1" intrvl="discrete"><labl>Number of the
     person</labl><varFormat type="numeric"/></var>
  <var ID="V2" name="festival" files="F1" intrvl="discrete"><labl>Festival</labl>
   <qstn><qstnLit>Which festival were you at?</qstnLit></qstn>
   <catgry><catValu>1</catValu><labl>spring</labl><catStat type="freq">2</catStat></catgry>
   <catgry><catValu>2</catValu><labl>autumn</labl></catgry>
   <catgry missing="Y"><catValu>9</catValu><labl>refused</labl></catgry></var>
  <var ID="V3" name="liking" files="F1" intrvl="discrete" nature="ordinal"><qstn><qstnLit>How did you like it?</qstnLit></qstn>
   <invalrng><range min="-3" max="-1"/></invalrng>
   <catgry><catValu>1</catValu><labl>little</labl></catgry><catgry><catValu>2</catValu><labl>well</labl></catgry>
   <catgry><catValu>3</catValu><labl>very well</labl></catgry><catgry><catValu>-1</catValu><labl>not asked</labl></catgry></var>
  <var ID="V4" name="fee" files="F1" intrvl="contin" measUnit="crowns"><labl>Fee paid</labl>
   <invalrng><item VALUE="-99"/><item VALUE="-98"/></invalrng></var>
  <var ID="V5" name="w" files="F1" wgt="wgt" intrvl="contin"><labl>Weight</labl></var>
  <var ID="V6" name="elsewhere" files="F1" intrvl="contin"/>
  <var ID="V7" name="hall" files="F2" intrvl="discrete"/>
 </dataDscr>
</codeBook>"""
FIELDS = [
    {"name": "person", "type": "integer", "description": "Number of the person"},
    {"name": "festival", "type": "integer", "title": "Festival",
     "categories": [{"value": 1, "label": "spring"}, {"value": 2, "label": "autumn"}],
     "missingValues": ["", {"value": "9", "label": "refused"}]},
    {"name": "liking", "type": "integer", "title": "How did you like it?", "categoriesOrdered": True,
     "categories": [{"value": k, "label": label} for k, label in enumerate(["little", "well", "very well"], 1)],
     "missingValues": [{"value": "-1", "label": "not asked"}, "-2", "-3"]},
    {"name": "fee", "type": "number", "title": "Fee paid"},
    {"name": "w", "type": "number", "constraints": {"minimum": 0}},
]  # fmt: skip
SCHEMA = {"fields": FIELDS, "missingValues": ["", "-99", "-98"], "primaryKey": "person"}
CSVW = {
    "@context": ["http://www.w3.org/ns/csvw", {"@language": "en"}],
    "tables": [
        {"url": "halls.csv", "tableSchema": {"columns": [{"titles": "hall"}]}},
        {"url": "festival.csv", "dc:title": "Festival goers", "tableSchema": {"primaryKey": "p", "columns": [
            {"name": "p", "titles": {"en": ["person"]}, "datatype": "integer", "dc:description": "Number of the person"},
            {"name": "festival", "datatype": "string", "null": ["", "9"], "rdfs:label": {"@value": "Festival", "@language": "en"}},
            {"titles": ["liking", "how"], "datatype": {"base": "string", "format": "1|2|3"}, "null": "-1"},
            {"titles": "fee", "datatype": {"base": "decimal", "minimum": 0}, "null": ["-99", "-98"], "dc:description": "Fee paid"},
            {"titles": "w", "datatype": "double"},
            {"name": "more", "virtual": True, "propertyUrl": "x"},
        ]}},
    ],
}  # fmt: skip
TABLE = """Variable;Label;Kind;Value;Category;Missing;Base
person;Number of the person;;;;;
festival;Festival;categorical;1;spring;;yes
festival;;;2;autumn;;
festival;;;9;refused;yes;
fee;Fee paid;numeric;-99;;yes;
fee;;;-98;;yes;
"""
SHAPES = {
    "festival.xml": DDI,
    "festival.schema.json": json.dumps(SCHEMA),
    "datapackage.json": json.dumps({"name": "f", "resources": [
        {"path": "halls.csv", "schema": {"fields": []}}, {"path": ["data/festival.csv"], "schema": "festival.schema.json"}]}),
    "festival.csv-metadata.json": json.dumps(CSVW),
    "codebook.csv": TABLE,
}  # fmt: skip


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
@pytest.mark.parametrize("shape", SHAPES)
def test_files_of_the_shapes_that_archives_give_are_read(shape, tmp_path):
    for name, text in SHAPES.items():
        (tmp_path / name).write_text(text, encoding="utf-8")
    FRAME.to_csv(tmp_path / "festival.csv", index=False)
    study = mb.open_study(tmp_path / "festival.csv", tmp_path / shape)
    table = study.overview().set_index("column")
    assert table.loc["person", "label"] == "Number of the person"
    assert table.loc["festival", ["label", "kind", "missing"]].tolist() == ["Festival", "categorical", 1]
    assert table.loc["fee", ["label", "kind", "missing", "mean"]].tolist() == ["Fee paid", "numeric", 2, 17.375]
    levels = study.levels("festival").set_index("level")["count"].to_dict()
    if "metadata" not in shape:
        assert levels == {"spring": 2, "autumn": 3, "refused (9)": 1}
    if shape in ("festival.xml", "festival.schema.json", "datapackage.json"):
        assert table.loc["liking", ["label", "kind", "missing"]].tolist() == ["How did you like it?", "ordinal", 1]
        assert study.levels("liking")["level"].tolist()[:4] == ["little", "well", "very well", "not asked (-1)"]
    if shape == "festival.xml":
        assert (study.title, table.loc["fee", "unit"], table.loc["w", "role"]) == ("Festival goers", "crowns", "weight")
    elif shape != "codebook.csv":
        assert table.loc["person", "role"] == "identifier"


ENTITIES = '<?xml version="1.0"?><!DOCTYPE c [<!ENTITY a "aaaaaaaa"><!ENTITY b "&a;&a;&a;">]><codeBook><var name="&b;"/></codeBook>'
OUTSIDE = '<?xml version="1.0"?><!DOCTYPE c [<!ENTITY a SYSTEM "file:///etc/hostname">]><codeBook><var name="x"><labl>&a;</labl></var></codeBook>'
WRONG = {
    "a.xml": ("<codeBook><var", r"is not XML that can be read"),
    "b.xml": (ENTITIES, r"declares entities, which are not read"),
    "c.xml": (OUTSIDE, r"declares entities, which are not read"),
    "d.xml": ("<html><p/></html>", r"describes no variables"),
    "e.xml": ("<codeBook><var name='x'/><var name='x'/></codeBook>", r"`x` is described twice"),
    "f.json": ("[1]", r"at its top stands list"),
    "g.json": ('{"a": 1}', r"is no codebook: it has neither"),
    "h.json": ('{"fields": [{"type": "number"}]}', r"has no `name`"),
    "i.json": ('{"fields": 3}', r"`fields` must be a list of tables"),
    "j.json": ('{"resources": [{"path": "festival.csv", "schema": "https://example.org/s.json"}]}', r"is no file beside it"),
    "k.json": ('{"resources": [{"path": "festival.csv", "schema": "../s.json"}]}', r"is no file beside it"),
    "l.json": ('{"resources": [{"path": "a.csv"}, {"path": "b.csv"}]}', r"none of its resources is of `festival.csv`"),
    "m.json": ('{"tableSchema": {"columns": [{"titles": "person", "urn:markbase:column": 3}]}}', r"must be a table"),
    "n.csv": ("column,colour\nx,y\n", r"`colour` is no head"),
    "o.csv": ("label,kind\nx,y\n", r"`column` among them"),
    "p.csv": ("column,code,level\nx,1,a\nx,1,b\n", r"row 3: the code `1` of `x` is given twice"),
    "q.csv": ("column,label\nx,a\nx,b\n", r"row 3: `label` of `x` is 'b', and was 'a' before"),
    "r.csv": ("column,code,missing\nx,1,perhaps\n", r"`missing` is `perhaps`; it can be yes, or empty"),
    "s.csv": ("column,code\nx\n", r"row 2: 1 cells"),
}


@pytest.mark.parametrize("name", WRONG)
def test_what_is_no_codebook_is_said_in_a_sentence(name, tmp_path):
    content, told = WRONG[name]
    (tmp_path / name).write_text(content, encoding="utf-8")
    FRAME.to_csv(tmp_path / "festival.csv", index=False)
    with pytest.raises(mb.CodebookError, match=told):
        mb.open_study(tmp_path / "festival.csv", tmp_path / name)


@pytest.mark.parametrize("file", FILES)
def test_labels_that_were_declared_are_kept_however_many(file, tmp_path):
    labels = {str(k): f"hall {k}" for k in range(1, 81)}
    frame = pd.DataFrame({"hall": [k % 80 + 1 for k in range(400)], "note": [f"n{k % 90}" for k in range(400)]})
    study = mb.Study(frame, {"columns": {"hall": {"kind": "categorical", "levels": labels}}})
    mb.write_codebook(study, tmp_path / file)
    book = mb.read_codebook(tmp_path / file)
    assert {level.code: level.label for level in book.columns["hall"].levels} == labels
    assert not book.columns["note"].levels


def test_what_a_standard_cannot_hold_is_refused_and_what_the_data_lack_is_said(tmp_path):
    study = mb.Study(pd.DataFrame({"x": ["a\x07", "b"] * 9}))
    with pytest.raises(mb.CodebookError, match=r"'\\x07', which XML cannot"):
        mb.write_codebook(study, tmp_path / "b.xml")
    with pytest.raises(mb.FileError, match=r"`.*b\.sav` does not end in `?\.toml"):
        mb.write_codebook(study, tmp_path / "b.sav")
    assert not list(tmp_path.iterdir())
    (tmp_path / "festival.xml").write_text(DDI, encoding="utf-8")
    FRAME[["fee"]].to_csv(tmp_path / "festival.csv", index=False)
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        assert mb.open_study(tmp_path / "festival.csv", tmp_path / "festival.xml").columns == ("fee",)
    assert re.search(r"also describes `person` and 4 others, which festival\.csv does not have", str(told[0].message))
