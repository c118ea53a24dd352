"""The fleet behind a framework's views and serializers, with a description of it: run with a port."""

from shelf import begin, serve

begin(
    ["rest_framework", "rest_framework.authtoken", "drf_spectacular"],
    REST_FRAMEWORK={
        "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema", "PAGE_SIZE": 25,
        "DEFAULT_PAGINATION_CLASS": "rest_framework.pagination.LimitOffsetPagination",
        "DEFAULT_AUTHENTICATION_CLASSES": ["rest_framework.authentication.TokenAuthentication"],
        "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    },
)  # fmt: skip

from django.contrib.auth.models import User  # noqa: E402
from django.urls import include, path  # noqa: E402
from drf_spectacular.views import SpectacularAPIView  # noqa: E402
from rest_framework import routers, serializers, viewsets  # noqa: E402
from rest_framework.authtoken.models import Token  # noqa: E402
from stock import fill, routed  # noqa: E402

router = routed(routers.DefaultRouter(), serializers.ModelSerializer, viewsets.ModelViewSet)
urlpatterns = [
    path("api/schema/", SpectacularAPIView.as_view(permission_classes=[])), path("api/", include(router.urls)),
]  # fmt: skip
fill()
Token.objects.create(user=User.objects.create_user("quay"), key="0123456789abcdef0123456789abcdef01234567")
serve()
