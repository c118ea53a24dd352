"""Fleets with known truth, at three levels of noise: six systems' accounts of the same devices.

Everything is made from a seed, column by column, so that a million records take seconds.  A fleet's
*conventions* (how serials run, how names are built, which fields a system keeps) are drawn from the
seed as well: no two seeds are noisy in quite the same manner.
"""

from __future__ import annotations

import string
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
import polars as pl

MOMENT = datetime(2026, 11, 20, 6, 0, tzinfo=UTC)
SYSTEMS = ("campus", "radio", "endpoints", "watch", "assets", "register")
_SHARES = {
    "access-point": 0.17,
    "switch": 0.15,
    "router": 0.04,
    "firewall": 0.03,
    "server": 0.09,
    "virtual-machine": 0.09,
    "laptop": 0.25,
    "tablet": 0.06,
    "handheld": 0.08,
    "printer": 0.04,
}
_PREFIX = {
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
_NETWORK = ("access-point", "switch", "router", "firewall")
_MACHINE = ("server", "virtual-machine")
_MOBILE = ("laptop", "tablet", "handheld")
_MAKERS = ("Lintel", "Kestrel", "Marram", "Ostler", "Quillon", "Tamarisk")
_SITES = 26
_LONG = ("ferry-ops", "quayside", "safety")


#: Rates that say how the fleet is built, not what goes wrong in it.
_BUILT = ("unheard", "stacked", "one_name", "docked", "long_name", "whole_stack")


@dataclass(frozen=True, kw_only=True)
class Noise:
    """How often each thing happens, as a share of the records or devices it can befall."""

    stacked: float = 0.25
    one_name: float = 0.3
    docked: float = 0.5
    random_mac: float = 0.3
    changed_mac: float = 0.12
    unnamed: float = 0.015
    cloned: float = 0.08
    swapped: float = 0.03
    long_name: float = 0.25
    whole_stack: float = 0.3
    no_serial: float = 0.13
    placeholder: float = 0.02
    mistyped: float = 0.015
    into_another: float = 0.002
    decorated: float = 0.1
    no_mac: float = 0.12
    no_name: float = 0.006
    renamed: float = 0.008
    exchanged: float = 0.004
    otherwise: float = 0.2
    no_tag: float = 0.2
    no_uuid: float = 0.15
    other_address: float = 0.15
    wrong_site: float = 0.04
    twice: float = 0.01
    only_address: float = 0.002
    unheard: float = 0.15

    def times(self, factor: float) -> Noise:
        """All rates of what goes wrong multiplied, none above nine in ten; how the fleet is built stays."""
        return Noise(**{n: v if n in _BUILT else min(0.9, v * factor) for n, v in vars(self).items()})


LEVELS = {"low": Noise(), "middle": Noise().times(1.62), "high": Noise().times(2.9)}


def fleet(devices: int, noise: Noise, seed: int = 1) -> pl.DataFrame:
    """Device records of six systems, shuffled; ``device`` is the truth and ``case`` the hard case, if one."""
    return _Fleet(devices, noise, seed).records()


class _Fleet:
    def __init__(self, size: int, noise: Noise, seed: int) -> None:
        self.size, self.noise, self.rng = size, noise, np.random.default_rng(seed)
        self.cut = self.rng.choice([15, 15, 63])  # of the names that the register keeps
        self.devices = self._devices()

    def chance(self, rate: float, height: int) -> pl.Series:
        return pl.Series(self.rng.random(height) < rate)

    def _devices(self) -> pl.DataFrame:
        rng, size = self.rng, self.size
        kinds = np.repeat(list(_SHARES), [max(2, round(size * share)) for share in _SHARES.values()])[:size]
        size = self.size = len(kinds)
        maker = rng.integers(0, len(_MAKERS), size)
        model = rng.integers(0, 4, size)
        site = rng.integers(0, _SITES, size)
        stack, place = self._runs(kinds == "switch", self.noise.stacked, 2, 4)
        pair, side = self._runs(kinds == "firewall", 0.9, 2, 2)
        clone, _ = self._runs(kinds == "virtual-machine", self.noise.cloned, 2, 4)
        for leader in (stack, pair):
            maker, model, site = maker[leader], model[leader], site[leader]
        running = rng.random(len(_MAKERS)) < 0.5  # makers whose serials run on
        d = pl.DataFrame(
            {
                "device": np.arange(size),
                "kind": kinds,
                "maker": maker,
                "model": model,
                "site": site,
                "stack": stack,
                "place": place,
                "pair": pair,
                "side": side,
                "clone": clone,
                "running": running[maker],
                "random": self._words(size, string.digits + "ABCDEFGHJKLMNPRSTUVWXYZ", 7),
                "uuid": self._words(size, "0123456789abcdef", 32),
                "count": np.arange(size),
                "tag": rng.permutation(size) + 100_000,
                "lease": rng.integers(0, 65_000, size),
                "seen": rng.exponential(0.3, size),
                "user": rng.integers(0, max(20, size // 3), size),
            }
        )
        d = d.with_columns(
            is_stack=(pl.col("stack") != pl.col("device")) | pl.col("device").is_in(_leaders(stack).implode()),
            is_pair=(pl.col("pair") != pl.col("device")) | pl.col("device").is_in(_leaders(pair).implode()),
            is_clone=(pl.col("clone") != pl.col("device")) | pl.col("device").is_in(_leaders(clone).implode()),
        )
        d = d.with_columns(uuid=pl.col("uuid").gather(pl.col("clone")))
        d = d.with_columns(self._serial(d), self._name(d), *self._macs(d), self._address(d))
        d = d.with_columns(
            name=pl.when(pl.col("is_stack"))
            .then(pl.col("name").gather(pl.col("stack")))
            .otherwise(pl.when(pl.col("is_pair")).then(pl.col("name").gather(pl.col("pair"))).otherwise("name")),
            ip=pl.when(pl.col("is_stack")).then(pl.col("ip").gather(pl.col("stack"))).otherwise("ip"),
        )
        one_name = self.chance(self.noise.one_name, size)
        member = pl.when(pl.col("is_pair")).then(
            pl.format("{}-{}", "name", pl.col("side").replace_strict({0: "a", 1: "b"}, default="c"))
        )
        apart = (
            member.when(pl.col("is_stack") & one_name.gather(d["stack"]).not_())
            .then(pl.format("{}-{}", "name", pl.col("place") + 1))
            .otherwise("name")
        )
        d = d.with_columns(name=apart, whole=pl.col("name"), one_name=one_name.gather(d["stack"]))
        fixed = pl.col("kind").is_in([*_NETWORK, "server", "printer"]) & pl.col("is_stack").not_()
        d = d.with_columns(swapped=fixed & self.chance(self.noise.swapped, size))
        return d.with_columns(
            case=pl.when("swapped")
            .then(pl.lit("swapped"))
            .when("is_stack")
            .then(pl.lit("stack"))
            .when("is_pair")
            .then(pl.lit("pair"))
            .when("is_clone")
            .then(pl.lit("clone"))
            .when(pl.col("dock").is_not_null())
            .then(pl.lit("dock"))
            .otherwise(pl.lit("plain")),
        )

    def _runs(self, among: np.ndarray, rate: float, least: int, most: int) -> tuple[np.ndarray, np.ndarray]:
        """Groups of devices that follow one another: for each its leader, and its place in the group."""
        leader, place = np.arange(self.size), np.zeros(self.size, dtype=np.int64)
        rows = np.flatnonzero(among)
        at = 0
        while at < len(rows):
            length = int(self.rng.integers(least, most + 1))
            if self.rng.random() < rate and at + length <= len(rows):
                leader[rows[at : at + length]] = rows[at]
                place[rows[at : at + length]] = np.arange(length)
                at += length
            else:
                at += 1
        return leader, place

    def _words(self, count: int, signs: str, length: int) -> np.ndarray:
        picked = self.rng.integers(0, len(signs), (count, length))
        table = np.frombuffer(signs.encode(), dtype="S1")
        return table[picked].view(f"S{length}").ravel().astype(str)

    def _serial(self, d: pl.DataFrame) -> pl.Expr:
        start = pl.col("maker").replace_strict(dict(enumerate(["LN", "K", "MRM", "", "Q0", "TK"])))
        numbered = (pl.col("count") * 3 // 2 + 10_000_000).cast(pl.String)
        body = pl.when("running").then(numbered).otherwise("random")
        virtual = pl.col("kind") == "virtual-machine"
        return pl.when(virtual).then(None).otherwise(start + body).alias("serial")

    def _name(self, d: pl.DataFrame) -> pl.Expr:
        site = pl.format("s{}", pl.col("site").cast(pl.String).str.zfill(2))
        plain = pl.format("{}-{}-{}", pl.col("kind").replace_strict(_PREFIX), site, pl.col("count") % 9973)
        team = pl.col("tag").mod(len(_LONG)).replace_strict(dict(enumerate(_LONG)))
        long = pl.format("{}-{}{}", team, pl.col("kind").replace_strict(_PREFIX), "tag")
        unique = (
            pl.when(pl.col("count") > 9972).then(pl.format("{}{}", plain, pl.col("count") // 9973)).otherwise(plain)
        )
        mobile = pl.col("kind").is_in(_MOBILE)
        return pl.when(mobile & self.chance(self.noise.long_name, d.height)).then(long).otherwise(unique).alias("name")

    def _macs(self, d: pl.DataFrame) -> list[pl.Expr | pl.Series]:
        card = pl.col("maker").replace_strict(
            dict(enumerate(["a45c10", "3cd0f8", "f88a5e", "081f71", "b4a9fc", "74d83e"]))
        )
        number = pl.col("count") * 4
        laptops = d.select((pl.col("kind") == "laptop") & self.chance(self.noise.docked, d.height)).to_series()
        held = np.full(d.height, -1)
        rows = np.flatnonzero(laptops.to_numpy())
        held[rows] = self.rng.permutation(np.arange(len(rows)) // int(self.rng.integers(2, 6)))
        dock = pl.Series("dock_number", held)
        random = pl.Series(self.rng.integers(0, 1 << 40, d.height))
        drawn = pl.format("{}{}", pl.Series(self.rng.choice(["2", "6", "a", "e"], d.height)), _hex(random, 10))
        radio = (
            pl.when(pl.col("kind").is_in(_MOBILE) & self.chance(self.noise.random_mac, d.height))
            .then(pl.lit("d") + drawn)
            .otherwise(card + _hex(number + 1, 6))
        )
        return [
            (card + _hex(number, 6)).alias("mac"),
            pl.when(pl.col("kind").is_in(_MOBILE)).then(radio).alias("radio"),
            pl.select(pl.when(dock >= 0).then(pl.lit("5c8fe0") + _hex(dock, 6))).to_series().alias("dock"),
            pl.when("is_pair").then(pl.lit("00005e0001") + _hex(pl.col("pair") % 256, 2)).alias("shared"),
        ]

    def _address(self, d: pl.DataFrame) -> pl.Expr:
        vessel = pl.col("site") >= 12  # each vessel numbers its own network alike
        home = pl.format("10.{}.{}.{}", pl.col("site") + 20, pl.col("lease") // 250, pl.col("lease") % 250 + 2)
        afloat = pl.format("192.168.{}.{}", pl.col("lease") // 250 % 8, pl.col("lease") % 250 + 2)
        return pl.when(vessel).then(afloat).otherwise(home).alias("ip")

    def records(self) -> pl.DataFrame:
        """What the six systems say."""
        made = [self._campus(), self._radio(), self._endpoints(), self._watch(), self._assets(), self._register()]
        told = pl.concat(made, how="diagonal").sample(fraction=1.0, shuffle=True, seed=int(self.rng.integers(1 << 30)))
        ids = pl.format("{}{}", pl.col("system").str.slice(0, 1), pl.int_range(pl.len()))
        return told.with_columns(record_id=ids)

    def _account(self, system: str, of: pl.Expr, *, unheard: float | None = None) -> pl.DataFrame:
        """The devices that a system knows, with what is in doubt drawn anew for it."""
        known = self.devices.filter(of)
        known = known.filter(self.chance(self.noise.unheard if unheard is None else unheard, known.height).not_())
        if system in ("endpoints", "assets"):
            known = pl.concat([known, known.filter(self.chance(self.noise.twice, known.height))])
        height, noise = known.height, self.noise
        late = pl.Series(self.rng.exponential(0.5, height))
        return known.with_columns(
            system=pl.lit(system),
            last_seen=pl.lit(MOMENT) - pl.duration(minutes=((pl.col("seen") + late) * 1440).cast(pl.Int64)),
            ip=pl.when(pl.col("kind").is_in(_MOBILE) & self.chance(noise.other_address, height))
            .then(
                pl.format(
                    "10.{}.{}.{}",
                    pl.col("site") + 20,
                    pl.Series(self.rng.integers(0, 250, height)),
                    pl.Series(self.rng.integers(2, 250, height)),
                )
            )
            .otherwise("ip"),
            site_said=pl.when(self.chance(noise.wrong_site, height))
            .then(pl.Series(self.rng.integers(0, _SITES, height)))
            .otherwise("site"),
            name=self._spoken_name(known),
        )

    def _spoken_name(self, known: pl.DataFrame) -> pl.Expr:
        height, noise = known.height, self.noise
        other = pl.format(
            "{}-{}", pl.col("kind").replace_strict(_PREFIX), pl.Series(self.rng.integers(100_000, 999_999, height))
        )
        neighbour = pl.col("name").shift(1)
        return (
            pl.when(self.chance(noise.no_name, height))
            .then(None)
            .when(self.chance(noise.renamed, height))
            .then(other)
            .when(self.chance(noise.exchanged, height))
            .then(neighbour)
            .otherwise("name")
        )

    def _without(self, column: str, rate: float, height: int) -> pl.Expr:
        return pl.when(self.chance(rate, height)).then(None).otherwise(column)

    def _finished(self, told: pl.DataFrame, macs: pl.Expr, **columns: pl.Expr) -> pl.DataFrame:
        shaped = told.with_columns(macs=macs, **columns)
        lonely = self.chance(self.noise.only_address, shaped.height)
        bare = [
            pl.when(lonely).then(None).otherwise(n).alias(n)
            for n in ("name", "serial", "uuid", "tag_said", "user_said")
            if n in shaped.columns
        ]
        shaped = shaped.with_columns(
            *bare, macs=pl.when(lonely).then(pl.lit([], dtype=pl.List(pl.String))).otherwise("macs")
        )
        names = {
            "tag_said": "asset_tag",
            "user_said": "user",
            "site_text": "site",
            "maker_text": "maker",
            "model_text": "model",
        }
        keep = [
            "system",
            "device",
            "case",
            "name",
            "serial",
            "uuid",
            "tag_said",
            "macs",
            "ips",
            "maker_text",
            "model_text",
            "kind",
            "site_text",
            "user_said",
            "last_seen",
        ]
        shaped = shaped.with_columns(
            ips=pl.when(pl.col("ip").is_null())
            .then(pl.lit([], dtype=pl.List(pl.String)))
            .otherwise(pl.concat_list("ip"))
        )
        return shaped.select(n for n in keep if n in shaped.columns).rename(names, strict=False)

    def _cards(self, height: int, *columns: str, missing: float) -> pl.Expr:
        gone = self.chance(missing, height)
        listed = (
            pl.concat_list(pl.when(gone).then(None).otherwise(name) for name in columns)
            .list.drop_nulls()
            .list.unique(maintain_order=True)
        )
        return listed.list.eval(pl.element().str.replace("^(..)(..)(..)(..)(..)(..)$", "$1:$2:$3:$4:$5:$6"))

    def _campus(self) -> pl.DataFrame:
        """A network controller: its own nodes with serials, and what is plugged in without."""
        told = self._account(
            "campus", pl.col("kind").is_in([*_NETWORK, "server", "printer"]) | pl.col("dock").is_not_null()
        )
        own = pl.col("kind").is_in(_NETWORK)
        spoken = pl.col("is_stack") & (pl.col("place") > 0)
        stacks = self.chance(self.noise.whole_stack, self.size)
        told = told.filter((spoken & pl.Series(stacks).gather(told["stack"])).not_())
        visible = pl.when(pl.col("dock").is_not_null()).then("dock").otherwise("mac")
        told = told.with_columns(visible=visible, floating=pl.when(self.chance(0.4, told.height)).then("shared"))
        return self._finished(
            told.drop("uuid"),
            self._cards(told.height, "visible", "floating", missing=0.02),
            serial=pl.when(own).then(self._without("serial", self.noise.no_serial / 4, told.height)),
            name=pl.when(own | self.chance(self.noise.unnamed, told.height).not_()).then("name"),
            maker_text=pl.when(own).then(_maker()),
            model_text=pl.when(own).then(_code()),
            site_text=_site_code("site_said"),
            kind=pl.when(own).then("kind").otherwise(pl.lit("other")),
        )

    def _radio(self) -> pl.DataFrame:
        """A wireless controller: access points, and the radios of what is carried about."""
        told = self._account("radio", pl.col("kind").is_in(["access-point", *_MOBILE]), unheard=0.2)
        own = pl.col("kind") == "access-point"
        changing = pl.col("radio").str.contains("^d") & self.chance(self.noise.changed_mac, told.height)
        anew = pl.lit("d") + pl.format(
            "{}{}",
            pl.Series(self.rng.choice(["2", "6", "a", "e"], told.height)),
            _hex(pl.Series(self.rng.integers(0, 1 << 40, told.height)), 10),
        )
        told = told.with_columns(heard=pl.when(own).then("mac").when(changing).then(anew).otherwise("radio"))
        return self._finished(
            told.drop("uuid"),
            self._cards(told.height, "heard", missing=0.01),
            serial=pl.when(own).then("serial"),
            name=pl.when(own | self.chance(self.noise.unnamed, told.height).not_()).then(
                pl.col("name").str.slice(0, 15)
            ),
            maker_text=pl.when(own).then(_maker()),
            model_text=pl.when(own).then(_code()),
            site_text=_site_code("site_said"),
            kind=pl.when(own).then("kind").otherwise(pl.lit("other")),
        )

    def _endpoints(self) -> pl.DataFrame:
        """An endpoint manager: names cut short, serials that stand for nothing, cards of docks."""
        told = self._account("endpoints", pl.col("kind").is_in([*_MOBILE, "server", "virtual-machine"]))
        told = told.with_columns(
            wired=pl.when(pl.col("dock").is_not_null() & self.chance(0.8, told.height)).then("dock").otherwise("mac")
        )
        nothing = pl.Series(
            self.rng.choice(["To be filled", "0000000000", "N/A", "Not Specified", "MB-1234567890"], told.height)
        )
        return self._finished(
            told,
            self._cards(told.height, "wired", "radio", missing=self.noise.no_mac / 3),
            serial=pl.when(self.chance(self.noise.placeholder * 2, told.height))
            .then(nothing)
            .otherwise(self._without("serial", self.noise.no_serial / 3, told.height)),
            uuid=self._without("uuid", self.noise.no_uuid / 3, told.height),
            name=pl.col("name").str.slice(0, 15).str.to_uppercase(),
            maker_text=_maker().str.to_uppercase(),
            model_text=_marketed(),
            site_text=_label("site_said"),
            user_said=pl.format("u{}", "user"),
            kind=pl.col("kind"),
        )

    def _watch(self) -> pl.DataFrame:
        """Monitoring: names with a domain and addresses; stacks and pairs as one, under their common name."""
        told = self._account("watch", pl.col("kind").is_in([*_NETWORK, *_MACHINE, "printer"]))
        one = self.chance(self.noise.whole_stack * 2, self.size).gather(told["stack"]) | told["one_name"]
        as_one = pl.col("is_stack") & one
        told = told.filter((as_one & (pl.col("place") > 0)).not_()).with_columns(
            name=pl.when(pl.col("is_stack") & one.filter((told["is_stack"] & one & (told["place"] > 0)).not_()))
            .then("whole")
            .otherwise("name")
        )
        return self._finished(
            told.drop("uuid"),
            self._cards(told.height, "mac", missing=min(0.9, self.noise.no_mac * 2)),
            serial=pl.lit(None, dtype=pl.String),
            name=pl.when(self.chance(0.7, told.height)).then(pl.col("name") + ".ferries.example").otherwise("name"),
            site_text=_site_code("site_said"),
            kind=pl.col("kind"),
            ip=self._without("ip", 0.03, told.height),
        )

    def _assets(self) -> pl.DataFrame:
        """An inventory typed by hand; of what was swapped it still shows what stood there before."""
        told = self._account("assets", pl.lit(value=True), unheard=min(0.5, self.noise.unheard * 1.5))
        return self._typed(self._swapped(told), 1.0, missing=1.0)

    def _register(self) -> pl.DataFrame:
        """A register of what is owned: capitals, makers' prefixes, tags."""
        told = self._account(
            "register",
            pl.col("kind").is_in([*_MACHINE, "laptop", "router", "firewall", "switch"]),
            unheard=min(0.5, self.noise.unheard * 2),
        )
        told = told.with_columns(name=pl.col("name").str.slice(0, int(self.cut)).str.to_uppercase())
        return self._typed(told, 0.7, missing=1.5)

    def _swapped(self, told: pl.DataFrame) -> pl.DataFrame:
        gone = told["swapped"]
        old = self._words(told.height, string.digits + "ABCDEFGHJK", 8)
        return told.with_columns(
            device=pl.when(gone).then(pl.col("device") + self.size).otherwise("device"),
            serial=pl.when(gone).then(pl.lit("R") + pl.Series(old)).otherwise("serial"),
            mac=pl.when(gone).then(pl.lit("90a4de") + _hex(pl.col("count"), 6)).otherwise("mac"),
            tag=pl.when(gone).then(pl.col("tag") + 2_000_000).otherwise("tag"),
            uuid=pl.when(gone).then(pl.lit(None)).otherwise("uuid"),
            model=pl.when(gone & self.chance(0.5, told.height)).then((pl.col("model") + 1) % 4).otherwise("model"),
        )

    def _typed(self, told: pl.DataFrame, factor: float, *, missing: float) -> pl.DataFrame:
        """What people typed, with what goes wrong when they do."""
        noise, height, rng = self.noise, told.height, self.rng
        wrong = self.chance(noise.mistyped * factor, height)
        stray = self.chance(noise.into_another * factor, height)
        told = told.with_columns(
            serial=pl.when(self.chance(min(0.9, noise.no_serial * missing), height))
            .then(None)
            .when(self.chance(noise.placeholder, height))
            .then(pl.Series(rng.choice(["TBD", "unknown", "n/a", "1234567"], height)))
            .when(stray)
            .then(pl.col("serial").shift(1))
            .when(wrong)
            .then(_mistyped(told["serial"], rng))
            .otherwise("serial"),
            case=pl.when(stray)
            .then(pl.lit("into another"))
            .when(wrong & (pl.col("case") == "plain"))
            .then(pl.lit("mistyped"))
            .otherwise("case"),
        )
        dressed = self.chance(noise.decorated, height)
        manner = pl.Series(rng.integers(0, 4, height))
        serial = (
            pl.when(dressed.not_())
            .then("serial")
            .when(manner == 0)
            .then(pl.col("serial").str.to_lowercase())
            .when(manner == 1)
            .then(pl.lit("S/N ") + pl.col("serial"))
            .when(manner == 2)
            .then(pl.lit("000") + pl.col("serial"))
            .otherwise(pl.col("serial").str.replace(r"^(...)", "$1-"))
        )
        written = self.chance(noise.otherwise, height)
        other = pl.Series(rng.integers(0, 4, height))
        name = (
            pl.when(written.not_())
            .then("name")
            .when(other == 0)
            .then(pl.col("name").str.to_uppercase())
            .when(other == 1)
            .then(pl.col("name") + ".ferries.example")
            .when(other == 2)
            .then(pl.col("name") + " ")
            .otherwise(pl.col("name").str.replace_all("-", "_"))
        )
        return self._finished(
            told,
            self._cards(height, "mac", missing=min(0.9, noise.no_mac * 2 * missing)),
            serial=serial,
            name=name,
            uuid=self._without("uuid", min(0.95, noise.no_uuid * 3), height),
            tag_said=pl.when(self.chance(noise.no_tag, height)).then(None).otherwise(pl.format("SF{}", "tag")),
            ip=pl.when(self.chance(0.4, height)).then(None).otherwise("ip"),
            maker_text=_maker(),
            model_text=pl.when(self.chance(0.3, height)).then(_marketed()).otherwise(_code()),
            site_text=_label("site_said"),
            kind=pl.col("kind"),
            user_said=pl.when(self.chance(0.5, height)).then(pl.format("u{}", "user")),
            last_seen=pl.lit(None, dtype=pl.Datetime("us", "UTC")),
        )


def _leaders(group: np.ndarray) -> pl.Series:
    values, counts = np.unique(group, return_counts=True)
    return pl.Series(values[counts > 1])


def _hex(number: pl.Expr | pl.Series, width: int) -> pl.Expr:
    """A number as ``width`` hexadecimal digits."""
    whole = number if isinstance(number, pl.Expr) else pl.lit(number)
    digits = [
        (whole // 16 ** (width - 1 - at) % 16).replace_strict(
            dict(enumerate("0123456789abcdef")), return_dtype=pl.String
        )
        for at in range(width)
    ]
    return pl.concat_str(digits)


def _mistyped(serial: pl.Series, rng: np.random.Generator) -> pl.Series:
    """One typing error in each: a wrong sign, a lost one, a doubled one, or two exchanged."""
    out: list[str | None] = []
    for said, at, how, sign in zip(
        serial, rng.random(len(serial)), rng.integers(0, 4, len(serial)), rng.integers(0, 10, len(serial)), strict=True
    ):
        if not said or len(said) < 4:
            out.append(said)
            continue
        i = 1 + int(at * (len(said) - 2))
        made = (
            said[:i] + str(sign) + said[i + 1 :],
            said[:i] + said[i + 1 :],
            said[: i + 1] + said[i:],
            said[:i] + said[i + 1] + said[i] + said[i + 2 :],
        )[how]
        out.append(made)
    return pl.Series(out, dtype=pl.String)


def _maker() -> pl.Expr:
    return pl.col("maker").replace_strict(dict(enumerate(_MAKERS)), return_dtype=pl.String)


def _code() -> pl.Expr:
    return pl.format(
        "{}{}-{}", pl.col("kind").str.slice(0, 2).str.to_uppercase(), pl.col("maker") + 1, pl.col("model") * 100 + 50
    )


def _marketed() -> pl.Expr:
    series = pl.col("model").replace_strict({0: "Tern", 1: "Plover", 2: "Dunlin", 3: "Curlew"}, return_dtype=pl.String)
    return pl.format("{} {} {}", _maker(), series, pl.col("kind").str.slice(0, 1).str.to_uppercase())


def _site_code(column: str) -> pl.Expr:
    return pl.format("s{}", pl.col(column).cast(pl.String).str.zfill(2))


def _label(column: str) -> pl.Expr:
    return pl.format(
        "Berth {}",
        pl.col(column).cast(pl.Int64).replace_strict(dict(enumerate(string.ascii_uppercase)), return_dtype=pl.String),
    )
