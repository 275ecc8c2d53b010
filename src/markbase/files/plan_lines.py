"""Where things stand in the text of a plan."""

from __future__ import annotations

import re

from markbase.core.errors import MarkbaseError


class Lines:
    """Where things stand in the text of a plan."""

    def __init__(self, text: str, source: str) -> None:
        self.rows, self.source = text.splitlines(), source

    def header(self, table: str, number: int = 0) -> int:
        """Return the line of a table's heading, from 1; 0 if there is none."""
        pattern = re.compile(rf"\s*\[+\s*{re.escape(table)}\s*\]+")
        places = [k for k, row in enumerate(self.rows, 1) if pattern.match(row)]
        return places[number] if number < len(places) else 0

    def within(self, table: str, number: int, word: str) -> int:
        """Return the first line of a table that holds a word, else that of its heading."""
        start = self.header(table, number)
        for k in range(start, len(self.rows)):
            if k > start and self.rows[k].lstrip().startswith("["):
                break
            if re.search(rf"(?<![\w-]){re.escape(word)}(?![\w-])", self.rows[k].split("#")[0]):
                return k + 1
        return start

    def place(self, table: str, number: int, message: str) -> int:
        """Return the line of a table that a message is about: where what it quotes last stands, else the heading."""
        start = self.header(table, number)
        for word in reversed(re.findall(r"[`']([^`']+)[`']", message.split("Did you mean")[0])):
            line = self.within(table, number, word)
            if line > start:
                return line
        return start

    def anywhere(self, word: str) -> int:
        """Return the first line with a word; 0 if there is none."""
        for k, row in enumerate(self.rows, 1):
            if re.search(rf"(?<![\w-]){re.escape(word)}(?![\w-])", row.split("#")[0]):
                return k
        return 0

    def error(self, message: str, word: str = "", at: int | None = None, hint: str = "") -> MarkbaseError:
        """Return an error that says where, and what was meant perhaps."""
        line = self.anywhere(word) if at is None else at
        return MarkbaseError(f"{self.source}{f', line {line}' if line else ''}: {message}.{hint}")
