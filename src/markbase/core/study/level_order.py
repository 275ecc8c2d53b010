"""The order in which people give levels: numbers by size, ranges by where they begin, scales of words from low to high, no answer last."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

_DIGITS = re.compile(r"(\d+(?:,\d{3})*(?:\.\d+)?)")
_BELOW = re.compile(r"\s*(<|≤|under|below|less|up to|fewer|at most)")
_ABOVE = re.compile(r"\s*(>|≥|over|above|more|at least)")
_NO_ANSWER = frozenset(
    (
        "-", "--", ".", "?", "n/a", "na", "n.a.", "nan", "null", "missing", "unknown", "not known", "dk", "don't know", "do not know", "dont know",
        "no answer", "no response", "not answered", "not stated", "not available", "not applicable", "inapplicable", "refused", "refusal",
        "prefer not to say", "prefer not to answer", "rather not say", "would rather not say", "no information",
        "k.a.", "k. a.", "keine angabe", "keine angaben", "keine antwort", "weiß nicht", "weiss nicht", "trifft nicht zu", "nicht zutreffend",
        "verweigert", "entfällt", "geen antwoord", "weet niet", "n.v.t.", "sans réponse", "non réponse", "pas de réponse", "ne sait pas", "refus",
        "non concerné", "sin respuesta", "no sabe", "no contesta", "ns/nc", "non risponde", "non sa", "sem resposta", "não sabe", "vet ej", "vet inte",
    )
)  # fmt: skip
_FEWEST_PARTS = 2
_TOTAL = re.compile(r"(?:(?:grand|overall) )?(?:sub-?)?totals?|gesamt|insgesamt|summe|totaal|totale?s?|ensemble")
_SCALES: tuple[tuple[str, ...], ...] = (
    ("never", "almost never", "very rarely", "rarely", "seldom", "occasionally", "sometimes", "often", "frequently", "very often", "usually", "almost always", "always"),
    ("not at all", "a little", "slightly", "somewhat", "moderately", "quite a bit", "quite a lot", "a lot", "very", "very much", "extremely"),
    ("terrible", "very poor", "very bad", "poor", "bad", "fair", "average", "okay", "good", "very good", "excellent"),
    ("none", "very low", "low", "medium", "moderate", "high", "very high"),
    ("very small", "small", "medium", "large", "very large"),
    ("much worse", "worse", "somewhat worse", "about the same", "the same", "somewhat better", "better", "much better"),
    ("never", "yearly", "monthly", "weekly", "daily"),
    ("none", "very few", "few", "some", "many", "most", "all"),
    ("none", "very mild", "mild", "weak", "moderate", "strong", "severe", "very severe"),
    ("novice", "beginner", "elementary", "intermediate", "advanced", "expert"),
    ("none", "no schooling", "basic", "elementary", "primary", "lower secondary", "secondary", "upper secondary", "post-secondary", "tertiary", "doctorate"),
    ("less than high school", "some high school", "high school", "some college", "college", "bachelor's degree", "master's degree", "doctorate"),
    ("lower class", "working class", "lower middle class", "middle class", "upper middle class", "upper class"),
)  # fmt: skip
_OPPOSITES = (
    ("disagree", "agree"), ("dissatisfied", "satisfied"), ("unsatisfied", "satisfied"), ("unlikely", "likely"), ("unimportant", "important"),
    ("disapprove", "approve"), ("oppose", "support"), ("negative", "positive"), ("difficult", "easy"), ("uncomfortable", "comfortable"),
    ("unhappy", "happy"),
)  # fmt: skip
_STRENGTHS = {
    "completely": 5,
    "totally": 5,
    "extremely": 5,
    "strongly": 4,
    "very": 4,
    "mostly": 3,
    "": 3,
    "moderately": 2,
}
_STRENGTHS |= dict.fromkeys(("rather", "quite", "somewhat", "tend to", "slightly", "mildly", "a little"), 1)
_MIDDLE = re.compile(r"neither\b.*|neutral|undecided|no opinion|mixed|in between")


_NUMBERED = tuple(
    re.compile(form)
    for form in (
        r"(\d{1,2})",
        r"[\[(]?(\d{1,2})[\])]?\s*[-–—=:.)]?\s+\S.*",
        r"(\d{1,2})[-–—=:.)]\D.*",
        r"\D.*[\[(](\d{1,2})[\])]",
    )
)
"""How levels carry numbers: alone, before words, behind them."""
_LONGEST_SCALE = 10


def _form(text: str) -> str:
    return " ".join(text.casefold().replace("’", "'").split())


def reads_as_no_answer(text: str) -> bool:
    """Return whether a level reads like a missing answer: ``N/A``, ``Prefer not to say``."""
    return _form(text).rstrip("!") in _NO_ANSWER


def read_as_totals(texts: Sequence[str]) -> list[int]:
    """Return the places of levels that read like the total of others: ``Total`` beside several, ``North total`` beside ``North``."""
    forms = [_form(text).rstrip(" :.") for text in texts]
    if len(forms) <= _FEWEST_PARTS:
        return []
    stems, known = [form.removesuffix(" total") for form in forms], set(forms)
    return [
        k
        for k, (form, stem) in enumerate(zip(forms, stems, strict=True))
        if _TOTAL.fullmatch(form) or (stem != form and stem in known)
    ]


def ordered(texts: Sequence[str]) -> tuple[list[int], bool]:
    """Return the places of texts in the order in which people give them, and whether they are a scale of words, put from low to high.

    Those that read like a missing answer come last.
    """
    answers = [k for k, text in enumerate(texts) if not reads_as_no_answer(text)]
    scores = _on_a_scale([_form(texts[k]) for k in answers])
    ranges = all(any(c.isdigit() for c in texts[k]) for k in answers)
    keys = {k: (0, (scores[i],) if scores else _natural(texts[k], ranges)) for i, k in enumerate(answers)}
    return sorted(range(len(texts)), key=lambda k: keys.get(k, (1, _natural(texts[k], False)))), scores is not None


def alphabetical(texts: Sequence[str]) -> list[int]:
    """Return the places of texts in the order of their letters, of which capitals count only where nothing else tells two apart."""
    keys, places = list(map(str.casefold, texts)), list(range(len(texts)))
    if len(set(keys)) < len(keys):
        places.sort(key=texts.__getitem__)
    places.sort(key=keys.__getitem__)
    return places


def numbers_within(texts: Sequence[str]) -> list[int] | None:
    """Return the number that each of some levels carries, as in `1 - never` or `Never (1)`; None if one carries none, or two the same.

    Levels that are numbers and nothing else may be among them, as ends of a scale alone have words.
    """
    matches = [next((m for form in _NUMBERED if (m := form.fullmatch(text.strip()))), None) for text in texts]
    numbers = [int(m[1]) for m in matches if m is not None]
    words = sum(not text.strip().isdigit() for text in texts)
    if len(numbers) < len(texts) or len(set(numbers)) < max(len(texts), 3) or words < 2:
        return None
    return numbers if max(numbers) - min(numbers) <= _LONGEST_SCALE else None


def _on_a_scale(forms: Sequence[str]) -> list[float] | None:
    """Return where on one scale of words all of some texts stand, each in a place of its own; None if they are on none."""
    if len(forms) < 3:
        return None
    candidates = [{word: float(place) for place, word in enumerate(scale)} for scale in _SCALES]
    found = [[scale[form] for form in forms] for scale in candidates if all(form in scale for form in forms)]
    for low, high in _OPPOSITES:
        scores = [_between(form, low, high) for form in forms]
        found += [[s for s in scores if s is not None]] if None not in scores else []
    return next((scores for scores in found if len(set(scores)) == len(scores)), None)


def _between(form: str, low: str, high: str) -> float | None:
    """Return where a text stands between two opposites: below 0 for the one, above for the other."""
    if _MIDDLE.fullmatch(form):
        return 0.0
    for word, side in ((low, -1.0), (high, 1.0)):
        before, found, after = form.partition(word)
        strength = f"{before} {after}".strip()
        if found and strength in _STRENGTHS:
            return side * _STRENGTHS[strength]
    return None


def _natural(text: str, ranges: bool) -> tuple[Any, ...]:
    """Return what sorts texts by the numbers within them; of ranges the first number decides, and what it says of it."""
    folded = text.casefold()
    parts = [part for part in _DIGITS.split(folded) if part]
    natural = [(1, float(p.replace(",", "")), "") if p[0].isdigit() else (2, 0.0, p) for p in parts]
    first = next((size for kind, size, _ in natural if kind == 1), 0.0) if ranges else 0.0
    side = 0 if not ranges else -1 if _BELOW.match(folded) else 1 if _ABOVE.match(folded) else 0
    return first, side, natural, text
