"""The fleet behind a framework's typed operations, in its own pages, for holders of a key: run with a port."""

import sys
from wsgiref.simple_server import make_server

import django
from data import fleet
from django.conf import settings

settings.configure(SECRET_KEY="x" * 50, ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, USE_TZ=True)
django.setup()

from django.core.wsgi import get_wsgi_application  # noqa: E402
from django.urls import path  # noqa: E402
from ninja import NinjaAPI, Schema  # noqa: E402
from ninja.pagination import LimitOffsetPagination, PageNumberPagination, paginate  # noqa: E402
from ninja.security import APIKeyHeader  # noqa: E402
from pydantic import create_model  # noqa: E402

FLEET = fleet()


class Key(APIKeyHeader):
    """Let in who has the key."""

    param_name = "X-API-Key"

    def authenticate(self, request, key):
        return key if key == "0123456789abcdef0123456789abcdef01234567" else None


def kind(table: str) -> type[Schema]:
    """A schema with the members of a table."""
    members = {name: (type(value), ...) for name, value in FLEET[table][0].items()}
    return create_model(table.capitalize(), __base__=Schema, **members)


api = NinjaAPI(title="Quay operations", auth=Key())


def listing(table: str):
    """An operation that lists a table."""

    def listed(request):
        return FLEET[table]

    listed.__name__ = f"list_{table}"
    return listed


ways = {"devices": LimitOffsetPagination, "offices": PageNumberPagination, "ports": LimitOffsetPagination}
for table, way in ways.items():
    api.get(f"/{table}", response=list[kind(table)])(paginate(way)(listing(table)))

urlpatterns = [path("api/", api.urls)]
make_server("127.0.0.1", int(sys.argv[1]), get_wsgi_application()).serve_forever()
