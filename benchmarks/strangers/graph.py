"""The fleet behind a graph of connections, asked with queries at one path: run with a port."""

import sys
from collections.abc import Iterable

import strawberry
import uvicorn
from data import fleet
from strawberry import relay
from strawberry.asgi import GraphQL

FLEET = fleet()


def kind(table: str, name: str) -> type:
    """A node with the members of a table."""
    members = {member: type(value) for member, value in FLEET[table][0].items() if member != "id"}
    body = {"__annotations__": {"id": relay.NodeID[int], **members}}
    return strawberry.type(type(name, (relay.Node,), body))


Device, Office, Port = kind("devices", "Device"), kind("offices", "Office"), kind("ports", "Port")


@strawberry.type
class Query:
    """What can be asked."""

    @relay.connection(relay.ListConnection[Device])
    def devices(self) -> Iterable[Device]:
        return [Device(**row) for row in FLEET["devices"]]

    @relay.connection(relay.ListConnection[Office])
    def offices(self) -> Iterable[Office]:
        return [Office(**row) for row in FLEET["offices"]]

    @relay.connection(relay.ListConnection[Port])
    def ports(self) -> Iterable[Port]:
        return [Port(**row) for row in FLEET["ports"]]


uvicorn.run(GraphQL(strawberry.Schema(Query)), port=int(sys.argv[1]), log_level="error")
