"""The fleet behind features of OGC API, each place a point, with links in a list: run with a port."""

import csv
import json
import os
import sys
import tempfile
from pathlib import Path

from data import fleet

port, folder = int(sys.argv[1]), Path(tempfile.mkdtemp())
resources = {}
for name, rows in fleet().items():
    with (folder / f"{name}.csv").open("w", newline="") as file:
        table = csv.DictWriter(file, ["lon", "lat", *rows[0]])
        table.writeheader()
        table.writerows({"lon": 10, "lat": 54 + row["id"] / 1000, **row} for row in rows)
    resources[name] = {
        "type": "collection", "title": name, "description": name, "keywords": [name], "links": [],
        "extents": {"spatial": {"bbox": [-180, -90, 180, 90]}},
        "providers": [
            {
                "type": "feature", "name": "CSV", "data": str(folder / f"{name}.csv"), "id_field": "id",
                "geometry": {"x_field": "lon", "y_field": "lat"},
            }
        ],
    }  # fmt: skip
word = {"en": "Quay features"}
config = {
    "server": {
        "bind": {"host": "127.0.0.1", "port": port}, "url": f"http://127.0.0.1:{port}", "mimetype": "application/json",
        "encoding": "utf-8", "language": "en-US", "limits": {"default_items": 10, "max_items": 50},
        "map": {"url": "https://tiles.example", "attribution": ""},
    },
    "logging": {"level": "ERROR"},
    "metadata": {
        "identification": {
            "title": word, "description": word, "keywords": {"en": ["quay"]}, "keywords_type": "theme",
            "terms_of_service": "https://saltmarsh.example", "url": "https://saltmarsh.example",
        },
        "license": {"name": "none", "url": "https://saltmarsh.example"},
        "provider": {"name": "Saltmarsh", "url": "https://saltmarsh.example"},
        "contact": {"name": "Watch"},
    },
    "resources": resources,
}  # fmt: skip
(folder / "config.yml").write_text(json.dumps(config))
os.environ["PYGEOAPI_CONFIG"], os.environ["PYGEOAPI_OPENAPI"] = str(folder / "config.yml"), str(folder / "openapi.json")
from pygeoapi.openapi import get_oas  # noqa: E402

(folder / "openapi.json").write_text(json.dumps(get_oas(config, fail_on_invalid_collection=False), default=str))
from pygeoapi.flask_app import APP  # noqa: E402

APP.run(port=port)
