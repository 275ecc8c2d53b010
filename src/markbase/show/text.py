"""Pages as text, for a terminal."""

from __future__ import annotations

import io
import re
import shutil
import unicodedata
from collections.abc import Sequence
from typing import Literal

from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.measure import Measurement
from rich.padding import Padding
from rich.table import Table as RichTable
from rich.text import Text

from markbase.show.page import Block, Drawing, Facts, Formula, Page, Section, Sentences, Strip, Table, kept_together

ACCENT, QUIET, CAUTION = "cyan", "dim", "yellow"  # bold colours turn too bright on a light ground
CAUTION_MARK, BASE_MARK = "▲", "◇"
_WIDEST, _NARROWEST = 112, 40
_GLUE = "\ue000"  # stands for a space at which no line is broken
_LEAST_DRAWN, _MOST_DRAWN = 9, 31
_LONGEST_LABEL = 46
"""A label that is longer is folded: what it says is beside it."""
_HANG = 4
"""How much further in a name goes on that does not fit in a line."""


def render(page: Page) -> RenderableType:
    """Return a page as something a rich console prints; labels are never read as markup."""
    parts: list[RenderableType] = [Text(_plain(page.title), style="bold")]
    if page.subtitle:
        parts.append(Text(_plain(page.subtitle), style=QUIET))
    for section in page.sections:
        parts.append(Text(""))
        if section.title:
            parts.append(_Heading(section))
        parts += [Padding(_block(b), (0, 0, 0, 2)) for b in section.blocks if not isinstance(b, Drawing)]
    return Group(*parts)


def to_text(page: Page, width: int | None = None, *, colour: bool = False) -> str:
    """Return a page as text for a terminal, without spaces at line ends; nothing is said by colour alone."""
    stream = io.StringIO()
    system: Literal["standard"] | None = "standard" if colour else None
    console = Console(
        file=stream,
        width=width or fitting_width(),
        color_system=system,
        force_terminal=colour,
        force_jupyter=False,  # a notebook is given HTML beside, not instead
        legacy_windows=False,
        highlight=False,
    )
    console.print(render(page), end="")
    text = stream.getvalue().replace(_GLUE, " ")
    return "\n".join(line.rstrip() for line in text.splitlines()).rstrip("\n")


def fitting_width() -> int:
    """Return the width of the terminal, kept between what is needed and what is pleasant."""
    return max(_NARROWEST, min(_WIDEST, shutil.get_terminal_size((100, 24)).columns))


def _block(block: Block) -> RenderableType:
    if isinstance(block, Table):
        return _Measured(block)
    if isinstance(block, Facts):
        grid = RichTable.grid(padding=(0, 2, 0, 0))
        longest = max((cell_len(label) for label, _ in block.pairs), default=0)
        grid.add_column(no_wrap=longest <= _LONGEST_LABEL, max_width=_LONGEST_LABEL, overflow="fold")
        grid.add_column(ratio=1, overflow="fold")
        for label, text in block.pairs:
            grid.add_row(Text(_plain(label), style="bold"), _marked(text))
        return grid
    if isinstance(block, Formula):
        return Text(" ").join(Text(_plain(part).replace(" ", _GLUE)) for part in block.parts)
    assert isinstance(block, Sentences)
    return _sentences(block)


def _sentences(block: Sentences) -> RenderableType:
    grid = RichTable.grid(padding=(0, 1, 0, 0))
    grid.add_column(no_wrap=True, width=1)
    grid.add_column(ratio=1, overflow="fold")
    for text, cautions in block.lines:
        grid.add_row(Text("·"), _marked(text))
        for caution in cautions:
            grid.add_row(Text(CAUTION_MARK, style=CAUTION), _marked(caution))
    return grid


def _plain(text: str) -> str:
    """Make control characters visible, so that a label can neither break a table nor command a terminal."""
    if text.isprintable():
        return text
    return "".join("␤" if c == "\n" else "�" if unicodedata.category(c) == "Cc" else c for c in text)


def _marked(text: str) -> Text:
    """Set names between backquotes apart, by weight and without the quotes where they are plain words."""
    text = _plain(kept_together(text, _GLUE))
    out = Text()
    for place, piece in enumerate(re.split(r"`([^`]*)`", text)):
        out.append(piece, style="bold" if place % 2 else "")
    return out


class _Heading:
    """The heading of a section, with its note; what that says of drawings is left out where there is no room for these."""

    def __init__(self, section: Section) -> None:
        self.section = section

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        section, note = self.section, self.section.note
        tables = [block for block in section.blocks if isinstance(block, Table)]
        if not any(_room_to_draw(table, options.max_width - 2) for table in tables):
            note = re.sub(r"(^|; )[^;]*┊ is [^;]*", "", note)
        heading = Text()
        for piece in re.split(r"^(\d+)", section.title):
            heading.append(piece, style=ACCENT if piece.isdigit() else "bold")
        if note:
            heading.append(f"   {_plain(note)}", style=QUIET)
        yield heading


class _Measured:
    """A table whose drawings take what width the numbers leave; where that is too little, they are left out."""

    def __init__(self, table: Table) -> None:
        self.table = table

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        if _needed(self.table) > options.max_width:
            yield _stacked(self.table)
        else:
            yield _table(self.table, _room_to_draw(self.table, options.max_width))


def _room_to_draw(table: Table, width: int) -> int:
    """Return how many letters the drawings of a table have; 0 where it has none, or they would be too small."""
    if not any(row.strip for row in table.rows) or _needed(table) > width:
        return 0
    columns = zip(table.heads, *(row.cells for row in table.rows), strict=True)
    room = min(width - sum(max(map(cell_len, column)) + 2 for column in columns), _MOST_DRAWN)
    return room if room >= _LEAST_DRAWN else 0


def _needed(table: Table) -> int:
    """Return the least width at which no cell of a table is cut."""
    width = 0
    for place, head in enumerate(table.heads):
        cells = [row.cells[place] for row in table.rows]
        body = max(map(cell_len, cells), default=0)
        if place == table.wide:  # folds between words
            width += max((cell_len(word) for cell in [head, *cells] for word in cell.split()), default=0) + 2
        else:
            width += max(body, min(cell_len(head), 12)) + 2
    return width


def _stacked(table: Table) -> RichTable:
    """Lay a table out that is wider than there is room for: a row below the other, each cell with its heading."""
    grid = RichTable.grid(padding=(0, 2, 0, 0))
    grid.add_column(overflow="fold", max_width=18)
    grid.add_column(ratio=1, overflow="fold")
    for row in table.rows:
        style = {"base": "italic", "group": "bold", "aside": QUIET}.get(row.kind, "")
        grid.add_row(
            Text(_plain(table.heads[0]), style=QUIET), Text(_plain(row.cells[0]), style=f"bold {style}".strip())
        )
        for head, cell in zip(table.heads[1:], row.cells[1:], strict=True):
            if cell.strip():
                grid.add_row(Text(f"  {_plain(head)}", style=QUIET), Text(_plain(cell), style=style))
    return grid


def _table(table: Table, room: int) -> RichTable:
    out = RichTable(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style=QUIET, show_edge=False)
    for place, head in enumerate(table.heads):
        side: Literal["left", "right"] = "right" if place in table.right else "left"
        body = max((cell_len(row.cells[place]) for row in table.rows), default=0)
        folds = place == table.wide or cell_len(head) > max(body, 12)  # a long heading may be folded, a number never
        least = None if place == table.wide else max(body, min(cell_len(head), 12))
        out.add_column(Text(_plain(head)), justify=side, no_wrap=not folds, overflow="fold", min_width=least)
    if room:
        drawn = [row.strip for row in table.rows if row.strip]
        out.add_column(Text(headed(table.strip_head, drawn, room)), no_wrap=True, width=room)
    for row in table.rows:
        style = {"base": "italic", "group": "bold", "aside": QUIET}.get(row.kind, "")
        cells: list[RenderableType] = [Text(_plain(cell), style=style) for cell in row.cells]
        if table.wide == 0:
            cells[0] = _Hanging(row.cells[0], style)
        if room:
            cells.append(Text(draw(row.strip, room) if row.strip else ""))
        out.add_row(*cells)
    return out


class _Hanging:
    """A name that goes on further in where it does not fit in a line, so that no line of it looks like another name."""

    def __init__(self, cell: str, style: str) -> None:
        self.text = Text(_plain(cell).lstrip(" "), style=style)
        self.indent = len(cell) - len(cell.lstrip(" "))

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        room = options.max_width - self.indent
        if self.text.cell_len <= room:
            yield Padding(self.text, (0, 0, 0, self.indent))
            return
        first = self.text.wrap(console, room, overflow="fold")[0]
        rest = self.text[len(first.plain) :]
        rest = rest[len(rest.plain) - len(rest.plain.lstrip()) :]
        yield Padding(first, (0, 0, 0, self.indent))
        yield Padding(rest, (0, 0, 0, self.indent + _HANG))

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        words = max((cell_len(word) for word in self.text.plain.split()), default=0)
        most = self.indent + self.text.cell_len
        return Measurement(min(most, self.indent + words + _HANG), most)


def headed(head: str, strips: Sequence[Strip], width: int) -> str:
    """Write the heading of drawings so that its ``┊`` stands where theirs does.

    Words that have no room on their side are left out. Words alone, and those above marks that stand in several places,
    begin at the left.
    """
    before, mark, after = head.partition("┊")
    places = {_place(strip, strip.mark, width) for strip in strips}
    if not mark or len(places) != 1:
        return head if len(head) <= width else ""
    zero = places.pop()
    before = before if len(before) <= zero else ""
    lead = before.ljust(zero) if strips[0].mark else before.rjust(zero)
    return f"{lead}{mark}{after if zero + 1 + len(after) <= width else ''}"


def _place(strip: Strip, value: float, width: int) -> int:
    """Return the character at which a value is drawn."""
    share = (value - strip.left) / (strip.right - strip.left)
    return round(round(share * (width - 1), 9))  # the last digit decides nothing


def draw(strip: Strip, width: int) -> str:
    """Draw an interval as a line of characters: ``├──●──┤`` with ``┊`` where 0 is; ``◇`` for a base."""

    def at(value: float) -> int:
        return _place(strip, value, width)

    line = [" "] * width
    zero = at(strip.mark)
    if strip.mark:
        end = at(strip.middle)
        line[: end + 1] = "■" * (end + 1)
        line[zero] = "┊" if line[zero] == " " else "┃"
        return "".join(line).rstrip()
    low, high = at(strip.low), at(strip.high)
    if strip.low > 0:  # an interval clear of 0 must not seem to touch it
        low = max(low, zero + 1)
    if strip.high < 0:
        high = min(high, zero - 1)
    if strip.low < 0 < strip.high and not strip.is_base:  # and one that holds 0 must show it inside
        low, high = max(min(low, zero - 1), 0), min(max(high, zero + 1), width - 1)
    if not strip.is_base:
        line[low : high + 1] = "─" * (high - low + 1)
        line[low], line[high] = "├", "┤"
    line[zero] = "┼" if low < zero < high else "┊" if line[zero] == " " else line[zero]
    line[zero if strip.is_base else min(max(at(strip.middle), low), high)] = BASE_MARK if strip.is_base else "●"
    return "".join(line).rstrip()
