"""What happened over the last week: readings and events of what people carry, and states of what is watched."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from concordex.standins.elsewhere import source
from concordex.standins.fleet import Accounts, Fleet, Record

#: Shares of devices that nobody uses, of days on which one is not used, and of those on which it is dropped.
_UNUSED, _IDLE_DAYS, _DROPPED = 0.25, 0.4, 0.05
#: For so many days a device is read once on each.
_READ_DAYS = 6
#: A share of hosts whose state moved in the last week, and for so many minutes at the most each time.
_UNSTEADY, _AWAY = 0.2, 240


@dataclass
class Histories:
    """What Muster and Crowsnest tell of the past, in the order in which it was."""

    readings: list[Record] = field(default_factory=list)
    events: list[Record] = field(default_factory=list)
    states: list[Record] = field(default_factory=list)


def remember(fleet: Fleet, accounts: Accounts, hosts: list[Record]) -> Histories:
    """The last week of a fleet, and of the hosts that are watched."""
    past = Histories()
    _readings(fleet, accounts, past)
    _events(fleet, accounts, past)
    _states(fleet, hosts, past)
    return past


def _readings(fleet: Fleet, accounts: Accounts, past: Histories) -> None:
    """Battery readings of the last days, by the devices' own clocks."""
    rng = source(fleet, "readings")
    portable: list[dict[str, Any]] = [r for r in accounts.muster if r["platform"] in ("slate", "scanner")]
    for at, record in enumerate(portable):
        battery = record["battery"]
        for day in range(_READ_DAYS):
            moment = fleet.moment - timedelta(days=day, minutes=rng.randrange(1, 1400))
            past.readings.append({
                "readingId": f"b{at}-{day}", "deviceId": record["deviceId"], "takenAt": int(moment.timestamp()),
                "level": max(1, battery["level"] - 3 * day), "health": battery["health"],
                "capacity": round(battery["capacity"] + battery["daily"] * day, 2),
            })  # fmt: skip
    past.readings.sort(key=lambda reading: int(reading["takenAt"]))


def _events(fleet: Fleet, accounts: Accounts, past: Histories) -> None:
    """What happened to what people carry in the last week: one in four lies in a drawer."""
    rng = source(fleet, "events")
    for at, record in enumerate(r for r in accounts.muster if r["platform"] in ("slate", "scanner")):
        if rng.random() < _UNUSED:
            continue
        for day in range(7):
            if rng.random() < _IDLE_DAYS:
                continue
            begun = fleet.moment - timedelta(days=day, minutes=rng.randrange(300, 1300))
            told = [("unlocked", 0, ""), ("locked", rng.randrange(20, 290), "")]
            told += [("dropped", 10, f"{rng.randrange(3, 30)} g")] if rng.random() < _DROPPED else []
            for number, (event, minutes, detail) in enumerate(told):
                past.events.append({
                    "eventId": f"e{at}-{day}-{number}", "deviceId": record["deviceId"], "event": event,
                    "detail": detail, "happenedAt": int((begun + timedelta(minutes=minutes)).timestamp()),
                })  # fmt: skip
    past.events.sort(key=lambda event: int(event["happenedAt"]))


def _states(fleet: Fleet, hosts: list[Record], past: Histories) -> None:
    """When hosts were away and came back; the last change of each led to how it is now."""
    rng = source(fleet, "states")
    for host in hosts:
        if rng.random() >= _UNSTEADY and host["state"] == "up":
            continue
        moment, moves = fleet.moment - timedelta(minutes=rng.randrange(5, 600)), [("up", host["state"])]
        if host["state"] == "down":  # it was missed soon after it was heard of last
            moment = datetime.fromisoformat(str(host["checked"])) + timedelta(minutes=5)
        elif host["state"] == "up":
            moves = [("up", "down"), ("down", "up")] * rng.randrange(1, 4)
        for was, now in reversed(moves):
            at = moment.strftime("%Y-%m-%dT%H:%M:%SZ")
            if fleet.moment - moment < timedelta(days=7):
                past.states.append({"host": host["number"], "at": at, "was": was, "is": now})
            moment -= timedelta(minutes=rng.randrange(2, _AWAY if now == "up" else 2 * 1440))
    past.states.sort(key=lambda change: (str(change["at"]), str(change["host"])))
    for number, change in enumerate(past.states, start=1):
        change["number"] = str(number)
