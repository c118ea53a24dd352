"""The fleet in a store of records with buckets and collections: run with a port."""

import sys
import threading
import time
from wsgiref.simple_server import make_server

import httpx
from data import fleet
from kinto import main

SETTINGS = {
    "storage_backend": "kinto.core.storage.memory", "cache_backend": "kinto.core.cache.memory",
    "permission_backend": "kinto.core.permission.memory", "userid_hmac_secret": "b" * 32,
    "multiauth.policies": "basicauth", "bucket_create_principals": "system.Authenticated", "paginate_by": "50",
}  # fmt: skip
port = int(sys.argv[1])
server = make_server("127.0.0.1", port, main({}, **SETTINGS))
threading.Thread(target=server.serve_forever, daemon=True).start()
with httpx.Client(base_url=f"http://127.0.0.1:{port}/v1", auth=("quay", "watch-word"), timeout=60) as client:
    client.put("/buckets/fleet", json={}).raise_for_status()
    for table, rows in fleet().items():
        client.put(f"/buckets/fleet/collections/{table}", json={}).raise_for_status()
        for begin in range(0, len(rows), 25):
            client.post("/batch", json={"requests": [
                {"method": "PUT", "path": f"/buckets/fleet/collections/{table}/records/{table[:3]}-{row['id']}",
                 "body": {"data": {name: value for name, value in row.items() if name != "id"}}}
                for row in rows[begin : begin + 25]
            ]}).raise_for_status()  # fmt: skip
print("ready", flush=True)
while True:
    time.sleep(3600)
