"""A small fleet for services that others wrote: offices, devices at them, and ports of the devices."""

from __future__ import annotations

import random
from typing import Any

OFFICES, DEVICES, PORTS = 24, 300, 900


def fleet(seed: int = 1) -> dict[str, list[dict[str, Any]]]:
    """Rows of each table, by members that no dialect of ours was written beside."""
    rng = random.Random(seed)
    offices = [
        {
            "id": number,
            "slug": f"quay-{number:02}",
            "title": f"Quay {number}",
            "town": rng.choice(["Saltmarsh", "Eastness"]),
        }
        for number in range(1, OFFICES + 1)
    ]
    sorts = ["switch", "router", "laptop", "printer"]
    devices = [
        {
            "id": number, "hostname": f"sf-{rng.choice('abc')}{number:04}",
            "serial_number": f"VK{rng.randrange(10**7):07}{number:04}",
            "mac_address": f"0c:b1:{rng.randrange(65536) % 256:02x}:00:{number // 256:02x}:{number % 256:02x}",
            "ip_address": f"10.{number // 250}.{number % 250}.{rng.randrange(2, 250)}",
            "vendor": rng.choice(["VANTRY", "KESTLE"]),
            "model_name": rng.choice(["Folio 14", "Relay 8", "Span 24"]), "device_type": rng.choice(sorts),
            "firmware_version": f"{rng.randrange(1, 9)}.{rng.randrange(9)}.{rng.randrange(20)}",
            "office_id": rng.randrange(1, OFFICES + 1),
            "last_seen_at": f"2026-11-{rng.randrange(1, 28):02}T10:{number % 60:02}:00Z",
            "status": rng.choice(["online", "offline"]),
        }
        for number in range(1, DEVICES + 1)
    ]  # fmt: skip
    ports = [
        {
            "id": number, "device_id": rng.randrange(1, DEVICES + 1), "port_name": f"ge-0/{number}",
            "mac": f"0c:b2:00:{rng.randrange(256):02x}:{number // 256:02x}:{number % 256:02x}",
            "enabled": rng.random() < 0.8,
        }
        for number in range(1, PORTS + 1)
    ]  # fmt: skip
    return {"offices": offices, "devices": devices, "ports": ports}
