"""Bodies that programs send."""

from __future__ import annotations

from django.core.exceptions import RequestDataTooBig
from django.http import HttpRequest


def of(request: HttpRequest, most: int) -> bytes | None:
    """The body of a request, or none where it has more octets than ``most``, or than Django's own
    limit.
    """
    try:
        body = request.body
    except RequestDataTooBig:
        return None
    return body if len(body) <= most else None
