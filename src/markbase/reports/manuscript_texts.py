"""Tables for a manuscript as text: Markdown, an HTML fragment, LaTeX with booktabs."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import cache
from itertools import count

from jinja2 import Environment, PackageLoader, select_autoescape

from markbase.reports.manuscript import table_in
from markbase.show.page import LEVEL_INDENT, Row, Section

_LATEX = {
    "\\": r"\textbackslash{}",
    "−": "$-$",
    "×": r"$\times$",
    "·": r"$\cdot$",
    "²": r"\textsuperscript{2}",
    "³": r"\textsuperscript{3}",
    "<": r"\textless{}",
    ">": r"\textgreater{}",
    "~": r"\textasciitilde{}",
    "^": r"\textasciicircum{}",
    "–": "--",
    "[": "{[}",  # behind the end of a row it would begin an option, and a star another kind of end
    "*": "{*}",
    **{mark: f"\\{mark}" for mark in "&%$#_{}"},
}
_MARKS = "*{}*", "**{}**", "&emsp;{}"
_LATEX_MARKS = r"\emph{{{}}}", r"\textbf{{{}}}", r"\quad {}"
_MARKDOWN = re.compile(r"([\\`*_\[\]<>|~#])")


def markdown_text(tables: Sequence[Section], title: str = "") -> str:
    """Return tables as Markdown, one after the other; a table is between lines of ``|``, its numbers to the right."""
    parts = [f"# {_plain(title)}"] if title else []
    for number, told in zip(count(1), tables, strict=False):
        table = table_in(told)
        lines = [_line([_plain(head) or " " for head in table.heads])]
        lines.append(_line([":--", *["--:"] * (len(table.heads) - 1)]))
        lines += [
            _line([_dressed(cell, row, k, _plain, _MARKS) for k, cell in enumerate(row.cells)]) for row in table.rows
        ]
        parts += [f"**Table {number}. {_plain(told.title)}**", "\n".join(lines), f"*Note.* {_plain(told.note)}"]
    return "\n\n".join(parts) + "\n"


def _line(cells: Sequence[str]) -> str:
    return f"| {' | '.join(cells)} |"


def _plain(text: str) -> str:
    return _MARKDOWN.sub(r"\\\1", " ".join(text.split()))


def _dressed(cell: str, row: Row, column: int, escape: Callable[[str], str], marks: tuple[str, str, str]) -> str:
    """Return a cell with the marks of its language for a base, the heading of a group and a level under it."""
    text = escape(cell)
    if not text:
        return ""
    base, group, level = marks
    if row.kind == "base":
        text = base.format(text)
    elif row.kind == "group" and not column:
        text = group.format(text)
    return level.format(text) if cell.startswith(LEVEL_INDENT) else text


def latex_text(tables: Sequence[Section], title: str = "") -> str:
    r"""Return tables as LaTeX floats; the document needs ``\usepackage{booktabs}``."""
    parts = ["% \\usepackage{booktabs}"]
    if title:
        parts.append(f"\\section*{{{_escaped(title)}}}")
    for told in tables:
        table = table_in(told)
        columns = "l" + "r" * (len(table.heads) - 1)
        rows = [_row([_escaped(head) for head in table.heads]), r"\midrule"]
        rows += [
            _row([_dressed(cell, row, k, _escaped, _LATEX_MARKS) for k, cell in enumerate(row.cells)])
            for row in table.rows
        ]
        parts.append(
            "\n".join(
                [
                    r"\begin{table}",
                    r"\centering",
                    f"\\caption{{{_escaped(told.title)}}}",
                    f"\\begin{{tabular}}{{{columns}}}",
                    r"\toprule",
                    *rows,
                    r"\bottomrule",
                    r"\end{tabular}",
                    rf"\par\smallskip\footnotesize\emph{{Note.}} {_escaped(told.note)}",
                    r"\end{table}",
                ]
            )
        )
    return "\n\n".join(parts) + "\n"


def _row(cells: Sequence[str]) -> str:
    return f"{' & '.join(cells)} \\\\"


def _escaped(text: str) -> str:
    return "".join(_LATEX.get(letter, letter) for letter in " ".join(text.split()))


def html_text(tables: Sequence[Section], title: str = "") -> str:
    """Return tables as an HTML fragment without style, headers marked as such."""
    shown = [(told, table_in(told)) for told in tables]
    return _environment().get_template("tables.html").render(tables=shown, title=title, indent=LEVEL_INDENT)


@cache
def _environment() -> Environment:
    return Environment(
        loader=PackageLoader("markbase.reports", "templates"),
        autoescape=select_autoescape(default=True),
        trim_blocks=True,
        lstrip_blocks=True,
    )


TEXTS: dict[str, Callable[[Sequence[Section], str], str]] = {
    ".md": markdown_text,
    ".html": html_text,
    ".tex": latex_text,
}
"""By what a file ends in."""
