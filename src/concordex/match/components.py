"""What hangs together: the connected components of pairs of rows."""

from __future__ import annotations

import numpy as np

from concordex.match.sorting import Numbers


def components(size: int, a: Numbers, b: Numbers) -> Numbers:
    """For each of ``size`` rows the least row that the pairs ``a``, ``b`` connect it with.

    By hooking the greater root of each pair under the lesser, and halving the ways up (Shiloach and Vishkin 1982).
    """
    root = np.arange(size)
    while True:
        one, other = root[a], root[b]
        apart = one != other
        if not apart.any():
            return root
        a, b = np.minimum(one, other)[apart], np.maximum(one, other)[apart]
        np.minimum.at(root, b, a)
        above = root[root]
        while (above != root).any():
            root, above = above, above[above]
