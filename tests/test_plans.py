"""Plans that carry a whole analysis: the same numbers as Python, a report, mistakes with their lines."""

import json
import re
import tomllib
from pathlib import Path

import jsonschema
import lxml.html
import numpy as np
import pandas as pd
import pytest
import tomlkit

import markbase as mb
from command import run
from markbase.files.schemas import SCHEMAS
from planned import BOOK, DATA, PLAN
from reference import made_up
from seen import seen


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
    "an outcome without a name": ('outcome = "stays"\n', 'outcome = ""\n', r"line LINE: a \[\[fit\]\] names its outcome"),
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
    told = {"no outcome": line - 4, "an outcome without a name": line - 4, "a level that is no number": line + 1}.get(case, line)
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
