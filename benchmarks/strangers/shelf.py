"""What the programs have in common that keep the fleet in one framework's models: its settings, and the server."""

import sys
from typing import Any
from wsgiref.simple_server import make_server

import django
from django.conf import settings


def begin(apps: list[str], **more: Any) -> None:
    """Set the framework up, with its own apps and the caller as the place of all paths."""
    settings.configure(
        SECRET_KEY="x" * 50, ALLOWED_HOSTS=["*"], ROOT_URLCONF="__main__", USE_TZ=True,
        INSTALLED_APPS=["django.contrib.auth", "django.contrib.contenttypes", *apps],
        DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
        PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"],
        DEFAULT_AUTO_FIELD="django.db.models.AutoField", **more,
    )  # fmt: skip
    django.setup()


def serve() -> None:
    """Serve at the port that the program was given, until it is ended."""
    from django.core.wsgi import get_wsgi_application

    make_server("127.0.0.1", int(sys.argv[1]), get_wsgi_application()).serve_forever()
