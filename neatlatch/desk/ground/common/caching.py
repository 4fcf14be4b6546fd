"""What browsers and proxies may keep of answers: nothing of the API, which is for one person at one moment."""

from __future__ import annotations

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse


def no_store(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Middleware: an answer of the API says so (RFC 9111 §5.2.2.5), unless it says something itself."""

    def answer(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        if request.path.startswith("/api/"):
            response.headers.setdefault("Cache-Control", "no-store")
        return response

    return answer
