"""The fleet behind documents of JSON:API that an add-on makes of models, with relations: run with a port."""

import sys
from wsgiref.simple_server import make_server

import django
from data import fleet
from django.conf import settings

settings.configure(
    SECRET_KEY="x" * 50, ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, USE_TZ=True,
    INSTALLED_APPS=["django.contrib.auth", "django.contrib.contenttypes", "rest_framework", "rest_framework_json_api"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
    REST_FRAMEWORK={
        "PAGE_SIZE": 25, "DEFAULT_PAGINATION_CLASS": "rest_framework_json_api.pagination.JsonApiPageNumberPagination",
        "DEFAULT_PARSER_CLASSES": ["rest_framework_json_api.parsers.JSONParser"],
        "DEFAULT_RENDERER_CLASSES": ["rest_framework_json_api.renderers.JSONRenderer"],
        "DEFAULT_METADATA_CLASS": "rest_framework_json_api.metadata.JSONAPIMetadata",
    },
)  # fmt: skip
django.setup()

from django.core.management import call_command  # noqa: E402
from django.db import connection, models  # noqa: E402
from django.urls import include, path  # noqa: E402
from rest_framework import routers  # noqa: E402
from rest_framework_json_api import serializers, views  # noqa: E402


class Office(models.Model):
    slug, title = models.CharField(max_length=50), models.CharField(max_length=50)
    town = models.CharField(max_length=50)

    class Meta:
        app_label = "fleet"


class Device(models.Model):
    hostname, serial_number = models.CharField(max_length=50), models.CharField(max_length=50)
    mac_address, ip_address = models.CharField(max_length=17), models.GenericIPAddressField()
    vendor, model_name = models.CharField(max_length=50), models.CharField(max_length=50)
    device_type, firmware_version = models.CharField(max_length=50), models.CharField(max_length=50)
    office = models.ForeignKey(Office, models.CASCADE)
    last_seen_at, status = models.DateTimeField(), models.CharField(max_length=50)

    class Meta:
        app_label = "fleet"


class Port(models.Model):
    device = models.ForeignKey(Device, models.CASCADE)
    port_name, mac = models.CharField(max_length=50), models.CharField(max_length=17)
    enabled = models.BooleanField()

    class Meta:
        app_label = "fleet"


router = routers.DefaultRouter()
for model in (Office, Device, Port):
    meta = type("Meta", (), {"model": model, "fields": "__all__"})
    serializer = type(f"{model.__name__}Serializer", (serializers.ModelSerializer,), {"Meta": meta})
    view = type(
        f"{model.__name__}View",
        (views.ModelViewSet,),
        {"queryset": model.objects.order_by("id"), "serializer_class": serializer},
    )
    router.register(f"{model.__name__.lower()}s", view)
urlpatterns = [
    path("api/", include(router.urls)),
]

call_command("migrate", verbosity=0)
with connection.schema_editor() as editor:
    for model in (Office, Device, Port):
        editor.create_model(model)
for model, rows in zip((Office, Device, Port), fleet().values(), strict=True):
    model.objects.bulk_create(model(**row) for row in rows)

from django.core.wsgi import get_wsgi_application  # noqa: E402

make_server("127.0.0.1", int(sys.argv[1]), get_wsgi_application()).serve_forever()
