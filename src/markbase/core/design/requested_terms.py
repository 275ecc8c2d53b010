"""What a model is to be built from, and whether the study has it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from markbase.core.arguments import checked, told_value
from markbase.core.errors import MarkbaseError
from markbase.core.study.study import Study


@dataclass(frozen=True)
class Polynomial:
    """A curve in a numeric column: made by `polynomial`."""

    column: str
    """The column."""
    degree: int
    """The highest power, 2 or 3."""

    @property
    def name(self) -> str:
        """What the term is called: ``age (quadratic)``."""
        return term_name({self.column: self.degree})


@dataclass(frozen=True)
class Interaction:
    """A product of two or three columns: made by `interaction`."""

    factors: tuple[str | Polynomial, ...]
    """What is multiplied."""

    @property
    def name(self) -> str:
        """What the term is called: ``age × voice``."""
        return term_name(degrees_of(self))


TermRequest = str | Polynomial | Interaction


@checked
def polynomial(column: str, degree: int = 2) -> Polynomial:
    """Let a numeric column have a curve: its powers up to a degree, as one term.

    Parameters
    ----------
    column : str
        A numeric column; it is not given as a term of its own as well.
    degree : int
        2 (a parabola, with one turning point) or 3.

    Returns
    -------
    Polynomial
        To stand among the terms of a fit.

    Raises
    ------
    MarkbaseError
        If the degree is not 2 or 3, or the column is no name.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", [mb.polynomial("age", 2), "voice"])
    >>> [term.name for term in fit.model_terms]
    ['age (quadratic)', 'voice']
    """
    if not isinstance(column, str):
        raise MarkbaseError(f"A polynomial is of one column, given by its name, not {column!r}.")
    if isinstance(degree, bool) or degree not in (2, 3):
        raise MarkbaseError(
            f"A polynomial of `{column}` has degree 2 or 3, not {degree!r}; a straight line is the column itself."
        )
    return Polynomial(column, int(degree))


def interaction(*factors: str | Polynomial) -> Interaction:
    """Let what one column goes with differ by another (moderation), or by two others.

    Parameters
    ----------
    *factors : str or Polynomial
        Two or three different columns, numeric or categorical, or polynomials of numeric ones. Their main effects, and of
        three the interactions of each two, belong into the model as well.

    Returns
    -------
    Interaction
        To stand among the terms of a fit.

    Raises
    ------
    MarkbaseError
        If there are not two or three different columns.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> fit = mb.fit_linear(study, "belonging", ["age", "voice", mb.interaction("age", "voice")])
    >>> [term.name for term in fit.model_terms]
    ['age', 'voice', 'age × voice']
    """
    for factor in factors:
        if not isinstance(factor, (str, Polynomial)):
            raise MarkbaseError(
                f"An interaction is of columns, given by their names, or of polynomials, not {told_value(factor)}."
            )
    if not 2 <= len(factors) <= 3:
        raise MarkbaseError(f"An interaction is of two or three columns, not {len(factors)}.")
    names = [f if isinstance(f, str) else f.column for f in factors]
    if len(set(names)) < len(names):
        twice = next(n for n in names if names.count(n) > 1)
        raise MarkbaseError(
            f"An interaction is of different columns, and `{twice}` is given twice; a column times itself is a curve, "
            f"which `polynomial` makes."
        )
    return Interaction(tuple(factors))


def term_from_text(text: str, columns: Sequence[str] = ()) -> TermRequest:
    """Read a term that is written as text: a column name, ``polynomial(age, 2)`` or ``interaction(age, voice)``.

    A column with such a name is that column.
    """
    text = text.strip()
    head, mark, rest = text.partition("(")
    head = head.strip()
    if text in columns or not mark or head not in ("interaction", "polynomial") or not rest.endswith(")"):
        return text
    parts = split_outside(rest[:-1])
    if head == "interaction":
        factors = [term_from_text(part, columns) for part in parts]
        return interaction(*factors)  # type: ignore[arg-type]  # an interaction inside is refused there
    if not 1 <= len(parts) <= 2 or (len(parts) == 2 and not parts[1].isdigit()):
        raise MarkbaseError(f"`{text}` should read polynomial(COLUMN, DEGREE), for instance polynomial(age, 2).")
    return polynomial(parts[0], int(parts[1]) if len(parts) == 2 else 2)


def read_term(request: TermRequest, columns: Sequence[str]) -> TermRequest:
    """Return a term that may be written as text; one that is neither a column nor so written stays as it is."""
    made = request if not isinstance(request, str) or request in columns else term_from_text(request, columns)
    return request if isinstance(made, str) else made


def term_text(head: str, *parts: str | int) -> str:
    """Write a term as `term_from_text` reads it."""
    names = (f'"{part}"' if isinstance(part, str) and set(part) & set(",()") else str(part) for part in parts)
    return f"{head}({', '.join(names)})"


def split_outside(text: str, brackets: bool = True) -> list[str]:
    """Part a text at the commas that stand between no double quotes, which a name may begin and end with, and in no brackets."""
    parts, depth, now, quoted = [], 0, "", False
    for place, letter in enumerate(text):
        if letter == '"':
            begins = (now.strip() or ",")[-1] in ",(=:" and '"' in text[place + 1 :]
            quoted = not quoted and begins
        elif brackets and not quoted:
            depth += (letter == "(") - (letter == ")")
        if letter == "," and depth == 0 and not quoted:
            parts.append(now)
            now = ""
        else:
            now += letter
    return [part for part in (unquoted(part) for part in (*parts, now)) if part]


def unquoted(text: str) -> str:
    """Return a name without the double quotes that it begins and ends with, and without outer blanks."""
    text = text.strip()
    alone = len(text) > 1 and text[0] == text[-1] == '"' and '"' not in text[1:-1]
    return text[1:-1] if alone else text


def degrees_of(request: TermRequest) -> dict[str, int]:
    """Return the columns of a requested term, each with its highest power."""
    if isinstance(request, str):
        return {request: 1}
    if isinstance(request, Polynomial):
        return {request.column: request.degree}
    return {name: degree for factor in request.factors for name, degree in degrees_of(factor).items()}


def names_of(request: TermRequest) -> tuple[str, ...]:
    """Return the names of the columns that a term is made of."""
    return tuple(degrees_of(request))


def term_name(degrees: Mapping[str, int]) -> str:
    """Return what a term of some columns, each with its highest power, is called."""
    words = {1: "", 2: " (quadratic)", 3: " (cubic)"}
    return " × ".join(f"{name}{words[degree]}" for name, degree in degrees.items())


def request_name(request: TermRequest) -> str:
    """Return what a requested term is called."""
    return term_name(degrees_of(request))


def request_of(degrees: Mapping[str, int]) -> TermRequest:
    """Return the request for a term of some columns, each with its highest power."""
    factors = [name if degree == 1 else Polynomial(name, degree) for name, degree in degrees.items()]
    return factors[0] if len(factors) == 1 else Interaction(tuple(factors))


@dataclass(frozen=True)
class AllBut:
    """Every column of a study but some: made by `all_but`."""

    names: tuple[str, ...]
    """The columns to leave out."""

    def chosen(self, study: Study, outcome: str) -> list[str]:
        """Return the columns that are left, without the outcome and columns that have a role."""
        for name in self.names:
            study.column(name)
        out = {*self.names, outcome}
        return [n for n in study.columns if n not in out and study[n].role not in ("identifier", "weight")]


def all_but(*names: str) -> AllBut:
    """Take every column as a term but those named, the outcome, identifiers and weights.

    Parameters
    ----------
    *names : str
        The columns to leave out.

    Returns
    -------
    AllBut
        To be given as the terms of a fit or a screening.

    Examples
    --------
    >>> import markbase as mb
    >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]}).mark("voice", "alto")
    >>> screened = mb.screen(study, mb.all_but("choir", "events", "stays", "joined_through", "rehearsal_day", "satisfaction", "weight"))
    >>> len(screened.vif)
    12
    """
    return AllBut(names)
