"""What receivers of certificates fetch: revocation lists, authorities' certificates, and the roots
to trust. All of it is public (RFC 2585 §4).
"""

from __future__ import annotations

from typing import Any
from uuid import UUID

from cryptography.hazmat.primitives.serialization import Encoding
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.utils import timezone

from neatlatch.desk.authority.certificates import services
from neatlatch.desk.authority.records.certificates.models import Authority
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground.common.safe import CannotOpen

# Receivers may keep what they fetched so many seconds: a revocation is to be seen within seconds.
KEPT_SECONDS = 2


def _refused(status: int, says: str) -> HttpResponse:
    return JsonResponse(
        {"error": "not_found" if status == 404 else "unavailable", "error_description": says},
        status=status,
    )


def _get(request: HttpRequest) -> HttpResponse | None:
    if request.method in ("GET", "HEAD"):
        return None
    answer = _refused(405, "GET is required")
    answer["Allow"] = "GET, HEAD"
    return answer


def _authority(environment: str, identity: UUID) -> Authority | None:
    return (
        Authority.objects.select_related("environment")
        .filter(environment__key=environment, pk=identity)
        .first()
    )


def _file(content: bytes, kind: str, seconds: int) -> HttpResponse:
    answer = HttpResponse(content, content_type=kind)
    answer["Cache-Control"] = f"public, max-age={seconds}"
    return answer


def revocations(request: HttpRequest, environment: str, identity: UUID) -> HttpResponse:
    """An authority's revocation list in DER (RFC 5280 §5)."""
    found = _authority(environment, identity)
    if (no := _get(request)) is not None:
        return no
    if found is None:
        return _refused(404, "There is no such authority")
    try:
        return _file(
            services.revocation_list(found, timezone.now()), "application/pkix-crl", KEPT_SECONDS
        )
    except CannotOpen as error:
        return _refused(503, str(error))


def certificate(request: HttpRequest, environment: str, identity: UUID) -> HttpResponse:
    """An authority's certificate in DER."""
    found = _authority(environment, identity)
    if (no := _get(request)) is not None:
        return no
    if found is None:
        return _refused(404, "There is no such authority")
    return _file(found.certificate().public_bytes(Encoding.DER), "application/pkix-cert", 3600)


def trust(request: HttpRequest, environment: str) -> HttpResponse:
    """The roots of an environment that receivers are to trust, in PEM: two while one replaces the
    other.
    """
    if (no := _get(request)) is not None:
        return no
    found: Any = Environment.objects.filter(key=environment).first()
    if found is None:
        return _refused(404, "There is no such environment")
    return _file(
        "".join(authority.pem for authority in services.trusted(found)).encode("ascii"),
        "application/pem-certificate-chain",
        60,
    )
