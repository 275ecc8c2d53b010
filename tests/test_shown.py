"""Every page and every figure is what was read when it was last written down."""

import re
import shutil

import pytest

from shown_cases import COMMANDS, DRAWN, FIGURES, MARKED, PAGES, SHOWN, demo_folder, drawn, marked, printed


def written(book, start="== "):
    return [
        part.rstrip("\n").splitlines() for part in re.split(f"^(?={start})", book.read_text("utf-8"), flags=re.M)[1:]
    ]


WRITTEN = written(SHOWN, r"\$ markbase ")


@pytest.fixture(scope="module")
def folder():
    home = demo_folder()
    yield home
    shutil.rmtree(home)


@pytest.mark.parametrize("place", range(len(COMMANDS)), ids=COMMANDS)
def test_a_command_prints_what_was_read(place, folder):
    assert printed(COMMANDS[place], folder).splitlines() == WRITTEN[place]


@pytest.mark.parametrize("name", FIGURES)
def test_a_figure_shows_what_was_seen(name):
    assert drawn(name).splitlines() == written(DRAWN)[[*FIGURES].index(name)]


@pytest.mark.parametrize("name", PAGES)
def test_a_page_of_html_is_what_was_read(name):
    assert marked(name).splitlines() == written(MARKED)[[*PAGES].index(name)]


def test_nothing_else_was_written_down():
    assert [len(written(DRAWN)), len(written(MARKED)), len(WRITTEN)] == [len(FIGURES), len(PAGES), len(COMMANDS)]
