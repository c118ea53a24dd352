"""What a change is written to: one protocol, so that one engine runs every change."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, Protocol, Self

from concordex.change.reasons import Reasons
from concordex.change.steps import Step
from concordex.change.whole import Flat


class Target(Protocol):
    """Tables as they stand now: read whole, found by the key of a step, and compared with what it should have done.

    Records behind an API (:mod:`.records`), configuration objects (:mod:`.objects`) and the rows of a database or a
    file (:mod:`.rows`) are three of them.
    """

    @property
    @abstractmethod
    def settle(self) -> float:
        """For how many seconds what was written need not show yet."""

    @property
    @abstractmethod
    def began(self) -> datetime:
        """When we began to speak with it: what changed before that is not ours."""

    @abstractmethod
    def again(self) -> Self:
        """The same, to be read anew."""

    @abstractmethod
    def needed(self, tables: Iterable[str]) -> list[str]:
        """What is read so that ``tables`` can be written."""

    @abstractmethod
    async def read(self, tables: Iterable[str]) -> None:
        """Read tables; raises ConcordexError when one does not come whole."""

    @abstractmethod
    def bearers(self, step: Step) -> list[str]:
        """The ids of all that bear the key of ``step``."""

    @abstractmethod
    def located(self, step: Step) -> Step:
        """A step with the id that what it is about has now."""

    @abstractmethod
    def records(self, table: str, ids: Sequence[str]) -> dict[str, dict[str, Any]]:
        """What was read of those ids, by our names."""

    @abstractmethod
    def whole(self, table: str, ids: Sequence[str]) -> dict[str, Flat]:
        """All that is known of those ids, member by member, without what alters by itself."""

    @abstractmethod
    def layers(self, steps: Sequence[Step]) -> list[list[Step]]:
        """Steps of one table and operation in lists of which each must end before the next begins."""

    @abstractmethod
    def same(self, there: Any, ours: Any) -> bool:
        """Whether a value there is what it should be."""

    @abstractmethod
    def was_there(self, table: str, record_id: str | None) -> bool:
        """Whether the first reading of a table held a record."""

    @abstractmethod
    def unread(self, step: Step) -> set[str]:
        """What of a step no reading ever shows as it was sent: secrets, and one-time codes."""

    @abstractmethod
    def verdict(self, step: Step, record: Mapping[str, Any]) -> Reasons:
        """What was not taken of a step (``DIFFERS``), and what means the same as it is written there (``OWN_WAY``)."""

    @abstractmethod
    def written_paths(self, step: Step) -> set[str]:
        """The members, as :meth:`whole` names them, that an update writes."""

    @abstractmethod
    def can_show(self, step: Step) -> bool:
        """Whether it can be seen in what is read that an action was done."""

    @abstractmethod
    def shows(self, step: Step) -> Reasons:
        """Why an action does not show in what was read; nothing where it does, or need not."""
