"""The fleet behind documents of JSON:API that an add-on makes of models, with relations: run with a port."""

from shelf import begin, serve

begin(
    ["rest_framework", "rest_framework_json_api"],
    REST_FRAMEWORK={
        "PAGE_SIZE": 25, "DEFAULT_PAGINATION_CLASS": "rest_framework_json_api.pagination.JsonApiPageNumberPagination",
        "DEFAULT_PARSER_CLASSES": ["rest_framework_json_api.parsers.JSONParser"],
        "DEFAULT_RENDERER_CLASSES": ["rest_framework_json_api.renderers.JSONRenderer"],
        "DEFAULT_METADATA_CLASS": "rest_framework_json_api.metadata.JSONAPIMetadata",
    },
)  # fmt: skip

from django.urls import include, path  # noqa: E402
from rest_framework import routers  # noqa: E402
from rest_framework_json_api import serializers, views  # noqa: E402
from stock import fill, routed  # noqa: E402

router = routed(routers.DefaultRouter(), serializers.ModelSerializer, views.ModelViewSet)
urlpatterns = [path("api/", include(router.urls))]
fill()
serve()
