"""What was remarked while the analyses of a report were made, and stands on none of its pages."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from markbase.core.errors import count_noun
from markbase.reports.parts import Part
from markbase.show.page import Picture


def remarked(remarks: Sequence[str], parts: Sequence[Part], together: Sequence[str]) -> list[Part]:
    """Return a part that has the remarks which no part says, each a paragraph; none if all are said."""
    said = "\n".join(map(_bare, _texts_in([parts, together])))
    left = tuple(remark for remark in dict.fromkeys(remarks) if not any(told in said for told in _forms(_bare(remark))))
    pointer = f"{count_noun(len(left), 'remark')} on what these analyses rest on"
    return [Part("Remarks", paragraphs=left, pointed_at=pointer)] if left else []


def _forms(remark: str) -> list[str]:
    """Return a remark, and what it says of the column that it begins with, as the trail has it."""
    return [own for own in (remark, remark.partition(": ")[2]) if own]


def _texts_in(tree: Any) -> Iterator[str]:
    """Yield every text that lists, mappings and records hold, but for drawings."""
    if isinstance(tree, str):
        yield tree
    elif isinstance(tree, Mapping):
        yield from _texts_in(list(tree.values()))
    elif isinstance(tree, (list, tuple)):
        for value in tree:
            yield from _texts_in(value)
    elif dataclasses.is_dataclass(tree) and not isinstance(tree, Picture):
        for own in dataclasses.fields(tree):
            yield from _texts_in(getattr(tree, own.name))


def _bare(text: str) -> str:
    """Return a text without what sets names apart, and without the full stop at its end."""
    return text.replace("`", "").rstrip(".")
