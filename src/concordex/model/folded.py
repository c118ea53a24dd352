"""Texts as they are compared: two that a system may write one for the other are one."""

from __future__ import annotations

import unicodedata


def folded(text: str) -> str:
    """A text in small letters, in one form of Unicode (UAX 15, NFC), with single spaces between its words."""
    text = text.strip().lower()
    if not text.isascii():  # many times for each of many records
        text = unicodedata.normalize("NFC", text)
    return " ".join(text.split()) if "  " in text or "\t" in text or "\xa0" in text else text
