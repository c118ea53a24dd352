"""``concordex mend``."""

from concordex.cli import draw
from concordex.cli.options import OutputFormat, workspace
from concordex.cli.rows import emit_rows


def mend(form: OutputFormat = None) -> None:
    """Look at all that is kept here, and set right what a disk has lost.

    Every snapshot and the concordance are held against the digests that they had when they were written: one that is
    not as it was is set aside (its file stays, under another name), and the one before it stands for it.  A catalogue
    that cannot be read is made anew of all rows that still can, and of what the snapshots say of themselves; the old
    one stays beside it.  Run nothing else in this workspace meanwhile.

    Example: concordex mend
    """
    from dataclasses import asdict

    mended = workspace().mend()
    if mended or form is not None:
        emit_rows([asdict(repair) for repair in mended], form, None)
    if not mended:
        draw.note("everything stored here is intact")
