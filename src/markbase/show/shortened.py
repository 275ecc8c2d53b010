"""A page of numbers alone: no sentences, no equation, and of a group of many levels its extremes."""

from __future__ import annotations

from dataclasses import replace

from markbase.show.page import Block, Drawing, Formula, Page, Row, Sentences, Table

_MOST_LEVELS = 12
"""A group of more levels is folded."""
_SHOWN = 3
"""Levels that stay at either end."""


def shortened(page: Page) -> Page:
    """Return a page with its facts and tables alone.

    Of a group of more than 12 levels the base, and the three with the lowest and the three with the highest estimates, in
    their order, with the count of those left out.
    """
    told = (s for s in page.sections if not any(isinstance(block, Formula) for block in s.blocks))
    sections = (replace(s, blocks=tuple(_numbers(block) for block in s.blocks if _kept(block))) for s in told)
    return replace(page, sections=tuple(section for section in sections if section.blocks))


def _kept(block: Block) -> bool:
    return not isinstance(block, (Sentences, Drawing))


def _numbers(block: Block) -> Block:
    if not isinstance(block, Table):
        return block
    rows: list[Row] = []
    run: list[Row] = []
    for row in block.rows:
        if row.strip is not None and (row.cells[0].startswith(" ") or not any(r.kind == "group" for r in block.rows)):
            run.append(row)
            continue
        rows += [*_folded(run), row]
        run = []
    return replace(block, rows=(*rows, *_folded(run)))


def _folded(run: list[Row]) -> list[Row]:
    """Fold the levels of a group."""
    if len(run) <= _MOST_LEVELS:
        return run
    drawn = [row.strip.middle for row in run if row.strip is not None]
    order = sorted(range(len(run)), key=drawn.__getitem__)
    kept = {*order[:_SHOWN], *order[-_SHOWN:], *(k for k, row in enumerate(run) if row.kind == "base")}
    indent = " " * (len(run[0].cells[0]) - len(run[0].cells[0].lstrip()))
    told = f"{indent}… {len(run) - len(kept)} more between"
    rest = Row((told, *[""] * (len(run[0].cells) - 1)), "aside")
    return [*(run[k] for k in sorted(kept)), rest]
