"""Texts as they are compared: two that a system may write one for the other are one."""

from __future__ import annotations

import re
import unicodedata

#: What stands between two words of a line.
BETWEEN = r"[^\S\r\n]+"
_BETWEEN = re.compile(BETWEEN)


def folded(text: str) -> str:
    """A text in small letters, in one form of Unicode (UAX 15, NFC), with single spaces between the words of a line."""
    text = text.strip().lower()
    if not text.isascii():
        text = unicodedata.normalize("NFC", text)
    elif "  " not in text and "\t" not in text:  # as nearly all of many thousand
        return text
    return _BETWEEN.sub(" ", text)
