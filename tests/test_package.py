"""The package as a whole: public names, cheap import, examples and README that run."""

import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

import markbase as mb
from command import run

ROOT = Path(__file__).resolve().parent.parent


def test_public_names_are_one_sorted_list_of_what_is_there():
    assert sorted(mb.__all__) == mb.__all__
    assert set(mb._HOMES) | {"demo", "__version__"} == set(mb.__all__)
    for name in mb.__all__:
        assert getattr(mb, name) is not None
    with pytest.raises(AttributeError, match="no attribute 'fit_liner'"):
        mb.fit_liner  # noqa: B018


def test_import_is_cheap_and_statistics_are_our_own():
    code = "import sys, markbase; print(' '.join(sys.modules))"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    assert not {"numpy", "pandas", "scipy", "rich", "click", "jinja2", "matplotlib"} & set(loaded)
    code = "import sys, markbase as mb; f = mb.fit_linear(mb.demo.choirs(), 'belonging', ['age', 'voice']); str(f); print(' '.join(sys.modules))"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    assert not {"scipy.stats", "matplotlib", "click"} & set(loaded)


@pytest.mark.parametrize("script", sorted((ROOT / "examples").glob("*.py")), ids=lambda path: path.name)
def test_every_example_runs_and_says_something(script, tmp_path):
    done = subprocess.run([sys.executable, script], capture_output=True, text=True, cwd=tmp_path, check=False)
    assert done.returncode == 0, done.stderr
    assert len(done.stdout.splitlines()) > 5


def blocks(page, language):
    return re.findall(rf"```{language}\n(.*?)```", (ROOT / page).read_text(encoding="utf-8"), flags=re.S)


@pytest.mark.filterwarnings("ignore::markbase.core.errors.MarkbaseWarning")
@pytest.mark.parametrize(
    "page",
    [
        "README.md",
        "docs/preparing.md",
        "docs/screening.md",
        "docs/fitting.md",
        "docs/logistic.md",
        "docs/interactions.md",
        "docs/predicting.md",
        "docs/reading.md",
        "docs/blocks.md",
        "docs/plan.md",
        "docs/codebook.md",
    ],
)
def test_every_block_of_the_docs_runs_as_it_stands(page, tmp_path, capsys, monkeypatch):
    monkeypatch.chdir(tmp_path)  # what a block writes stays out of the tree
    space = {}
    for code in blocks(page, "python"):
        exec(compile(code, page, "exec"), space)  # our own text
    assert len(capsys.readouterr().out.splitlines()) > 30
    lines = [line for block in blocks(page, "console") for line in block.replace("\\\n", " ").splitlines()]
    typed = [line for line in lines if line.startswith("$ markbase ")]
    assert len(typed) >= 2
    for line in typed:
        done = run(*shlex.split(line[2:])[1:], cwd=tmp_path)
        assert done.returncode in ((2,) if "rehearsals,concerts,events" in line else (0,)), done.stderr
    for number, text in enumerate(t for t in blocks(page, "toml") if "[data]" in t and "[[fit]]" in t):
        plan = tmp_path / "choirs-demo" / f"{number}.plan.toml"
        plan.write_text(text, encoding="utf-8")
        done = run("run", plan, "--into", f"from-{number}", cwd=tmp_path)
        assert done.returncode == 0, done.stderr


def test_screenshots_are_linked():
    shots = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    text = (ROOT / "README.md").read_text(encoding="utf-8")
    assert 0 < len(shots) < 20
    assert all(f"docs/screenshots/{shot.name}" in text for shot in shots)
