"""Messages on stderr."""

from __future__ import annotations

import shutil
import sys
import textwrap
from collections.abc import Callable

import click


def counting(what: str, whole: int) -> Callable[[int], None]:
    """Return what tells a person who waits how much is done, on one line of a terminal."""

    def told(done: int) -> None:
        if sys.stderr.isatty():
            click.echo(f"\r… {what}: {done:,} of {whole:,}", nl=done >= whole, err=True)

    return told


def report_progress(message: str) -> None:
    """Write a message to stderr: one line, but broken between words where a person reads it in a terminal."""
    line = "".join(c if c.isprintable() else "�" for c in " ".join(message.split()))
    if sys.stderr.isatty():
        line = "\n  ".join(textwrap.wrap(line, shutil.get_terminal_size().columns - 2, break_on_hyphens=False))
    click.echo(line, err=True)
