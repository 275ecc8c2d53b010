"""`markbase demo`: the made-up choir survey, copied and worked through."""

from __future__ import annotations

import os
import shlex
import sys
import warnings
from pathlib import Path

import rich_click as click

from markbase import demo
from markbase.cli.output import remarks, show
from markbase.cli.results_folder import carry_out
from markbase.core.errors import FileError, MarkbaseWarning, listed, quoted
from markbase.core.results.fit_linear import fit_linear
from markbase.core.results.fit_logistic import fit_logistic
from markbase.files.data import open_study
from markbase.files.plan import read_plan
from markbase.files.whole_files import refuse_to_replace, write_all
from markbase.show.fit import fit_page
from markbase.show.group_tables import groups_section, pairs_section
from markbase.show.guide import guide_page
from markbase.show.page import Page
from markbase.show.study import as_option, check_page, column_page, study_page, trail_page

_TERMS = "age,voice,joined_through,rehearsal_day,years_in_choir,rehearsals,travel_km"


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=True), default=Path("choirs-demo"))
@click.option("--replace", is_flag=True, help="Write over files in the folder that differ.")
def command(folder: Path, replace: bool) -> None:
    """Copy the demo data into FOLDER (choirs-demo) and run the example on it."""
    copy_files(folder, replace)
    data, book, plan = (folder / name for name in demo.FILES[:3])
    source = f"{_quoted(data)} --codebook {_quoted(book)}"
    fit = f"fit {_quoted(plan)} --outcome belonging --terms {_TERMS}"
    raw = open_study(data, book)

    _say(
        f"The survey, its codebook and a plan are in {_quoted(folder)}. All made up: no such valley, choir or singer exists."
    )
    _step("1. Look at what is there, before anything is fitted.", f"look {source}")
    show(study_page(raw, as_option))
    _step("2. Look at one group: who is in it, and who would be the base?", f"look {source} joined_through")
    show(column_page(raw, "joined_through", as_option))
    _step("3. Prepare, as the plan says, and verify it by counts.", f"prepare {_quoted(plan)} --check joined_through")
    with remarks():
        study = read_plan(plan).open()
    show(trail_page(study.trail))
    _say("")
    show(check_page(study.check("joined_through")))
    _step("4. Fit, every group against a base you chose.", fit)
    show(fit_page(fit_linear(study, "belonging", _TERMS.split(","))))
    small = f"{_quoted(plan)} voice --outcome belonging --terms age,voice,rehearsals"
    _step("5. Read one group: every level, every pair, a line for each.", f"groups {small}")
    read = fit_linear(study, "belonging", ["age", "voice", "rehearsals"])
    show(Page("belonging, by voice", sections=(groups_section(read, "voice"), pairs_section(read, "voice"))))
    stays = f"fit {_quoted(plan)} --kind logistic --outcome stays --event yes --terms age,voice,rehearsals,travel_km"
    _step("6. A yes/no outcome: who stays? First the questions to put to it.", f"{stays} --guide")
    show(guide_page(fit_logistic(study, "stays", ["age", "voice", "rehearsals", "travel_km"], event="yes").guide()))
    into = folder / "results"
    _step(
        "7. The whole plan: screening, blocks, fits, and a report of them.",
        f"run {_quoted(plan)} --into {_quoted(into)}",
    )
    written = _carried_out(plan, into, replace)
    _say(
        f"{written} files are in {_quoted(into)}: open report.html in a browser; tables, figures and everything at full precision stand beside it."
    )
    seasons, later = folder / demo.FILES[5], folder / "results-by-season"
    _step(
        "8. The second table, a row a choir and season: concerts of the season before, within each choir.",
        f"run {_quoted(seasons)} --into {_quoted(later)}",
    )
    with remarks():
        looked_back = read_plan(seasons).open()
        lagged = fit_linear(
            looked_back, "attendance", ["concerts", "concerts_before"], fixed_effects="choir", cluster="choir"
        )
    show(trail_page(looked_back.trail))
    _say("")
    _say(str(lagged.reading()))
    _say("")
    _say(f"{_carried_out(seasons, later, replace)} files are in {_quoted(later)}.")
    _say("")
    _say("Type next:")
    _say(f"  {_program()} {stays}")
    _say("      the whole of it: odds ratios, percentage points, sentences")
    _say(f"  {_program()} {fit} --base voice=tenor")
    _say("      the same fit against another base: R² and the residual standard deviation stay as they are")
    _say(f"  {_program()} fit {_quoted(plan)} --outcome belonging --terms rehearsals,concerts,events")
    _say("      a total beside its parts: the fit stops and says why")
    _say(f"  {_program()} prepare {_quoted(plan)} --coding voice")
    _say("      how a group becomes columns, with the counts that verify it")
    _say(f"  {_program()} {fit} --json")
    _say("      the same at full precision, for machines")


def _carried_out(path: Path, into: Path, replace: bool) -> int:
    """Carry out a plan and write its results; return how many files they are."""
    with warnings.catch_warnings(
        record=True
    ) as caught:  # what there is to remark is said on the way, and in the report
        warnings.simplefilter("always")
        whole = read_plan(path)
        results = carry_out(whole, lambda _: None)
    told = dict.fromkeys(str(w.message) for w in caught if issubclass(w.category, MarkbaseWarning))
    files = results.files(whole, list(told), into)
    for name, content in files.items():
        if (into / name).exists() and (into / name).read_bytes() != content:
            refuse_to_replace(into / name, replace)
    write_all({into / name: content for name, content in files.items()})
    return len(files)


def copy_files(folder: Path, replace: bool) -> None:
    """Copy the files of the demo into a folder; if one there differs, none is written unless `replace` is set."""
    if folder.exists() and not folder.is_dir():
        raise FileError(f"`{folder}` is a file; name a folder for the demo.")
    contents = {name: demo.path(name).read_bytes() for name in demo.FILES}
    differ = [n for n, c in contents.items() if (folder / n).exists() and (folder / n).read_bytes() != c]
    if differ and not replace:
        raise FileError(
            f"`{folder}` already holds {listed(quoted(differ))} with other contents; nothing was written. "
            f"Name another folder, or add --replace."
        )
    write_all({folder / n: c for n, c in contents.items() if n in differ or not (folder / n).exists()})


def _step(title: str, arguments: str) -> None:
    _say("")
    _say("─" * 100)
    _say(title)
    _say(f"$ {_program()} {arguments}")
    _say("")


def _say(text: str) -> None:
    sys.stdout.write(text + "\n")


def _program() -> str:
    """Return what to type for this program: its path, if that is how it was called."""
    return _quoted(sys.argv[0]) if os.sep in sys.argv[0] and not Path(sys.argv[0]).is_absolute() else "markbase"


def _quoted(path: Path | str) -> str:
    return shlex.quote(str(path))
