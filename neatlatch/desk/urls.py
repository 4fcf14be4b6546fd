"""Addresses: the API, the event streams, the way back from a provider, and the one page of the front end."""

from django.urls import path, re_path

from . import views
from .api import api
from .rounds import events

urlpatterns = [
    path("api/tests/<uuid:identity>/events", events.test_events),
    path("api/rounds/<int:number>/events", events.round_events),
    path("api/", api.urls),
    path("alive", views.alive),
    re_path(r"^return/?$", views.come_back),
    re_path(r"^.*$", views.front),
]
