"""Every page and every figure is what was read when it was last written down."""

import re
import shutil

import pytest

import markbase.files.data
import markbase.files.plan
from shown_cases import COMMANDS, DRAWN, FIGURES, MARKED, PAGES, SHOWN, demo_folder, drawn, marked, printed


def written(book, start="== "):
    return [part.rstrip("\n").splitlines() for part in re.split(f"^(?={start})", book.read_text("utf-8"), flags=re.M)[1:]]


WRITTEN = written(SHOWN, r"\$ markbase ")


@pytest.fixture(scope="module")
def folder():
    home = demo_folder()
    yield home
    shutil.rmtree(home)


@pytest.mark.parametrize("place", range(len(COMMANDS)), ids=COMMANDS)
def test_a_command_prints_what_was_read(place, folder):
    assert printed(COMMANDS[place], folder).splitlines() == WRITTEN[place]


MODELS = [k for k, line in enumerate(COMMANDS) if line.split()[0] not in ("look", "prepare", "indicators", "screen", "start")]


@pytest.mark.parametrize("place", MODELS[::4], ids=[COMMANDS[k] for k in MODELS[::4]])
def test_of_a_large_file_only_the_columns_that_are_mentioned_are_read(place, folder, monkeypatch):
    read = []

    def opened(*arguments, **settings):
        study = real(*arguments, **settings)
        read.append(len(study.columns))
        return study

    real = markbase.files.plan.open_study
    monkeypatch.setattr(markbase.files.plan, "open_study", opened)
    monkeypatch.setattr(markbase.files.data, "_LARGE", 0)
    lines = printed(COMMANDS[place], folder).splitlines()
    told = [line for line in lines if "Of large data those columns alone are read that are named" in line]
    assert [line for line in lines if line not in told] == WRITTEN[place]
    assert len(read) == 1
    assert [f", here {read[0]} of " in line for line in told] == [True] * (not COMMANDS[place].startswith("reliability"))
    assert read[0] < (5 if "choir_terms" in COMMANDS[place] else 13)


def test_all_columns_are_read_where_a_name_is_mistaken(folder, monkeypatch):
    monkeypatch.setattr(markbase.files.data, "_LARGE", 0)
    said = printed("fit choirs.csv --codebook choirs.codebook.toml --outcome belonging --terms age,years_sung", folder)
    assert "Did you mean `years_singing`" in said
    all_but = "--terms 'all but events,singer_id' --short"
    said = printed(f"fit choirs.csv --codebook choirs.codebook.toml --outcome belonging {all_but}", folder)
    assert "linear regression on 14 terms" in said


@pytest.mark.parametrize("name", FIGURES)
def test_a_figure_shows_what_was_seen(name):
    assert drawn(name).splitlines() == written(DRAWN)[[*FIGURES].index(name)]


@pytest.mark.parametrize("name", PAGES)
def test_a_page_of_html_is_what_was_read(name):
    assert marked(name).splitlines() == written(MARKED)[[*PAGES].index(name)]


def test_nothing_else_was_written_down():
    assert [len(written(DRAWN)), len(written(MARKED)), len(WRITTEN)] == [len(FIGURES), len(PAGES), len(COMMANDS)]
