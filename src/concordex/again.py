"""Trying again, by a library that says nothing of it here: whoever tries says what is worth saying."""

from stamina import retry_context
from stamina.instrumentation import set_on_retry_hooks

set_on_retry_hooks([])

__all__ = ["retry_context"]
