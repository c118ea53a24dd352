"""Who sends the steps of a change: one protocol for systems behind an API, and for databases and files."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import Any, Protocol

from concordex.change.reasons import Reasons
from concordex.change.steps import Step
from concordex.errors import ConcordexError
from concordex.work.run.ledger import Ledger


class Writer(Protocol):
    """Sends the steps of one change to one target, stage by stage; the ledger takes down what becomes of them."""

    ledger: Ledger
    #: What steps leave as others have made it, by their numbers.
    spared: dict[int, Reasons]
    #: Why nothing more is sent: what is under way ends first.
    ended: ConcordexError | None

    @abstractmethod
    async def stage(self, steps: list[Step]) -> None:
        """Send steps of which none waits for another; how each stands then is in the ledger."""

    @abstractmethod
    async def identify(self, steps: Sequence[Step]) -> None:
        """Look up the ids of what we have just made and others will refer to."""

    @abstractmethod
    async def finish(self) -> None:
        """Put into effect what waits for that, or take all of it back."""

    @abstractmethod
    async def abandon(self) -> None:
        """Leave nothing half done behind, since the run ends here."""

    @abstractmethod
    def seen(self, why: Reasons, now: Any, steps: Sequence[Step]) -> list[Step]:
        """Steps that do not show in a reading; those that do are written, although nobody said so."""
