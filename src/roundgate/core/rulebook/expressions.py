"""The rule language: comparison, arithmetic with powers, ``and or not``, ``in``, ``matches``, and a few functions.

``any``, ``all``, ``count`` and ``sum`` go over a list, with ``item`` for each entry.

An expression is read once into a tree of tuples and worked out on plain values. It has no side effects, no loops and
no access to anything but the names it is given, and its depth is bounded.

    race.heat <= race.slots
    len(courses) >= 2 and not lobby.listed
    any(courses, item matches "ws:.*")
"""

from __future__ import annotations

import operator
import re
from collections import ChainMap
from collections.abc import Callable, Collection, Mapping
from decimal import ROUND_CEILING, ROUND_FLOOR, ROUND_HALF_UP, Decimal
from typing import Any

from roundgate.core.patterns import fits, lazy

Tree = tuple[Any, ...]

_TOKEN = lazy(
    r"\s*(?:(?P<number>\d+(?:\.\d+)?)(?![\w.])|(?P<text>\"[^\"]*\"|'[^']*')|(?P<name>[A-Za-z_][\w\-]*(?:\.[A-Za-z_][\w\-]*)*"
    r"(?:\[\w+\])?(?:@[\w\-]+)?)"
    r"|(?P<sign><=|>=|==|!=|[<>+\-*/%^(),]))"
)
_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "==": operator.eq,
    "!=": operator.ne,
}
_ARITHMETIC: dict[str, Callable[[Any, Any], Any]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "%": operator.mod,
    "^": operator.pow,
}
_OVER_ITEMS: dict[str, Callable[[Any], Any]] = {
    "any": any,
    "all": all,
    "count": lambda results: Decimal(sum(1 for result in results if result)),
    "sum": lambda results: sum(results, Decimal(0)),
}
"""Functions of a list and an expression about ``item``."""
_FUNCTIONS: dict[str, Callable[..., Any]] = {
    "len": lambda value: Decimal(len(value)),
    "lower": lambda text: str(text).lower(),
    "upper": lambda text: str(text).upper(),
    "words": lambda text: str(text).split(),
    "min": min,
    "max": max,
    "round": lambda value, step=Decimal(1): to_step(value, step, ROUND_HALF_UP),
    "floor": lambda value, step=Decimal(1): to_step(value, step, ROUND_FLOOR),
    "ceil": lambda value, step=Decimal(1): to_step(value, step, ROUND_CEILING),
}
"""Functions of values; ``min`` and ``max`` take two or more, or a list."""
_ONE_VALUE = frozenset(("len", "lower", "upper", "words"))
_RESERVED = frozenset(("and", "or", "not", "in", "matches", "true", "false", "item"))
"""No names. A function's word is one where no bracket follows: a field may be called ``count``."""
_DEEPEST = 60
_NO_FIELDS: Mapping[str, Collection[str]] = {}


class ExpressionProblem(ValueError):
    """An expression that cannot be read or worked out; the message says why."""


def to_step(value: Decimal, step: Decimal, how: str) -> Decimal:
    """Bring a number to a whole multiple of a step, which must be above 0. Raises ValueError or ArithmeticError."""
    if step <= 0:
        raise ValueError("a step must be above 0")
    return (value / step).to_integral_value(how) * step


def read_expression(source: str) -> Tree:
    """Read an expression into a tree. Raises ExpressionProblem."""
    return _Reader(source).whole()


def names_in(tree: Tree, fields: Mapping[str, Collection[str]] = _NO_FIELDS) -> set[str]:
    """Return every name that a tree uses; ``fields`` are those of the records of sets, no names of their own."""
    if tree[0] == "name":
        return {tree[1]}
    if tree[0] == "over" and tree[2][0] == "name":
        return {tree[2][1]} | (names_in(tree[3], fields) - set(fields.get(tree[2][1], ())))
    return {name for part in tree[1:] if isinstance(part, tuple) for name in names_in(part, fields)}


def work_out(tree: Tree, values: Mapping[str, Any]) -> Any:
    """Work a tree out on the values of its names. Raises ExpressionProblem where kinds do not fit together."""
    try:
        return _work_out(tree, values, None)
    except (TypeError, ValueError, ArithmeticError) as error:
        raise ExpressionProblem(f"it cannot be calculated: {error}") from error


class _Reader:
    """Reads by descending through the levels of binding, the loosest first."""

    def __init__(self, source: str) -> None:
        self.tokens = _tokens(source)
        self.at = 0
        self.depth = 0

    def whole(self) -> Tree:
        """Read all tokens. Raises ExpressionProblem where something is left over."""
        tree = self.either()
        if self.at < len(self.tokens):
            raise ExpressionProblem(f"'{self.tokens[self.at][1]}' is not expected here")
        return tree

    def _take(self, *symbols: str) -> str | None:
        kind, word = self.tokens[self.at] if self.at < len(self.tokens) else ("", "")
        if kind in ("sign", "name") and word in symbols:
            self.at += 1
            return word
        return None

    def _must(self, word: str) -> None:
        if not self._take(word):
            raise ExpressionProblem(f"a '{word}' is missing")

    def either(self) -> Tree:
        self.depth += 1
        if self.depth > _DEEPEST:
            raise ExpressionProblem("it is nested too deeply")
        tree = self.both()
        while self._take("or"):
            tree = ("or", tree, self.both())
        self.depth -= 1
        return tree

    def both(self) -> Tree:
        tree = self.negated()
        while self._take("and"):
            tree = ("and", tree, self.negated())
        return tree

    def negated(self) -> Tree:
        negations = 0
        while self._take("not"):
            negations += 1
        tree = self.compared()
        return ("not", tree) if negations % 2 else tree

    def compared(self) -> Tree:
        tree = self.summed()
        sign = self._take(*_COMPARE, "in", "matches")
        if not sign:
            return tree
        if sign == "matches":
            return ("matches", tree, self._pattern())
        return ("in", tree, self.summed()) if sign == "in" else ("compare", sign, tree, self.summed())

    def _pattern(self) -> str:
        kind, word = self.tokens[self.at] if self.at < len(self.tokens) else ("", "")
        if kind != "text":
            raise ExpressionProblem("'matches' needs a pattern in quotes")
        self.at += 1
        try:
            re.compile(word)
        except re.error as error:
            raise ExpressionProblem(f"the pattern {word!r} is wrong: {error}") from error
        return word

    def summed(self) -> Tree:
        tree = self.multiplied()
        while sign := self._take("+", "-"):
            tree = ("arithmetic", sign, tree, self.multiplied())
        return tree

    def multiplied(self) -> Tree:
        tree = self.signed()
        while sign := self._take("*", "/", "%"):
            tree = ("arithmetic", sign, tree, self.signed())
        return tree

    def signed(self) -> Tree:
        negations = 0
        while self._take("-"):
            negations += 1
        tree = self.raised()
        return ("arithmetic", "-", ("value", Decimal(0)), tree) if negations % 2 else tree

    def raised(self) -> Tree:
        tree = self.atom()
        if not self._take("^"):
            return tree
        self.depth += 1
        if self.depth > _DEEPEST:
            raise ExpressionProblem("it is nested too deeply")
        tree = ("arithmetic", "^", tree, self.signed())
        self.depth -= 1
        return tree

    def atom(self) -> Tree:
        if self._take("("):
            tree = self.either()
            self._must(")")
            return tree
        if self._is_call():
            word = self._take(*_FUNCTIONS, *_OVER_ITEMS)
            if word:
                return self._call(word)
        return self._leaf()

    def _is_call(self) -> bool:
        """Return whether a value follows, with its bracket or where it was forgotten: else the word is a name."""
        kind, word = self.tokens[self.at + 1] if self.at + 1 < len(self.tokens) else ("sign", "")
        return (
            word == "(" or kind in ("number", "text") or (kind == "name" and word not in ("and", "or", "in", "matches"))
        )

    def _call(self, word: str) -> Tree:
        self._must("(")
        parts = [self.either()]
        if word in _OVER_ITEMS and word != "count":
            self._must(",")
            parts.append(self.either())
        while self._take(","):
            parts.append(self.either())
        self._must(")")
        if word in _OVER_ITEMS:
            if word == "count" and len(parts) == 1:
                parts.append(("value", True))
            if len(parts) != 2:
                raise ExpressionProblem(f"'{word}' needs a list and an expression about item")
            return ("over", word, *parts)
        if word in _ONE_VALUE and len(parts) != 1:
            raise ExpressionProblem(f"'{word}' needs one value")
        return ("call", word, *parts)

    def _leaf(self) -> Tree:
        if self.at >= len(self.tokens):
            raise ExpressionProblem("it ends too early")
        kind, word = self.tokens[self.at]
        self.at += 1
        if kind == "number":
            return ("value", Decimal(word))
        if kind == "text":
            return ("value", word)
        if kind == "name" and word in ("true", "false"):
            return ("value", word == "true")
        if kind == "name" and word == "item":
            return ("item",)
        if kind == "name" and word not in _RESERVED:
            return ("name", word)
        raise ExpressionProblem(f"'{word}' is where a value is expected")


def _tokens(source: str) -> list[tuple[str, str]]:
    tokens: list[tuple[str, str]] = []
    at, end = 0, len(source.rstrip())
    while at < end:
        match = _TOKEN.match(source, at)
        if not match or match.lastgroup is None:
            raise ExpressionProblem(f"'{source[at:].strip()[:10]}' is not understood")
        word = match[match.lastgroup]
        tokens.append((match.lastgroup, word[1:-1] if match.lastgroup == "text" else word))
        at = match.end()
    return tokens


def _work_out(tree: Tree, values: Mapping[str, Any], item: Any) -> Any:
    def part(number: int) -> Any:
        return _work_out(tree[number], values, item)

    kind = tree[0]
    if kind in ("value", "name", "item"):
        return _leaf_value(tree, values, item)
    if kind == "compare":
        left, right = part(2), part(3)
        return _COMPARE[tree[1]](left, right)
    if kind == "arithmetic":
        return _ARITHMETIC[tree[1]](part(2), part(3))
    if kind in ("and", "or"):
        return (part(1) and part(2)) if kind == "and" else (part(1) or part(2))
    if kind == "over":
        return _OVER_ITEMS[tree[1]](
            _work_out(tree[3], _with_fields(values, record), _as_number(record)) for record in part(2)
        )
    if kind == "call":
        return _FUNCTIONS[tree[1]](*(part(number) for number in range(2, len(tree))))
    if kind == "matches":
        return fits(tree[2], str(part(1)))
    if kind == "in":
        return part(1) in part(2)
    return not part(1)


def _with_fields(values: Mapping[str, Any], item: Any) -> Mapping[str, Any]:
    """Let the fields of a record be names, before those of settings."""
    return ChainMap(item, values) if isinstance(item, Mapping) else values  # type: ignore[arg-type]


def _leaf_value(tree: Tree, values: Mapping[str, Any], item: Any) -> Any:
    value = item if tree[0] == "item" else values[tree[1]] if tree[0] == "name" else tree[1]
    return _as_number(value)


def _as_number(value: Any) -> Any:
    return Decimal(value) if isinstance(value, int) and not isinstance(value, bool) else value
