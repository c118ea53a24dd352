"""Who is at work."""

from __future__ import annotations

import os


def user() -> str:
    """Who is at the keyboard, as far as the machine knows."""
    from getpass import getuser

    try:
        return os.environ.get("CONCORDEX_USER") or getuser()
    except (OSError, KeyError):
        return ""
