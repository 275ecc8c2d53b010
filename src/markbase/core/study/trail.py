"""The record of what was done to a study, readable by people and by machines."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import tomlkit

from markbase.core.display import Shown
from markbase.core.study.verification import Check


@dataclass(frozen=True, eq=False)
class TrailStep:
    """One thing that was done."""

    action: str
    """The name of the method that did it, for instance ``mark``; ``open`` for the beginning."""
    column: str
    """The column it made or changed; empty for the whole table."""
    text: str
    """What was done, in a sentence, with counts before and after."""
    settings: Mapping[str, Any] = field(default_factory=dict)
    """The arguments, as plain values, with which it can be done again."""
    reason: str = ""
    """Why it was done, if somebody said."""
    check: Check | None = None
    """The verification; None for steps that change no value."""

    def record(self) -> dict[str, Any]:
        """Return the step as plain values, for `Study.prepare`.

        Returns
        -------
        dict
            ``do`` (the action), the arguments and, if there is one, ``reason``. A table that was joined is the study it was, as ``other``.
        """
        return {"do": self.action, **self.settings, **({"reason": self.reason} if self.reason else {})}

    def written(self) -> dict[str, Any]:
        """Return the step as a plan and a file of results hold it.

        Returns
        -------
        dict
            As `record`; in place of a table that was joined stands where it was opened from: ``file`` and, if need be, ``codebook`` and the steps
            (``prepare``) that prepared it since. Of a table that came from no file, its name, as ``table``.
        """
        record = self.record()
        return {
            key: value
            for k, v in record.items()
            for key, value in (v.opened_from() if k == "other" else {k: v}).items()
        }


def inline(step: Mapping[str, Any]) -> str:
    """Write a step as an inline TOML table without the braces: ``do = "mark", column = "voice", base = "alto"``."""
    return str(_table(step).as_string())[1:-1]


def _table(entries: Mapping[str, Any]) -> Any:
    table = tomlkit.inline_table()
    for key, value in entries.items():  # one by one: of whole ones within, no blank would stand behind a comma
        table[str(key)] = _table(value) if isinstance(value, Mapping) else value
    return table


@dataclass(frozen=True, eq=False, repr=False)
class Trail(Shown):
    """Everything that was done to a study, in order."""

    steps: tuple[TrailStep, ...] = ()
    """The steps, the oldest first."""

    def __iter__(self) -> Iterator[TrailStep]:
        return iter(self.steps)

    def __len__(self) -> int:
        return len(self.steps)

    def then(self, step: TrailStep) -> Trail:
        """Return a trail with one more step."""
        return Trail((*self.steps, step))

    def record(self) -> list[dict[str, Any]]:
        """Return what was done after opening, as plain values.

        Returns
        -------
        list of dict
            Give it to `Study.prepare` of the same data, and the same study comes back.
        """
        return [step.record() for step in self.steps if step.action != "open"]

    def written(self, since: int = 0) -> list[dict[str, Any]]:
        """Return what was done after opening, or after so many steps, as a plan and a file of results hold it; see `TrailStep.written`."""
        return [step.written() for step in self.steps[since:] if step.action != "open"]
