"""The fleet behind views that answer with XML, in numbered pages, for a name and a password: run with a port."""

import sys
from wsgiref.simple_server import make_server

import django
from data import fleet
from django.conf import settings

settings.configure(
    SECRET_KEY="x" * 50, ALLOWED_HOSTS=["*"], ROOT_URLCONF=__name__, USE_TZ=True,
    INSTALLED_APPS=[
        "django.contrib.auth", "django.contrib.contenttypes", "rest_framework",
    ],
    PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"],
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
    DEFAULT_AUTO_FIELD="django.db.models.AutoField",
    REST_FRAMEWORK={
        "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.BasicAuthentication"],
        "DEFAULT_RENDERER_CLASSES": ["rest_framework_xml.renderers.XMLRenderer"],
        "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    },
)  # fmt: skip
django.setup()

from django.core.management import call_command  # noqa: E402
from django.db import connection, models  # noqa: E402
from django.urls import include, path  # noqa: E402
from rest_framework import pagination, routers, serializers, viewsets  # noqa: E402


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


class Numbers(pagination.PageNumberPagination):
    """Pages by number."""

    page_size, page_size_query_param, max_page_size = 25, "page_size", 100


router = routers.DefaultRouter()
for model in (Office, Device, Port):
    meta = type("Meta", (), {"model": model, "fields": "__all__"})
    serializer = type(f"{model.__name__}Serializer", (serializers.ModelSerializer,), {"Meta": meta})
    view = type(
        f"{model.__name__}View",
        (viewsets.ModelViewSet,),
        {"queryset": model.objects.order_by("id"), "serializer_class": serializer, "pagination_class": Numbers},
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

from django.contrib.auth.models import User  # noqa: E402

User.objects.create_user("quay", password="watch-word")
from django.core.wsgi import get_wsgi_application  # noqa: E402

make_server("127.0.0.1", int(sys.argv[1]), get_wsgi_application()).serve_forever()
