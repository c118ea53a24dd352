"""The fleet behind views that answer with XML, in numbered pages, for a name and a password: run with a port."""

from shelf import begin, serve

begin(
    ["rest_framework"],
    REST_FRAMEWORK={
        "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.BasicAuthentication"],
        "DEFAULT_RENDERER_CLASSES": ["rest_framework_xml.renderers.XMLRenderer"],
        "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    },
)

from django.contrib.auth.models import User  # noqa: E402
from django.urls import include, path  # noqa: E402
from rest_framework import pagination, routers, serializers, viewsets  # noqa: E402
from stock import fill, routed  # noqa: E402


class Numbers(pagination.PageNumberPagination):
    """Pages by number."""

    page_size, page_size_query_param, max_page_size = 25, "page_size", 100


router = routed(routers.DefaultRouter(), serializers.ModelSerializer, viewsets.ModelViewSet, pagination_class=Numbers)
urlpatterns = [path("api/", include(router.urls))]
fill()
User.objects.create_user("quay", password="watch-word")
serve()
