"""Arithmetic that is written down: read, taken apart, and computed with its derivatives. Nothing is evaluated as code."""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, reduce

import numpy as np
from numpy.typing import NDArray

from markbase.core.errors import ColumnError, listed, quoted

Array = NDArray[np.float64]

_LONGEST = 2000
_DEEPEST = 200
_TOKEN = re.compile(
    r"""\s*(?:(?P<quoted>'[^']+'|"[^"]+"|`[^`]+`)
    |(?P<number>(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?(?![\w.]))
    |(?P<name>[^\W\d][\w.]*)(?P<call>\s*\()?
    |(?P<sign>\*\*|[-+*/^(),−–×·÷]))""",
    re.VERBOSE,
)
_SIGNS = {"^": "**", "−": "-", "–": "-", "×": "*", "·": "*", "÷": "/"}


def _rounded(x: Array) -> Array:
    """Round to whole numbers, halves away from 0."""
    whole = np.trunc(x)
    return np.where(np.abs(x - whole) >= 0.5, whole + np.sign(x), whole)


@dataclass(frozen=True)
class _Function:
    value: Callable[[Array], Array]
    slope: Callable[[Array], Array] | None = None
    """None of what goes in steps."""
    allowed: Callable[[Array], NDArray[np.bool_]] | None = None
    rule: str = ""


def _log(of: Callable[[Array], Array], base: float) -> _Function:
    return _Function(of, lambda x: 1 / (x * np.log(base)), lambda x: x > 0, "above 0")


_OF_ONE = {
    "abs": _Function(np.abs, np.sign),
    "ceiling": _Function(np.ceil),
    "cube_root": _Function(np.cbrt, lambda x: 1 / (3 * np.cbrt(x) ** 2)),
    "exp": _Function(np.exp, np.exp),
    "floor": _Function(np.floor),
    "ln": _log(np.log, np.e),
    "log": _log(np.log, np.e),
    "log10": _log(np.log10, 10.0),
    "log1p": _Function(np.log1p, lambda x: 1 / (1 + x), lambda x: x > -1, "above −1"),
    "log2": _log(np.log2, 2.0),
    "round": _Function(_rounded),
    "sign": _Function(np.sign),
    "sqrt": _Function(np.sqrt, lambda x: 0.5 / np.sqrt(x), lambda x: x >= 0, "0 or more"),
}
_OF_SEVERAL = {"max": np.maximum, "min": np.minimum}
FUNCTIONS = tuple(sorted({*_OF_ONE, *_OF_SEVERAL}))


@dataclass(frozen=True)
class Part:
    """An expression, or a part of one."""

    what: str
    """``number``, ``column``, ``+``, ``-``, ``*``, ``/``, ``^``, or the name of a function."""
    of: tuple[Part, ...] = ()
    """What it is done to."""
    number: float = 0.0
    """Of a number."""
    text: str = ""
    """Of a column its name; of all others as it is written."""

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns in it, in the order in which they come."""
        every = (self.text,) if self.what == "column" else tuple(name for part in self.of for name in part.columns)
        return tuple(dict.fromkeys(every))

    @property
    def shown(self) -> str:
        """How it is written: a column with such signs in its name between quotes."""
        if self.what != "column" or re.fullmatch(r"[^\W\d][\w.]*", self.text):
            return self.text
        mark = next((mark for mark in "'\"`" if mark not in self.text), "'")  # it stood between one that is not in it
        return f"{mark}{self.text}{mark}"

    @property
    def in_steps(self) -> bool:
        """Whether something in it has no derivative, such as rounding."""
        own = self.what in _OF_ONE and _OF_ONE[self.what].slope is None
        return own or any(part.in_steps for part in self.of)


@cache
def read(text: str) -> Part:
    """Read an expression: numbers, columns, ``+ - * / ^``, brackets, and `FUNCTIONS`.

    A name that is more than letters, digits, dots and underscores stands between quotes. ``^`` goes before a sign, and from right to left.

    Raises
    ------
    ColumnError
        If it cannot be read, with the place.
    """
    if len(text) > _LONGEST:
        raise ColumnError(f"An expression has at most {_LONGEST:,} letters, not {len(text):,}: calculate it in steps.")
    written = "".join(_tokens(text))
    try:
        tree = ast.parse(written, mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise ColumnError(
            f"`{text}` cannot be read as arithmetic: numbers, columns, + − * / ^ and brackets that close, for instance weight / (height / 100)^2."
        ) from None
    part = _part(tree, text, 0)
    if not part.columns:
        raise ColumnError(f"`{text}` names no column.")
    return part


def _tokens(text: str) -> list[str]:
    """Write an expression so that columns are texts, and only functions are names."""
    tokens, at, end = [], 0, len(text.rstrip())
    while at < end:
        found = _TOKEN.match(text, at)
        if found is None:
            raise ColumnError(_unread(text, text[at:].lstrip()))
        if found["call"]:
            if found["name"] not in FUNCTIONS:
                raise ColumnError(
                    f"`{text}`: there is no function `{found['name']}`. There are {listed(quoted(FUNCTIONS))}."
                )
            tokens.append(f"{found['name']}(")
        elif found["name"] or found["quoted"]:
            tokens.append(f"({found['name'] or found['quoted'][1:-1]!r})")  # in brackets, two do not run together
        elif found["number"]:
            if not np.isfinite(float(found["number"])):
                raise ColumnError(f"`{text}` holds a number that is too large, {found['number']}.")
            tokens.append(repr(float(found["number"])))
        else:
            tokens.append(_SIGNS.get(found["sign"], found["sign"]))
        tokens.append(" ")
        at = found.end()
    return tokens


def _unread(text: str, rest: str) -> str:
    if rest[0] in "<>=!&|":
        return f"`{text}` compares, and arithmetic gives numbers: `classify` makes a group of conditions."
    if rest[0].isdigit():
        return f"`{text}` cannot be read from `{rest[:12]}` on: a column whose name begins with a digit stands between quotes."
    return (
        f"`{text}` cannot be read from `{rest[:12]}` on: columns with such signs in their names stand between quotes."
    )


_OPERATORS = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.Pow: "^"}


def _part(tree: ast.AST, text: str, depth: int) -> Part:
    if depth > _DEEPEST:
        raise ColumnError(
            f"`{text}` has more than {_DEEPEST} levels of arithmetic in one another: calculate it in steps."
        )
    if isinstance(tree, ast.Constant) and isinstance(tree.value, str):
        return Part("column", text=tree.value)
    if isinstance(tree, ast.Constant) and isinstance(tree.value, float):
        return Part("number", number=tree.value, text=f"{tree.value:.15g}")
    if isinstance(tree, ast.UnaryOp) and isinstance(tree.op, (ast.USub, ast.UAdd)):
        inner = _part(tree.operand, text, depth + 1)
        if isinstance(tree.op, ast.UAdd):
            return inner
        if inner.what == "number":
            return Part("number", number=-inner.number, text=f"-{inner.text}")
        return _made("*", Part("number", number=-1.0, text="-1"), inner)
    if isinstance(tree, ast.BinOp) and type(tree.op) in _OPERATORS:
        return _made(_OPERATORS[type(tree.op)], _part(tree.left, text, depth + 1), _part(tree.right, text, depth + 1))
    if isinstance(tree, ast.Call) and isinstance(tree.func, ast.Name):
        name, of = tree.func.id, tuple(_part(own, text, depth + 1) for own in tree.args)
        if (name in _OF_ONE and len(of) != 1) or len(of) < 1:
            raise ColumnError(
                f"`{text}`: `{name}` takes {'one number' if name in _OF_ONE else 'numbers'}, by commas if several, not {len(of)}."
            )
        return _made(name, *of)
    raise ColumnError(
        f"`{text}` cannot be read as arithmetic: numbers have a decimal point, and signs stand between what they join."
    )


def _made(what: str, *of: Part) -> Part:
    return Part(what, of, text=_written(what, of))


_BINDS = {"+": 1, "-": 1, "*": 2, "/": 2, "^": 4}


def _written(what: str, of: Sequence[Part]) -> str:
    if what not in _BINDS:
        return f"{what}({', '.join(part.shown for part in of)})"
    own = _BINDS[what]
    left, right = (
        f"({part.shown})" if _binding(part) < own or (_binding(part) == own and k == (what != "^")) else part.shown
        for k, part in enumerate(of)
    )
    return f"{left}^{right}" if what == "^" else f"{left} {what} {right}"


def _binding(part: Part) -> int:
    if part.what == "number":
        return 5 if part.number >= 0 else 0
    return _BINDS.get(part.what, 5)


def places_that_fail(part: Part) -> list[tuple[str, Part, str]]:
    """List what may be undefined in some rows, in the order in which it is computed: ``zero`` or ``rule``, of which part, the rule in words."""
    found = [place for own in part.of for place in places_that_fail(own)]
    if part.what == "/":
        found.append(("zero", part.of[1], ""))
    elif part.what == "^":
        found += [("zero", part.of[0], ""), ("rule", part.of[0], "0 or more, or a power that is whole")]
    elif part.what in _OF_ONE and _OF_ONE[part.what].allowed is not None:
        found.append(("rule", part.of[0], _OF_ONE[part.what].rule))
    return found


def computed(part: Part, values: Mapping[str, Array]) -> tuple[Array, list[NDArray[np.bool_]]]:
    """Compute an expression of columns of one shape, and the rows where each of `places_that_fail` does."""
    faults: list[NDArray[np.bool_]] = []
    with np.errstate(all="ignore"):
        found = _value(part, values, faults)
    return found, faults


def _value(part: Part, values: Mapping[str, Array], faults: list[NDArray[np.bool_]]) -> Array:
    if part.what == "column":
        return values[part.text]
    if part.what == "number":
        return np.float64(part.number)  # type: ignore[return-value]
    of = [_value(own, values, faults) for own in part.of]
    if part.what in _OF_SEVERAL:
        found: Array = reduce(_OF_SEVERAL[part.what], of)
        return found
    if part.what in _OF_ONE:
        own = _OF_ONE[part.what]
        if own.allowed is not None:
            faults.append(~own.allowed(of[0]))
        return own.value(of[0])
    first, second = of
    if part.what == "/":
        faults.append(second == 0)
    elif part.what == "^":
        faults.append((first == 0) & (second < 0))
        faults.append((first < 0) & (second != np.trunc(second)))
    operations: dict[str, Callable[[Array, Array], Array]] = {
        "+": np.add,
        "-": np.subtract,
        "*": np.multiply,
        "/": np.divide,
        "^": np.power,
    }
    return operations[part.what](first, second)


def with_slopes(part: Part, names: Sequence[str], values: Sequence[Array]) -> tuple[Array, list[Array]]:
    """Compute an expression, and its derivative by each of its columns (forward, by the rules of sums, products, powers and chains)."""
    if part.what == "column":
        return values[names.index(part.text)], [np.float64(name == part.text) for name in names]  # type: ignore[misc]
    if part.what == "number":
        return np.float64(part.number), [np.float64(0.0)] * len(names)  # type: ignore[return-value, list-item]
    of = [with_slopes(own, names, values) for own in part.of]
    if part.what in _OF_SEVERAL:
        return reduce(lambda a, b: _chosen(part.what, a, b), of)
    (x, along), function = of[0], _OF_ONE.get(part.what)
    if function is not None:
        slope = function.slope(x) if function.slope is not None else np.nan * x
        return function.value(x), [np.where(own == 0, 0.0, slope * own) for own in along]
    y, beside = of[1]
    if part.what in "+-":
        sign = 1.0 if part.what == "+" else -1.0
        return x + sign * y, [a + sign * b for a, b in zip(along, beside, strict=True)]
    if part.what == "*":
        return x * y, [a * y + x * b for a, b in zip(along, beside, strict=True)]
    if part.what == "/":
        return x / y, [a / y - x * b / y**2 for a, b in zip(along, beside, strict=True)]
    found = np.power(x, y)
    by_base = [np.where(a == 0, 0.0, y * np.power(x, y - 1) * a) for a in along]
    by_power = [np.where(b == 0, 0.0, found * np.log(x) * b) for b in beside]
    return found, [a + b for a, b in zip(by_base, by_power, strict=True)]


def _chosen(
    what: str, first: tuple[Array, list[Array]], second: tuple[Array, list[Array]]
) -> tuple[Array, list[Array]]:
    takes = first[0] > second[0] if what == "max" else first[0] < second[0]
    slopes = [np.where(takes, a, b) for a, b in zip(first[1], second[1], strict=True)]
    return _OF_SEVERAL[what](first[0], second[0]), slopes


def differing_with(part: Part, name: str) -> set[str] | None:
    """Return by which columns the derivative along one of them differs; None where there is no such derivative, being 0 everywhere."""
    if part.what == "column":
        return set() if part.text == name else None
    inner = [differing_with(own, name) for own in part.of]
    if all(own is None for own in inner):
        return None
    found: set[str] = set().union(*(own for own in inner if own is not None))
    if part.what in "+-":
        return found
    if part.what == "*" or (part.what == "/" and inner[1] is None):
        others = [own.columns for own, along in zip(reversed(part.of), inner, strict=True) if along is not None]
        return found.union(*others)
    return found.union(*(own.columns for own in part.of))


def plain_step(part: Part) -> tuple[str, tuple[str, ...]] | None:
    """Return the step of `derive` that an expression is, and its columns; None where it is more than one.

    What is told of a logarithm, a square, a product or a mean of items is so told however it is written.
    """
    of, columns = part.of, part.columns
    plain = len(columns) == len(of) and all(own.what == "column" for own in of)
    if plain and (step := {"*": "product", "/": "ratio", "-": "difference", "ln": "log"}.get(part.what, part.what)) in (
        "cube_root",
        "difference",
        "log",
        "log1p",
        "product",
        "ratio",
        "sqrt",
    ):
        return step, columns
    if part.what == "/" and of[0].what == "number" and of[0].number == 1 and of[1].what == "column":
        return "reciprocal", columns
    items = _summed(part)
    if items and len(items) == len(columns) > 1:
        return "sum", columns
    items = _summed(of[0]) if part.what == "/" and of[1].what == "number" else []
    if items and len(items) == len(part.columns) == of[1].number > 1:
        return "mean", columns
    return None


def _summed(part: Part) -> list[str]:
    """Return the columns that are added up, and nothing else; empty where there is more to it."""
    if part.what == "column":
        return [part.text]
    parts = [_summed(own) for own in part.of] if part.what == "+" else []
    return [name for own in parts for name in own] if all(parts) else []


def outer_step(part: Part) -> tuple[str, Part] | None:
    """Return the outermost step, where it is a logarithm or a square, and what it is done to; None where it is something else."""
    if part.what in ("ln", "log"):
        inner = part.of[0]
        rest = [own for own in inner.of if not (own.what == "number" and own.number == 1)] if inner.what == "+" else []
        return ("log1p", rest[0]) if len(rest) == 1 else ("log", inner)
    if part.what == "log1p":
        return "log1p", part.of[0]
    if part.what == "^" and part.of[1].what == "number" and part.of[1].number == 2:
        return "square", part.of[0]
    if part.what == "*" and part.of[0] == part.of[1]:
        return "square", part.of[0]
    return None
