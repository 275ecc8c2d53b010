"""The package as a whole: public names, cheap import, examples and README that run."""

import inspect
import re
import runpy
import shlex
import shutil
import subprocess
import sys
import warnings
from pathlib import Path

import pytest

import markbase as mb
from command import run

ROOT = Path(__file__).resolve().parent.parent


def test_public_names_are_one_sorted_list_of_what_is_there():
    assert sorted(mb.__all__) == mb.__all__
    assert set(mb._HOMES) | {"demo", "__version__"} == set(mb.__all__)
    for file in ("pyproject.toml", "CITATION.cff"):
        told = re.search(r"^version\W+([\d.]+)", (ROOT / file).read_text(encoding="utf-8"), flags=re.M)
        assert told.group(1) == mb.__version__
    for name in mb.__all__:
        assert getattr(mb, name) is not None
    with pytest.raises(AttributeError, match="no attribute 'fit_liner'"):
        mb.fit_liner  # noqa: B018


def test_import_is_cheap_and_statistics_are_our_own():
    def loaded(code):
        code = f"import sys; {code}; print(' '.join(sys.modules))"
        return set(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split())

    assert not {"numpy", "pandas", "scipy", "rich", "click", "jinja2", "matplotlib"} & loaded("import markbase")
    fitted = "import markbase as mb; str(mb.fit_linear(mb.demo.choirs(), 'belonging', ['age', 'voice']))"
    assert not {"scipy.optimize", "scipy.stats", "matplotlib", "click"} & loaded(fitted)
    for command, spared in (("look", {"scipy"}), ("prepare", {"scipy"}), ("fit", {"jinja2", "matplotlib", "scipy.optimize"})):
        assert not spared & loaded(f"import markbase.cli.{command}"), command


@pytest.mark.parametrize("script", sorted((ROOT / "examples").glob("*.py")), ids=lambda path: path.name)
@pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning")
def test_every_example_runs_and_says_something(script, tmp_path, capsys, monkeypatch):
    monkeypatch.chdir(tmp_path)
    runpy.run_path(str(script), run_name="__main__")
    assert len(capsys.readouterr().out.splitlines()) > 5


@pytest.mark.parametrize("script", sorted((ROOT / "benchmarks").glob("*.py")), ids=lambda path: path.stem)
def test_every_benchmark_finds_what_it_uses(script, monkeypatch):
    monkeypatch.setattr(sys, "path", [*sys.path])
    runpy.run_path(str(script), run_name="looked at")


def blocks(page, language):
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), flags=re.S)


@pytest.mark.filterwarnings("ignore::markbase.core.errors.MarkbaseWarning")
@pytest.mark.parametrize("page", [
    "README.md", "docs/index.md", *(f"docs/questions/{page}.md" for page in "base controls vif no_difference comparisons rows paper".split()),
    *(f"docs/{page}.md" for page in "preparing screening fitting logistic interactions predicting reading blocks".split()),
    *(f"docs/{page}.md" for page in "plan large_data codebook command_line study".split()),
])  # fmt: skip
def test_every_block_of_the_docs_runs_as_it_stands(page, demo_run, tmp_path, capsys, monkeypatch):
    monkeypatch.chdir(tmp_path)  # what a block writes stays out of the tree
    space = {}
    for code in blocks(page, "python"):
        exec(compile(code, page, "exec"), space)  # our own text
    assert len(capsys.readouterr().out.splitlines()) > 20 or page == "docs/command_line.md"
    lines = [line for block in blocks(page, "console") for line in block.replace("\\\n", " ").splitlines()]
    typed = [line for line in lines if line.startswith("$ markbase ")]
    assert len(typed) >= 2
    for line in typed:
        if line == "$ markbase demo":  # it takes long, and has a test of its own
            shutil.copytree(demo_run.folder, tmp_path / "choirs-demo", dirs_exist_ok=True)
            continue
        if line.startswith("$ markbase run choirs-demo/") and page != "README.md":  # the same line, which takes long
            assert line in (ROOT / "README.md").read_text(encoding="utf-8").splitlines()
            continue
        if line.startswith("$ markbase run "):  # its figures are drawn from plans elsewhere
            plan = tmp_path / shlex.split(line)[3]
            text = plan.read_text(encoding="utf-8")
            plan.write_text(text.replace("figures = true", "figures = false"), encoding="utf-8")
        done = run(*shlex.split(line[2:])[1:], cwd=tmp_path)
        assert done.returncode in ((2,) if "rehearsals,concerts,events" in line else (0,)), done.stderr
    for number, text in enumerate(t for t in blocks(page, "toml") if "[data]" in t and "[[fit]]" in t):
        plan = tmp_path / "choirs-demo" / f"{number}.plan.toml"
        plan.write_text(text.replace("figures = true", "figures = false"), encoding="utf-8")  # which others draw
        done = run("run", plan, "--into", f"from-{number}", cwd=tmp_path)
        assert done.returncode == 0, done.stderr


def test_the_reference_describes_every_public_name():
    pages = "\n".join(p.read_text(encoding="utf-8") for p in (ROOT / "docs" / "reference").glob("*.md"))
    named = set(re.findall(r"^::: [\w.]+\.(\w+)$", pages, flags=re.M))
    named |= {name for names in re.findall(r"members: \[([^\]]*)\]", pages) for name in names.split(", ")}
    assert set(mb._HOMES) <= named


def test_screenshots_are_linked():
    shots = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    assert 0 < len(shots) < 20
    assert all(f"docs/screenshots/{shot.name}" in text for shot in shots)


def test_a_notebook_shows_each_result_once_as_a_page_and_short_in_a_list(tmp_path, monkeypatch):
    nbclient, nbformat = pytest.importorskip("nbclient"), pytest.importorskip("nbformat")
    pytest.importorskip("ipykernel")
    monkeypatch.setenv("IPYTHONDIR", str(tmp_path / "ipython"))
    cells = [
        "import warnings; warnings.simplefilter('ignore')\nimport markbase as mb\ns = mb.demo.plan().open(); f = mb.fit_linear(s, 'belonging', ['age', 'voice'])",
        "len(str(f))",
        "f",
        "print(f)",
        "[f]",
        "mb.draw_groups(f, 'voice')",
        "mb.draw_checks(f)",
        "_ = open('t.txt', 'w', encoding='utf-8').write(str(f))",
    ]
    book = nbformat.v4.new_notebook(cells=[nbformat.v4.new_code_cell(c) for c in cells])
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of the kernel's own making
        nbclient.NotebookClient(book, timeout=120, kernel_name="python3", resources={"metadata": {"path": str(tmp_path)}}).execute()
    outputs = [cell.outputs for cell in book.cells]
    text = (tmp_path / "t.txt").read_text(encoding="utf-8")
    assert [len(o) for o in outputs] == [0, 1, 1, 1, 1, 1, 1, 0]
    assert outputs[1][0]["data"]["text/plain"] == str(len(text))
    assert "<table" in outputs[2][0]["data"]["text/html"]
    assert outputs[2][0]["data"]["text/plain"].rstrip() == outputs[3][0]["text"].rstrip() == text.rstrip()
    assert outputs[4][0]["data"]["text/plain"] == "[<LinearFit: belonging on 2 terms, 1,917 rows>]"
    assert all("image/png" in o[0]["data"] for o in outputs[5:7])


def test_the_worked_study_is_a_notebook_of_its_page():
    nbformat, script = pytest.importorskip("nbformat"), runpy.run_path(str(ROOT / "docs" / "make_notebook.py"))
    raw = (ROOT / "examples" / "study.ipynb").read_text(encoding="utf-8")
    assert raw == script["notebook"]()  # whose code runs with the other pages
    nbformat.validate(nbformat.reads(raw, as_version=4))


def test_every_public_function_has_an_example_that_runs():
    functions = [getattr(mb, name) for name in mb.__all__ if inspect.isfunction(getattr(mb, name))]
    assert len(functions) > 30
    assert not [f.__name__ for f in functions if ">>>" not in (f.__doc__ or "")]
