"""The one page of the front end, and the way back from a provider."""

from __future__ import annotations

from urllib.parse import quote

from django.conf import settings
from django.core.exceptions import DisallowedHost
from django.http import (
    HttpRequest,
    HttpResponse,
    HttpResponseNotAllowed,
    HttpResponseRedirect,
)
from django.views.decorators.cache import never_cache
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_GET

from neatlatch.desk.estate.connections import sign_in
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people.models import Person

_NOT_BUILT = (
    "<!doctype html><title>Neat Latch</title><p>The front end is not built yet. Run "
    "<code>bin/demo</code>, or <code>npm run build</code> in <code>web</code>."
)


# What programs ask for: a mistyped address must not be answered with a page, which they would take
# for an answer. The pages of the front end, by the beginning of their addresses (web/src/router.ts;
# a test compares them).
PAGES = {
    "",
    "access-rules",
    "accounts",
    "allow",
    "applications",
    "asked",
    "certificates",
    "clients",
    "connections",
    "credentials",
    "decommissioning",
    "environments",
    "health",
    "help",
    "inventory",
    "journal",
    "me",
    "owners",
    "people",
    "redirect-uris",
    "replacements",
    "rounds",
    "safe",
    "scopes",
    "set-up",
    "settings",
    "tests",
    "workloads",
}
_OF_PROGRAMS = {
    "alive",
    "api",
    "static",
    "draw",
    "relay",
    "house",
    "metrics",
    "schemas",
    ".well-known",
}


def broken(request: HttpRequest) -> HttpResponse:
    """Something here is wrong: said without what, which stands in the log."""
    return problems.answer(problems.broken())


def refused(request: HttpRequest, exception: Exception) -> HttpResponse:
    """A request that cannot be served as it is, such as one for a host that is not ours.

    Our own names are not told.
    """
    if isinstance(exception, DisallowedHost):
        says = "Its operator names its hosts in NEATLATCH_URL and NEATLATCH_HOSTS."
        return problems.answer(
            Problem(400, "This desk does not go by that host name.", says, code="unknown-host")
        )
    return problems.answer(
        Problem(
            400,
            "This request cannot be read.",
            "Look at its header and its form.",
            code="unreadable-request",
        )
    )


# it changes nothing, and a program's mistyped address is told as such, whatever its method
@csrf_exempt
def front(request: HttpRequest) -> HttpResponse:
    """The front end: any address that is not for programs."""
    if request.path.split("/")[1] in _OF_PROGRAMS:
        return problems.answer(
            Problem(
                404,
                "There is no such address.",
                "Look whether it is written in full, and without a slash at its end.",
                code="address-not-found",
            )
        )
    if request.method not in ("GET", "HEAD"):
        return HttpResponseNotAllowed(["GET", "HEAD"])
    file = settings.DIST / "index.html"
    known = request.path.split("/")[1] in PAGES
    # Anyone who mistyped an address is shown the same page, which says so; a program sees by the
    # status that nothing is there.
    answer = HttpResponse(
        file.read_bytes() if file.exists() else _NOT_BUILT, status=200 if known else 404
    )
    answer["Cache-Control"] = "no-cache"
    return answer


@require_GET
@never_cache
def come_back(request: HttpRequest) -> HttpResponse:
    """Where providers send people back to.

    The code is taken out of the address at once by sending the browser on.
    """
    person = request.user
    if not isinstance(person, Person):
        # The session ended on the way. The code must not stay in the address of a page that waits
        # for a log-in.
        return HttpResponseRedirect("/?returned=logged-out")
    done = sign_in.come_back(person, request.build_absolute_uri(), request.GET.get("state", ""))
    answer = HttpResponseRedirect(
        "/connections?returned=unknown"
        if done is None
        else f"{done.back}{'&' if '?' in done.back else '?'}signed-in={quote(str(done.pk))}"
    )
    answer["Referrer-Policy"] = "no-referrer"
    return answer
