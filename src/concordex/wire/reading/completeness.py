"""What shows that a list came whole, and what shows nothing.

Pure: what the pages of a list showed goes in (a ``Trail``), and what may be said of it comes out (a
``Verdict``).  Whole is a proof; where there is none, the list is unproven.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum


class TableOutcome(StrEnum):
    """What may be said of a list that was read."""

    WHOLE = "whole"  # proved
    UNPROVEN = "unproven"  # all that the system gave, and nothing shows that this is all
    PARTIAL = "partial"  # something is missing, or may not be trusted


class Proof(StrEnum):
    """What shows that a list is whole."""

    TOTAL = "total"  # announced, agreed with, and nothing past it
    END = "end"  # an end was seen
    SPANS = "spans"  # no span of time was cut: the fullest were read again in halves
    VOUCHED = "vouched"  # the dialect gives a reason why it is never cut


class End(StrEnum):
    """How a list ended."""

    SAID = "said"  # no mark, no link, no more: by what was seen to tell of more
    EMPTY = "empty"  # a page past the last one held nothing
    REFUSED = "refused"  # a page past the last one was refused, as the dialect says it would be
    REPEATED = "repeated"  # the last page came again, as the dialect says it would
    SPANNED = "spanned"  # all spans of time were read, and none was full


@dataclass
class Trail:
    """What the pages of one list showed."""

    counts: list[tuple[int | None, int]] = field(default_factory=list)  # of each page: the total, and its length
    samples: list[tuple[int | None, int]] = field(default_factory=list)  # the same of pages asked for to learn more
    apart: int | None = None  # the total by a call of its own
    promised: str | None = None  # where the dialect says that a total stands
    end: End | None = None
    moved: str = ""  # what shows that the list changed while it was read
    faults: list[str] = field(default_factory=list)
    doubts: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    tells_gone: bool = False  # whether an answer had a place for what is gone
    gone: dict[str, None] = field(default_factory=dict)  # the ids that stood there

    @property
    def came(self) -> int:
        """How many records came."""
        return sum(length for _, length in self.counts)

    @property
    def agrees(self) -> bool:
        """Whether a total that means something is just what came."""
        by_total = _by_total(self, narrowed=False)
        return isinstance(by_total, _Total) and by_total.agrees

    @property
    def announced(self) -> int | None:
        """The total as it was last said."""
        totals = [total for total, _ in (*self.samples, *self.counts) if total is not None]
        return totals[-1] if totals else self.apart


@dataclass(frozen=True, kw_only=True)
class Verdict:
    """What may be said of a list, by what, or why no more."""

    outcome: TableOutcome
    proof: Proof | None = None
    why: str = ""
    notes: Sequence[str] = ()
    again: bool = False  # records may have moved while it was read: worth a second look


def verdict(trail: Trail, *, vouched: str | None = None, narrowed: bool = False) -> Verdict:
    """What the pages of a list show; ``narrowed`` where the system was asked for a part of it."""
    if trail.faults:
        return Verdict(outcome=TableOutcome.PARTIAL, why="; ".join(dict.fromkeys(trail.faults)), notes=trail.notes)
    if trail.moved:
        return Verdict(outcome=TableOutcome.PARTIAL, why=trail.moved, notes=trail.notes, again=True)
    by_total = _by_total(trail, narrowed=narrowed)
    if isinstance(by_total, Verdict):
        return by_total
    notes = [*trail.notes, *([by_total.remark] if by_total.remark else [])]
    if suspicious(trail.came) and (trail.end is None or (trail.end is End.SAID and not by_total.agrees)):
        notes.append(f"just {trail.came:,} records: systems cut lists at such numbers")
    cut = _looks_cut(trail)
    proof = _proof(trail, agrees=by_total.agrees)
    if proof and not cut:
        return Verdict(outcome=TableOutcome.WHOLE, proof=proof, notes=notes)
    why = "; ".join(dict.fromkeys([*([cut] if cut else []), *trail.doubts])) or "nothing shows that this is all"
    if vouched:
        return Verdict(outcome=TableOutcome.WHOLE, proof=Proof.VOUCHED, notes=notes)
    return Verdict(outcome=TableOutcome.UNPROVEN, why=why, notes=notes)


def suspicious(count: int) -> bool:
    """Whether systems cut lists at just that number."""
    if count in (50, 75, 150, 250, 750, 1024, 2048, 4096, 8192, 16384, 32768, 65535, 65536):
        return True
    digits = str(count).rstrip("0")
    return count >= 100 and digits in ("1", "2", "25", "5")


@dataclass(frozen=True)
class _Total:
    """Whether a total that means something agrees with what came, and what is odd about it."""

    agrees: bool
    remark: str = ""


def _by_total(trail: Trail, *, narrowed: bool) -> _Total | Verdict:
    """What the announced totals prove, or why nothing can be proved any more."""
    pages = [*trail.counts, *trail.samples]
    totals = {total for total, _ in pages if total is not None}
    if totals and trail.apart is None and all(total in (None, length) for total, length in pages):
        many = len([length for _, length in trail.counts if length]) > 1
        return _Total(agrees=False, remark="the total is each page's own count: it proves nothing" if many else "")
    if not totals and trail.apart is not None:
        totals = {trail.apart}
    if len(totals) == 1:
        return _compared(totals.pop(), trail, narrowed=narrowed)
    if not totals and trail.promised is None:
        return _Total(agrees=False)
    if not totals:
        why = f"no answer held the total that should stand at {trail.promised}"
        return Verdict(outcome=TableOutcome.PARTIAL, notes=trail.notes, why=why)
    why = f"the total changed from {min(totals):,} to {max(totals):,} while the list was read"
    return Verdict(outcome=TableOutcome.UNPROVEN, why=why, notes=trail.notes, again=True)


def _compared(total: int, trail: Trail, *, narrowed: bool) -> _Total | Verdict:
    came = trail.came
    if total == came:
        return _Total(agrees=True)
    if total < came:
        return _Total(agrees=False, remark=f"{total:,} were announced and {came:,} came: that total proves nothing")
    if narrowed:
        return _Total(agrees=False, remark=f"{total:,} were announced, perhaps of all that there are")
    why = f"{total:,} were announced, and {came:,} came"
    return Verdict(outcome=TableOutcome.PARTIAL, why=why, notes=trail.notes, again=True)


def _proof(trail: Trail, *, agrees: bool) -> Proof | None:
    if trail.doubts:
        return None
    if agrees and (trail.end or trail.apart is not None):
        return Proof.TOTAL
    if trail.end is End.SPANNED:
        return Proof.SPANS
    return Proof.END if trail.end else None


def _looks_cut(trail: Trail) -> str:
    """A list that stops at a round number with a full page may have been cut there, whatever is past it."""
    lengths = [length for _, length in trail.counts if length]
    came = trail.came
    if trail.end in (None, End.SAID, End.SPANNED) or came < 1_000 or not suspicious(came):
        return ""
    if len(lengths) > 1 and lengths[-1] < lengths[0]:
        return ""
    return f"it stops at {came:,} with a full page, and systems cut lists at such numbers"


def summed_up(verdicts: Sequence[Verdict]) -> Verdict:
    """What may be said of several lists that make one table: no more than of the weakest of them."""
    if not verdicts:
        return Verdict(outcome=TableOutcome.WHOLE, proof=Proof.END)
    notes = [note for verdict in verdicts for note in verdict.notes]
    for outcome in (TableOutcome.PARTIAL, TableOutcome.UNPROVEN):
        alike = [verdict for verdict in verdicts if verdict.outcome is outcome]
        if alike:
            whys = list(dict.fromkeys(verdict.why for verdict in alike))
            more = f" (and {len(whys) - 3} more)" if len(whys) > 3 else ""
            why = "; ".join(whys[:3]) + more
            return Verdict(outcome=outcome, why=why, notes=notes, again=any(verdict.again for verdict in alike))
    proofs = [verdict.proof for verdict in verdicts if verdict.proof]
    return Verdict(outcome=TableOutcome.WHOLE, proof=max(proofs, key=list(Proof).index), notes=notes)
