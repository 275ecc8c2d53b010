"""What comes from outside: files that are none, streams that fail, folders half there. A sentence, an exit code, and nothing half-written."""

import errno
import inspect
import itertools
import json
import os
import subprocess
import sys
from functools import partial
from pathlib import Path

import lxml.html
import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import markbase as mb
from command import BOOK, DATA, FIT, PLAN, run, run_process
from markbase.files import whole_files


def put(folder, **contents):
    """Write files, named by their keys with dots for double underscores."""
    for name, content in contents.items():
        (folder / name.replace("__", ".")).write_text(content, encoding="utf-8")


def one_sentence(done, told=""):
    complaints = [line for line in done.stderr.splitlines() if not line.startswith("remark: ")]
    assert (done.returncode, done.stdout) == (2, "")
    assert len(complaints) == 1
    assert complaints[0].startswith("markbase: ")
    assert told in complaints[0]


def test_pipes_and_devices_are_refused_and_not_waited_for(tmp_path):
    os.mkfifo(tmp_path / "pipe.csv")
    (tmp_path / "zero.csv").symlink_to("/dev/zero")
    for command in (
        ["look", "pipe.csv"],
        ["look", "zero.csv"],
        ["look", DATA, "--codebook", "pipe.csv"],
        ["run", "pipe.csv", "--into", "x"],
        ["predict", PLAN, "Who stays", "--profiles", "pipe.csv"],
    ):
        one_sentence(run(*command, cwd=tmp_path), "is a pipe or a device and no file")
    assert not (tmp_path / "x").exists()


HOSTILE = {
    "nested a thousand deep": ("look", "ab.csv", "--codebook", "deep.toml"),
    "a whole number of 5,000 digits": ("run", "digits.toml", "--into", "x"),
    "a list for a codebook": ("run", "listed.toml", "--into", "x"),
    "an encoding of bytes into bytes": ("look", "ab.csv", "--encoding", "hex"),
    "another": ("look", "ab.csv", "--encoding", "rot13"),
    "an encoding of names": ("look", "ab.csv", "--encoding", "punycode"),
    "an encoding with a zero byte": ("look", "ab.csv", "--encoding", "utf\0"),
    "a name with a zero byte": ("look", "a\0b.csv"),
    "a name that no file system takes": ("look", "x" * 300 + ".csv"),
    "6,000 columns": ("look", "wide.csv"),
    "a target with a zero byte": ("prepare", "ab.csv", "--into", "a\0b.csv"),
    "a step nested deep": ("prepare", "ab.csv", "--prepare", "do = " + "[" * 3000),
    "a step that is a number": ("prepare", "ab.csv", "--prepare", "3"),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_what_no_analyst_means_is_one_sentence(name, tmp_path):
    put(tmp_path, ab__csv="a,b\n1,2\n2,3\n3,4\n4,4\n", deep__toml="a = " + "[" * 1200 + "]" * 1200)
    put(tmp_path, digits__toml='[data]\nfile = "ab.csv"\nmissing = [' + "9" * 5000 + "]\n", listed__toml='[data]\nfile = "ab.csv"\ncodebook = ["x"]\n')  # fmt: skip
    put(tmp_path, wide__csv=",".join(f"c{k}" for k in range(6000)) + "\n" + ",".join(["1"] * 6000) + "\n")
    one_sentence(run(*HOSTILE[name], cwd=tmp_path))
    assert not (tmp_path / "x").exists()


STRANGE = {
    "far beyond squares": "a,b\n1e160,2\n3,4\n5e200,7\n8,9\n6,1\n",
    "hardly numbers": "a,b\n1e-320,2\n3e-319,4\n5e-310,7\n8e-320,9\n1e-320,1\n",
    "a cell of 140,000 characters": "a,b\n" + "x" * 140_000 + ",2\n3,4\n",
    "a head of 140,000 characters": "x" * 140_000 + ",b\n1,2\n3,4\n",
    "long runs of digits": "a,b\n" + "1" * 300 + "x,2\n" + "1" * 300 + "y,3\n",
    "every value declared missing": "a,b\n1,2\n2,3\n1,4\n",
    "a column called as the start is": '"(intercept)",b\n1,2\n2,3\n4,4\n3,1\n5,9\n',
}


@pytest.mark.parametrize("name", STRANGE)
def test_strange_values_are_looked_at_and_fitted_or_refused_in_a_sentence(name, tmp_path):
    put(tmp_path, d__csv=STRANGE[name], book__toml='[columns.b]\nmissing = [2, 3, 4, "7", 9]\n')
    first = STRANGE[name].split(",")[0].strip('"')
    for command in (["look"], ["look", "--codebook", "book.toml"], ["look", "--json"], ["fit", "--outcome", "b", "--terms", first, "--json"]):  # fmt: skip
        done = run(command[0], "d.csv", *command[1:], cwd=tmp_path)
        assert done.returncode in (0, 2), done.stderr
        if done.returncode == 2:
            one_sentence(done)
        elif "--json" in command:
            json.loads(done.stdout)


def test_a_full_disk_and_closed_streams_are_said_or_passed_over():
    command = [sys.executable, "-m", "markbase", "look", DATA, "--codebook", BOOK]
    with Path("/dev/full").open("w") as full:
        done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, text=True, check=False)
    assert (done.returncode, done.stderr) == (2, "markbase: the output cannot be written: no space left on device.\n")
    for closed in (">&- 2>&-", "| head -1"):
        typed = ["sh", "-c", f'"$@" {closed}', "sh", *command]
        done = subprocess.run(typed, capture_output=True, text=True, check=False)
        assert (done.returncode, done.stderr) == (0, "")


@pytest.mark.parametrize("fails", ["write", "rename"])
def test_a_folder_of_results_is_written_whole_or_not_at_all(fails, tmp_path, monkeypatch):
    for name in mb.demo.FILES[:2]:
        (tmp_path / name).write_bytes(mb.demo.path(name).read_bytes())
    asked = (
        '[data]\nfile = "choirs.csv"\ncodebook = "choirs.codebook.toml"\n[[fit]]\nname = "one"\n'
        'kind = "linear"\noutcome = "belonging"\nterms = ["age", "voice"]\n[output]\nfigures = false\n'
    )
    plan = "my.plan.toml"
    (tmp_path / plan).write_text(asked, encoding="utf-8")
    assert run("run", plan, "--into", "out", cwd=tmp_path).returncode == 0
    before = {p: p.read_bytes() for p in (tmp_path / "out").rglob("*") if p.is_file()}
    mine = tmp_path / "out" / "report.html"
    mine.write_bytes(b"mine")
    before[mine] = b"mine"
    calls = []

    def failing(*arguments):
        calls.append(arguments)
        if len(calls) == 8:
            raise OSError(errno.ENOSPC, "No space left on device")
        return real(*arguments)

    real = whole_files._beside if fails == "write" else whole_files._set_aside
    monkeypatch.setattr(whole_files, real.__name__, failing)
    for into, files in (("out", before), ("new", {})):
        calls.clear()
        done = run("run", plan, "--into", into, "--replace", cwd=tmp_path)
        one_sentence(done, "no space left on device, and nothing else was written")
        assert {p: p.read_bytes() for p in (tmp_path / into).rglob("*") if p.is_file()} == files
    assert not (tmp_path / "new").exists()


def test_what_a_command_writes_into_several_files_is_written_into_all_or_none(tmp_path):
    (tmp_path / "full").write_bytes(b"")
    prepare = ["prepare", DATA, "--codebook", BOOK, "--into", "a.csv", "--write-plan", "a.plan.toml"]
    for book, said in (("full/b.toml", "nothing else was written"), ("./a.csv", "is named twice")):
        one_sentence(run(*prepare, "--write-codebook", book, cwd=tmp_path), said)
        assert [p.name for p in tmp_path.iterdir()] == ["full"]
    assert run(*prepare, "--write-codebook", "b.toml", cwd=tmp_path).returncode == 0
    assert len(list(tmp_path.iterdir())) == 4


def test_an_input_is_never_written_over_whatever_was_agreed_to(tmp_path):
    for source, name in ((DATA, "mine.csv"), (BOOK, "mine.codebook.toml"), (PLAN, "mine.plan.toml")):
        (tmp_path / name).write_bytes(Path(source).read_bytes())
    before = {p.name: p.read_bytes() for p in tmp_path.iterdir()}
    (tmp_path / "link.csv").symlink_to("mine.csv")
    book = ["--codebook", "mine.codebook.toml"]
    for command in (
        ["prepare", "mine.csv", *book, "--into", "mine.csv"],
        ["prepare", "mine.csv", *book, "--into", "link.csv"],
        ["prepare", "mine.csv", *book, "--write-codebook", "mine.codebook.toml"],
        ["look", "mine.csv", *book, "--write-codebook", "mine.codebook.toml"],
        ["start", "mine.csv", *book, "--outcome", "belonging", "--into", "mine.csv"],
        ["predict", "mine.csv", *book, *"--outcome belonging --terms age --for all --into mine.csv".split()],
    ):
        done = run(*command, "--replace", cwd=tmp_path)
        assert done.returncode == 2, command
        assert "an input is never written over" in done.stderr
    assert {p.name: p.read_bytes() for p in tmp_path.iterdir() if not p.is_symlink()} == before


def test_figures_do_not_follow_the_settings_of_the_user(tmp_path):
    (tmp_path / "matplotlibrc").write_text("axes.facecolor: black\nfont.size: 30\nlines.linewidth: 9\nsavefig.dpi: 20\nsvg.fonttype: none\n")  # fmt: skip
    drawn = []
    for place, run_it in (("here", run_process), ("elsewhere", run)):
        typed = ["slopes", PLAN, "age", *FIT[4:6], "--terms", "voice", "--polynomial", "age=2", "--figures", place]
        done = run_it(*typed, cwd=tmp_path)  # another process reads the settings; this one was loaded without them
        assert done.returncode == 0, done.stderr
        drawn.append({p.name: p.read_bytes() for p in (tmp_path / place).iterdir()})
    assert drawn[0] == drawn[1]


def every_figure(group, numeric, other, outcome, event, levels, sides, entered):
    """Draw every figure of a made-up study with these names; return them with its fits."""
    rng = np.random.default_rng(2)
    data = {group: rng.choice(levels, 300), event: rng.choice(sides, 300)}
    study = mb.Study(pd.DataFrame({**data, **{name: rng.normal(size=300) for name in (numeric, outcome, other)}}))
    fit = mb.fit_linear(study, outcome, [group, numeric, mb.interaction(group, numeric)])
    odds = mb.fit_logistic(study, event, [group, numeric], event=sides[1])
    blocks = mb.fit_blocks(study, outcome, dict(zip(entered, ([group], [numeric, other]), strict=True)))
    screened, both = mb.screen(study, [group, numeric, other], outcome), [mb.interaction(numeric, other)]
    return fit, odds, {
        "groups": mb.draw_groups(fit, group), "adjusted": mb.draw_adjusted(odds, group), "lines": mb.draw_lines(fit, numeric, group),
        "slopes": mb.draw_slopes(fit, numeric, group), "slope": mb.draw_slopes(mb.fit_linear(study, outcome, both), numeric, other),
        "coefficients": mb.draw_coefficients(odds), "estimates": mb.draw_coefficients(fit), "cuts": mb.draw_classification(odds),
        "calibration": mb.draw_calibration(odds), "blocks": mb.draw_blocks(blocks), "paths": mb.draw_paths(blocks),
        "correlations": mb.draw_correlations(screened), "vif": mb.draw_vif(screened), "pairs": mb.draw_pairs(study, screened),
        "checks": mb.draw_checks(fit),
    }  # fmt: skip


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_names_stand_in_figures_as_they_are():
    from matplotlib.figure import Figure

    from markbase.show.figures import drawn_as

    levels, sides = ["$0 to $10k", "_other", r"$\frac$"], ["$no$", "$yes$"]
    fit, odds, drawn = every_figure("_g $x$", "a$b$", "z$", "y$1$", "e", levels, sides, ["a$1$", "$b$"])
    given = Figure().subplots()
    given.set_xlabel("$x^2$")
    kept = given.text(0, 0, "$x^2$")
    mb.draw_classification(odds, given)
    assert kept.get_parse_math()
    base = fit.variable("_g $x$", "categorical").base_label
    other = "_other" if base != "_other" else levels[0]
    marked = [f"{level} (base)" if level == base else level for level in levels]
    wanted = {
        "groups": ["difference in y$1$, units"], "adjusted": ["_g $x$: adjusted as if all rows had the level"],
        "lines": ["a$b$", *(f" {m}" if m[0] == "_" else m for m in marked)], "slopes": ["units of y$1$ per unit"],
        "coefficients": ["_g $x$", *marked], "cuts": ["% of $no$ predicted $yes$"], "calibration": ["predicted % with e = $yes$"],
        "blocks": ["a$1$", "$b$"], "paths": ["a$1$", "$b$", f" _g $x$: {other} against {base}"],
        "correlations": ["y$1$", "z$", "_g $x$"], "vif": ["z$", "a$b$", "_g $x$"], "pairs": ["y$1$", "a$b$", "z$"],
        "checks": ["fitted y$1$, units"], "given": ["% of $no$ predicted $yes$"],
    }  # fmt: skip
    for name, texts in wanted.items():
        figure = (drawn | {"given": given})[name]
        root = lxml.html.fromstring(drawn_as(getattr(figure, "figure", figure), "svg"))
        assert set(texts) <= {"".join(text.itertext()) for text in root.iter("text")}, name


@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_long_names_are_folded_in_figures_and_nothing_is_cut_or_hidden():
    names = [
        f"{question}, thinking of the last twelve months and of every choir you were a member of, however long?"
        for question in "How often do you sing/How old were you/How far is it/How well did you feel/Will you stay".split("/")
    ]
    levels = [f"{k}: less often than every other week, but more often than once in each of the months" for k in "abcd"]
    sides = ["no, as far as I can see", "yes, as far as I can see"]
    for drawn in every_figure(*names, levels, sides, [names[0], f"{names[2]} again"])[2].values():
        figure = getattr(drawn, "figure", drawn)
        figure.canvas.draw()
        inside, (width, height) = figure.get_tightbbox(), figure.get_size_inches()
        assert inside.x0 > -0.02, drawn
        assert inside.y0 > -0.02, drawn
        assert inside.x1 < width + 0.02, drawn
        assert inside.y1 < height + 0.02, drawn
        for ax in figure.axes:
            assert ax.bbox.width > 0.2 * figure.bbox.width / len(figure.axes) ** 0.5
            names = [t.get_window_extent() for t in ax.get_yticklabels() if t.get_text().strip(".−0123456789")]
            assert all(a.y0 > b.y1 or b.y0 > a.y1 for a, b in itertools.combinations(names, 2)), (drawn, ax.get_title(loc="left"))
            legend = ax.get_legend()
            told = [text.get_text() for text in legend.get_texts()] if legend else []
            assert len(set(told)) == len(told)
            if legend is not None and ax.get_xlabel():
                assert not legend.get_window_extent().overlaps(ax.xaxis.label.get_window_extent())


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(raw=st.one_of(st.binary(max_size=200), st.text(max_size=200).map(lambda t: t.encode("utf-8", "surrogatepass"))), kind=st.sampled_from(["csv", "toml", "json", "xml", "xlsx", "parquet", "ods"]))  # fmt: skip
def test_any_bytes_are_read_or_refused_in_a_sentence(raw, kind, tmp_path):
    path = tmp_path / f"any.{kind}"
    path.write_bytes(raw)
    readers = {"toml": [mb.read_codebook, mb.read_plan], "json": [mb.read_fit, mb.read_codebook], "xml": [mb.read_codebook]}.get(kind, [mb.open_study])  # fmt: skip
    for reader in readers:
        try:
            reader(path)
        except mb.MarkbaseError as problem:
            assert "\n" not in str(problem)  # noqa: PT017


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_a_plan_with_anything_in_it_is_read_or_refused_in_a_sentence(data, tmp_path):
    import tomlkit

    document = tomlkit.parse(Path(PLAN).read_text(encoding="utf-8")).unwrap()
    paths = []

    def walk(value, path):
        paths.append(path)
        for key, inner in value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ():
            walk(inner, (*path, key))

    walk(document, ())
    path = data.draw(st.sampled_from([p for p in paths if p]))
    wrong = data.draw(st.sampled_from([0, -1, 1.5, True, "", "x", "a\nb", [], ["x"], [[1]], {}, {"x": 1}, 10**30, float("nan"), float("inf"), "\u202e", "=1+1"]))  # fmt: skip
    place = document
    for key in path[:-1]:
        place = place[key]
    place[path[-1]] = wrong
    (tmp_path / "any.plan.toml").write_text(tomlkit.dumps(document), encoding="utf-8")
    for name in mb.demo.FILES[:2]:
        (tmp_path / name).write_bytes(mb.demo.path(name).read_bytes())
    try:
        mb.read_plan(tmp_path / "any.plan.toml")
    except mb.MarkbaseError as problem:
        assert "\n" not in str(problem)  # noqa: PT017


def test_frames_of_things_that_are_no_values_are_refused_by_column():
    good = pd.DataFrame({"y": np.arange(6.0)})
    for strange in ([[1], [2]] * 3, [{"a": 1}] * 6, [{1}, {2}] * 3, [np.zeros(2)] * 6, [object()] * 6, [10**40] * 6):
        try:
            study = mb.Study(good.assign(x=pd.Series(strange, dtype=object)))
            str(study)
        except mb.MarkbaseError as problem:
            assert "`x`" in str(problem)  # noqa: PT017


WRONG = [
    None, 0, -1, 1.5, float("nan"), float("inf"), True, "", "x", "age", "voice", b"x", [], ["x"], ["age", "age"], [1], [None], {}, {"x": 1},
    {"age": "x"}, {"voice": {"alto": 1}}, (), set(), object(), np.array([1.0, 2.0]), pd.DataFrame({"q": [1]}), pd.Series([1]), 10**30,
]  # fmt: skip
SLOW = set("bootstrap classification cases calibration checks residual_views profile guide reading".split())
INNER = set("corrected_p repeated identified on_rows expected slope_at moves_with not_averaged variable events_by_level".split())


def _objects():
    study = mb.demo.plan().open().keep({"age": {"below": 40}})
    fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
    odds = mb.fit_logistic(study, "stays", ["age", "voice"], event="yes")
    screen = mb.screen(study, ["age", "voice", "rehearsals"], "belonging")
    good = {
        "study": study, "fit": fit, "outcome": "belonging", "terms": ["age", "voice"], "predictors": ["age", "voice"], "focus": "age", "test": study,
        "column": "age", "group": "voice", "numeric": "age", "by": "voice", "first": "voice", "second": "voice", "base": "alto", "profiles": {"age": 30},
        "name": "n1", "share": 0.2, "seed": 1, "levels": ["alto"], "level": "alto", "codes": [45], "scheme": "effect", "order": "age",
        "role": "weight", "edges": [30], "conditions": {"age": {"above": 30}}, "comparisons": ["alto"], "term": "age", "columns": ["voice"],
        "steps": [{"do": "mark", "column": "voice", "base": "alto"}],
    }  # fmt: skip
    return study, {"LinearFit": fit, "LogisticFit": odds, "Study": study, "Screen": screen}, good


@pytest.mark.filterwarnings("ignore")
def test_every_public_function_takes_every_wrong_value_with_a_sentence(tmp_path, monkeypatch):
    """From the signatures, so that a function that is added is covered by itself."""
    _, objects, good = _objects()
    monkeypatch.chdir(tmp_path)
    mb.write_fit(objects["LinearFit"], "fit.json")
    files = {"open_study": DATA, "read_codebook": BOOK, "read_plan": PLAN, "read_fit": "fit.json", "report": "a.html"}
    files |= {"write_plan": "a.toml", "write_data": "a.csv", "write_codebook": "b.toml", "write_fit": "a.json"}
    files["write_document"] = "a.md"
    good |= {"fits": {"x": objects["LinearFit"]}, "data": DATA, "results": objects["Screen"], "blocks": {"a": ["age"]}}
    public = "fit_linear fit_logistic fit_blocks backward_elimination compare describe reliability screen screen_fit score polynomial interaction codebook_text"
    functions = [(n, getattr(mb, n)) for n in public.split()]
    for name in files:
        function = getattr(mb, name)
        wishes = {"replace": True, "figures": False}  # a figure takes long, and its wrong values are refused as well
        taken = {k: v for k, v in wishes.items() if k in inspect.signature(function).parameters}
        functions.append((name, partial(function, **taken)))
    for label, thing in objects.items():
        names = [n for n, m in inspect.getmembers(type(thing), inspect.isfunction) if not n.startswith("_")]
        functions += [(f"{label}.{n}", getattr(thing, n)) for n in names if n not in SLOW | INNER]
    calls, wrong = 0, []
    for label, function in functions:
        parameters = inspect.signature(function).parameters.values()
        for tried in parameters:
            needed = {q.name: good.get(q.name) for q in parameters if q.default is q.empty and q.kind in (q.POSITIONAL_OR_KEYWORD, q.KEYWORD_ONLY)}  # fmt: skip
            if "path" in needed:
                needed["path"] = files[label]
            if (
                tried.kind is tried.VAR_KEYWORD
                or (label, tried.name) == ("open_study", "cluster")  # waits for an answer
                or any(v is None for k, v in needed.items() if k != tried.name)
            ):
                continue
            for value in WRONG:
                positional = [value] if tried.kind is tried.VAR_POSITIONAL else []
                named = needed if positional else needed | {tried.name: value}
                calls += 1
                try:
                    function(*positional, **named)
                except mb.MarkbaseError as problem:
                    if len(str(problem)) > 500 or "\n" in str(problem):
                        wrong.append((label, tried.name, "too long"))
                except Exception as problem:
                    wrong.append((label, tried.name, repr(value)[:40], repr(problem)[:80]))
    assert not wrong, wrong[:10]
    assert calls > 3000
