"""Serving the stand-ins on free loopback ports, in a thread of this process."""

from __future__ import annotations

import asyncio
import socket
import threading
import time
from dataclasses import dataclass, field
from datetime import datetime
from secrets import token_urlsafe
from types import TracebackType
from typing import Self

import uvicorn

from concordex.standins.afloat import Afloat
from concordex.standins.base import StandIn
from concordex.standins.binnacle import Binnacle
from concordex.standins.bollard import Bollard
from concordex.standins.cabling import lay
from concordex.standins.capstan import Deck
from concordex.standins.certificate import Certificate
from concordex.standins.crowsnest import Crowsnest
from concordex.standins.elsewhere import tell
from concordex.standins.fairlead import Fairlead
from concordex.standins.fleet import Accounts, accounts, build
from concordex.standins.history import remember
from concordex.standins.masthead import Masthead
from concordex.standins.muster import Muster
from concordex.standins.pilotage import Pilotage
from concordex.standins.purser import Purser
from concordex.standins.stowage import Stowage
from concordex.standins.wrong import Wrong, spoiled_racks

#: Seconds for which an idle connection stays open: a slow machine should not lose it between two calls.
_KEPT = 60


@dataclass
class Harbour:
    """All stand-ins of the demo world, up while the ``with`` block runs."""

    accounts: Accounts
    fairlead: Fairlead
    masthead: Masthead
    bollard: Bollard
    muster: Muster
    crowsnest: Crowsnest
    pilotage: Pilotage
    binnacle: Binnacle
    stowage: Stowage
    purser: Purser
    afloat: Afloat
    deck: Deck
    pilot: Muster
    #: What is wrong in it by design.
    wrong: list[Wrong] = field(default_factory=list)
    urls: dict[str, str] = field(default_factory=dict)
    fingerprint: str = ""  # SHA-256 of the certificate of those that speak TLS
    _loop: asyncio.AbstractEventLoop = field(default_factory=asyncio.new_event_loop)
    _servers: list[uvicorn.Server] = field(default_factory=list)
    _thread: threading.Thread | None = None

    @classmethod
    def of(cls, size: int, *, moment: datetime, seed: int = 1) -> Harbour:
        """Stand-ins that hold a fleet of ``size`` devices."""
        fleet = build(size, moment=moment, seed=seed)
        by_system = accounts(fleet)
        other, cabling = tell(fleet, by_system), lay(fleet, by_system)
        past = remember(fleet, by_system, other.hosts)
        muster = Muster(by_system.muster, past.readings)
        pilot = Muster([], past.readings[:5], pilot=True)
        muster.events, pilot.events = past.events, past.events[:5]
        portal, stowage = Pilotage(other.units), Stowage(by_system.stowage)
        return cls(
            accounts=by_system,
            wrong=[*spoiled_racks(stowage), *cabling.wrong],
            fairlead=Fairlead(by_system.fairlead, by_system.ports, cabling.attached, cabling.cables),
            masthead=Masthead(other.radio_sites, other.radios),
            bollard=Bollard(other.firewalls, other.objects),
            muster=muster,
            crowsnest=Crowsnest(other.hosts, other.groups, past.states),
            pilotage=portal,
            binnacle=Binnacle(other.router),
            stowage=stowage,
            purser=Purser(other.cards),
            afloat=Afloat(other.unboxed, portal),
            deck=Deck(3, token_urlsafe(18)),
            pilot=pilot,
        )

    @property
    def standins(self) -> tuple[StandIn, ...]:
        """Each of them."""
        return (
            self.fairlead, self.masthead, self.bollard, self.muster, self.crowsnest, self.pilotage, self.binnacle,
            self.stowage, self.purser, self.pilot,
        )  # fmt: skip

    def named(self, name: str) -> StandIn:
        """The stand-in of that name."""
        return next(standin for standin in self.standins if standin.name == name)

    def __enter__(self) -> Self:
        sockets = [_listen() for _ in self.standins]
        certificate = Certificate.made()
        self.fingerprint = certificate.fingerprint
        for standin, listening in zip(self.standins, sockets, strict=True):
            scheme = "https" if standin.tls else "http"
            self.urls[standin.name] = f"{scheme}://127.0.0.1:{listening.getsockname()[1]}"
            config = uvicorn.Config(
                standin.app,
                log_level="critical",
                access_log=False,
                lifespan="off",
                timeout_graceful_shutdown=1,
                timeout_keep_alive=_KEPT,
            )
            config.load()
            config.loaded = True
            config.ssl = certificate.context if standin.tls else None
            self._servers.append(uvicorn.Server(config))
        many: list[list[socket.socket]] = []
        for devices, count in ((self.afloat, len(self.afloat.routers)), (self.deck, len(self.deck.switches))):
            many.append([_listen() for _ in range(count)])
            devices.listen([at.getsockname()[1] for at in many[-1]])
            config = uvicorn.Config(
                devices,
                log_level="critical",
                access_log=False,
                lifespan="off",
                timeout_graceful_shutdown=1,
                timeout_keep_alive=_KEPT,
            )
            self._servers.append(uvicorn.Server(config))
        self._thread = threading.Thread(target=self._serve, args=([*([at] for at in sockets), *many],), daemon=True)
        self._thread.start()
        while not all(server.started for server in self._servers):
            time.sleep(0.01)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for server in self._servers:
            server.should_exit = True
        if self._thread:
            self._thread.join(5)

    def _serve(self, sockets: list[list[socket.socket]]) -> None:
        async def together() -> None:
            served = (s.serve(sockets=at) for s, at in zip(self._servers, sockets, strict=True))
            await asyncio.gather(*served)

        self._loop.run_until_complete(together())


def _listen() -> socket.socket:
    # the protocol is named so that asyncio turns off delayed sending (TCP_NODELAY) on what it accepts
    listening = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    listening.bind(("127.0.0.1", 0))
    return listening
