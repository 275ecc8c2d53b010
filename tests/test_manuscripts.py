"""Tables for a manuscript: the same cells in every format, every base in them, and what their notes must say."""

import math
import re
import zipfile

import docx
import lxml.html
import numpy as np
import openpyxl
import pandas as pd
import pytest

import markbase as mb
from command import run
from markbase.core.formatting import p_phrase
from planned import BOOK, DATA


def cells_of_markdown(text):
    rows = [re.split(r"(?<!\\)\|", line)[1:-1] for line in text.splitlines() if line.startswith("|")]
    plain = [[re.sub(r"\\(.)|\*|&emsp;", lambda m: m[1] or "", cell).strip() for cell in row] for row in rows]
    return [row for row in plain if set("".join(row)) != set(":-")]


def cells_of_latex(text):
    marks = {"$-$": "−", r"$\times$": "×", r"$\cdot$": "·", r"\textless{}": "<", r"\textgreater{}": ">", "--": "–"}
    marks |= {r"\textsuperscript{2}": "²", r"\quad ": "", "{[}": "[", "{*}": "*"}
    marks |= {r"\textasciicircum{}": "^", r"\textasciitilde{}": "~"}
    found = []
    for line in (line for line in text.splitlines() if line.endswith(r"\\")):
        for mark, letter in marks.items():
            line = line.replace(mark, letter)
        cells = [re.sub(r"\\(?:emph|textbf)\{(.*)\}", r"\1", c.strip()) for c in re.split(r"(?<!\\)&", line[:-2])]
        found.append([re.sub(r"\\(textbackslash\{\}|.)", lambda m: "\\" if m[1][1:] else m[1], cell) for cell in cells])
    return found


def cells_of_html(text):
    return [[(c.text_content()).strip() for c in row] for row in lxml.html.fromstring(f"<div>{text}</div>").iter("tr")]


def cells_of_workbook(path):
    assert zipfile.ZipFile(path).read("docProps/core.xml").count(b"2000-01-01T00:00:00Z<") == 2  # made and changed, whenever that was
    return [[shown(cell) for cell in row] for sheet in openpyxl.load_workbook(path) for row in sheet.iter_rows(3, sheet.max_row - 1)]


def shown(cell):
    """Write a cell as its form has it shown."""
    if not isinstance(cell.value, (int, float)):
        assert cell.value is None or cell.data_type == "s"
        assert not re.fullmatch(r"[−-]?[\d,]*\.?\d+%?", cell.value or "") or cell.column == 1 or cell.row == 3
        return cell.value or ""
    form = re.fullmatch(r"(#,##)?(0?)(?:\.(0+))?(%?)", cell.number_format)
    text = f"{abs(cell.value) * (100 if form[4] else 1):{',' if form[1] else ''}.{len(form[3] or '')}f}{form[4]}"
    return ("−" if math.copysign(1, cell.value) < 0 else "") + (text if form[2] else text.removeprefix("0"))


MANUSCRIPTS = {
    kind: lambda path, read=read: read(path.read_text(encoding="utf-8"))
    for kind, read in {".md": cells_of_markdown, ".tex": cells_of_latex, ".html": cells_of_html}.items()
} | {".xlsx": cells_of_workbook}


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_tables_for_a_manuscript_hold_the_numbers_and_every_base(results):
    document = docx.Document(results / "out" / "tables.docx")
    screened, hierarchy, logistic, levels, _, compared, _ = document.tables
    study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
    rows = {r.cells[0].text.strip(): [c.text for c in r.cells[1:]] for r in logistic.rows}
    tenor = fit.coefficients.set_index("level").loc["tenor"]
    assert rows["tenor"][0] == f"{tenor['odds_ratio']:.2f}"
    assert rows["alto"][:2] == ["1", "base"]
    steps = {r.cells[0].text.strip(): [c.text for c in r.cells[1:]] for r in hierarchy.rows}
    bases = [[c.text for c in r.cells[1:]] for r in hierarchy.rows if r.cells[0].text == "alto"]
    assert bases == [["base", "base"], ["", "base"]]  # of the group, and of the slope of age in it
    assert len(steps["R²"]) == 2
    notes = [p.text for p in document.paragraphs if p.text.startswith("Note.")]
    assert "event: yes" in notes[2]
    assert "clustered by choir" in notes[1]
    told = {r.cells[0].text.strip(): [c.text for c in r.cells[1:]] for r in levels.rows}
    row = fit.groups("voice").set_index("level").loc["tenor"]
    assert told["tenor"][:3] == [f"{row['n']}", f"{100 * row['plain']:.1f}", f"{100 * row['adjusted']:.1f}"]
    assert told["alto"][4:6] == ["0", "base"]
    found = mb.screen(study, ["age", "travel_km", "travel_min"], outcome="belonging")
    told = {r.cells[0].text.strip(): [c.text for c in r.cells[1:]] for r in screened.rows}
    frame = study.frame()[["belonging", "age", "travel_km", "travel_min"]].dropna()
    assert told["2. age"][:2] == [f"{frame['age'].mean():.1f}", f"{frame['age'].std():.1f}"]
    assert told["4. travel_min"][4] == f"{found.correlations.loc['travel_km', 'travel_min']:.2f}".removeprefix("0")
    critical = 1.96 / np.sqrt(len(frame))
    assert f"further from 0 than {critical:.3f}".replace("0.", ".") in notes[0]
    assert [c.text for c in compared.rows[0].cells] == ["", "who stays, in short", "who stays"]
    cells = [[c.text.strip().replace("\u00a0", " ") for c in row.cells] for t in document.tables for row in t.rows]
    for kind, read in MANUSCRIPTS.items():
        assert read(results / "out" / f"tables{kind}") == cells, kind
    with pytest.raises(mb.FileError, match=r"does not end in \.docx"):
        mb.write_document(fit, results / "tables.odt")


@pytest.mark.parametrize("kind", ["linear", "logistic"])
def test_a_table_for_a_manuscript_says_where_coefficients_hold_and_tests_what_stands_in_it(kind, tmp_path):
    study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    terms = ["age", "voice", "rehearsals", mb.interaction("age", "voice"), mb.interaction("age", "rehearsals")]
    outcome, more = {"linear": ("belonging", {}), "logistic": ("stays", {"event": "yes"})}[kind]
    fit, robust = (getattr(mb, f"fit_{kind}")(study, outcome, terms, errors=e, **more) for e in ("classical", "HC3"))
    variants = [mb.compare(fit, fit.without(terms[4].name)), mb.compare(fit, robust)]
    mb.write_document([fit, (fit, "voice"), *variants], tmp_path / "t.md")
    notes = [line for line in (tmp_path / "t.md").read_text(encoding="utf-8").splitlines() if line.startswith("*Note.*")]
    where = (
        "age at the base alto of voice and rehearsals = 0 (outside these rows); voice at age = 0 (outside these rows); rehearsals at age = 0 (outside"
    )
    assert all(f"of the others: {where}" in note for note in (notes[0], notes[2]))
    assert re.search(r" B: .*of the others: age at the base alto of voice; voice at age = 0 \(outside these rows\)\.$", notes[2])
    assert re.search(r" A: (classical )?errors.* B: HC3 errors.* AIC and BIC take rows as independent", notes[3])
    p = fit.group_test("voice").p  # of the differences as they stand in the table, averaged over the rows
    assert abs(p - fit.terms.set_index("term").loc["voice", "p"]) > 0.01
    assert f"All levels together: {p_phrase(p)}." in notes[1].replace("\\", "")


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_coefficients_stand_standardised_beside_in_tables_and_on_pages(tmp_path):
    study = mb.demo.plan().open()
    fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
    entry = mb.fit_blocks(study, "belonging", {"one": ["age"], "two": ["voice"]})
    stays = mb.fit_logistic(study, "stays", ["age"], event="yes")
    for result, fits in {
        fit: [fit], entry: list(entry), mb.compare(fit, entry.last): [fit, entry.last],
        (found := mb.fit_subgroups(study, "belonging", ["age", "voice"], by="rehearsal_day")): list(found.fits.values()),
    }.items():  # fmt: skip
        mb.write_document([result, stays], tmp_path / "t.md", standardised=True, replace=True)
        text = (tmp_path / "t.md").read_text("utf-8").split("**Table 2")
        assert ["β" in part for part in text] == [True, False]
        heads, *rows = cells_of_markdown(text[0])
        places = [k for k, head in enumerate(heads) if head == "β"]
        assert len(places) == len(fits)
        for place, one in zip(places, fits, strict=True):
            told = [row[place] for row in rows if row[place] and row[0] != "(intercept)"]
            wanted = one.standardised[~one.standardised["base"]]["estimate"]
            assert sorted(float(v.replace("−", "-")) for v in told) == pytest.approx(sorted(wanted), abs=0.005)
    page = run("blocks", DATA, "--codebook", BOOK, "--outcome", "belonging", "--block", "one: age", "--block", "two: voice", "--standardised").stdout
    wanted = [f"{one.standardised['estimate'].iloc[0]:.2f}" for one in entry]
    assert re.search(rf"In standard deviations of the outcome.*\n +age +{wanted[0]} +{wanted[1]}\n.*\n? +voice: alto +base\n", page, re.DOTALL)
    refused = run("blocks", mb.demo.path("choirs.plan.toml"), "Who stays", "--standardised")
    assert "--standardised is for a linear regression, and this one is logistic" in refused.stderr


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_names_of_any_letters_stand_in_tables_of_every_format(tmp_path):
    levels = ["[18, 30)", "*30+", "=30+1", r"$5 & up\to_{x}", "<b>~|`#50%^", "{}"]
    rng = np.random.default_rng(4)
    data = {"[hours]": rng.normal(size=200), "*y*": rng.normal(size=200), "g_1": rng.choice(levels, 200)}
    fit = mb.fit_linear(mb.Study(pd.DataFrame(data)), "*y*", ["[hours]", "g_1"])
    for table in (fit, (fit, "g_1")):
        for kind in (".docx", *MANUSCRIPTS):
            mb.write_document([table], tmp_path / f"t{kind}", replace=True)
        document = docx.Document(tmp_path / "t.docx")
        cells = [[c.text.strip().replace("\u00a0", " ") for c in row.cells] for row in document.tables[0].rows]
        assert set(levels) <= {row[0] for row in cells}
        for kind, read in MANUSCRIPTS.items():
            assert read(tmp_path / f"t{kind}") == cells, kind
        rows = (tmp_path / "t.tex").read_text(encoding="utf-8").split(r"\\")[1:]
        assert not any(row.lstrip().startswith(("[", "*")) for row in rows)  # options, and another kind of end, to LaTeX
