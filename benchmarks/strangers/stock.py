"""The fleet as models, once the framework is set up: offices, devices at them, ports of the devices."""

from typing import Any

from data import fleet
from django.core.management import call_command
from django.db import connection, models


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


MODELS = (Office, Device, Port)


def fill() -> None:
    """Make the tables, and put every row into its own."""
    call_command("migrate", verbosity=0)
    with connection.schema_editor() as editor:
        for model in MODELS:
            editor.create_model(model)
    for model, rows in zip(MODELS, fleet().values(), strict=True):
        model.objects.bulk_create(model(**row) for row in rows)


def routed(router: Any, serializer: type, view: type, **more: Any) -> Any:
    """A router with a view of each model, whose serializer has all its members."""
    for model in MODELS:
        meta = type("Meta", (), {"model": model, "fields": "__all__"})
        own = type(f"{model.__name__}Serializer", (serializer,), {"Meta": meta})
        told = {"queryset": model.objects.order_by("id"), "serializer_class": own, **more}
        router.register(f"{model.__name__.lower()}s", type(f"{model.__name__}View", (view,), told))
    return router
