"""What a command prints: pages, tables, plain data for machines, and the remarks made meanwhile."""

from __future__ import annotations

import os
import re
import shutil
import sys
import warnings
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pandas as pd
import rich_click as click

from markbase.cli.progress import report_progress
from markbase.cli.wishes import wishes
from markbase.core.errors import MarkbaseError, MarkbaseWarning, remark
from markbase.core.study.study import Study
from markbase.core.version import FORMAT_VERSION
from markbase.files.data_writing import table_bytes, write_table
from markbase.files.text_files import STANDARD
from markbase.show.page import Page
from markbase.show.records import to_json
from markbase.show.shortened import shortened
from markbase.show.text import to_text


@contextmanager
def remarks() -> Iterator[list[str]]:
    """Collect the remarks made meanwhile and tell them on stderr, each once, also when an error follows."""
    told: list[str] = []
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("default")
        warnings.simplefilter("always", MarkbaseWarning)
        try:
            yield told
        finally:
            told += dict.fromkeys(str(w.message) for w in caught if issubclass(w.category, MarkbaseWarning))
            for text in told if not wishes().quiet else ():
                report_progress(f"remark: {text}")


@contextmanager
def held_back() -> Iterator[list[str]]:
    """Hold the remarks made meanwhile back, for `retell`; where an error follows, they are made before it."""
    held: list[str] = []
    try:
        with warnings.catch_warnings(record=True) as caught:
            warnings.simplefilter("always", MarkbaseWarning)
            try:
                yield held
            finally:
                held += [str(w.message) for w in caught if issubclass(w.category, MarkbaseWarning)]
    except MarkbaseError:
        for text in held:
            remark(text)
        raise


def retell(held: Sequence[str], study: Study, inside: Collection[str]) -> None:
    """Make remarks that were held back, but for those on columns that nothing is asked of."""
    for text in held:
        about = re.match(r"`([^`]+)`:", text)
        if about is None or about.group(1) not in study.columns or about.group(1) in inside:
            remark(text)


def show(*pages: Page) -> None:
    """Print pages to stdout: in colour where a person looks at them, through a pager where they are longer than the terminal."""
    terminal = sys.stdout.isatty() and os.environ.get("TERM") != "dumb"
    colour = terminal and "NO_COLOR" not in os.environ
    wanted = wishes()
    told = [shortened(page) for page in pages] if wanted.short else pages
    text = "\n".join(to_text(page, wanted.width, colour=colour) + "\n" for page in told)
    if terminal and sys.stdin.isatty() and text.count("\n") >= shutil.get_terminal_size().lines:
        os.environ.setdefault("LESS", "-FRX")
        click.echo_via_pager(text, color=colour)
        return
    sys.stdout.write(text)
    sys.stdout.flush()


def put_table(frame: pd.DataFrame, into: Path | None, replaces: bool) -> bool:
    """Write a table into a file, or to stdout as CSV for ``-``; return whether stdout has been used up by that."""
    if into is None:
        return False
    if into != STANDARD:
        write_table(frame, into, replace=replaces)
        return False
    sys.stdout.write(table_bytes(frame, ".csv").decode())
    sys.stdout.flush()
    return True


def one_output(into: Path | None, as_json: bool) -> None:
    """Refuse two things that are both printed."""
    if into == STANDARD and as_json:
        raise click.UsageError("A table to `-` and --json are both printed; leave one out.")


def answer(found: Page | dict[str, Any], told: Sequence[str]) -> None:
    """Print a page, or plain data with the remarks; only the one that was asked for is made."""
    if isinstance(found, dict):
        show_json(found, told)
    else:
        show(found)


def show_json(record: dict[str, Any], told: Sequence[str]) -> None:
    """Print plain data to stdout as JSON, with the remarks in it."""
    sys.stdout.write(to_json({"format_version": FORMAT_VERSION, **record, "remarks": list(told)}) + "\n")
    sys.stdout.flush()
