"""Exit statuses, and the one place that tells what they mean."""

from enum import IntEnum


class Status(IntEnum):
    """How a command ended."""

    DONE = 0
    FAILED = 1
    CALLED_WRONGLY = 2
    FOUND = 3  # done, and it found what it was asked to look for
    PARTLY = 4
    STOPPED = 5  # by a guard or by the person
