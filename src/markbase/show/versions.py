"""Several versions of one page, laid over one another: what they share stands once, and the rest says whose it is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from difflib import SequenceMatcher
from typing import Any

from markbase.show.page import Block, Page, Section, Table

OWN = "own"
"""The key of the version that is shown first."""


@dataclass(frozen=True)
class Entry:
    """A row, a sentence or a text, and the versions it belongs to."""

    what: Any
    """A row of a table, a pair of facts, a sentence with its cautions, or a text."""
    versions: str = ""
    """The keys of its versions, parted by spaces; empty if it belongs to all."""


@dataclass(frozen=True)
class LaidBlock:
    """A block with the entries of all versions."""

    like: Block
    """The block of one version, for its kind and its heads."""
    entries: tuple[Entry, ...]
    """Its rows, pairs, sentences or parts."""
    versions: str = ""
    """The versions that have it; empty for all."""


@dataclass(frozen=True)
class LaidSection:
    """A section with what all versions say."""

    title: tuple[Entry, ...]
    """Its heading."""
    note: tuple[Entry, ...]
    """What is said beside it."""
    blocks: tuple[LaidBlock, ...]
    """What stands below."""
    folded: bool
    """Whether it is opened by a click."""


def laid(page: Page, others: Mapping[str, Page]) -> tuple[LaidSection, ...]:
    """Lay other versions of a page, of the same sections, over the one shown first."""
    pages = {OWN: page, **others}
    return tuple(
        _section({key: p.sections[place] for key, p in pages.items() if place < len(p.sections)})
        for place in range(len(page.sections))
    )


def _section(versions: Mapping[str, Section]) -> LaidSection:
    own = versions[OWN]
    blocks: list[LaidBlock] = []
    for place in range(max(len(s.blocks) for s in versions.values())):
        here = {key: s.blocks[place] for key, s in versions.items() if place < len(s.blocks)}
        blocks += _blocks(here, len(versions))
    return LaidSection(
        merged({k: [s.title] for k, s in versions.items()}),
        merged({k: [s.note] for k, s in versions.items()}),
        tuple(blocks),
        own.folded,
    )


def _blocks(versions: Mapping[str, Block], of: int) -> list[LaidBlock]:
    """Lay blocks of one place over one another; those with other heads stand by themselves."""
    alike: dict[tuple[Any, ...], dict[str, Block]] = {}
    for key, block in versions.items():
        alike.setdefault((type(block), getattr(block, "heads", ())), {})[key] = block
    return [
        LaidBlock(
            next(iter(same.values())),
            merged({key: _entries(block) for key, block in same.items()}),
            "" if len(same) == of else " ".join(same),
        )
        for same in alike.values()
    ]


def _entries(block: Block) -> Sequence[Any]:
    """Return what a block is a sequence of."""
    if isinstance(block, Table):
        return block.rows
    found: Sequence[Any] = getattr(block, fields(block)[0].name)
    return found


def merged(versions: Mapping[str, Sequence[Any]]) -> tuple[Entry, ...]:
    """Merge sequences that are mostly alike, in the order of each.

    Every thing of every version stands once; read with one version's key alone, it is that version's sequence.
    """
    found: list[tuple[Any, list[str]]] = []
    for key, sequence in versions.items():
        known = [what for what, _ in found]
        together: list[tuple[Any, list[str]]] = []
        for change, a, b, c, d in SequenceMatcher(None, known, sequence, autojunk=False).get_opcodes():
            for what, keys in found[a:b]:
                together.append((what, [*keys, key] if change == "equal" else keys))
            if change != "equal":
                together += [(what, [key]) for what in sequence[c:d]]
        found = together
    return tuple(Entry(what, "" if len(keys) == len(versions) else " ".join(keys)) for what, keys in found)
