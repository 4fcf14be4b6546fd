"""Cache headers: what browsers and proxies may store, and conditional requests (RFC 9110 §13)."""

from __future__ import annotations

import gzip
import hashlib
from collections.abc import Callable

from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.utils.cache import get_conditional_response, patch_vary_headers

from .answers import CacheableResponse

# Octets; a smaller answer goes in one packet anyway.
_WORTH_IT = 1_400
# Of zlib: the higher ones take longer than they save.
_LEVEL = 5


def of_the_api(
    get_response: Callable[[HttpRequest], HttpResponse],
) -> Callable[[HttpRequest], HttpResponseBase]:
    """Middleware.

    An answer of the API is for one person at one moment, and nobody keeps it (RFC 9111 §5.2.2.5),
    unless it says something itself.

    A list has a tag: who sends it back and would get the same is told so in a word (RFC 9110
    §13.1.2). It goes out compressed where that is taken. Other answers are not: who can have a page
    answer what they choose beside a secret could guess the secret by the length (BREACH).
    """

    def answer(request: HttpRequest) -> HttpResponseBase:
        response = get_response(request)
        if not request.path.startswith("/api/"):
            return response
        response.headers.setdefault("Cache-Control", "no-store")
        return (
            _list(request, response)
            if isinstance(response, CacheableResponse) and response.status_code == 200
            else response
        )

    return answer


def _list(request: HttpRequest, response: CacheableResponse) -> HttpResponseBase:
    tag = f'W/"{hashlib.sha256(response.content).hexdigest()[:32]}"'
    response.headers["ETag"] = tag
    patch_vary_headers(response, ("Accept-Encoding",))
    told = get_conditional_response(request, etag=tag, response=response)
    if told is not response:
        assert told is not None
        told.headers["Cache-Control"] = response.headers["Cache-Control"]
        return told
    if len(response.content) >= _WORTH_IT and _takes_gzip(request):
        response.content = gzip.compress(response.content, _LEVEL, mtime=0)
        response.headers["Content-Encoding"] = "gzip"
    return response


def _takes_gzip(request: HttpRequest) -> bool:
    """Whether gzip is among the encodings that are taken, and not at the weight of nothing (RFC
    9110 §12.5.3).
    """
    for part in request.headers.get("Accept-Encoding", "").lower().split(","):
        name, _, weight = part.replace(" ", "").partition(";q=")
        if name == "gzip":
            return weight.strip("0.") != "" if weight else True
    return False
