"""Reading a filter expression.

either   = both { "or" both }
both     = negated { "and" negated }
negated  = "not" negated | "(" either ")" | clause
clause   = ( field | "count" "(" field ")" ) test
test     = ( "=" | "!=" | "<" | "<=" | ">" | ">=" ) value
         | [ "not" ] "in" "(" value { "," value } ")"
         | [ "not" ] ( "like" | "matches" | "within" ) value
         | ( "older" | "newer" ) "than" value | "missing" | "present"
"""

from __future__ import annotations

import re
from dataclasses import replace

from concordex.errors import QueryError
from concordex.query.tree import And, Clause, Filter, Node, Not, Or, Word
from concordex.words import nearest

COMPARISONS = ("=", "!=", "<", "<=", ">", ">=")
TESTS = (
    *COMPARISONS,
    "in",
    "like",
    "matches",
    "within",
    "older than",
    "newer than",
    "missing",
    "present",
    "not in",
)
RESERVED = frozenset(
    ["and", "or", "not", "in", "like", "matches", "within", "older", "newer", "than", "missing", "present"]
)

#: How deep parts may stand within parts.
_DEEPEST = 50
_TOKEN = re.compile(
    r"""\s*(?:
        (?P<quoted>"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')
      | (?P<sign><=|>=|!=|==|=|<|>|\(|\)|,)
      | (?P<word>[^\s"'()=<>!,]+)
      | (?P<wrong>\S)
    )""",
    re.VERBOSE,
)


def parse(text: str) -> Filter:
    """The filter that ``text`` says; raises QueryError with a caret under the first mistake."""
    return Filter(text, _Reader(text).whole())


class _Token:
    """A quoted text, a sign or a bare word, and its place."""

    def __init__(self, kind: str, text: str, start: int, end: int) -> None:
        self.kind, self.text, self.start, self.end = kind, text, start, end

    def is_word(self, *words: str) -> bool:
        return self.kind == "word" and self.text.lower() in words


class _Reader:
    """One pass over the tokens, one method for each line of the grammar."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens = self._tokens()
        self.at = self.depth = 0

    def whole(self) -> Node:
        if self._here().kind == "end":
            raise self._wrong(self._here(), "the filter is empty")
        node = self._either()
        rest = self._here()
        if rest.kind != "end":
            raise self._wrong(rest, 'expected "and", "or" or the end here')
        return node

    def _tokens(self) -> list[_Token]:
        tokens = []
        for match in _TOKEN.finditer(self.text):
            kind = match.lastgroup or "wrong"
            token = _Token(kind, match[kind], match.start(kind), match.end(kind))
            if kind == "wrong":
                quote = token.text in "\"'"
                raise self._wrong(token, "this quotation mark is not closed" if quote else "cannot be read here")
            tokens.append(token)
        end = len(self.text.rstrip())
        return [*tokens, _Token("end", "", end, end + 1)]

    def _wrong(self, token: _Token, what: str, advice: str = "") -> QueryError:
        return QueryError(what, self.text, token.start, token.end, advice)

    def _here(self) -> _Token:
        return self.tokens[self.at]

    def _take(self) -> _Token:
        token = self._here()
        self.at += token.kind != "end"
        return token

    def _need(self, sign: str) -> _Token:
        token = self._take()
        if token.text != sign or token.kind != "sign":
            raise self._wrong(token, f'expected "{sign}" here')
        return token

    def _placed(self, node: Node, start: int) -> Node:
        """``node``, knowing that it stands from ``start`` to the token just taken."""
        return replace(node, span=(start, self.tokens[self.at - 1].end))

    def _deeper(self, token: _Token) -> None:
        self.depth += 1
        if self.depth > _DEEPEST:
            raise self._wrong(token, f"the filter is nested more than {_DEEPEST} deep")

    def _either(self) -> Node:
        start, parts = self._here().start, [self._both()]
        while self._here().is_word("or"):
            self._take()
            parts.append(self._both())
        return parts[0] if len(parts) == 1 else self._placed(Or(tuple(parts)), start)

    def _both(self) -> Node:
        start, parts = self._here().start, [self._negated()]
        while self._here().is_word("and"):
            self._take()
            parts.append(self._negated())
        flat = [inner for part in parts for inner in (part.parts if isinstance(part, And) else (part,))]
        return flat[0] if len(flat) == 1 else self._placed(And(tuple(flat)), start)

    def _negated(self) -> Node:
        token = self._here()
        if token.is_word("not"):
            self._deeper(token)
            self._take()
            node: Node = Not(self._negated())
            self.depth -= 1
            return self._placed(node, token.start)
        if token.text == "(" and token.kind == "sign":
            self._deeper(token)
            self._take()
            node = self._either()
            self._need(")")
            self.depth -= 1
            return self._placed(node, token.start)
        return self._placed(self._clause(), token.start)

    def _clause(self) -> Node:
        token = self._take()
        if token.kind != "word" or token.text.lower() in RESERVED:
            raise self._wrong(token, "expected the name of a field here")
        if token.is_word("count") and self._here().text == "(":
            self._need("(")
            field = self._word(self._take())
            self._need(")")
            return self._test(field, counted=True)
        return self._test(self._word(token), counted=False)

    def _test(self, field: Word, *, counted: bool) -> Node:
        token = self._take()
        operator = token.text.lower()
        if token.is_word("not") and self._here().is_word("in", "like", "matches", "within"):
            return Not(self._test(field, counted=counted))
        if token.kind == "sign" and operator in (*COMPARISONS, "=="):
            operator = "=" if operator == "==" else operator
            return Clause(field=field, operator=operator, values=(self._value(),), counted=counted)
        if counted:
            raise self._wrong(token, "a count is compared with a number: =, !=, <, <=, > or >=")
        if token.is_word("in"):
            return Clause(field=field, operator="in", values=self._values())
        if token.is_word("like", "matches", "within"):
            return Clause(field=field, operator=operator, values=(self._value(),))
        if token.is_word("missing", "present"):
            return Clause(field=field, operator=operator)
        if token.is_word("older", "newer"):
            than = self._take()
            if not than.is_word("than"):
                raise self._wrong(than, f'expected "than" after "{operator}"')
            return Clause(field=field, operator=f"{operator} than", values=(self._value(),))
        raise self._no_test(token, field)

    def _no_test(self, token: _Token, field: Word) -> QueryError:
        known = ", ".join(TESTS)
        near = nearest(token.text, TESTS) if token.kind == "word" else None
        what = f'"{token.text}" is not a test' if token.kind == "word" else f'expected a test after "{field.text}"'
        return self._wrong(token, what, f'did you mean "{near}"?' if near else f"tests: {known}")

    def _values(self) -> tuple[Word, ...]:
        self._need("(")
        values = [self._value()]
        while self._here().text == "," and self._here().kind == "sign":
            self._take()
            values.append(self._value())
        self._need(")")
        return tuple(values)

    def _value(self) -> Word:
        token = self._take()
        if token.kind not in ("word", "quoted"):
            raise self._wrong(token, "expected a value here")
        return self._word(token)

    def _word(self, token: _Token) -> Word:
        if token.kind == "quoted":
            inner = re.sub(r"\\(.)", r"\1", token.text[1:-1]) if "\\" in token.text else token.text[1:-1]
            return Word(text=inner, start=token.start, end=token.end, quoted=True)
        if token.kind != "word":
            raise self._wrong(token, "expected the name of a field here")
        return Word(text=token.text, start=token.start, end=token.end)
