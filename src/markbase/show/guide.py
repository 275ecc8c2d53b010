"""The guided list: a fit gone through in order."""

from __future__ import annotations

from markbase.core.results.statements import Guide
from markbase.show.page import Page, Section, Sentences


def guide_page(guide: Guide) -> Page:
    """Describe a guided list."""
    return Page("Going through the fit", sections=(guide_section(guide),))


def guide_section(guide: Guide) -> Section:
    """Describe a guided list as a section."""
    lines = tuple((f"`{s.question}` {s.answer}. {s.meaning}", ()) for s in guide.steps)
    return Section("Going through it, in order", blocks=(Sentences(lines),))
