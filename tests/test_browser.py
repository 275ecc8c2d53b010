"""A report in a browser: without script, by keyboard, at three widths, printed, and for those who do not see it."""

import shutil

import pandas as pd
import pytest

import markbase as mb
from reference import made_up

playwright = pytest.importorskip("playwright.sync_api", reason="needs playwright, which the extra `dev` installs")
axe = pytest.importorskip("axe_playwright_python.sync_playwright", reason="needs axe, which the extra `dev` installs")
CHROMIUM = next(filter(None, map(shutil.which, ("chromium", "chromium-browser", "google-chrome"))), None)
pytestmark = [
    pytest.mark.skipif(CHROMIUM is None, reason="needs a Chromium on this machine"),
    pytest.mark.filterwarnings("ignore::markbase.MarkbaseWarning"),
    pytest.mark.filterwarnings("ignore::DeprecationWarning"),
    pytest.mark.xdist_group("browser"),
]


@pytest.fixture(scope="module")
def fit():
    study = mb.Study(pd.DataFrame(made_up(240, seed=4)), name="choir").mark("voice", "alto").mark("day", "Mon")
    return mb.fit_linear(study, "score", ["voice", "day", "age"])


@pytest.fixture(scope="module")
def address(fit, tmp_path_factory):
    path = tmp_path_factory.mktemp("report") / "page.html"
    mb.report(fit, path, title="Who scores")
    return path.as_uri()


@pytest.fixture(scope="module")
def everything(tmp_path_factory):
    study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    blocks = {"who": ["age", "voice"], "taking part": ["rehearsals"]}
    several = {
        "The data": study,
        "Screening": mb.screen(study, ["age", "travel_km", "travel_min", "voice"], "belonging"),
        "In blocks": mb.fit_blocks(study, "belonging", blocks),
        "Who stays": mb.fit_logistic(study, "stays", ["age", "voice"], event="yes"),
    }
    path = tmp_path_factory.mktemp("report") / "page.html"
    mb.report(several, path)
    return path.as_uri()


@pytest.fixture(scope="module")
def browser():
    with playwright.sync_playwright() as started:
        chromium = started.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        yield chromium
        chromium.close()


def coefficients(page):
    """Return the estimates that are in sight in the table of coefficients."""
    table = page.locator("table").filter(has_text="estimate").first
    rows = [row for row in table.locator("tbody tr").all() if row.is_visible()]
    cells = {row.locator("th").inner_text().strip(): row.locator("td").nth(1) for row in rows}
    return {name: cell.get_attribute("title") or cell.inner_text() for name, cell in cells.items()}


def shows(page, fit):
    """Say whether the coefficients in sight are those of a fit."""
    seen = coefficients(page)
    return all(seen[r.level or r.term] == ("0" if r.base else repr(r.estimate).replace("-", "−")) for r in fit.coefficients.itertuples())


@pytest.mark.parametrize("width", [1280, 390])
def test_a_base_is_chosen_with_a_click_or_a_key_and_every_part_follows(browser, address, fit, width):
    page = browser.new_page(viewport={"width": width, "height": 800})
    page.goto(address)
    assert page.evaluate("document.documentElement.scrollWidth <= document.documentElement.clientWidth")
    assert shows(page, fit)
    page.get_by_label("tenor", exact=True).check()
    assert shows(page, fit.rebase("voice", "tenor"))
    page.keyboard.press("ArrowLeft")
    assert shows(page, fit.rebase("voice", "soprano"))
    assert "compared with the base soprano" in page.inner_text("main")
    page.emulate_media(media="print")
    assert not page.locator("nav").is_visible()
    assert shows(page, fit.rebase("voice", "soprano"))
    page.close()


def test_a_fit_that_stands_twice_on_a_page_is_told_from_two_bases(browser, fit, tmp_path):
    path = tmp_path / "twice.html"
    path.write_text(f"<!doctype html><meta charset=utf-8>{fit._repr_html_()}{fit._repr_html_()}", encoding="utf-8")
    page = browser.new_page()
    page.goto(path.as_uri())
    first, second = page.locator(".mb-bases").all()
    first.get_by_label("tenor", exact=True).check()
    first.get_by_label("tenor", exact=True).press("Enter")  # which sends nothing and loads nothing
    assert (shows(first, fit.rebase("voice", "tenor")), shows(second, fit)) == (True, True)
    page.close()


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_nothing_keeps_out_those_who_do_not_see_or_do_not_click(browser, everything, scheme):
    page = browser.new_page(color_scheme=scheme)
    page.goto(everything)
    page.evaluate("document.querySelectorAll('details').forEach(part => { part.open = true })")
    found = axe.Axe().run(page)
    assert found.violations_count == 0, found.generate_report()
    page.close()
