"""The authority's addresses as the standards have them: authorize, token, introspect, revoke,
register, keys, status lists, metadata.

Each environment has its own, below ``/house/<environment>``. Their answers are those of the
standards and not the problem details of our own API.
"""

from __future__ import annotations

import functools
import json
from collections.abc import Callable, Sequence
from typing import Any
from urllib.parse import parse_qsl

from django.http import HttpRequest, HttpResponse, HttpResponseRedirect, JsonResponse
from django.utils import timezone
from django.views.decorators.csrf import csrf_exempt

from neatlatch.core import house_key
from neatlatch.core.authority import ceiling, registering, status_list, telling
from neatlatch.core.authority.refusing import RedirectedRefusal, RequestRefused, once, presented
from neatlatch.desk.authority.house import issuing, quick, rights, signing, tokens
from neatlatch.desk.estate.clients.services import put_fields
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.ground.common import bodies, fast_path
from neatlatch.desk.ground.common.actors import BY_PROTOCOL
from neatlatch.desk.ground.common.asgi import Scope
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.common.strangers import Allowance

# All of a firm may come from one address, and many sign in at the same hour.
_ASKED = Allowance(of_one=300, of_all=1_200)
LARGEST_BODY, MOST_FIELDS = 64 * 1024, 50
View = Callable[..., HttpResponse]


def _environment(key: str) -> Environment:
    found = Environment.objects.filter(key=key).first()
    if found is None:
        raise RequestRefused("not_found", "There is no such authority", 404)
    return found


def _address(request: HttpRequest) -> str:
    return str(request.META.get("REMOTE_ADDR", ""))


def _endpoint(name: str, *methods: str) -> Callable[[View], View]:
    """A view of the authority: refusals become the standards' JSON and a line in the log, and
    nothing is cached.
    """

    def wrap(view: View) -> View:
        @csrf_exempt
        @functools.wraps(view)
        def run(request: HttpRequest, environment: str, **rest: Any) -> HttpResponse:
            if request.method not in methods:
                answer: HttpResponse = JsonResponse(
                    {
                        "error": "invalid_request",
                        "error_description": f"{' or '.join(methods)} is required",
                    },
                    status=405,
                )
                answer["Allow"] = ", ".join(methods)
                return answer
            found = None
            try:
                found = _environment(environment)
                answer = view(request, found, **rest)
            except RequestRefused as refused:
                if found is not None and refused.status != 404:
                    named = str(getattr(request, "client_named", ""))
                    issuing.keep_rejected(
                        found,
                        name,
                        refused.logged,
                        issuing.client_of(refused) or getattr(request, "client_known", None),
                        named,
                        _address(request),
                    )
                answer = JsonResponse(refused.body(), status=refused.status)
                if refused.status == 401:
                    scheme = "Bearer" if name == "register" else "Basic"
                    answer["WWW-Authenticate"] = f'{scheme} realm="house/{environment}"'
            except Problem as problem:
                answer = JsonResponse(
                    {
                        "error": "invalid_client_metadata",
                        "error_description": problem.detail or problem.title,
                    },
                    status=400,
                )
            if "Cache-Control" not in answer:
                answer["Cache-Control"] = "no-store"
            return answer

        return run

    return wrap


def _form(request: HttpRequest) -> dict[str, str]:
    """The form fields of a request, each once. Raises :class:`RequestRefused`."""
    if request.content_type != "application/x-www-form-urlencoded":
        raise RequestRefused(
            "invalid_request", "The body must be application/x-www-form-urlencoded"
        )
    body = bodies.of(request, LARGEST_BODY)
    if body is None:
        raise RequestRefused("invalid_request", "The body is too large")
    try:
        pairs = parse_qsl(body.decode("utf-8"), keep_blank_values=True, max_num_fields=MOST_FIELDS)
    except ValueError as error:
        raise RequestRefused("invalid_request", "The body cannot be read") from error
    return once(pairs)


def _signed_in(
    request: HttpRequest, environment: Environment, form: dict[str, str]
) -> tuple[Client, Any]:
    shown = presented(request.headers.get("Authorization", ""), form)
    request.client_named = shown.client_id  # type: ignore[attr-defined]
    client, credential = issuing.sign_in(environment, shown, _address(request))
    request.client_known = client  # type: ignore[attr-defined]
    return client, credential


@_endpoint("authorize", "GET")
def authorize(request: HttpRequest, environment: Environment) -> HttpResponse:
    """A client sends a person (RFC 6749 §4.1.1).

    The person is asked on a page of ours. Each such request is kept until it is answered, so one
    address has so many.
    """
    if not _ASKED.take(_address(request)):
        raise RequestRefused(
            "temporarily_unavailable",
            "Too many requests came from this address. Wait a minute",
            429,
            "too many in a minute",
        )
    try:
        waiting = tokens.put_before(
            environment,
            once(
                parse_qsl(
                    request.META.get("QUERY_STRING", ""),
                    keep_blank_values=True,
                    max_num_fields=MOST_FIELDS,
                )
            ),
        )
    except RedirectedRefusal as back:
        return HttpResponseRedirectAnywhere(back.location(issuing.issuer(environment)))
    except ValueError as error:
        raise RequestRefused("invalid_request", "The request cannot be read") from error
    return HttpResponseRedirect(f"/allow/{waiting.pk}")


class HttpResponseRedirectAnywhere(HttpResponseRedirect):
    """A redirect to a registered URI, which may have a private-use scheme (RFC 8252 §7.1)."""

    def __init__(self, location: str) -> None:
        self.allowed_schemes = [location.partition(":")[0].lower()]
        super().__init__(location)


@_endpoint("token", "POST")
def token(request: HttpRequest, environment: Environment) -> HttpResponse:
    """The token endpoint (RFC 6749 §3.2)."""
    form = _form(request)
    client, credential = _signed_in(request, environment, form)
    return JsonResponse(tokens.give(client, credential, form), headers={"Pragma": "no-cache"})


@_endpoint("introspect", "POST")
def introspect(request: HttpRequest, environment: Environment) -> HttpResponse:
    """Introspection, for applications that were shown a token, and for clients about their own (RFC
    7662 §2.1).
    """
    form = _form(request)
    asker, _ = _signed_in(request, environment, form)
    if "token" not in form:
        raise RequestRefused("invalid_request", "token is required")
    return JsonResponse(tokens.introspect(environment, asker, form["token"], _address(request)))


def _introspected(asks: Sequence[tuple[str, str, bytes, str]]) -> list[str | None]:
    now = timezone.now()
    return [fast_path.or_none(quick.introspect, *ask, now) for ask in asks]


_BATCHES = fast_path.BatchedCalls(_introspected)


async def usual(scope: Scope, body: bytes, send: Any) -> bool:
    """Answer the usual introspection before the whole of Django is gone through.

    Returns whether it did.
    """
    environment, headers = str(scope["path"]).split("/")[2], fast_path.headers_of(scope)
    if (
        headers.get("content-type", "").partition(";")[0].strip()
        != "application/x-www-form-urlencoded"
    ):
        return False
    found = await _BATCHES.call(
        (environment, headers.get("authorization", ""), body, fast_path.address_of(scope))
    )
    if found is not None:
        await fast_path.answer(send, "application/json", found)
    return found is not None


@_endpoint("revoke", "POST")
def revoke(request: HttpRequest, environment: Environment) -> HttpResponse:
    """Revocation (RFC 7009 §2). A token that is unknown counts as revoked (§2.2)."""
    form = _form(request)
    client, _ = _signed_in(request, environment, form)
    if "token" not in form:
        raise RequestRefused("invalid_request", "token is required")
    tokens.revoke_shown(client, form["token"])
    return HttpResponse(status=200)


@_endpoint("jwks", "GET", "HEAD")
def jwks(request: HttpRequest, environment: Environment) -> HttpResponse:
    """The keys that tokens are signed with (RFC 7517 §5)."""
    signing.signer(environment, timezone.now())
    answer = JsonResponse(
        signing.key_set(environment, timezone.now()), content_type="application/jwk-set+json"
    )
    answer["Cache-Control"] = f"public, max-age={int(signing.KEPT_FOR.total_seconds()) // 2}"
    return answer


@_endpoint("status", "GET", "HEAD")
def status(request: HttpRequest, environment: Environment, block: int) -> HttpResponse:
    """A status list token (Token Status List §8)."""
    answer = HttpResponse(
        tokens.statuses(environment, block), content_type=f"application/{status_list.TYPE}"
    )
    answer["Cache-Control"] = f"public, max-age={tokens.STATUS_LIFE // 2}"
    return answer


@_endpoint("metadata", "GET", "HEAD")
def metadata(request: HttpRequest, environment: Environment) -> HttpResponse:
    """Authorization server metadata (RFC 8414 §3)."""
    answer = JsonResponse(describe(environment))
    answer["Cache-Control"] = "public, max-age=60"
    return answer


def describe(environment: Environment) -> dict[str, Any]:
    """The metadata of an environment's authority: its scopes are those of the applications that
    accept it.
    """
    scopes = {
        one.name
        for deployment in environment.deployments.filter(house=True).select_related("application")
        for one in deployment.application.read_profile().scopes
    }
    return telling.metadata(issuing.issuer(environment), scopes)


# Registration by protocol


def _document(request: HttpRequest) -> Any:
    if request.content_type != "application/json":
        raise RequestRefused("invalid_client_metadata", "The body must be application/json")
    body = bodies.of(request, LARGEST_BODY)
    if body is None:
        raise RequestRefused("invalid_client_metadata", "The body is too large")
    try:
        return json.loads(body)
    except (ValueError, RecursionError) as error:
        raise RequestRefused("invalid_client_metadata", "The body is not JSON") from error


def _bearer(request: HttpRequest) -> str:
    scheme, _, value = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not value.strip():
        raise RequestRefused(
            "invalid_token",
            "A token is required (RFC 7591 §3)",
            401,
            "registration without a token",
        )
    return value.strip()


@_endpoint("register", "POST")
def register(request: HttpRequest, environment: Environment) -> HttpResponse:
    """Registration by protocol (RFC 7591 §3.1), by anyone who holds a registration right."""
    now, shown = timezone.now(), _bearer(request)
    made = rights.register(
        environment,
        shown,
        lambda known, grants: registering.read(_document(request), known, grants),
        now,
    )
    client, credential, value, management = (
        made.client,
        made.credential,
        made.secret,
        made.management,
    )
    ends = int(credential.ends.timestamp()) if credential is not None and credential.ends else 0
    answer = telling.registration_answer(
        client.fields(),
        client.client_id,
        int(now.timestamp()),
        value,
        ends,
        _managed_at(environment, client),
        management,
    )
    return JsonResponse(answer, status=201)


def _managed_at(environment: Environment, client: Client) -> str:
    return f"{issuing.issuer(environment)}/register/{client.client_id}"


@_endpoint("register", "GET", "PUT", "DELETE")
def registration(request: HttpRequest, environment: Environment, client_id: str) -> HttpResponse:
    """Reading, changing and removing a client by protocol (RFC 7592 §2), by anyone who holds its
    registration access token.
    """
    shown = _bearer(request)
    client = (
        Client.objects.select_related("deployment__application", "deployment__environment")
        .filter(house=True, deployment__environment=environment, client_id=client_id)
        .exclude(management_digest="")
        .first()
    )
    held = client.management_digest if client else house_key.digest("")
    if not house_key.same(held, house_key.digest(shown)) or client is None:
        raise RequestRefused("invalid_token", "", 401, "registration access token wrong")
    if request.method == "DELETE":
        issuing.remove(BY_PROTOCOL, client, "the client was removed by protocol")
        return HttpResponse(status=204)
    if request.method == "PUT":
        document = _document(request)
        if not isinstance(document, dict) or document.get("client_id") != client_id:
            raise RequestRefused(
                "invalid_client_metadata", "client_id must be the one it has (RFC 7592 §2.2)"
            )
        allowed = ceiling.read(client.ceiling)
        known = allowed.scopes_of(
            scope.name for scope in client.deployment.application.read_profile().scopes
        )
        fields = registering.read(document, known, allowed.grants_of(telling.GRANTS))
        if fields.public != client.public:
            raise RequestRefused(
                "invalid_client_metadata", "A client stays public or confidential; register another"
            )
        client = put_fields(BY_PROTOCOL, client, fields)
    return JsonResponse(
        telling.registration_answer(
            client.fields(),
            client.client_id,
            int((client.created or timezone.now()).timestamp()),
            address=_managed_at(environment, client),
            token=shown,
        )
    )
