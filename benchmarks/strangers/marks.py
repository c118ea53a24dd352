"""The fleet behind views whose pages are marks in links, for a name and a password: run with a port."""

from shelf import begin, serve

begin(
    ["rest_framework"],
    REST_FRAMEWORK={
        "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.BasicAuthentication"],
        "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    },
)

from django.contrib.auth.models import User  # noqa: E402
from django.urls import include, path  # noqa: E402
from rest_framework import pagination, routers, serializers, viewsets  # noqa: E402
from stock import fill, routed  # noqa: E402


class Marks(pagination.CursorPagination):
    """Pages by marks, in the order of the ids."""

    page_size, page_size_query_param, max_page_size = 25, "page_size", 100
    ordering = "id"


router = routed(routers.DefaultRouter(), serializers.ModelSerializer, viewsets.ModelViewSet, pagination_class=Marks)
urlpatterns = [path("api/", include(router.urls))]
fill()
User.objects.create_user("quay", password="watch-word")
serve()
