"""What a condition means: one answer in every store, though they differ in how they compare and calculate.

Each part of an expression is given a type, a text in quotes that of what it stands beside, and is written out so that all read
it alike: whole numbers are calculated with as such, up to the digits that a decimal can have, all others as double precision;
decimals are compared exactly; ``/`` divides without rounding, and by zero it is null; texts are compared by their code points.
What is ambiguous is an error.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING

from brenvik.merge import sql
from brenvik.model.types import MAX_DIGITS, TEXT, ColumnType, parse_type

if TYPE_CHECKING:
    from sqlglot import exp

_NUMBERS = frozenset({"integer", "decimal", "double"})
_COMPARED = {"eq": "=", "neq": "<>", "gt": ">", "gte": ">=", "lt": "<", "lte": "<="}
_SAME = {"nullsafeeq": "IS NOT DISTINCT FROM", "nullsafeneq": "IS DISTINCT FROM"}
_CALCULATED = {"add": "+", "sub": "-", "mul": "*"}
_CAST_TO = {
    "text": "text", "varchar": "text", "int": "integer", "bigint": "integer", "double precision": "double",
    "boolean": "boolean", "date": "date", "time": "time", "timestamp": "timestamp", "timestamptz": "timestamp with time zone",
}  # fmt: skip
_AS_DOUBLE = "CAST({} AS DOUBLE PRECISION)"
_WHOLE = (19, 0)
"""The digits of a whole number in 64 bits."""


@dataclass(frozen=True)
class _Term:
    """A part of an expression: its text, its kind (one of ``types``, ``quoted`` for a text in quotes, ``null``), the number or
    text that stands there, and of exact numbers how many digits they can have before and behind the point."""

    text: str
    kind: str
    number: Decimal | None = None
    quoted: str = ""
    digits: tuple[int, int] = _WHOLE


TRUE, FALSE, NULL = _Term("TRUE", "boolean"), _Term("FALSE", "boolean"), _Term("NULL", "null")


def write(tree: exp.Expr, values: Mapping[str, str], types: Mapping[str, ColumnType], *, untyped: bool) -> str:
    """A condition in the flavour of the core, which DuckDB reads too, over columns that have these values and types; ``untyped``
    where the store keeps decimals and times as text.

    Raises ValueError that names what cannot be compared or calculated, or says that it is not a condition.
    """
    term = _Writer(values, types, untyped).of(tree)
    if term.kind != "boolean":
        raise ValueError(f"{_text_of(tree)!r} is {_a(term.kind)}; a condition must be true or false")
    return term.text


def write_value(
    tree: exp.Expr, values: Mapping[str, str], types: Mapping[str, ColumnType], *, untyped: bool, exact: bool
) -> tuple[str, ColumnType]:
    """An expression of any type in the same way, and its type; whole numbers that can have more than 64 bits are ``exact`` as
    decimals only. Raises ValueError as ``write`` does."""
    term = _Writer(values, types, untyped).of(tree)
    before, behind = term.digits
    match term.kind:
        case "quoted" | "null":
            kind = TEXT
        case "decimal":
            kind = ColumnType("decimal", precision=before + behind, scale=behind)
        case "integer" if exact and before > _WHOLE[0]:
            kind = ColumnType("decimal", precision=before)
        case _:
            kind = ColumnType(term.kind)
    return f"CAST({term.text} AS {kind.sql})", kind


def _text_of(node: exp.Expr) -> str:
    return node.sql("postgres")


def _a(kind: str) -> str:
    plain = {
        "text": "text", "quoted": "text", "binary": "bytes", "null": "null", "boolean": "true or false",
        "integer": "a whole number", "decimal": "a number", "double": "a number",
    }  # fmt: skip
    return plain.get(kind) or f"a {kind}"


def _number(number: Decimal) -> _Term:
    whole = number == number.to_integral_value() and number.as_tuple().exponent == 0
    behind = 0 if whole else max(0, -int(number.as_tuple().exponent))
    before = max(1, number.adjusted() + 1)
    if before + behind > MAX_DIGITS:
        raise ValueError(f"{number} has more than {MAX_DIGITS} digits")
    return _Term(f"{number:f}", "integer" if whole else "decimal", number, digits=(before, behind))


class _Writer:
    def __init__(self, values: Mapping[str, str], types: Mapping[str, ColumnType], untyped: bool) -> None:
        self.values, self.types, self.untyped = values, types, untyped

    def of(self, node: exp.Expr) -> _Term:
        term = self.as_written(node)
        return _Term(f"(NOT {term.text})", "boolean") if node.args.get("negate") else term

    def as_written(self, node: exp.Expr) -> _Term:
        match node.key:
            case "column":
                if node.name not in self.types:
                    raise ValueError(f"there is no column {node.name}")
                of = self.types[node.name]
                digits = (of.precision - of.scale, of.scale) if of.kind == "decimal" else _WHOLE
                return _Term(self.values[node.name], of.kind, digits=digits)
            case "paren":
                return self.of(node.this)
            case "literal":
                if node.args["is_string"]:
                    return _Term(sql.literal(node.name), "quoted", quoted=node.name)
                return _number(Decimal(node.name))
            case "boolean":
                return TRUE if node.this else FALSE
            case "null":
                return NULL
            case "and" | "or":
                left, right = (self.condition(part) for part in (node.this, node.expression))
                return _Term(f"({left} {node.key.upper()} {right})", "boolean")
            case "not":
                return _Term(f"(NOT {self.condition(node.this)})", "boolean")
            case "is":
                return self.is_(node)
            case "in":
                first, *others = self.alike(node, [node.this, *node.expressions])
                return _Term(f"({first} IN ({', '.join(others)}))", "boolean")
            case "between":
                value, low, high = self.alike(node, [node.this, node.args["low"], node.args["high"]], ordered=True)
                return _Term(f"({value} BETWEEN {low} AND {high})", "boolean")
            case "like" | "ilike":
                return self.like(node)
            case "case" | "if":
                return self.case(node)
            case "coalesce" | "nullif":
                parts = [node.this, *(node.expressions or [node.args["expression"]])]
                texts, kind, digits = self.unified(node, [self.of(part) for part in parts])
                return _Term(f"{node.key.upper()}({', '.join(texts)})", kind, digits=digits)
            case "neg" | "abs" | "add" | "sub" | "mul" | "div" | "mod":
                return self.calculated(node)
            case "cast":
                return self.cast(node)
        if node.key in _COMPARED or node.key in _SAME:
            left, right = self.alike(node, [node.this, node.expression], ordered=node.key in ("gt", "gte", "lt", "lte"))
            return _Term(f"({left} {_COMPARED.get(node.key) or _SAME[node.key]} {right})", "boolean")
        return self.of_text(node)

    def condition(self, node: exp.Expr) -> str:
        term = self.of(node)
        if term.kind not in ("boolean", "null"):
            raise ValueError(f"{_text_of(node)!r} is {_a(term.kind)}; expected true or false")
        return term.text

    def is_(self, node: exp.Expr) -> _Term:
        if node.expression.key not in ("null", "boolean"):
            raise ValueError(f"{_text_of(node)!r}: IS can be used with NULL, TRUE and FALSE only")
        value = self.of(node.this).text if node.expression.key == "null" else self.condition(node.this)
        return _Term(f"({value} IS {self.of(node.expression).text})", "boolean")

    # What stands beside each other

    def alike(self, node: exp.Expr, parts: Sequence[exp.Expr], *, ordered: bool = False) -> list[str]:
        """Parts that are compared with each other."""
        terms, family = self.family(node, [self.of(part) for part in parts])
        if family == "binary" and ordered:
            raise ValueError(f"{_text_of(node)!r}: binary values cannot be ordered")
        if family == "text" and ordered:
            return [f'(CAST({term.text} AS TEXT) COLLATE "C")' for term in terms]
        if family != "number":
            return [term.text for term in terms]
        exact = [term for term in terms if term.kind != "null"]
        kinds = {term.kind for term in exact}
        fits = sum(max(digits) for digits in zip(*(term.digits for term in exact), strict=True)) <= MAX_DIGITS
        if "double" in kinds or ("decimal" in kinds and not fits):
            return [self.double(term) for term in terms]
        if self.untyped and any(term.kind == "decimal" and term.number is None for term in exact):
            return [self.in_order(term) for term in terms]
        return [term.text for term in terms]

    def in_order(self, term: _Term) -> str:
        exact = term.text if term.number is None else sql.literal(term.text)
        return term.text if term.kind == "null" else f"brenvik_in_order({exact})"

    def unified(self, node: exp.Expr, terms: Sequence[_Term]) -> tuple[list[str], str, tuple[int, int]]:
        """Parts of which one is the value, its kind and digits."""
        alike, family = self.family(node, terms)
        if family != "number":
            return [term.text for term in alike], family, _WHOLE
        if all(term.kind in ("integer", "null") for term in alike):
            return [term.text for term in alike], "integer", max(term.digits for term in alike)
        return [self.double(term) for term in alike], "double", _WHOLE

    def family(self, node: exp.Expr, terms: Sequence[_Term]) -> tuple[list[_Term], str]:
        """The same parts, with quoted texts in the type of the others; and their common type."""
        kinds = {"number" if term.kind in _NUMBERS else term.kind for term in terms} - {"quoted", "null"}
        if len(kinds) > 1:
            kinds_named = " with ".join(
                dict.fromkeys(_a(term.kind) for term in terms if term.kind not in ("quoted", "null"))
            )
            raise ValueError(f"{_text_of(node)!r} combines {kinds_named}")
        family = next(iter(kinds), "text")
        return [self.as_kind(term, family) if term.kind == "quoted" else term for term in terms], family

    def as_kind(self, term: _Term, kind: str) -> _Term:
        """The value of a quoted text."""
        text = term.quoted.strip()
        try:
            match kind:
                case "text":
                    return _Term(term.text, "text")
                case "boolean":
                    return {"true": TRUE, "false": FALSE}[text.casefold()]
                case "integer":
                    read: object = Decimal(int(text))
                case "number" | "double":
                    read = Decimal(text)
                case "date":
                    read = date.fromisoformat(text)
                case "time":
                    read = time.fromisoformat(text)
                case _:
                    read = datetime.fromisoformat(text)
        except (KeyError, InvalidOperation, ValueError):
            read = None
        match read:
            case Decimal() if read.is_finite():
                return _number(read)
            case Decimal():
                kept = _AS_DOUBLE.format(term.text)
                if self.untyped:  # where any text is above all numbers, and equal to none
                    kept = term.text if read.is_nan() else "9e999" if read > 0 else "-9e999"
                return _Term(kept, "double")
            case datetime() if kind == "timestamp":
                return self.moment(read.astimezone(UTC).replace(tzinfo=None) if read.tzinfo else read, kind)
            case datetime() if read.tzinfo:
                return self.moment(read.astimezone(UTC), kind)
            case datetime():
                raise ValueError(f"{term.text} has no UTC offset, as in '2024-05-13 08:00:00+02:00'")
            case date() | time(tzinfo=None):
                return self.moment(read, kind)
        raise ValueError(f"{term.text} is not a valid {kind}")

    def moment(self, moment: date | time, kind: str) -> _Term:
        return _Term(f"CAST({sql.literal(str(moment))} AS {ColumnType(kind).sql})", kind)

    # Numbers

    def double(self, term: _Term) -> str:
        if term.number is not None:
            return f"{term.text}e0"
        return term.text if term.kind in ("double", "null") else _AS_DOUBLE.format(term.text)

    def calculated(self, node: exp.Expr) -> _Term:
        parts = [node.this] if node.key in ("neg", "abs") else [node.this, node.expression]
        terms = [self.of(part) for part in parts]
        terms = [self.as_kind(term, "number") if term.kind == "quoted" else term for term in terms]
        for part, term in zip(parts, terms, strict=True):
            if term.kind not in (*_NUMBERS, "null"):
                raise ValueError(f"{_text_of(node)!r} calculates with {_text_of(part)!r}, which is {_a(term.kind)}")
        if node.key == "neg" and terms[0].number is not None:
            return _number(-terms[0].number)
        whole = all(term.kind in ("integer", "null") for term in terms)
        if node.key == "mod" and not whole:
            raise ValueError(f"{_text_of(node)!r}: a remainder is defined for integers only")
        most = [term.digits[0] for term in terms]
        digits = sum(most) if node.key == "mul" else max(most) + (node.key in ("add", "sub"))
        exact = whole and node.key != "div" and digits <= MAX_DIGITS
        kind = "integer" if exact else "double"
        texts = [self.exact(term) if exact else self.double(term) for term in terms]
        match node.key:
            case "neg":
                made = f"(- {texts[0]})"
            case "abs":
                made = f"ABS({texts[0]})"
            case "div" | "mod":
                by = texts[1] if terms[1].number else f"NULLIF({texts[1]}, {'0' if exact else '0e0'})"
                made = f"({texts[0]} {'/' if node.key == 'div' else '%'} {by})"
            case _:
                made = f"({texts[0]} {_CALCULATED[node.key]} {texts[1]})"
        return _Term(made, kind, digits=(digits, 0) if exact else _WHOLE)

    def exact(self, term: _Term) -> str:
        """A whole number so that what is calculated with it does not overflow; SQLite goes on in double precision by itself."""
        return term.text if self.untyped else f"CAST({term.text} AS DECIMAL({term.digits[0]}, 0))"

    # Texts

    def text(self, node: exp.Expr, part: exp.Expr, *, also_numbers: bool = False) -> str:
        term = self.of(part)
        if term.kind in ("text", "quoted", "null"):
            return "CAST(NULL AS TEXT)" if term.kind == "null" else term.text
        if also_numbers and term.kind in ("integer", "decimal"):
            return sql.literal(term.text) if term.number is not None else f"CAST({term.text} AS TEXT)"
        raise ValueError(f"{_text_of(node)!r}: {_text_of(part)!r} is {_a(term.kind)}, not text")

    def count(self, node: exp.Expr, part: exp.Expr | None, least: int) -> int:
        if part is None or part.key != "literal" or not part.name.isdigit() or int(part.name) < least:
            raise ValueError(f"{_text_of(node)!r}: positions and lengths must be numbers, {least} or more")
        return int(part.name)

    def like(self, node: exp.Expr) -> _Term:
        pattern = self.of(node.expression)
        if pattern.kind != "quoted" or "\\" in pattern.quoted:
            raise ValueError(f"{_text_of(node)!r}: a pattern must be a string literal without a backslash")
        return _Term(f"({self.text(node, node.this)} {node.key.upper()} {pattern.text})", "boolean")

    def of_text(self, node: exp.Expr) -> _Term:
        value = "" if node.key == "concat" else self.text(node, node.this, also_numbers=node.key == "dpipe")
        match node.key:
            case "lower" | "upper":
                return _Term(f"{node.key.upper()}({value})", "text")
            case "length":
                return _Term(f"LENGTH({value})", "integer")
            case "trim":
                side, letters = node.args.get("position") or "BOTH", node.args.get("expression")
                which = self.text(node, letters) if letters else "' '"
                return _Term(f"TRIM({side} {which} FROM {value})", "text")
            case "dpipe":
                return _Term(f"({value} || {self.text(node, node.expression, also_numbers=True)})", "text")
            case "concat":  # of which null is nothing
                parts = [f"COALESCE({self.text(node, part, also_numbers=True)}, '')" for part in node.expressions]
                return _Term(f"({' || '.join(parts)})", "text")
            case "substring":
                start, length = node.args.get("start"), node.args.get("length")
                many = f" FOR {self.count(node, length, 0)}" if length else ""
                return _Term(f"SUBSTRING({value} FROM {self.count(node, start, 1)}{many})", "text")
            case "left":
                return _Term(f"SUBSTRING({value} FROM 1 FOR {self.count(node, node.expression, 0)})", "text")
            case "right":
                many = str(self.count(node, node.expression, 1))
                last = f"SUBSTRING({value} FROM LENGTH({value}) - {many} + 1)"
                return _Term(f"CASE WHEN LENGTH({value}) <= {many} THEN {value} ELSE {last} END", "text")
            case "startswith":
                first = self.text(node, node.expression)
                return _Term(f"(SUBSTRING({value} FROM 1 FOR LENGTH({first})) = {first})", "boolean")
        raise ValueError(f"{_text_of(node)!r} is not allowed here")

    # Cases and casts

    def case(self, node: exp.Expr) -> _Term:
        ways = [node] if node.key == "if" else node.args["ifs"]
        if node.key == "case" and node.this is not None:
            tests = ["({} = {})".format(*self.alike(way, [node.this, way.this])) for way in ways]
        else:
            tests = [self.condition(way.this) for way in ways]
        other = node.args.get("false" if node.key == "if" else "default")
        terms = [*(self.of(way.args["true"]) for way in ways), self.of(other) if other is not None else NULL]
        (*texts, last), kind, digits = self.unified(node, terms)
        cases = " ".join(f"WHEN {test} THEN {text}" for test, text in zip(tests, texts, strict=True))
        return _Term(f"CASE {cases} ELSE {last} END", kind, digits=digits)

    def cast(self, node: exp.Expr) -> _Term:
        term, kind = self.of(node.this), _CAST_TO.get(node.args["to"].sql("postgres").lower())
        if kind is None:
            raise ValueError(f"{_text_of(node)!r}: can be cast only to {', '.join(_CAST_TO)}")
        if term.kind == "null":
            return _Term(f"CAST(NULL AS {parse_type(kind).sql})", kind)
        if term.kind == "quoted":
            made = self.as_kind(term, kind)
            return _Term(self.double(made), "double") if kind == "double" else made
        if term.kind == kind:
            return term
        if kind == "double" and term.kind in _NUMBERS:
            return _Term(self.double(term), "double")
        if kind == "text" and term.kind in ("integer", "decimal"):
            return _Term(self.text(node, node.this, also_numbers=True), "text")
        if kind == "text" and term.kind == "date":
            return _Term(f"CAST({term.text} AS TEXT)", "text")
        if kind == "date" and term.kind in ("timestamp", "timestamp with time zone"):
            day = f"SUBSTRING({term.text} FROM 1 FOR 10)" if self.untyped else f"CAST({term.text} AS DATE)"
            return _Term(day, "date")
        raise ValueError(
            f"{_text_of(node)!r} converts {_a(term.kind)} to {_a(kind)}, which differs between stores; "
            "declare the type of the column instead"
        )
