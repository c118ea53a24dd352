"""The fleet behind resources of models, each list with its meta, for holders of a key: run with a port."""

from shelf import begin, serve

begin(["tastypie"])

from django.contrib.auth.models import User  # noqa: E402
from django.urls import include, path  # noqa: E402
from stock import Device, Office, Port, fill  # noqa: E402
from tastypie import fields  # noqa: E402
from tastypie.api import Api  # noqa: E402
from tastypie.authentication import ApiKeyAuthentication  # noqa: E402
from tastypie.models import ApiKey  # noqa: E402
from tastypie.resources import ModelResource  # noqa: E402


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
fill()
ApiKey.objects.create(user=User.objects.create_user("quay"), key="0123456789abcdef0123456789abcdef01234567")
serve()
