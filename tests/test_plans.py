"""Plans that carry a whole analysis: the same numbers as Python, a report, mistakes with their lines."""

import json
import math
import re
import tomllib
import zipfile
from pathlib import Path

import docx
import jsonschema
import lxml.html
import numpy as np
import openpyxl
import pandas as pd
import pytest
import tomlkit

import markbase as mb
from command import run
from markbase.core.formatting import p_phrase
from markbase.files.schemas import SCHEMAS
from reference import made_up
from seen import seen

DATA, BOOK = mb.demo.path("choirs.csv"), mb.demo.path("choirs.codebook.toml")
PLAN = f"""[data]
file = "{DATA}"
codebook = "{BOOK}"

[[prepare]]
do = "merge_levels"
column = "voice"
targets = {{ tenor = ["tennor"] }}

[[prepare]]
do = "mark"
column = "voice"
base = "alto"
reason = "the <largest> part"

[[prepare]]
do = "merge_levels"
column = "joined_through"
below = 30
name = "joined"

[screen]
outcome = "belonging"
terms = ["age", "travel_km", "travel_min"]
limit_vif = 4

[[blocks]]
name = "in blocks"
outcome = "belonging"
cluster = "choir"
entry = [
  {{ name = "first", terms = ["age", "voice"] }},
  {{ name = "then", terms = ["rehearsals", {{ interaction = ["age", "voice"] }}] }},
]

[[fit]]
name = "who stays"
question = "Who <b>stays</b>?"
kind = "logistic"
outcome = "stays"
event = "yes"
terms = ["age", "voice"]
groups = ["voice"]
margin = 1.5
correction = "bonferroni"

[[fit]]
name = "who stays, in short"
kind = "logistic"
outcome = "stays"
event = "yes"
terms = ["age"]

[[compare]]
name = "short and long"
fits = ["who stays, in short", "who stays"]

[[backward_elimination]]
fit = "in blocks"
keep = ["age"]
limit = 0.01

[output]
title = "At home & staying"
"""


@pytest.fixture(scope="module")
def results(made_once):
    """What a plan gives; each test that writes beside it does so under names of its own."""

    def make(folder):
        (folder / "my.plan.toml").write_text(PLAN, encoding="utf-8")
        done = run("run", "my.plan.toml", "--into", "out", cwd=folder)
        assert done.returncode == 0, done.stderr

    return made_once("plan", make)


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_a_plan_gives_the_numbers_that_python_gives(results):
    told = json.loads((results / "out" / "results.json").read_text(encoding="utf-8"))
    study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    blocks = {"first": ["age", "voice"], "then": ["rehearsals", mb.interaction("age", "voice")]}
    hierarchy = mb.fit_blocks(study, "belonging", blocks, cluster="choir")
    assert [s["statistic"] for s in told["fits"]["in blocks"]["steps"]] == hierarchy.steps["statistic"].tolist()
    fit = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
    own = told["fits"]["who stays"]
    assert [r["estimate"] for r in own["coefficients"]] == fit.coefficients["estimate"].tolist()
    pairs = fit.between("voice", "bonferroni")
    assert [r["p_corrected"] for r in own["groups"]["voice"]["pairs"]] == pairs["p_corrected"].tolist()
    test = told["comparisons"]["short and long"]["tests"][0]
    assert test["statistic"] == pytest.approx(fit.terms.set_index("term").loc["voice", "statistic"], rel=1e-11)
    shorter = mb.backward_elimination(hierarchy.last, limit=0.01, keep=["age"])
    assert told["eliminated"]["in blocks, eliminated"]["kept"] == list(shorter.kept) != [t.name for t in hierarchy.last.model_terms]
    table = pd.read_csv(results / "out" / "tables" / "who-stays-coefficients.csv")
    np.testing.assert_array_equal(table["estimate"], fit.coefficients["estimate"])
    screened = mb.screen(study, ["age", "travel_km", "travel_min"], outcome="belonging")
    variance_inflation = pd.read_csv(results / "out" / "tables" / "screen-vif.csv")
    np.testing.assert_allclose(variance_inflation["vif"], screened.vif["vif"], rtol=1e-12)
    assert any("clusters" in r for r in told["remarks"])
    text = lxml.html.fromstring((results / "out" / "report.html").read_bytes()).text_content()
    assert "▲ 1 remark on what these analyses rest on" in " ".join(text.split())
    for remark in told["remarks"]:  # on a page of the report, or among its remarks
        assert " ".join(remark.replace("`", "").rstrip(".").split(": ")[-1].split()) in " ".join(text.split())


def test_the_report_is_one_file_escaped_and_the_same_each_time(results):
    report = (results / "out" / "report.html").read_text(encoding="utf-8")
    assert "<script" not in report
    assert not re.findall(r"(?:src|href)=\"(?!data:|#)", report)
    assert "Who &lt;b&gt;stays&lt;/b&gt;?" in report
    assert "the &lt;largest&gt; part" in report
    assert "<title>At home &amp; staying</title>" in report
    assert len(seen(report).xpath("//figure")) == len(list((results / "out" / "figures").glob("*.svg"))) > 4
    methods = (results / "out" / "methods.txt").read_text(encoding="utf-8")
    assert re.findall(r"intervals are at (.*?)%", methods) == ["95", "95", "95"], methods
    assert "Standard errors are clustered by choir (24 clusters): rows within one may go together; intervals" in methods
    assert "voice entered as indicators against alto (chosen: the <largest> part)" in methods
    before = {p.relative_to(results / "out"): p.read_bytes() for p in (results / "out").rglob("*") if p.is_file()}
    again = run("run", "out/plan.toml", "--into", "again", cwd=results)
    assert again.returncode == 0, again.stderr
    assert "choirs.csv`, outside its own folder" in again.stderr
    refused = run("run", "out/plan.toml", "--into", "third", "--only-inside", cwd=results)
    assert (refused.returncode, (results / "third").exists()) == (2, False)
    after = {p.relative_to(results / "again"): p.read_bytes() for p in (results / "again").rglob("*") if p.is_file()}
    assert after == before


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
@pytest.mark.parametrize("outcome", ['y "1"', "e'\\x"])
def test_a_drafted_plan_quotes_names_of_any_letters(outcome, tmp_path):
    rng = np.random.default_rng(5)
    data = {'g "a", b': rng.choice(['one "1"', "t\\wo", "it's"], 90), "e'\\x": rng.choice(["no", 'yes "so"'], 90)}
    data |= {'y "1"': rng.normal(size=90), "#x": rng.normal(size=90)}
    choirs, alone = np.arange(90) % 14, np.arange(90)  # too many levels for a term; rows go together in the first alone
    more = {"choir": [f"choir {k}" for k in choirs], "words": [f"{k} times" for k in alone], "who": 500 + alone // 2}
    pd.DataFrame(data).assign(**more).to_csv(tmp_path / "data.csv", index=False)
    drafted = run("start", tmp_path / "data.csv", "--outcome", outcome, "--into", tmp_path / "p.toml")
    assert drafted.returncode == 0, drafted.stderr
    told = (tmp_path / "p.toml").read_text(encoding="utf-8")
    plan = tomllib.loads(told)
    assert (plan["fit"][0]["outcome"], plan["screen"]["outcome"], plan["output"]["title"]) == (outcome,) * 3
    assert plan["fit"][0]["terms"] == plan["screen"]["terms"] == [name for name in data if name != outcome]
    assert re.findall(r"^# cluster = (.*?) +#", told, flags=re.M) == ['"choir"', '"who"', '["choir", "who"]']
    remarked = run("fit", tmp_path / "data.csv", "--outcome", 'y "1"', "--terms", "who").stderr
    assert "`who` looks like the numbers of persons, classes or places" in remarked
    taken = tomllib.loads(re.sub(r"^# (?=\[\[prepare|do =|column =|base =)", "", told, flags=re.M))
    marked = [step for step in taken["prepare"] if step["do"] == "mark"]
    assert all(step["base"] in data[step["column"]] for step in marked)
    assert len(marked) == (2 if outcome == 'y "1"' else 1)
    assert run("fit", tmp_path / "p.toml").returncode == 0


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


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_what_was_done_in_python_is_written_as_a_plan_that_gives_it_again(tmp_path):
    study = mb.demo.plan().open()
    blocks = {"first": ["age", "voice"], "then": ["rehearsals", mb.interaction("age", "voice")]}
    made = {
        "blockwise entry": mb.fit_blocks(study, "belonging", blocks, cluster="choir"),
        "crossed": mb.fit_logistic(study, "stays", ["voice", "joined_through", mb.interaction("voice", "joined_through")], event="no", penalty="firth"),
        "inside": mb.fit_linear(study, "belonging", ["age"], fixed_effects="choir", cluster="choir", errors="CR3", level=0.9),
        "weighted": mb.fit_linear(study, "belonging", ["age", "voice"], weights="weight"),
    }  # fmt: skip
    made["sampled"] = mb.bootstrap(made["weighted"], 200, seed=3)
    path = tmp_path / "mine.toml"
    mb.write_plan(path, study, made, data=DATA, codebook=BOOK, title="Mine")
    plan = mb.read_plan(path)
    again = plan.make()
    assert plan.analysis.title == "Mine"
    assert set(again) == set(made)
    assert [(e.bootstrap, e.seed) for e in plan.analysis.fits if e.name == "sampled"] == [(200, 3)]
    for name, fit in made.items():
        last, other = (getattr(f, "last", getattr(f, "fit", f)) for f in (fit, again[name]))
        pd.testing.assert_frame_equal(last.coefficients, other.coefficients)
    with pytest.raises(mb.MarkbaseError, match="tells `voice` against `tenor`, which is not its base in the study"):
        mb.write_plan(path, study, {"x": made["weighted"].rebase("voice", "tenor")}, data=DATA, replace=True)
    with pytest.raises(mb.MarkbaseError, match="has a column `age` that the study does not have"):
        mb.write_plan(path, mb.demo.choir_terms(), {"x": made["weighted"]}, data=DATA, replace=True)
    halves = [study.hold_out(share=0.5, seed=seed)[0] for seed in (1, 2)]
    fit = mb.fit_linear(halves[0], "belonging", ["age"])
    for other, told in ((study, "was made of 1,00[0-9] rows, and the study has 2,003"), (halves[1], "`age` has other values in")):
        with pytest.raises(mb.MarkbaseError, match=told):
            mb.write_plan(path, other, {"x": fit}, data=DATA, replace=True)
    with pytest.raises(mb.FileError, match="already"):
        mb.write_plan(path, study, made, data=DATA)


def test_nothing_is_written_over_and_nothing_half(results, monkeypatch):
    with monkeypatch.context() as patch:  # refused before the work
        patch.setattr("markbase.cli.run.carry_out", None)
        refused = run("run", "my.plan.toml", "--into", "out", cwd=results)
    assert refused.returncode == 2
    assert "--replace" in refused.stderr
    (results / "quiet.toml").write_text(PLAN.replace("[output]", "[output]\nfigures = false"))
    assert run("run", "quiet.toml", "--into", "quiet", cwd=results).returncode == 0
    for old in ("figures/b.png", "tables/gone.csv", "tables.old", "tables/a.csv", "mine.txt"):
        (results / "quiet" / old).parent.mkdir(exist_ok=True)
        (results / "quiet" / old).touch()
    again = run("run", "quiet.toml", "--into", "quiet", "--replace", cwd=results)
    assert again.returncode == 0
    said = "Beside them 4 files that this run did not write: figures/b.png, tables.old, tables/a.csv, … Take away"
    assert said in " ".join(again.stderr.split())
    (results / "broken.toml").write_text(
        PLAN.replace('terms = ["age", "voice"]\ngroups', 'terms = ["age", "rehearsals", "concerts", "events"]\ngroups').replace(
            'groups = ["voice"]\nmargin = 1.5\n', ""
        )
    )
    stopped = run("run", "broken.toml", "--into", "never", cwd=results)
    assert stopped.returncode == 2
    assert "fit `who stays`: Exact collinearity" in stopped.stderr
    assert not (results / "never").exists()


MISTAKES = {
    "a table that does not exist": ("[output]", "[outputs]", r"unknown key `outputs`. Did you mean `output`"),
    "an unknown key of a fit": ('event = "yes"', 'evnt = "yes"', r"line LINE: unknown key `evnt` in \[fit\]\. Did you mean `event`"),
    "an unknown key of blocks": ('cluster = "choir"', 'clusters = "choir"', r"unknown key `clusters` in \[blocks\]"),
    "an unknown key of the data": ("codebook =", "codebok =", r"line LINE, data: unknown key `codebok`"),
    "an unknown key of the screening": ("limit_vif = 4", "limit_viff = 4", r"line LINE: unknown key `limit_viff`"),
    "a misspelt column": ('terms = ["age", "voice"]\ngroups', 'terms = ["age", "voise"]\ngroups', r"line LINE: there is no column `voise` in the prepared data\. Did you mean `voice`"),
    "a misspelt column in a block": ('"rehearsals", {', '"rehersals", {', r"line LINE: there is no column `rehersals`"),
    "a weight of the screening": ("limit_vif = 4", 'weights_are = "x"', r"line LINE: `weights_are` is `sampling` or `frequency`, not 'x'"),
    "a misspelt column of the screening": ('"travel_km", "travel_min"]', '"travel_km", "travelmin"]', r"line LINE: there is no column `travelmin`"),
    "a misspelt level": ('base = "alto"', 'base = "altos"', r"line LINE, prepare, step 2: .*no level `altos`. Did you mean `alto`"),
    "a misspelt event": ('event = "yes"', 'event = "yess"', r"line LINE, fit `who stays`: .*no level `yess`"),
    "a term to keep that is not there": ('keep = ["age"]', 'keep = ["ages"]', r"line LINE: the fit `in blocks` has no term `ages` to keep\. Did you mean `age`"),
    "a limit for p that is none": ("limit = 0.01", "limit = 1", r"line LINE: `limit` is a p between 0 and 1"),
    "a fit to eliminate from that is not there": ('fit = "in blocks"', 'fit = "in block"', r"line LINE: there is no fit `in block`"),
    "a kind that does not exist": ('kind = "logistic"', 'kind = "logit"', r"line LINE: `kind` is linear or logistic, not 'logit'"),
    "an event for a linear fit": ('kind = "logistic"\n', "", r"`event` is for a logistic fit"),
    "a margin that is none": ("margin = 1.5", "margin = 0.5", r"line LINE: `margin`: the margin, .* is an odds ratio above 1"),
    "a margin of nothing told": ('groups = ["voice"]\n', "", r"line LINE: `margin` is for pairs of levels; name the groups"),
    "no outcome": ('outcome = "stays"\n', "", r"line LINE: a \[\[fit\]\] names its outcome"),
    "no terms": ('terms = ["age", "voice"]\ngroups', "groups", r"terms are a list"),
    "terms as a text": ('terms = ["age", "voice"]\ngroups', 'terms = "age"\ngroups', r"line LINE: terms are a list"),
    "a term that is none": ('{ interaction = ["age", "voice"] }', '{ slop = "age", by = "voice" }', r"is no term"),
    "no blocks": (PLAN[PLAN.index("entry = [") : PLAN.index("[[fit]]")], "\n", r"lists its blocks"),
    "two of one name": ('name = "who stays"', 'name = "in blocks"', r"two fits are called `in blocks`"),
    "a level that is no number": ("[[fit]]", '[[fit]]\nlevel = "high"', r"line LINE: `level` is a number"),
    "groups as a text": ('groups = ["voice"]', 'groups = "voice"', r"line LINE: `groups` is a list"),
    "a step that does not exist": ('do = "mark"', 'do = "marc"', r"marc"),
    "a comparison with a fit that is not there": ('"who stays, in short", "who', '"who stay, in short", "who', r"line LINE: there is no fit `who stay, in short` in the plan\. Did you mean"),
    "an elimination that is no list": ("[[backward_elimination]]", "[backward_elimination]", r"write \[\[backward_elimination\]\] above each"),
    "no TOML": ("[screen]", "[screen", r"is not TOML"),
    "a file that is not there": ("choirs.csv", "choir.csv", r"There is no file"),
    "nothing to do": (PLAN[PLAN.index("[screen]") :], "", r"asks for nothing more"),
}  # fmt: skip


@pytest.mark.parametrize("case", MISTAKES)
def test_a_mistake_in_a_plan_is_one_line_with_its_place_before_anything_is_written(case, tmp_path):
    old, new, message = MISTAKES[case]
    line = PLAN[: PLAN.index(old)].count("\n") + 1
    told = {"no outcome": line - 4, "a level that is no number": line + 1}.get(case, line)
    message = message.replace("LINE", str(told))
    (tmp_path / "my.plan.toml").write_text(PLAN.replace(old, new, 1), encoding="utf-8")
    done = run("run", "my.plan.toml", "--into", "out", cwd=tmp_path)
    assert done.returncode == 2, done.stdout
    complaint = [line for line in done.stderr.splitlines() if line.startswith("markbase: ")]
    assert len(complaint) == 1
    assert re.search(message, complaint[0]), complaint[0]
    assert not (tmp_path / "out").exists()


@pytest.mark.parametrize("outcome", ["belonging", "stays"])
def test_a_drafted_plan_runs_as_it_stands_with_its_guesses_marked(outcome, tmp_path):
    done = run("start", str(DATA), "--codebook", str(BOOK), "--outcome", outcome, "--into", "draft.toml", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    text = (tmp_path / "draft.toml").read_text(encoding="utf-8")
    assert "GUESS" in text
    assert "singer_id (identifier)" in text
    assert "events (the exact total of rehearsals and concerts)" in text
    assert f'outcome = "{outcome}"' in text
    assert '# targets = {tenor = ["tennor"]}' in text
    assert "figures = true" in text  # they are drawn from plans elsewhere
    (tmp_path / "draft.toml").write_text(text.replace("figures = true", "figures = false"), encoding="utf-8")
    ran = run("run", "draft.toml", "--into", "out", cwd=tmp_path)
    assert ran.returncode == 0, ran.stderr
    assert run("start", str(DATA), "--codebook", str(BOOK), "--outcome", outcome, "--into", "draft.toml", cwd=tmp_path).returncode == 2
    taken = re.sub(r"^# (cluster|weights|weights_are) = ", r"\1 = ", text, flags=re.MULTILINE)
    (tmp_path / "taken.toml").write_text(taken, encoding="utf-8")
    told = run("fit", "taken.toml", "all together", "--short", cwd=tmp_path).stdout
    assert "errors clustered by choir" in told
    assert "sampling weights from weight" in told
    none = run("start", str(DATA), "--codebook", str(BOOK), "--outcome", "choir", cwd=tmp_path)
    assert "an outcome is numeric, or has two" in none.stderr


def test_published_schemas_hold_what_is_read_and_written_and_nothing_that_is_refused(results):
    published = Path(mb.__file__).resolve().parents[2] / "docs" / "schemas"
    schemas = {name: schema() for name, schema in SCHEMAS.items()}
    for name, schema in schemas.items():
        jsonschema.Draft202012Validator.check_schema(schema)
        assert json.loads((published / f"{name}.schema.json").read_text(encoding="utf-8")) == schema
    jsonschema.validate(tomllib.loads(BOOK.read_text(encoding="utf-8")), schemas["codebook"])
    for text in (PLAN, mb.demo.path("choirs.plan.toml").read_text(encoding="utf-8")):
        jsonschema.validate(tomllib.loads(text), schemas["plan"])
    record = json.loads((results / "out" / "results.json").read_text(encoding="utf-8"))
    jsonschema.validate(record, schemas["results"])
    wrong = [
        ("plan", {"fit": [{"outcome": "belonging", "terms": ["age"], "levle": 0.9}]}),
        ("plan", {"fit": [{"outcome": "belonging", "terms": []}]}),
        ("plan", {"fit": [{"outcome": "belonging", "terms": ["age"], "errors": "HC9"}]}),
        ("plan", {"prepare": [{"do": "merge"}]}),
        ("plan", {"data": {"codebook": "x.toml"}}),
        ("codebook", {"columns": {"age": {"kind": "amount"}}}),
        ("codebook", {"columns": {"age": {"lable": "Age"}}}),
        ("codebook", {"columns": {"age": {"made": {"log": "a", "sqrt": "b"}}}}),
        ("results", record | {"format_version": 2}),
        ("results", record | {"fits": {"x": {"kind": "linear"}}}),
    ]
    for name, value in wrong:
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(value, schemas[name])
    for _, plan in wrong[:5]:  # and the reader refuses the same
        text = tomlkit.dumps({"data": {"file": str(DATA)}} | plan)
        (results / "wrong.plan.toml").write_text(text, encoding="utf-8")
        with pytest.raises(mb.MarkbaseError):
            mb.read_plan(results / "wrong.plan.toml").open()


def test_a_plan_tells_groups_of_an_interaction_together_or_says_what_no_row_has(tmp_path):
    frame = pd.DataFrame(made_up(300, seed=4))
    for name, rows in (("whole", frame), ("lacking", frame[~(frame["voice"].eq("bass") & frame["day"].eq("Tue"))])):
        rows.to_csv(tmp_path / f"{name}.csv", index=False)
        plan = f'[data]\nfile = "{name}.csv"\n[[fit]]\nname = "f"\noutcome = "score"\ngroups = ["voice", "day"]\n'
        terms = 'terms = ["age", "voice", "day", {interaction = ["voice", "day"]}]\n[output]\nfigures = false\n'
        (tmp_path / f"{name}.toml").write_text(plan + terms, encoding="utf-8")
        done = run("run", f"{name}.toml", "--into", name, "--quiet", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        told = json.loads((tmp_path / name / "results.json").read_text(encoding="utf-8"))["fits"]["f"]["groups"]
        fit = mb.fit_linear(mb.Study(rows), "score", ["age", "voice", "day", mb.interaction("voice", "day")])
        means, pairs = fit.cell_means("voice", "day")
        assert [row["adjusted"] for row in told["voice:day"]["means"]] == pytest.approx(means["adjusted"].tolist())
        written = pd.read_csv(tmp_path / name / "tables" / "f-voice-and-day-pairs.csv")
        np.testing.assert_allclose(written["difference"], pairs["difference"], rtol=1e-9)
        assert "voice and day together" in (tmp_path / name / "report.html").read_text(encoding="utf-8")
        assert ("not_averaged" in told["voice"]) == (name == "lacking")
