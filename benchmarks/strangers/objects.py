"""The fleet behind resources of models, each list with its meta, for holders of a key: run with a port."""

import sys
from wsgiref.simple_server import make_server

import django
from data import fleet
from django.conf import settings

settings.configure(
    SECRET_KEY="x" * 50, ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, USE_TZ=True,
    INSTALLED_APPS=[
        "django.contrib.auth", "django.contrib.contenttypes", "tastypie",
    ],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
)  # fmt: skip
django.setup()

from django.core.management import call_command  # noqa: E402
from django.db import connection, models  # noqa: E402
from django.urls import include, path  # noqa: E402
from tastypie import fields  # noqa: E402
from tastypie.api import Api  # noqa: E402
from tastypie.authentication import ApiKeyAuthentication  # noqa: E402
from tastypie.resources import ModelResource  # noqa: E402


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


class Keyed:
    """Only who has a key is let in."""

    authentication = ApiKeyAuthentication()


class OfficeResource(ModelResource):
    class Meta(Keyed):
        queryset, resource_name = Office.objects.order_by("id"), "offices"


class DeviceResource(ModelResource):
    office = fields.ForeignKey(OfficeResource, "office")

    class Meta(Keyed):
        queryset, resource_name = Device.objects.order_by("id"), "devices"


class PortResource(ModelResource):
    device = fields.ForeignKey(DeviceResource, "device")

    class Meta(Keyed):
        queryset, resource_name = Port.objects.order_by("id"), "ports"


api = Api("v1")
for resource in (OfficeResource, DeviceResource, PortResource):
    api.register(resource())
urlpatterns = [path("api/", include(api.urls))]

call_command("migrate", verbosity=0)
with connection.schema_editor() as editor:
    for model in (Office, Device, Port):
        editor.create_model(model)
for model, rows in zip((Office, Device, Port), fleet().values(), strict=True):
    model.objects.bulk_create(model(**row) for row in rows)

from django.contrib.auth.models import User  # noqa: E402
from tastypie.models import ApiKey  # noqa: E402

ApiKey.objects.create(user=User.objects.create_user("quay"), key="0123456789abcdef0123456789abcdef01234567")
from django.core.wsgi import get_wsgi_application  # noqa: E402

make_server("127.0.0.1", int(sys.argv[1]), get_wsgi_application()).serve_forever()
