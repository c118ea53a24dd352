"""Fleets as hard as the world, with known truth: nine systems, of which three only sight devices.

Unlike :mod:`fleets`, some systems hold many records of one device (leases, sessions, probes), machines are enrolled
twice or imaged anew, inventories are typed twice, addresses are lent again, and telephones make up their cards.  The
*conventions* (how names, serials, sites and tags are built) are one of three quite different sets, chosen by the seed,
and every rate is drawn by the seed around its level.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl

Numbers = npt.NDArray[np.int64]
Words = npt.NDArray[Any]
Mask = npt.NDArray[np.bool_]

MOMENT = datetime(2026, 11, 20, 6, 0, tzinfo=UTC)
MANAGERS = ("campus", "radio", "endpoints", "watch", "leases", "sessions", "probes")
#: Managers that hold a record for each time that they see a device, and enrol none.
SIGHTING = ("leases", "sessions", "probes")
INVENTORIES = ("assets", "register")
SYSTEMS = (*MANAGERS, *INVENTORIES)
#: How much more often things go wrong than at the least.
LEVELS = {"middle": 1.6, "high": 2.9}

_KINDS = {
    "access-point": 0.14,
    "switch": 0.11,
    "router": 0.03,
    "firewall": 0.02,
    "server": 0.08,
    "virtual-machine": 0.09,
    "laptop": 0.29,
    "tablet": 0.05,
    "handheld": 0.13,
    "printer": 0.06,
}
_NETWORK = ("access-point", "switch", "router", "firewall")
_FIXED = (*_NETWORK, "server", "printer")
_MOBILE = ("laptop", "tablet", "handheld")
_ENROLLED = (*_MOBILE, "server", "virtual-machine")
_MAKERS = ("Amberley", "Brisling", "Corvane", "Dunmore", "Eskdale", "Farrow", "Gannet", "Holloway")
_SERIES = ("Alder", "Birch", "Cedar", "Elder", "Hazel")
_FIRST = ("amber", "brisk", "calm", "deft", "early", "fair", "glad", "hale", "keen", "lucid", "merry", "noble")
_SECOND = (
    "otter",
    "heron",
    "badger",
    "plover",
    "marten",
    "curlew",
    "vole",
    "dunlin",
    "stoat",
    "linnet",
    "hare",
    "kite",
)


@dataclass(frozen=True)
class Rates:
    """How often each thing happens, drawn around what a level says."""

    by_name: dict[str, float]

    def __getattr__(self, name: str) -> float:
        return self.by_name[name]

    @classmethod
    def drawn(cls, factor: float, rng: np.random.Generator) -> Rates:
        base = {
            "no_serial": 0.07,
            "placeholder": 0.02,
            "mistyped": 0.012,
            "confused": 0.003,
            "decorated": 0.08,
            "no_mac": 0.08,
            "no_name": 0.01,
            "renamed": 0.015,
            "otherwise": 0.15,
            "no_tag": 0.15,
            "no_uuid": 0.08,
            "wrong_site": 0.03,
            "twice": 0.02,
            "imaged": 0.03,
            "double": 0.02,
            "swapped": 0.02,
            "unheard": 0.1,
            "random": 0.2,
            "stale_name": 0.008,
            "nameless": 0.15,
            "cut": 0.1,
        }
        told = {n: min(0.8, v * factor * float(np.exp(rng.normal(0, 0.3)))) for n, v in base.items()}
        built = {"docked": 0.4, "stacked": 0.2, "paired": 0.8, "cloned": 0.06, "phone": 0.4, "shared_name": 0.3}
        return cls(told | {n: min(0.9, v * float(np.exp(rng.normal(0, 0.3)))) for n, v in built.items()})


def world(devices: int, level: str, seed: int) -> pl.DataFrame:
    """The records of nine systems, shuffled; ``device`` is the truth, ``case`` the hard case, if it is one."""
    return _World(devices, LEVELS[level], seed).records()


#: For each field what its words mean: the same number for the same thing.
Meanings = dict[str, dict[str, int]]


def meanings(devices: int, level: str, seed: int) -> Meanings:
    """What the words of :func:`world` mean, where they can be told."""
    return _World(devices, LEVELS[level], seed).meanings()


class _World:
    def __init__(self, size: int, factor: float, seed: int) -> None:
        self.rng = np.random.default_rng([seed, 77])
        self.rates = Rates.drawn(factor, self.rng)
        self.manner = int(seed) % 3 if seed < 3 else int(self.rng.integers(3))
        self.size = size
        self.sites = int(np.clip(size // 400, 8, 400))
        self.alone = 10_000_000_000  # the next number for what nothing can identify
        self._make()

    # --- the devices as they are

    def _make(self) -> None:
        rng, size, rates = self.rng, self.size, self.rates
        self.kind = rng.choice(list(_KINDS), size, p=np.array([*_KINDS.values()]) / sum(_KINDS.values())).astype(object)
        self.maker = rng.integers(0, len(_MAKERS), size)
        self.model = rng.integers(0, len(_SERIES), size)
        self.site = rng.integers(0, self.sites, size)
        self.number = np.arange(size)
        self.leader, self.place = self._runs("switch", rates.stacked, 4)
        self.pair, _ = self._runs("firewall", rates.paired, 2)
        self.clone, _ = self._runs("virtual-machine", rates.cloned, 3)
        for leader in (self.leader, self.pair):
            self.maker, self.model, self.site = self.maker[leader], self.model[leader], self.site[leader]
        mobile = self._is(*_MOBILE)
        self.phone = self._is("handheld") & (rng.random(size) < rates.phone)
        self.random = mobile & (rng.random(size) < _where(self.phone, 0.8, rates.random))
        self.user = _where(mobile, rng.integers(0, max(20, size // 3), size), -1)
        self.serial = self._serials()
        self.uuid = self._signs("0123456789abcdef", 32, self.clone)
        self.tag = self._tags()
        self.name = self._names()
        card = self.number * 4 + 4096
        maker = (
            (self.maker * 3 + rng.integers(0, 3, size)) * 0x30717 + 0x144C10
        ) & 0xFCFFFF  # numbered by the maker (IEEE 802)
        self.wired = self._card(maker, card)
        self.radio = self._card(maker, card + 1)
        docked = self._is("laptop") & (rng.random(size) < rates.docked)
        order = rng.permutation(np.flatnonzero(docked))
        self.dock = np.full(size, None, dtype=object)
        shared = np.arange(len(order)) // int(rng.integers(2, 7))
        self.dock[order] = self._card(np.full(len(order), 0x5C8FE0), shared + 17)
        self.seen = rng.exponential(0.4, size)  # days ago
        self.swapped = self._is(*_FIXED) & (self.leader == self.number) & (rng.random(size) < rates.swapped)
        crowd = np.bincount(self.leader, minlength=size)[self.leader] > 1
        several = np.bincount(self.pair, minlength=size)[self.pair] > 1
        cloned = np.bincount(self.clone, minlength=size)[self.clone] > 1
        self.case = np.select(
            [self.swapped, crowd, several, cloned, self.phone, self.random, docked],
            ["swapped", "stack", "pair", "clone", "phone", "random", "dock"],
            "plain",
        ).astype(object)
        self.stacked = crowd

    def _is(self, *kinds: str) -> Mask:
        return np.isin(self.kind, kinds)

    def _runs(self, kind: str, rate: float, most: int) -> tuple[Numbers, Numbers]:
        """For each device the first of its group (a stack, a pair, clones), and its place in it."""
        leader, place = np.arange(self.size), np.zeros(self.size, np.int64)
        rows = np.flatnonzero(self._is(kind))
        at = 0
        while at < len(rows):
            length = int(self.rng.integers(2, most + 1))
            if self.rng.random() < rate and at + length <= len(rows):
                leader[rows[at : at + length]] = rows[at]
                place[rows[at : at + length]] = np.arange(length)
                at += length
            else:
                at += 1
        return leader, place

    def _signs(self, signs: str, length: int, like: Numbers | None = None) -> Words:
        count = self.size if like is None else len(like)
        table = np.frombuffer(signs.encode(), dtype="S1")
        made = table[self.rng.integers(0, len(signs), (count, length))].view(f"S{length}").ravel().astype(str)
        return (made if like is None else made[like]).astype(object)

    def _card(self, maker: Numbers, number: Numbers) -> Words:
        said = np.char.add(_hex(maker % (1 << 24), 6), _hex(number % (1 << 24), 6))
        return np.array([":".join(text[at : at + 2] for at in range(0, 12, 2)) for text in said], dtype=object)

    def _drawn(self, count: int) -> Words:
        """Cards that devices make up."""
        first = self.rng.choice(np.array(["d2", "66", "9a", "fe", "3e"]), count)
        rest = _hex(self.rng.integers(0, 1 << 40, count), 10)
        made = np.char.add(first, rest)
        return np.array([":".join(text[at : at + 2] for at in range(0, 12, 2)) for text in made], dtype=object)

    def _serials(self) -> Words:
        rng, size = self.rng, self.size
        running = rng.random(len(_MAKERS)) < 0.5
        lead = {
            0: ["AM", "BR", "CV", "", "E0", "FW", "G", "HLW"],
            1: ["4C", "7B", "2F", "9D", "1A", "8E", "5K", "3P"],
            2: ["", "", "", "", "MX", "", "", ""],
        }[self.manner]
        numbers = (10_000_000 + self.number * 3 // 2).astype(str)
        signs = {
            0: ("0123456789ABCDEFGHJKLMNPRSTUVWXYZ", 7),
            1: ("0123456789BCDFGHJKLMNPQRSTVWXZ", 8),
            2: ("0123456789ABCDEF", 12),
        }[self.manner]
        drawn = self._signs(*signs)
        made = _where(running[self.maker], numbers, drawn)
        serial = np.array([lead[m] + str(s) for m, s in zip(self.maker, made, strict=True)], dtype=object)
        serial[self._is("virtual-machine")] = None
        assert len(serial) == size
        return serial

    def _tags(self) -> Words:
        order = self.rng.permutation(self.size) + 10_000
        form = {0: "SF{}", 1: "{:07d}", 2: "INV-{}-X"}[self.manner]
        return np.array([form.format(number) for number in order], dtype=object)

    def _names(self) -> Words:
        short = {
            "access-point": "ap",
            "switch": "sw",
            "router": "rt",
            "firewall": "fw",
            "server": "srv",
            "virtual-machine": "vm",
            "laptop": "lt",
            "tablet": "tb",
            "handheld": "hh",
            "printer": "pr",
        }
        role = {
            "access-point": "WAP",
            "switch": "ACC",
            "router": "EDGE",
            "firewall": "FWL",
            "server": "APP",
            "virtual-machine": "VIRT",
            "laptop": "NB",
            "tablet": "TAB",
            "handheld": "SCAN",
            "printer": "PRT",
        }
        made: list[str] = []
        for at, (kind, site) in enumerate(zip(self.kind, self.site, strict=True)):
            if self.manner == 0:
                made.append(f"{short[kind]}-{self._code(int(site))}-{at % 9973}{'' if at < 9973 else at // 9973}")
            elif self.manner == 1:
                made.append(f"{self._code(int(site))}{role[kind]}{at:05d}")
            elif kind in _MOBILE:
                made.append(f"{_FIRST[at % 12]}-{_SECOND[at // 12 % 12]}-{at // 144}")
            else:
                made.append(f"{self._code(int(site))}-{short[kind]}{at}")
        names = np.array(made, dtype=object)
        together = np.bincount(self.leader, minlength=self.size)[self.leader] > 1
        one = self.rng.random(self.size)[self.leader] < self.rates.shared_name
        for at in map(int, np.flatnonzero(together)):
            names[at] = names[self.leader[at]] + ("" if one[at] else f"-{self.place[at] + 1}")
        for at in map(int, np.flatnonzero(self.pair != self.number)):
            names[at] = names[self.pair[at]] + "-b"
        for at in map(int, np.flatnonzero(self.phone)):
            who = self.user[at]
            names[at] = (f"{_FIRST[who % 12]}s-phone", "phone", f"{_FIRST[who % 12]}s-phone-{who % 7}")[at % 3]
        return names

    def _code(self, site: int) -> str:
        """A site as controllers say it."""
        if self.manner == 0:
            return f"q{site:02d}"
        if self.manner == 1:
            return f"{chr(65 + site % 26)}{chr(65 + site * 7 % 26)}{site // 26}"
        return f"{4000 + site}"

    def _label(self, site: int) -> str:
        """The same as people say it."""
        if self.manner == 0:
            return f"Quay {site}"
        if self.manner == 1:
            return f"{_FIRST[site % 12].title()} {_SECOND[site // 12 % 12].title()} {site // 144 or ''}".strip()
        return f"Plant {site % 20}, hall {site // 20}"

    def meanings(self) -> Meanings:
        """What the words for sites, models and makers mean."""
        sites = {told(site): site for site in range(self.sites) for told in (self._code, self._label)}
        models: dict[str, int] = {}
        rows = np.arange(self.size)
        for words in (self._make_of(rows)["model"], self._marketed(rows)):
            number = self.maker * 100 + self.model
            models |= dict(zip(words.tolist(), number.tolist(), strict=True))
        makers = {told: at for at, name in enumerate(_MAKERS) for told in (name, name.upper())}
        return {"site": sites, "model": models, "maker": makers}

    # --- what systems say of them

    def records(self) -> pl.DataFrame:
        """What the nine systems say."""
        made: list[pl.DataFrame] = [getattr(self, f"_{name}")() for name in SYSTEMS]
        told = pl.concat(made).sample(fraction=1.0, shuffle=True, seed=int(self.rng.integers(1 << 30)))
        return told.with_columns(
            pl.format("{}{}", pl.col("system").str.slice(0, 2), pl.int_range(pl.len())).alias("record_id")
        )

    def _chance(self, rate: float, count: int) -> Mask:
        return self.rng.random(count) < rate

    def _known(self, of: Mask, unheard: float | None = None) -> Numbers:
        rate = self.rates.unheard if unheard is None else unheard
        return np.flatnonzero(of & ~self._chance(rate, self.size))

    def _address(self, rows: Numbers) -> Words:
        """Fixed things keep theirs; what moves is lent one of its site's, which others have had."""
        pool = max(40, self.size // self.sites // 3)
        slot = _where(
            self._is(*_FIXED, "virtual-machine")[rows],
            self.number[rows] % 60_000,
            60_000 + self.rng.integers(0, pool, len(rows)),
        )
        net = _where(self.site[rows] % 5 == 4, 200, 20 + self.site[rows] % 180)  # a fifth of the sites number alike
        return np.array(
            [f"10.{n}.{s // 250 % 250}.{s % 250 + 2}" for n, s in zip(net, slot, strict=True)], dtype=object
        )

    def _times(self, rows: Numbers, spread: float) -> pl.Series:
        days = self.seen[rows] + self.rng.exponential(spread, len(rows))
        return (
            pl.Series("last_seen", [0] * 0, dtype=pl.Datetime("us", "UTC"))
            if not len(rows)
            else pl.select(pl.lit(MOMENT) - pl.duration(minutes=pl.lit(pl.Series(days * 1440).cast(pl.Int64))))
            .to_series()
            .cast(pl.Datetime("us", "UTC"))
        )

    def _hidden(self, values: Words, rate: float) -> Any:
        return _where(self._chance(rate, len(values)), None, values)

    def _heard(self, rows: Numbers) -> Any:
        """The radio card that the air carries: made up anew for each network where a device does so."""
        return _where(self.random[rows], self._drawn(len(rows)), self.radio[rows])

    def _spoken(self, rows: Numbers, missing: float = 1.0) -> Any:
        names = self.name[rows].copy()
        other = self._chance(self.rates.renamed, len(rows))
        names[other] = [
            f"{name}-old{at % 90}" if at % 2 else f"new{at}" for at, name in zip(rows[other], names[other], strict=True)
        ]
        return self._hidden(names, self.rates.no_name * missing)

    def _frame(self, system: str, rows: Numbers, cases: Words | None = None, **said: Any) -> pl.DataFrame:
        empty = np.full(len(rows), None, dtype=object)
        truth = said.pop("device", rows)
        text = {
            name: said.get(name, empty)
            for name in ("name", "serial", "uuid", "asset_tag", "maker", "model", "kind", "site", "user")
        }
        lists = {
            name: [[one for one in each if one] for each in said.get(name, [()] * len(rows))]
            for name in ("macs", "ips")
        }
        kept = {
            "system": pl.Series([system] * len(rows), dtype=pl.String),
            "device": pl.Series(truth, dtype=pl.Int64),
            "case": pl.Series(self.case[rows] if cases is None else cases, dtype=pl.String),
            **{
                name: pl.Series([None if v is None else str(v) for v in values], dtype=pl.String)
                for name, values in text.items()
            },
            **{name: pl.Series(values, dtype=pl.List(pl.String)) for name, values in lists.items()},
            "last_seen": said.get("last_seen", pl.Series([None] * len(rows), dtype=pl.Datetime("us", "UTC"))),
        }
        return pl.DataFrame(kept)

    def _make_of(self, rows: Numbers) -> dict[str, Words]:
        return {
            "maker": np.array([_MAKERS[m] for m in self.maker[rows]], dtype=object),
            "model": np.array(
                [
                    f"{k[:2].upper()}{m}-{s}50"
                    for k, m, s in zip(self.kind[rows], self.maker[rows], self.model[rows], strict=True)
                ],
                dtype=object,
            ),
        }

    def _marketed(self, rows: Numbers) -> Words:
        return np.array(
            [
                f"{_MAKERS[m]} {_SERIES[s]} {k[0].upper()}"
                for k, m, s in zip(self.kind[rows], self.maker[rows], self.model[rows], strict=True)
            ],
            dtype=object,
        )

    def _place_of(self, rows: Numbers, *, label: bool) -> Words:
        said = _where(
            self._chance(self.rates.wrong_site, len(rows)), self.rng.integers(0, self.sites, len(rows)), self.site[rows]
        )
        return np.array([(self._label if label else self._code)(int(one)) for one in said], dtype=object)

    def _campus(self) -> pl.DataFrame:
        rows = self._known(self._is(*_FIXED) | ~_missing(self.dock))
        own = self._is(*_NETWORK)[rows]
        make = self._make_of(rows)
        visible = _where(~_missing(self.dock[rows]), self.dock[rows], self.wired[rows])
        name = _where(own, self._spoken(rows), self._hidden(self._spoken(rows), 0.4))
        truth = self._unknown(rows, _missing(name) & ~_missing(self.dock[rows]))
        return self._frame(
            "campus",
            rows,
            device=truth,
            name=name,
            serial=_where(own, self._hidden(self.serial[rows], self.rates.no_serial / 4), None),
            macs=[(card,) for card in self._hidden(visible, 0.02)],
            ips=[(ip,) for ip in self._address(rows)],
            maker=_where(own, make["maker"], None),
            model=_where(own, make["model"], None),
            kind=_where(own, self.kind[rows], "other"),
            site=self._place_of(rows, label=False),
            last_seen=self._times(rows, 0.5),
        )

    def _radio(self) -> pl.DataFrame:
        rows = self._known(self._is("access-point", *_MOBILE), 0.15)
        own = self._is("access-point")[rows]
        make = self._make_of(rows)
        heard = _where(own, self.wired[rows], self._heard(rows))
        name = _where(own, self._spoken(rows), self._hidden(self._spoken(rows), 0.3))
        user = _where(own | self._chance(0.5, len(rows)), None, np.char.add("u", self.user[rows].astype(str)))
        truth = self._unknown(rows, self.random[rows] & _missing(name))
        return self._frame(
            "radio",
            rows,
            device=truth,
            name=name,
            serial=_where(own, self.serial[rows], None),
            macs=[(card,) for card in heard],
            ips=[(ip,) for ip in self._address(rows)],
            maker=_where(own, make["maker"], None),
            model=_where(own, make["model"], None),
            kind=_where(own, self.kind[rows], "other"),
            site=self._place_of(rows, label=False),
            user=user,
            last_seen=self._times(rows, 0.5),
        )

    def _unknown(self, rows: Numbers, nothing: Mask) -> Numbers:
        """The truth of records; one of its own for each that nothing can identify."""
        truth = rows.astype(np.int64).copy()
        count = int(nothing.sum())
        truth[nothing] = np.arange(self.alone, self.alone + count)
        self.alone += count
        return truth

    def _endpoints(self) -> pl.DataFrame:
        first = self._known(self._is(*_ENROLLED) & ~self.phone)
        twice = first[self._chance(self.rates.twice, len(first))]
        imaged = first[self._chance(self.rates.imaged, len(first))]
        rows = np.concatenate([first, twice, imaged])
        case = self.case[rows].copy()
        case[len(first) : len(first) + len(twice)] = "enrolled twice"
        case[len(first) + len(twice) :] = "re-imaged"
        name = self._spoken(rows)
        old = np.arange(len(rows)) >= len(first) + len(twice)
        name[old] = [f"{_FIRST[at % 12]}-setup-{at}" for at in rows[old]]
        times = self._times(rows, 0.5)
        gone = pl.select(
            pl.lit(MOMENT) - pl.duration(days=pl.lit(pl.Series(self.rng.integers(20, 300, len(rows)))))
        ).to_series()
        times = pl.select(
            pl.when(pl.Series(old)).then(gone.cast(pl.Datetime("us", "UTC"))).otherwise(times)
        ).to_series()
        nothing = self.rng.choice(
            np.array(["To be filled", "0000000000", "N/A", "Default string"], dtype=object), len(rows)
        )
        wired = _where(~_missing(self.dock[rows]) & self._chance(0.7, len(rows)), self.dock[rows], self.wired[rows])
        radio = _where(self._is(*_MOBILE)[rows], self.radio[rows], None)
        gone_cards = self._chance(self.rates.no_mac / 3, len(rows))
        cut = self.rates.cut > 0.16
        return self._frame(
            "endpoints",
            rows,
            case,
            name=np.array([None if n is None else (n[:15].upper() if cut else n) for n in name], dtype=object),
            serial=_where(
                self._chance(self.rates.placeholder, len(rows)),
                nothing,
                self._hidden(self.serial[rows], self.rates.no_serial / 3),
            ),
            uuid=self._hidden(self.uuid[rows], self.rates.no_uuid / 3),
            macs=[() if g else (w, r) for w, r, g in zip(wired, radio, gone_cards, strict=True)],
            ips=[(ip,) for ip in self._address(rows)],
            maker=np.char.upper(self._make_of(rows)["maker"].astype(str)),
            model=self._marketed(rows),
            kind=self.kind[rows],
            site=self._place_of(rows, label=True),
            user=_where(self.user[rows] >= 0, np.char.add("u", self.user[rows].astype(str)), None),
            last_seen=times,
        )

    def _watch(self) -> pl.DataFrame:
        rows = self._known(self._is(*_NETWORK, "server", "virtual-machine", "printer"))
        rows = rows[
            ~(self.stacked[rows] & (self.place[rows] > 0) & (self.rng.random(self.size)[self.leader[rows]] < 0.6))
        ]
        name = self._spoken(rows, 0.5)
        name = np.array(
            [n if n is None or at % 3 == 0 else f"{n}.fleet.example" for at, n in enumerate(name)], dtype=object
        )
        return self._frame(
            "watch",
            rows,
            name=name,
            macs=[(card,) for card in self._hidden(self.wired[rows], min(0.9, self.rates.no_mac * 3))],
            ips=[(ip,) for ip in self._address(rows)],
            kind=self.kind[rows],
            site=self._place_of(rows, label=False),
            last_seen=self._times(rows, 0.2),
        )

    def _sighted(self, of: Mask, most: int) -> Numbers:
        known = self._known(of, 0.25)
        return np.repeat(known, self.rng.integers(1, most + 1, len(known)))

    def _leases(self) -> pl.DataFrame:
        rows = self._sighted(self._is(*_MOBILE, "printer", "virtual-machine"), 3)
        card = _where(self._is(*_MOBILE)[rows], self._heard(rows), self.wired[rows])
        by_wire = ~_missing(self.dock[rows]) & self._chance(0.4, len(rows))
        card = _where(by_wire, self.dock[rows], card)
        name = self._hidden(
            np.array(
                [None if n is None else n[:15] if self.manner == 1 else n for n in self._spoken(rows)], dtype=object
            ),
            self.rates.nameless,
        )
        truth = self._unknown(rows, _missing(name) & ((self.random[rows] & ~by_wire) | by_wire))
        return self._frame(
            "leases",
            rows,
            device=truth,
            name=name,
            macs=[(c,) for c in card],
            ips=[(ip,) for ip in self._address(rows)],
            last_seen=self._times(rows, 9.0),
        )

    def _sessions(self) -> pl.DataFrame:
        rows = self._sighted(self._is(*_MOBILE), 3)
        card = self._heard(rows)
        by_wire = ~_missing(self.dock[rows]) & self._chance(0.4, len(rows))
        card = _where(by_wire, self.dock[rows], card)
        name = self._hidden(self._spoken(rows), 0.5)
        user = np.char.add("u", self.user[rows].astype(str)).astype(object)
        truth = self._unknown(rows, _missing(name) & self.random[rows] & ~by_wire)
        return self._frame(
            "sessions",
            rows,
            device=truth,
            name=name,
            macs=[(c,) for c in card],
            ips=[(ip,) for ip in self._address(rows)],
            user=user,
            site=self._place_of(rows, label=False),
            last_seen=self._times(rows, 6.0),
        )

    def _probes(self) -> pl.DataFrame:
        rows = self._sighted(self._is(*_FIXED, "virtual-machine", "laptop"), 2)
        card = self._hidden(self.wired[rows], 0.6)
        card = _where(~_missing(self.dock[rows]), self._hidden(self.dock[rows], 0.6), card)
        name = self._hidden(self._spoken(rows), 0.4)
        stale = self._chance(self.rates.stale_name, len(rows))
        name[stale] = self.name[
            (rows[stale] + 1 + self.rng.integers(0, self.size - 1)) % self.size
        ]  # of whoever was there
        name = np.array([None if n is None else f"{n}.fleet.example" for n in name], dtype=object)
        lonely = _missing(name) & (_missing(card) | ~_missing(self.dock[rows]))
        truth = self._unknown(rows, lonely | (stale & _missing(card)))
        return self._frame(
            "probes",
            rows,
            device=truth,
            name=name,
            macs=[(c,) for c in card],
            ips=[(ip,) for ip in self._address(rows)],
            last_seen=self._times(rows, 3.0),
        )

    def _assets(self) -> pl.DataFrame:
        return self._typed("assets", self._known(~self.phone, self.rates.unheard), 1.0)

    def _register(self) -> pl.DataFrame:
        of = self._is("server", "virtual-machine", "laptop", "router", "firewall", "switch", "access-point")
        return self._typed("register", self._known(of, min(0.6, self.rates.unheard * 2)), 1.5)

    def _typed(self, system: str, first: Numbers, factor: float) -> pl.DataFrame:
        """What people typed, some of it twice, with what goes wrong when they do."""
        rng, rates = self.rng, self.rates
        double = first[self._chance(rates.double, len(first))]
        rows = np.concatenate([first, double])
        count, second = len(rows), np.arange(len(rows)) >= len(first)
        case = self.case[rows].copy()
        case[second] = "double"
        serial, card, tag = self.serial[rows].copy(), self.wired[rows].copy(), self.tag[rows].copy()
        truth = rows.astype(np.int64).copy()
        gone = self.swapped[rows] if system == "assets" else np.zeros(count, np.bool_)
        old = self._signs("0123456789BCDFGHKM", 9, np.arange(count))
        serial[gone] = np.char.add("R", old[gone].astype(str))
        card[gone] = self._card(np.full(int(gone.sum()), 0x90A4DE), rows[gone])
        tag[gone] = np.char.add(tag[gone].astype(str), "9")
        truth[gone] += 5_000_000_000
        wrong = self._chance(rates.mistyped * factor, count)
        serial[wrong] = [_mistyped(one, rng) for one in serial[wrong]]
        confused = self._chance(rates.confused, count) & ~gone
        serial[confused] = np.roll(serial, 1)[confused]
        case[wrong & (case == "plain")] = "mistyped"
        case[confused] = "confused"
        dressed = self._chance(rates.decorated, count)
        serial[dressed] = [
            _dressed(one, int(how))
            for one, how in zip(serial[dressed], rng.integers(0, 5, count)[dressed], strict=True)
        ]
        serial = _where(
            self._chance(rates.placeholder, count),
            rng.choice(np.array(["TBD", "unknown", "n/a"], dtype=object), count),
            serial,
        )
        serial = self._hidden(serial, min(0.8, rates.no_serial * factor))
        lost = second & self._chance(
            0.6, count
        )  # of what is typed twice, often only the name, or only the tag, is the same
        serial = _where(lost, None, serial)
        names = self._spoken(rows)
        other = self._chance(rates.otherwise, count)
        names = np.array(
            [
                _written(n, int(how)) if o else n
                for n, o, how in zip(names, other, rng.integers(0, 4, count), strict=True)
            ],
            dtype=object,
        )
        tag = self._hidden(_where(lost & self._chance(0.5, count), None, tag), rates.no_tag)
        label = self._place_of(rows, label=True)
        model = _where(self._chance(0.4, count), self._marketed(rows), self._make_of(rows)["model"])
        return self._frame(
            system,
            rows,
            case,
            device=truth,
            name=names,
            serial=serial,
            asset_tag=tag,
            uuid=self._hidden(_where(self._is(*_ENROLLED)[rows], self.uuid[rows], None), min(0.95, rates.no_uuid * 5)),
            macs=[(c,) for c in self._hidden(card, min(0.9, rates.no_mac * 3 * factor))],
            ips=[(ip,) for ip in _where(self._is(*_FIXED)[rows], self._hidden(self._address(rows), 0.4), None)],
            maker=self._make_of(rows)["maker"],
            model=model,
            kind=self.kind[rows],
            site=label,
            user=_where(
                (self.user[rows] >= 0) & self._chance(0.5, count), np.char.add("u", self.user[rows].astype(str)), None
            ),
        )


def _where(when: Any, then: Any, otherwise: Any) -> Any:
    """The one or the other; texts keep to what they are where the other is missing."""
    return np.where(when, np.asarray(then, dtype=object), np.asarray(otherwise, dtype=object))


def _missing(values: Any) -> Any:
    return np.asarray(values) == None  # noqa: E711 - of each


def _hex(number: Numbers, width: int) -> npt.NDArray[np.str_]:
    return (
        np.array([f"{int(one):0{width}x}" for one in number], dtype=f"U{width}")
        if len(number)
        else np.array([], dtype="U12")
    )


def _mistyped(serial: str | None, rng: np.random.Generator) -> str | None:
    """One typing error: a wrong sign, one lost, one doubled, two exchanged, or O for 0."""
    if not serial or len(serial) < 5:
        return serial
    at, how = 1 + int(rng.integers(0, len(serial) - 2)), int(rng.integers(0, 5))
    if how == 4 and "0" in serial:
        return serial.replace("0", "O", 1)
    return (
        serial[:at] + str(rng.integers(0, 10)) + serial[at + 1 :],
        serial[:at] + serial[at + 1 :],
        serial[: at + 1] + serial[at:],
        serial[:at] + serial[at + 1] + serial[at] + serial[at + 2 :],
    )[how % 4]


def _dressed(serial: str | None, how: int) -> str | None:
    if not serial:
        return serial
    return (serial.lower(), f"S/N {serial}", f"000{serial}", f"{serial[:3]}-{serial[3:]}", f" {serial} ")[how]


def _written(name: str | None, how: int) -> str | None:
    if not name:
        return name
    return (name.upper(), f"{name}.fleet.example", f"{name} ", name.replace("-", "_"))[how]
