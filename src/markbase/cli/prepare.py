"""`markbase prepare`: carry out preparing steps, verify them, and write the result."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import rich_click as click

from markbase.cli.help import examples
from markbase.cli.options import base_options, data_options, json_option, replace_option
from markbase.cli.output import one_output, put_table, remarks, show, show_json
from markbase.cli.source import Source
from markbase.cli.typed import split
from markbase.core.study.study import Study
from markbase.files.codebook import codebook_content
from markbase.files.data_writing import study_content
from markbase.files.text_files import STANDARD
from markbase.files.whole_files import Content, refuse_to_replace, write_all
from markbase.show.page import Page
from markbase.show.records import trail_record
from markbase.show.study import check_page, coding_page, trail_page


@click.command(
    "prepare",
    epilog=examples(
        'markbase prepare choirs.csv --codebook choirs.codebook.toml --prepare \'do = "merge_levels", column = "voice", targets = {tenor = ["tennor"]}\' --check voice --write-plan choirs.plan.toml',
    ),
)
@data_options
@base_options
@click.option(
    "--check", "checks", multiple=True, metavar="COLUMN", help="Show old × new counts of a column.", panel="Output"
)
@click.option(
    "--coding", "codings", multiple=True, metavar="GROUP", help="Show how a group becomes columns.", panel="Output"
)
@click.option(
    "--into",
    "data",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write the prepared data (.csv, .tsv, .xlsx, .ods, .parquet); - prints them as CSV.",
    panel="Output",
)
@click.option(
    "--codes", is_flag=True, help="With --into: groups by their codes instead of their labels.", panel="Output"
)
@click.option(
    "--write-plan",
    "plan",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write a plan that does all of it again.",
    panel="Output",
)
@click.option(
    "--write-codebook",
    "book",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Write the codebook of the prepared data: .toml, .xml (DDI), .json (Data Package, CSVW) or .csv.",
    panel="Output",
)
@replace_option
@json_option
def command(
    checks: tuple[str, ...],
    codings: tuple[str, ...],
    data: Path | None,
    codes: bool,
    plan: Path | None,
    book: Path | None,
    replaces: bool,
    as_json: bool,
    **source: Any,
) -> None:
    """Carry out the preparing steps of FILE (a plan, or data with --prepare), and say what was done."""
    given = Source(**source)
    with remarks() as told:
        if codes and data is None:
            raise click.UsageError("--codes says how --into puts groups down; add --into FILE, or leave it out.")
        one_output(data, as_json)
        if plan and given.file == STANDARD:
            raise click.UsageError("A plan names its data file; name one instead of `-`.")
        wanted = [path for path in (data, plan, book) if path and path != STANDARD]
        for place, path in enumerate(wanted):
            if path.resolve() in [other.resolve() for other in wanted[:place]]:
                raise click.UsageError(f"`{path}` is named twice as a file to write; give each its own name.")
            refuse_to_replace(path, replaces)
        study = given.open()
        pages = _pages(study, checks, codings)
        contents: dict[Path, Content] = {}
        if data and data != STANDARD:
            contents[data] = study_content(study, data, codes=codes)
        if book:
            contents[book] = codebook_content(study, book)
        if plan:
            contents[plan] = _plan_text(given, study, plan).encode()
        write_all(contents)
        if data == STANDARD:
            put_table(study.frame(codes=codes), data, replaces)
            return
    if as_json:
        show_json(trail_record(study), told)
        return
    show(*pages)


def _pages(study: Study, checks: tuple[str, ...], codings: tuple[str, ...]) -> list[Page]:
    pages = [trail_page(study.trail)]
    pages += [check_page(study.check(name)) for name in split(checks, study.columns)]
    return pages + [coding_page(study.coding(name)) for name in split(codings, study.columns)]


def _plan_text(given: Source, study: Study, plan: Path) -> str:
    """Write the plan with its paths as seen from its own folder."""
    from markbase.files.joined_tables import seen_steps
    from markbase.files.plan_writing import plan_text  # which knows of fits

    before = given.plan()

    def seen(path: Path | None) -> str | None:
        return None if path is None else Path(os.path.relpath(path.resolve(), plan.resolve().parent)).as_posix()

    return plan_text(
        seen(before.file) or "",
        seen(before.codebook),
        seen_steps(study.trail.written(), plan.parent),
        before.missing,
        opened_with=before.opened_with,
        in_parts=study.in_parts,
        kinds=before.kinds,
    )
