"""Addresses: the API, the event streams, the way back from a provider, and the one page of the
front end.
"""

from django.urls import path, re_path

from . import views
from .api import api
from .certificates import endpoints as certificates
from .drawing import draw_endpoints as drawing
from .house import endpoints as house
from .metrics import metrics
from .rounds import events
from .schemas import schema

urlpatterns = [
    path("api/tests/<uuid:identity>/events", events.test_events),
    path("api/rounds/<int:number>/events", events.round_events),
    path("api/", api.urls),
    # RFC 8414 §3.1: the well-known part stands between host and path.
    path(".well-known/oauth-authorization-server/house/<slug:environment>", house.metadata),
    path("house/<slug:environment>/authorize", house.authorize),
    path("house/<slug:environment>/token", house.token),
    path("house/<slug:environment>/introspect", house.introspect),
    path("house/<slug:environment>/revoke", house.revoke),
    path("house/<slug:environment>/jwks", house.jwks),
    path("house/<slug:environment>/status/<int:block>", house.status),
    path("house/<slug:environment>/register", house.register),
    path("house/<slug:environment>/register/<slug:client_id>", house.registration),
    path("house/<slug:environment>/authorities/<uuid:identity>.crl", certificates.revocations),
    path("house/<slug:environment>/authorities/<uuid:identity>.cer", certificates.certificate),
    path("house/<slug:environment>/trust.pem", certificates.trust),
    path("metrics", metrics),
    path("schemas/<slug:name>.json", schema),
    path("draw", drawing.mine),
    path("draw/<slug:name>", drawing.draw),
    path("draw/<slug:name>/tests", drawing.test),
    path("draw/<slug:name>/signed-calls", drawing.check_call),
    path("draw/<slug:environment>/<slug:name>", drawing.with_environment),
    path("relay/<slug:name>", drawing.relay),
    path("relay/<slug:name>/", drawing.relay),
    path("relay/<slug:name>/<path:path>", drawing.relay),
    re_path(r"^return/?$", views.come_back),
    re_path(r"", views.front),
]

handler400 = views.refused
handler500 = views.broken
