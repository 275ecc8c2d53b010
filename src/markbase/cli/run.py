"""`markbase run`: carry out a plan and write its results."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.output import remarks
from markbase.cli.progress import report_progress
from markbase.cli.results_folder import ALWAYS, carry_out
from markbase.core.errors import MarkbaseError, count_noun, listed, quoted, remark
from markbase.files.plan import read_plan
from markbase.files.whole_files import refuse_to_replace, write_all

_SHOWN = 3


@click.command(
    "run",
    epilog=examples(
        "markbase start choirs.csv --codebook choirs.codebook.toml --outcome belonging --into my.plan.toml",
        "markbase run my.plan.toml --into results",
    ),
)
@click.argument("plan", type=click.Path(path_type=Path), metavar="PLAN")
@click.option("--into", required=True, type=click.Path(path_type=Path), metavar="FOLDER", help="Where the results go.")
@click.option("--replace", is_flag=True, help="Write over files that are there.")
@click.option(
    "--only-inside", "inside", is_flag=True, help="Refuse a plan that reads files outside its own folder.", panel="Data"
)
def command(plan: Path, into: Path, replace: bool, inside: bool) -> None:
    """Carry out PLAN (a TOML file) and write report, tables, figures and everything at full precision into a folder."""
    with remarks() as told:
        found = read_plan(plan)
        asked = found.analysis
        if not (asked.fits or asked.imputations or asked.scales or asked.samples or asked.screen is not None):
            raise MarkbaseError(
                f"`{plan}` prepares data and asks for nothing more: add a [[fit]], a [[blocks]], a [screen], a [[describe]] or a [[reliability]] (`markbase start` drafts them)."
            )
        home = plan.resolve().parent
        outside = [
            str(p) for p in (found.file, found.codebook) if p is not None and not p.resolve().is_relative_to(home)
        ]
        if outside and inside:
            raise MarkbaseError(
                f"`{plan}` reads {listed(quoted(outside))}, outside its own folder; leave --only-inside out if that is right."
            )
        for path in outside:
            report_progress(
                f"`{plan.name}` reads `{path}`, outside its own folder."
            )  # of the place, not of the results
        if into.exists() and not into.is_dir():
            raise MarkbaseError(f"`{into}` is a file; name a folder for the results.")
        for name in ALWAYS:  # before the work, not after it
            refuse_to_replace(into / name, replace)
        guesses = [str(k) for k, line in enumerate(found.text.splitlines(), 1) if "# GUESS" in line]
        if guesses:
            remark(
                f"`{plan.name}` still has {count_noun(len(guesses), 'guess', 'guesses')} that nobody settled (line {listed(guesses)}): what follows rests on "
                f"{'it' if len(guesses) == 1 else 'them'}. Settle each, and take its mark away."
            )
        results = carry_out(found, _progress)
    files = results.files(found, list(told), into)
    for name in files:
        refuse_to_replace(into / name, replace)
    write_all({into / name: content for name, content in files.items()})
    sys.stdout.write(f"{into / 'report.html'}\n")
    kinds = dict.fromkeys(name.partition("/")[0] for name in files)
    report_progress(f"{count_noun(len(files), 'file')} written into {into}: {', '.join(kinds)}.")
    if others := _of_other_runs(into, files):
        shown = ", ".join(others[:_SHOWN]) + (", …" if len(others) > _SHOWN else ".")
        report_progress(
            f"Beside them {count_noun(len(others), 'file')} that this run did not write: {shown} Take away what "
            "an earlier run left there and this plan no longer asks for."
        )


def _of_other_runs(into: Path, files: Mapping[str, object]) -> list[str]:
    """Return what stands where results stand and is not of this run."""
    there = [*into.glob("tables.*"), *into.glob("tables/*"), *into.glob("figures/*")]
    return sorted(name for path in there if (name := path.relative_to(into).as_posix()) not in files)


def _progress(text: str) -> None:
    """Tell a person who waits what is being done."""
    if sys.stderr.isatty():
        report_progress(f"… {text}")
