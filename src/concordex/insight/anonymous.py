"""Names, serials and addresses replaced by others of the same form: the same one everywhere, whatever its notation."""

from __future__ import annotations

import hashlib
import hmac
import random
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from ipaddress import IPv6Address, ip_address

#: Fields whose values are words that name somebody's things, and those whose values are numbers of single things.
WORDS = ("name", "user", "site", "location", "rack")
CODES = ("serial", "asset_tag", "uuid", "macs", "ips")
#: Fields whose words stay as they are: what a dialect goes by.
PLAIN = ("kind", "status", "os", "os_version", "model", "maker", "role")
#: What is replaced as one thing, and the words in anything else; shorter ones are in every text by chance.
_TOKEN = re.compile(r"[A-Za-z0-9](?:[\w.:-]*[A-Za-z0-9])?|::[A-Fa-f0-9:]+")
_WORD = re.compile(r"[A-Za-z]{3,}")
_RUN = re.compile(r"\d{4,}")
_MAC = re.compile(r"(?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}|(?:[0-9A-Fa-f]{4}\.){2}[0-9A-Fa-f]{4}|[0-9A-Fa-f]{12}")
_SHORTEST = 4
#: How often another is drawn where the first is a real one, or taken; among numbers of four figures it may stay so.
_DRAWN = 50


class Disguise:
    """What stands for what, by one ``key``: with another key everything is replaced by something else."""

    def __init__(self, key: bytes) -> None:
        self._key = key
        self._codes: dict[str, str] = {}
        self._words: dict[str, str] = {}
        self._runs: dict[str, str] = {}

    def learn(self, values: Mapping[str, Iterable[str]], leave: Iterable[str]) -> None:
        """Values by field, as they were sent; words in ``leave`` stay as they are."""
        stays = {word.lower() for text in leave for word in _WORD.findall(text)}
        stays |= {word.lower() for name in PLAIN for text in values.get(name, ()) for word in _WORD.findall(text)}
        named = [text for name in WORDS for text in values.get(name, ())]
        words = {word.lower() for text in named for word in _WORD.findall(text)} - stays
        self._words = {one: self._other_word(one, turn) for one, turn in _turns(words, self._other_word)}
        runs = {run for text in named for run in _RUN.findall(text)}
        self._runs = {one: self._other_run(one, turn) for one, turn in _turns(runs, self._other_run)}
        codes = {
            bare
            for name in CODES
            for text in values.get(name, ())
            if len(bare := text.split("/")[0] if name == "ips" else text) >= _SHORTEST and bare.lower() not in stays
        }
        self._codes = {code: made for code in codes if (made := self._other_address(code))}
        others = codes - self._codes.keys()
        plain = {_plain(code): code for code in others}
        turns = dict(_turns(set(plain), lambda one, turn: _plain(self._code(plain[one], turn))))
        self._codes |= {code: self._code(code, turns[_plain(code)]) for code in others}

    def text(self, text: str) -> str:
        """A text with everything replaced that is known."""
        return _TOKEN.sub(lambda match: self._codes.get(match[0]) or self._within(match[0]), text)

    def _within(self, token: str) -> str:
        """A token with its words, and the numbers in it that are in names, replaced; a number by itself stays."""
        made = _WORD.sub(self._word, token)
        if token.isdecimal() or not re.search("[A-Za-z]", token):
            return made
        return _RUN.sub(lambda match: self._runs.get(match[0], match[0]), made)

    def _word(self, match: re.Match[str]) -> str:
        other = self._words.get(match[0].lower())
        if other is None:
            return match[0]
        return other.upper() if match[0].isupper() else other.capitalize() if match[0][0].isupper() else other

    def _chance(self, *parts: str | int) -> random.Random:
        seed = hmac.new(self._key, "\0".join(map(str, parts)).encode(), hashlib.sha256).digest()
        return random.Random(seed)  # noqa: S311 - it is the key that keeps it secret

    def _other_word(self, word: str, turn: int) -> str:
        chance = self._chance("word", word, turn)
        return "".join(chance.choice("bcdfglmnprstvz" if at % 2 == 0 else "aeiou") for at in range(len(word)))

    def _other_run(self, run: str, turn: int) -> str:
        chance = self._chance("run", run, turn)
        return "".join(chance.choice("0123456789") for _ in run)

    def _other_address(self, text: str) -> str | None:
        """Another address for one, nothing for what is none.  By chance, it may be that of another device."""
        if _MAC.fullmatch(text):
            return self._mac(text)
        try:
            return self._address(text)
        except ValueError:
            return None

    def _code(self, text: str, turn: int) -> str:
        """Letters for letters and figures for figures; two notations of one code stay two notations of one."""
        chance = self._chance("code", _plain(text), turn)
        made = []
        for sign in text:
            if sign.isdecimal():
                made.append(chance.choice("0123456789"))
            elif sign.isascii() and sign.isalpha():
                hexadecimal = re.fullmatch(r"[0-9a-fA-F-]{36}", text)
                letter = chance.choice("abcdef" if hexadecimal else "abcdefghijklmnopqrstuvwxyz")
                made.append(letter.upper() if sign.isupper() else letter)
            else:
                made.append(sign)
        return "".join(made)

    def _mac(self, text: str) -> str:
        """IEEE EUI-48: whether it is one of many, or locally given, stays."""
        digits = re.sub(r"[^0-9a-f]", "", text.lower())
        chance = self._chance("mac", digits)
        first = (int(digits[:2], 16) & 0b11) | (chance.getrandbits(6) << 2)
        others = f"{first:02x}" + "".join(f"{chance.getrandbits(8):02x}" for _ in range(5))
        signs = iter(others.upper() if re.search("[A-F]", text) else others)
        return re.sub("[0-9A-Fa-f]", lambda _: next(signs), text)

    def _address(self, text: str) -> str:
        """The parts of an address each by what stands before it, so that what shared a network still does."""
        address = ip_address(text)
        octets, made = list(address.packed), list[int]()
        for at, octet in enumerate(octets):
            if at == 0 or (isinstance(address, IPv6Address) and at < 2):
                made.append(octet)  # private addresses stay private
                continue
            order = list(range(256))
            self._chance("ip", str(address.version), *map(str, octets[:at])).shuffle(order)
            made.append(order[octet])
        return str(ip_address(bytes(made)))


def _plain(code: str) -> str:
    """What two notations of one code share."""
    return re.sub(r"[\W_]", "", code).lower()


def _turns(real: set[str], other: Callable[[str, int], str]) -> Iterator[tuple[str, int]]:
    """How often to draw for each real one: so that none stands for two, and none that stands for another is real."""
    taken = set(real)
    for one in sorted(real):
        turn = next((turn for turn in range(_DRAWN) if other(one, turn) not in taken), 0)
        taken.add(other(one, turn))
        yield one, turn
