"""Where Saltmarsh Ferries is, and what it buys.  All of it is made up."""

from __future__ import annotations

SITES = (
    "gull-stairs", "ropewalk-depot",
    "cobble-quay", "herring-slip", "saltpan", "north-mole", "fishgate", "tern-point", "lantern-wharf",
    "pilot-steps", "oyster-bank",
    "mv-avocet", "mv-bittern", "mv-curlew", "mv-dunlin", "mv-eider", "mv-fulmar", "mv-gannet", "mv-heron",
    "mv-knot", "mv-lapwing", "mv-merganser", "mv-oystercatcher", "mv-plover", "mv-redshank",
)  # fmt: skip
OFFICE, DEPOT = SITES[0], SITES[1]
TERMINALS, VESSELS = SITES[2:11], SITES[11:]

#: kind: makers' models, each with the operating system and its releases, oldest first.
PRODUCTS: dict[str, tuple[tuple[str, str, str, tuple[str, ...]], ...]] = {
    "router": (("Brackwater", "BR-410", "TideOS", ("7.1.8", "7.2.4", "7.2.10")),),
    "switch": (
        ("Brackwater", "BS-2448", "TideOS", ("7.1.8", "7.2.4", "7.2.10", "7.2.11")),
        ("Ostrel", "Linnet 24P", "Ostrel Base", ("4.9.1", "4.10.0", "4.10.3")),
    ),
    "access-point": (("Ostrel", "Wren 6", "Ostrel Air", ("10.2.7", "10.3.0")),),
    "firewall": (
        ("Kelmoor", "Palisade 90", "KelGuard", ("9.0.12", "9.1.3")),
        ("Sandling", "Mole 50", "SandGuard", ("2.4.0",)),
    ),
    "server": (("Dunhollow", "R2 Plinth", "Harbour Linux", ("11.4", "12.1")),),
    "laptop": (
        ("Vantry", "Folio 14", "Casement", ("22.4.1", "23.1.0", "23.2.2")),
        ("Dunhollow", "Satchel 5", "Casement", ("23.1.0", "23.2.2")),
    ),
    "tablet": (("Pellory", "Counter 11", "Lintel", ("13.0", "14.0")),),
    "handheld": (("Pellory", "Clasp T3", "Lintel", ("12.1", "13.0", "14.0")),),
}

#: Of what stands in racks the height of each model in units, its kilograms and watts, and whether it is as deep as one.
BODIES: dict[str, tuple[int, float, int, bool]] = {
    "BR-410": (1, 4.2, 60, False), "BS-2448": (1, 5.1, 90, False), "Linnet 24P": (1, 3.9, 75, False),
    "Palisade 90": (2, 11.5, 180, True), "Mole 50": (1, 4.8, 70, False), "R2 Plinth": (2, 24.0, 450, True),
}  # fmt: skip

#: What came last: nobody has told the inventory yet.
NEWEST_VESSEL, NEWEST_MAKER = VESSELS[-1], "Sandling"

#: Each kind's share of the fleet, and how its devices are named.
SHARES = {
    "router": 0.05, "switch": 0.16, "access-point": 0.17, "firewall": 0.03, "server": 0.05, "laptop": 0.24,
    "tablet": 0.13, "handheld": 0.17,
}  # fmt: skip
PREFIX = {
    "router": "rt", "switch": "sw", "access-point": "ap", "firewall": "fw", "server": "srv", "laptop": "SF-LT",
    "tablet": "kiosk", "handheld": "scan",
}  # fmt: skip

#: The first three octets of the network cards of each maker: none is assigned to anybody real.
CARDS = {
    "Brackwater": "0c:b1:00", "Ostrel": "0c:b1:01", "Kelmoor": "0c:b1:02", "Dunhollow": "0c:b1:03",
    "Vantry": "0c:b1:04", "Pellory": "0c:b1:05", "Sandling": "0c:b1:07", "dock": "0c:b1:06",
}  # fmt: skip

PEOPLE = ("a.brine", "b.cleat", "c.davit", "d.fender", "e.galley", "f.hawser", "g.keel", "h.leeboard")
REMARKS = (
    "spare key with the harbour office",
    "warranty call open",
    "moved after the storm",
    "label is worn",
)
