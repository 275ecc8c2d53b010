"""The command as its users meet it: a process with streams and an exit code."""

import json
import re
import shlex
import shutil
import subprocess
import sys

import numpy as np
import pandas as pd
import pytest
from click.shell_completion import BashComplete

import markbase as mb
from command import BOOK, CHOIRS, DATA, FIT, PLAN, STAYS, run
from markbase.cli.main import markbase


def test_json_holds_the_same_numbers_as_python_at_full_precision():
    done = run(*FIT, "--base", "voice=alto", "--json", "--level", "0.9")
    told = json.loads(done.stdout)
    fit = mb.fit_linear(mb.demo.choirs().mark("voice", "alto"), "belonging", ["age", "voice", "joined_through"], level=0.9)
    for shown, row in zip(told["coefficients"], fit.coefficients.to_dict("records"), strict=True):
        assert shown["estimate"] == row["estimate"]
        assert shown["low"] == row["low"]
        assert (shown["p"] is None) == row["base"]
    assert told["strength"]["r2"] == fit.strength.r2
    assert [b["chosen"] for b in told["bases"]] == [True, False]
    assert told["remarks"] == []


def test_fit_takes_interactions_clusters_and_weights():
    done = run("fit", DATA, "--codebook", BOOK, "--outcome", "belonging", "--terms", "age,voice,stays", "--base", "voice=alto",
               "--interaction", "age,voice", "--interaction", "voice,stays", "--cluster", "choir", "--weights", "weight", "--json")  # fmt: skip
    told = json.loads(done.stdout)
    assert [t["term"] for t in told["terms"]] == ["age", "voice", "stays", "age × voice", "voice × stays"]
    assert told["errors"] == {"kind": "clustered", "cluster": "choir", "clusters": 24}
    assert told["weights"] == {"kind": "sampling", "column": "weight"}
    assert run("fit", DATA, "--outcome", "belonging", "--terms", "age", "--interaction", "age").returncode == 2


def stays_fit():
    study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    return mb.fit_logistic(study, "stays", ["age", "voice", "rehearsals"], event="yes")


def test_json_of_a_logistic_fit_and_its_checks_holds_the_numbers_of_python():
    told = json.loads(run("groups", DATA, "voice", *CHOIRS[1:], *STAYS, "--json").stdout)
    fit = stays_fit()
    assert [r["odds_ratio"] for r in told["coefficients"]] == fit.coefficients["odds_ratio"].tolist()
    assert told["event"] == "yes"
    checked = run("check", *CHOIRS, *STAYS, "--cut", "0.6", "--folds", "5", "--json").stdout
    checked, sorted_rows = json.loads(checked)["classification"], fit.classification(0.6, folds=5)
    assert checked["correct"] == sorted_rows.correct != told["classification"]["correct"]
    assert (checked["held_out"]["area"], checked["held_out"]["folds"]) == (sorted_rows.held_out.area, 5)
    assert [r["p_corrected"] for r in told["groups"]["voice"]["pairs"]] == fit.between("voice")["p_corrected"].tolist()


def test_two_groups_together_are_told_cell_by_cell_and_their_pairs_only_where_they_differ():
    cells = ["groups", DATA, "voice:rehearsal_day", *CHOIRS[1:], *STAYS[:-1], "voice,rehearsal_day,age"]
    done = run(*cells, "--interaction", "voice,rehearsal_day")
    assert "test of the interaction p" in " ".join(done.stdout.split()), done.stderr
    means = json.loads(run(*cells, "--json").stdout)["groups"]["voice:rehearsal_day"]
    assert {r["within"] for r in means["pairs"]} == {"every level"}
    plain = run(*cells).stdout
    assert "the difference between two levels is the same at every level of the other" in " ".join(plain.split())
    assert f"{100 * means['means'][0]['adjusted']:.1f}" in plain
    refused = run(*cells, "--at", "age=30")
    assert (refused.returncode, "voice:rehearsal_day are two groups" in " ".join(refused.stderr.split())) == (2, True)


@pytest.mark.parametrize("more", [[], ["--in-parts"]], ids=["memory", "parts"])
def test_rows_of_another_file_are_prepared_as_the_data_were(more, tmp_path):
    """Whatever levels the file has: those that the data merged are merged, and no others."""
    data = pd.read_csv(DATA)
    few = data[(data["voice"] != "tennor") & data["joined_through"].isin(["friend", "family", "festival"])].head(90)
    none = few[few["joined_through"] != "festival"]
    steps = [
        'do = "merge_levels", column = "voice", targets = {tenor = ["tennor"]}',
        'do = "merge_levels", column = "joined_through", below = 60',
        'do = "merge_levels", column = "choir", below = 70, into = "small", name = "home"',
        'do = "derive", name = "age_z", z = "age"',
        'do = "keep_levels", column = "voice", levels = ["soprano", "alto", "tenor"]',
    ]
    asked = ["predict", DATA, "--codebook", BOOK, *(a for step in steps for a in ("--prepare", step))]
    asked += ["--outcome", "belonging", "--terms", "age_z,voice,joined_through,home", *more]
    assert run(*asked, "--for", "all", "--into", "all.csv", cwd=tmp_path).returncode == 0
    whole = pd.read_csv(tmp_path / "all.csv").set_index("singer_id")["predicted"]
    big = data["choir"].value_counts().index[0]
    for name, rows in {"few": few, "none": none, "one home": data[data["choir"] == big].head(40)}.items():
        rows.to_csv(tmp_path / "new.csv", index=False)
        done = run(*asked, "--for", "new.csv", "--into", "new-told.csv", "--replace", cwd=tmp_path)
        assert done.returncode == 0, (name, done.stderr)
        told = pd.read_csv(tmp_path / "new-told.csv").set_index("singer_id")["predicted"]
        assert len(told) == len(rows)
        assert told[rows.set_index("singer_id").query("voice == 'bass'").index].isna().all()
        pd.testing.assert_series_equal(told, whole[told.index], rtol=1e-12)


def test_predict_takes_named_values_and_files_and_writes_tables(tmp_path):
    (tmp_path / "people.csv").write_text("voice,age,rehearsals\nalto,30,10\ntenor,55,12\n")
    made = run("predict", *CHOIRS, *STAYS, "--profiles", "people.csv", "--into", "out.csv", "--json", cwd=tmp_path)
    wanted = stays_fit().predict([{"voice": "alto", "age": 30, "rehearsals": 10}, {"voice": "tenor", "age": 55, "rehearsals": 12}])
    told = json.loads(made.stdout)["predictions"]
    assert [r["probability"] for r in told] == pytest.approx(wanted["probability"].tolist(), rel=1e-14)
    written = (tmp_path / "out.csv").read_text().splitlines()
    assert float(written[1].split(",")[3]) == told[0]["probability"]
    (tmp_path / "gap.csv").write_text("voice,age,rehearsals\nalto,30,9\n,40,9\n")
    page = run("predict", *CHOIRS, *STAYS, "--profiles", "gap.csv", "--width", 100, cwd=tmp_path).stdout
    assert re.search(r"\n  age 40, rehearsals 9 +– +–\n", page)  # a gap is no average over the sample
    assert "where a profile leaves" not in page
    again = run("predict", *CHOIRS, *STAYS, "--profiles", "people.csv", "--into", "out.csv", cwd=tmp_path)
    assert (again.returncode, (tmp_path / "out.csv").read_text().splitlines()) == (2, written)
    rows = run("predict", *CHOIRS, *STAYS, "--for", "all").stdout
    first = pd.read_csv(DATA).iloc[0]["singer_id"]
    assert re.search(rf"singer_id +probability of yes +95% CI\n +{first} ", rows)
    assert re.search(r"60 of 2,003 rows.*43 rows: age is missing", rows, re.DOTALL)
    assert "as in the sample" not in rows
    assert "the rows of choirs.csv, by the fit to those of choirs.csv" in rows
    plain = run("predict", *CHOIRS, *STAYS, "--profile", "voice=tenor, age=120")
    assert "`age` = 120 lies outside the rows used" in plain.stderr
    assert "rehearsals: as in the sample" in plain.stdout


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_every_command_with_a_table_for_a_manuscript_writes_the_one_python_writes(tmp_path):
    of = [PLAN, "--outcome", "belonging"]
    study = mb.demo.plan().open()
    fit = mb.fit_linear(study, "belonging", ["age", "voice"])
    terms = ["--terms", "age,voice"]
    wanted = {
        ("fit", *of, *terms): fit,
        ("groups", *of[:1], "voice", *of[1:], *terms): (fit, "voice"),
        ("screen", *of, *terms): mb.screen(study, ["age", "voice"], "belonging"),
        ("blocks", *of, "--block", "a: age", "--block", "b: voice"): mb.fit_blocks(study, "belonging", {"a": ["age"], "b": ["voice"]}),
        ("compare", *of, "--variant", "a: voice", "--variant", "b: age, voice"): mb.compare(mb.fit_linear(study, "belonging", ["voice"]), fit, names=["a", "b"]),
        ("dominance", *of, *terms): mb.dominance(fit),
        ("describe", *of[:1], "age,voice", "--by", "stays"): mb.describe(study, ["age", "voice"], by="stays"),
        ("reliability", *of[:1], "rehearsals,concerts,events"): mb.reliability(study, ["rehearsals", "concerts", "events"]),
    }  # fmt: skip
    for number, (command, result) in enumerate(wanted.items()):
        done = run(*command, "--manuscript", f"{number}.md", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        mb.write_document(result, tmp_path / "python.md", replace=True)
        assert (tmp_path / f"{number}.md").read_bytes() == (tmp_path / "python.md").read_bytes()
    refused = run("fit", *of, *terms, "--manuscript", "a.odt", cwd=tmp_path)
    assert (refused.returncode, (tmp_path / "a.odt").exists()) == (2, False)
    assert "does not end in .docx, .xlsx, .md, .html or .tex" in refused.stderr.replace("`", "")


def test_figures_of_a_fit_are_written_whole_and_over_others_only_when_asked(tmp_path):
    done = run("fit", *CHOIRS, *STAYS, "--figures", "drawn", cwd=tmp_path)
    assert done.returncode == 0
    drawn = {p.name: p.read_bytes() for p in (tmp_path / "drawn").iterdir()}
    assert {"voice-differences.svg", "age-by-voice.png", "classification.png", "calibration.svg"} <= set(drawn)
    assert run("fit", *CHOIRS, *STAYS, "--figures", "drawn", cwd=tmp_path).returncode == 2
    other = ["fit", *CHOIRS, "--outcome", "belonging", "--terms", "age", "--figures", "drawn"]
    assert run(*other, cwd=tmp_path).returncode == 2
    assert {p.name: p.read_bytes() for p in (tmp_path / "drawn").iterdir()} == drawn
    assert run(*other, "--replace", cwd=tmp_path).returncode == 0
    after = {p.name: p.read_bytes() for p in (tmp_path / "drawn").iterdir()}
    assert {name for name in after if after[name] != drawn.get(name)} == {f"{name}.{kind}" for name in ("coefficients", "checks") for kind in ("png", "svg")}  # fmt: skip


def test_a_slope_that_differs_is_not_told_as_one_without_a_word():
    crossed = [*FIT[2:], "--interaction", "age,voice", "--interaction", "age,joined_through"]
    told = {"age": "differs by voice and joined_through:", "age:voice": "joined_through as well: here"}
    for asked, words in told.items():
        assert words in " ".join(run("slopes", DATA, asked, *crossed).stdout.split())


def test_demo_runs_again_but_writes_over_nothing(demo_run, tmp_path, monkeypatch):
    assert demo_run.returncode == 0
    remarks = demo_run.stderr.splitlines()
    assert remarks[0] == "remark: `joined_through`: `other way` is a mixture of `workplace` and `festival`."
    assert remarks[1].startswith("remark: `choir` has only 24 clusters")
    assert len(remarks) == 2
    typed = [line.strip() for line in demo_run.stdout.splitlines() if line.strip().startswith("markbase ")]
    assert len(typed) == 5
    shutil.copytree(demo_run.folder, tmp_path / "choirs-demo")
    mine = tmp_path / "choirs-demo" / "choirs.csv"
    mine.write_text("my own work")
    again = run("demo", cwd=tmp_path)
    assert again.returncode == 2
    assert "`choirs.csv` with other contents; nothing was written" in again.stderr
    assert mine.read_text() == "my own work"
    written = iter(re.findall(r"(\d+) files are in", demo_run.stdout))  # results are written over as by `run`, which has its own tests
    monkeypatch.setattr("markbase.cli.demo._carried_out", lambda *_: next(written))
    assert run("demo", "--replace", cwd=tmp_path).stdout == demo_run.stdout
    assert mine.read_bytes() == mb.demo.path("choirs.csv").read_bytes()


def test_remarks_of_preparing_are_told_where_they_matter():
    plan = str(mb.demo.path("choirs.plan.toml"))
    told = run("fit", plan, "--outcome", "belonging", "--terms", "age,joined_through")
    assert "`other way` is a mixture" in told.stderr
    assert "mixture" not in run("fit", plan, "--outcome", "belonging", "--terms", "age,voice").stderr
    assert "mixture" in run("blocks", plan, "--outcome", "belonging", "--block", "a: age", "--block", "b: joined_through").stderr
    assert "mixture" not in run("screen", plan, "--terms", "age,travel_km").stderr
    assert "mixture" in run("screen", plan, "--terms", "age,joined_through").stderr
    step = 'do = "mark", column = "voice", base = "altos"'
    broken = run("fit", plan, "--prepare", step, "--outcome", "belonging", "--terms", "age")
    assert broken.returncode == 2
    assert "mixture" in broken.stderr


def test_remarks_go_to_stderr_and_results_to_stdout():
    done = run(*FIT[:-1], "singer_id,age,voice", "--base", "voice=tennor", "--base", "stays=yes")
    assert done.returncode == 0
    assert len(done.stderr.splitlines()) == 3
    for told in ("`singer_id` is an identifier", "`tennor` of `voice` has only 6 rows", "`stays`, which is not among"):
        assert told in done.stderr
    assert "identifier" not in done.stdout


def test_help_names_every_command_and_a_defect_of_ours_is_exit_1(monkeypatch, capsys):
    from markbase.cli import look
    from markbase.cli.main import main

    assert all(name in run("--help").stdout for name in ("demo", "fit", "look", "predict"))
    monkeypatch.setattr(look, "study_page", lambda *_, **__: 1 / 0)
    with pytest.raises(SystemExit) as left:
        main(["look", DATA])
    assert left.value.code == 1
    assert "a defect of ours (ZeroDivisionError" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("typed", "begun", "offered"),
    [
        (["fit", DATA, "--terms"], "age,vo", ["age,voice"]),
        (["fit", DATA, "--outcome"], "BEL", ["belonging"]),
        (["fit", PLAN, "--base"], "vo", ["voice="]),
        (["fit", PLAN, "--base"], "voice=t", ["voice=tenor", "voice=tennor"]),
        (["groups", PLAN], "Voice", ["Voice parts compared", "voice"]),
        (["look", DATA], "join", ["joined_through"]),
        (["fit", PLAN, "--kind"], "log", ["logistic"]),
        (["fit", "no such file.csv", "--terms"], "a", []),
        ([], "sc", ["screen"]),
    ],
)
def test_a_shell_offers_commands_choices_columns_levels_and_fits(typed, begun, offered, monkeypatch):
    monkeypatch.setenv("_MARKBASE_COMPLETE", "bash_complete")
    shell = BashComplete(markbase, {}, "markbase", "_MARKBASE_COMPLETE")
    assert [item.value for item in shell.get_completions(typed, begun)] == offered


@pytest.mark.parametrize(
    "typed",
    [
        ("fit", "--terms", '"{G}",{N}, {K}', "--base", '"{G}"=p, q'),
        ("fit", "--terms", '"{K}",{G}'),
        ("fit", "--terms", "{G},{N},{K}", "--base-by", '"{G}"=smallest'),
        ("fit", "--terms", "{G}", "--interaction", '"{N}","{K}"', "--polynomial", '"{N}"=2'),
        ("fit", "--interaction", "{N},{K}", "--as", '"{G}"=categorical'),
        ("fit", "--terms", 'interaction("{N}", "{G}")'),
        ("fit", "--terms", "all but {G}"),
        ("fit", "--terms", "{G}", "--label", '"{G}": "p, q"=sometimes, r=never'),
        ("groups", '"{G}"', "--terms", "{G}", "--interaction", "{N},{G}", "--at", '"{N}"=1,2'),
        ("groups", '"{G}":"{K}"', "--terms", "{G},{K}"),
        ("groups", "{G}", "--terms", "{G}", "--contrast", 'both: r=0.5,"s=t"=0.5,"p, q"=-1'),
        ("slopes", '"{N}":"{G}"', "--interaction", "{N},{G}"),
        ("slopes", "{N}", "--terms", "{G}", "--polynomial", '"{N}"=2'),
        ("predict", "--terms", "{G},{N}", "--profile", '"{G}"="p, q", "{N}"=4'),
        ("blocks", "--block", 'who: {G}, "{N}"', "--block", '"b: c": {K}'),
        ("eliminate", "--terms", "{G},{N},{K}", "--keep", "{G}"),
        ("check", "--terms", "{G},{N}"),
        ("dominance", "--block", 'who: {G}, "{N}"', "--block", '"b: c": {K}'),
    ],
    ids=lambda typed: " ".join(typed[:3]),
)
def test_a_name_with_commas_colons_or_equal_signs_is_typed_between_quotes_or_where_it_is_clear_as_it_stands(typed, tmp_path):
    rng = np.random.default_rng(6)
    frame = pd.DataFrame({"N": rng.normal(4, 1, 90).round(2), "G": rng.choice(["p, q", "r", "s=t"], 90)})
    frame["K"], frame["y"] = rng.choice(["in", "out"], 90), rng.normal(size=90).round(2) + frame["N"]
    told = []
    for names in ({"G": "Gg", "N": "Nn", "K": "Kk"}, {"G": "Q1: how, often", "N": "(a), = b", "K": "Q2: wh(ere"}):
        frame.rename(columns=names).to_csv(tmp_path / "data.csv", index=False)
        command, *rest = (part.format(**names) for part in typed)
        done = run(command, tmp_path / "data.csv", "--outcome", "y", *rest, "--json")
        assert done.returncode == 0, done.stderr
        text = done.stdout
        for name in names:
            text = text.replace(names[name], f"<{name}>")
        told.append(json.loads(text))
    assert told[0] == told[1]


def test_what_is_between_commas_is_meant_where_it_is_a_column_too(tmp_path):
    rng = np.random.default_rng(7)
    frame = pd.DataFrame(rng.normal(size=(50, 4)), columns=["y", "a", "b", "a,b"])
    frame.to_csv(tmp_path / "data.csv", index=False)
    for typed, wanted in (("a,b", ["a,b"]), ("b,a,b", None), ('"a,b",b', ["a,b", "b"]), ("a, b", ["a", "b"])):
        done = run("fit", tmp_path / "data.csv", "--outcome", "y", "--terms", typed, "--json")
        if wanted is None:
            assert "`b` is given twice" in done.stderr
        else:
            assert [row["term"] for row in json.loads(done.stdout)["coefficients"][1:]] == wanted


def test_a_dash_reads_standard_input_and_writes_standard_output(tmp_path):
    raw = mb.demo.path("choirs.csv").read_bytes()
    book = ["--codebook", BOOK]
    command = [sys.executable, "-m", "markbase", "prepare", "-", *book, "--into", "-"]
    written = subprocess.run(command, input=raw, capture_output=True, check=False)
    assert written.returncode == 0, written.stderr
    mb.write_data(mb.demo.choirs(), tmp_path / "same.csv")
    assert written.stdout == (tmp_path / "same.csv").read_bytes()
    model = ["--outcome", "belonging", "--terms", "age,voice", "--json"]
    fitted = run("fit", "-", *book, *model, stdin=written.stdout)
    own = mb.fit_linear(mb.demo.choirs(), "belonging", ["age", "voice"])
    assert [r["estimate"] for r in json.loads(fitted.stdout)["coefficients"]] == own.coefficients["estimate"].tolist()
    predicted = run("predict", PLAN, "Voice parts compared", "--profile", "voice=tenor", "--into", "-")
    assert predicted.stdout.splitlines()[0].startswith("voice,")
    assert len(predicted.stdout.splitlines()) == 2
    for content, arguments, told in (
        (b"", ["look", "-"], "Standard input is empty"),
        (raw, ["prepare", "-", "--write-plan", tmp_path / "p.toml"], "A plan names its data file"),
        (raw, ["start", "-", "--outcome", "belonging"], "A plan names its data file"),
        (raw, ["prepare", "-", *book, "--into", "-", "--json"], "are both printed"),
        (raw, ["indicators", "-", *book, "voice", "--into", "-", "--json"], "are both printed"),
    ):
        done = run(*arguments, stdin=content)
        assert done.returncode == 2
        assert told in done.stderr


def test_output_is_short_quiet_and_as_wide_as_it_is_wished():
    terms = [DATA, "--codebook", BOOK, "--outcome", "belonging", "--terms", "choir,age", "--missing", "-9"]
    whole, short = run("fit", *terms), run("fit", *terms, "--short", "--width", "90")
    assert "In words" in whole.stdout
    assert "In words" not in short.stdout
    assert "equation" not in short.stdout
    assert max(map(len, short.stdout.splitlines())) <= 90
    assert 90 < max(map(len, run("fit", *terms, "--width", "120").stdout.splitlines())) <= 120
    fit = mb.fit_linear(mb.demo.choirs(), "belonging", ["choir", "age"])
    levels = fit.coefficients.query("term == 'choir'").sort_values("estimate")
    kept = {*levels["level"].iloc[:3], *levels["level"].iloc[-3:], *levels.query("base")["level"]}
    assert {name for name in levels["level"] if f"    {name} " in short.stdout} == kept
    assert f"… {len(levels) - len(kept)} more between" in short.stdout
    assert fit.summary() == str(fit)
    assert "In words" not in fit.summary(short=True)
    remarked = ["look", DATA, "--codebook", BOOK, "--prepare", 'do = "merge_levels", column = "joined_through", targets = {"other" = ["workplace", "festival"]}']  # fmt: skip
    assert "remark: " in run(*remarked).stderr
    assert run(*remarked, "--quiet").stderr == ""
    assert run("look", DATA, "--width", "7").returncode == 2


def test_what_look_proposes_can_be_pasted_as_its_lines_are_folded(tmp_path):
    answers = ["strongly disagree", "neither of the two", "strongly agree", "k.A."]
    frame = pd.DataFrame({f"question number {k}": np.roll(np.repeat(answers, [30, 40, 50, 4]), k) for k in range(3)})
    frame["place of the rehearsals"] = ["the old town hall", "the church of the hill"] * 60 + ["the old town  hall"] * 4
    frame.to_csv(tmp_path / "answers.csv", index=False)
    page = run("look", "answers.csv", "--width", 58, cwd=tmp_path).stdout
    pasted = " ".join(block.split("\n  ques")[0].split("\n  place")[0] for block in page.split("→ ")[2:])
    assert "\n" in pasted
    assert pasted.count("--prepare") == 10
    done = run("look", "answers.csv", *shlex.split(pasted), cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "second look" not in done.stdout
