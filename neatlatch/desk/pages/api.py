"""The API, put together."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import structlog
from django.conf import settings
from django.core.exceptions import PermissionDenied, RequestDataTooBig
from django.db import OperationalError
from django.http import Http404, HttpRequest, HttpResponse
from ninja import NinjaAPI, Schema
from ninja.errors import AuthenticationError, HttpError, ValidationError
from ninja.operation import Operation
from ninja.security import SessionAuth

from neatlatch import __version__
from neatlatch.desk.ground.common import caller, json_bodies, problems, refusals
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.common.safe import CannotOpen
from neatlatch.desk.ground.people import log_in
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.pages.certificates.api import router as certificates
from neatlatch.desk.pages.clients.api import router as clients
from neatlatch.desk.pages.clients.bench_lists import router as bench_lists
from neatlatch.desk.pages.clients.redirect_uris import router as redirect_uris
from neatlatch.desk.pages.clients.scopes import router as scopes
from neatlatch.desk.pages.connections.accounts import router as accounts
from neatlatch.desk.pages.connections.api import router as connections
from neatlatch.desk.pages.connections.names import router as names
from neatlatch.desk.pages.connections.names import unknown as unknown_connections
from neatlatch.desk.pages.credentials.api import router as credentials
from neatlatch.desk.pages.drawing.api import router as drawing
from neatlatch.desk.pages.drawing.signed_calls import router as signed_calls
from neatlatch.desk.pages.house.api import router as house
from neatlatch.desk.pages.people.api import router as people
from neatlatch.desk.pages.people.own import router as own_log_in
from neatlatch.desk.pages.rounds.api import router as rounds
from neatlatch.desk.pages.rounds.leftovers import router as leftovers
from neatlatch.desk.pages.today import router as today

from . import narrowing
from .access import router as access
from .applications.api import router as applications
from .applications.environments import router as environments
from .bulk import router as bulk
from .decommissioning import router as decommissioning
from .finding import router as finds
from .inventory import router as inventory
from .journal import router as journal
from .object_notes import router as object_notes
from .own_health import router as own_health
from .own_safe import router as own_safe
from .own_settings import router as own_settings
from .owners import router as owners
from .programs import ProgramAuth
from .programs import router as programs
from .replacing import router as replacing
from .workloads.api import router as workloads

log = structlog.get_logger()


def _for_people(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """The description of the API is for everyone who is logged in, and for programs."""

    def look(request: HttpRequest, *rest: Any, **more: Any) -> HttpResponse:
        try:
            known = ProgramAuth()(request) or isinstance(request.user, Person)
        except Problem as refused:
            return problems.answer(refused)
        if not known:
            return problems.answer(problems.not_logged_in())
        return view(request, *rest, **more)

    return look


class PersonAuth(SessionAuth):
    """The person who is logged in; their session notes now and then that it is used."""

    def authenticate(self, request: HttpRequest, key: str | None) -> Any:
        """The person, or ``None``."""
        person = super().authenticate(request, key)
        if person is not None:
            log_in.record_seen(request)
            narrowing.limit(request, person)
        return person


class ProblemOut(Schema):
    """Problem details (RFC 9457)."""

    type: str = "about:blank"
    # Names the problem for programs; it stays when the words change.
    code: str
    title: str
    status: int
    detail: str = ""
    errors: dict[str, str] = {}


class DeskAPI(NinjaAPI):
    """The API, whose description names the problem details that any operation may answer."""

    def get_openapi_schema(self, **kwargs: Any) -> Any:
        """OpenAPI, with the refusals added to every operation."""
        schema = super().get_openapi_schema(**kwargs)
        schema["components"]["schemas"]["Problem"] = ProblemOut.json_schema()
        told = {
            "description": "Refused, with the reason",
            "content": {
                "application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}
            },
        }
        for item in schema["paths"].values():
            for operation in item.values():
                for status in (
                    "400",
                    "401",
                    "403",
                    "404",
                    "409",
                    "410",
                    "412",
                    "422",
                    "428",
                    "429",
                    "502",
                    "503",
                ):
                    operation["responses"].setdefault(status, told)
        return schema

    def get_openapi_operation_id(self, operation: Operation) -> str:
        """Name an operation by its page and its function, wherever the code stands."""
        where = operation.view_func.__module__.partition(".pages.")[2]
        return f"{where}_{operation.view_func.__name__}".replace(".", "_")


api = DeskAPI(
    title="Neat Latch",
    version=__version__,
    auth=[ProgramAuth(), PersonAuth()],
    docs_url=None,
    openapi_url="/openapi.json",
    docs_decorator=_for_people,
    parser=json_bodies.BoundedParser(),
)
for router in (
    own_log_in,
    people,
    environments,
    applications,
    clients,
    bench_lists,
    redirect_uris,
    scopes,
    credentials,
    house,
    programs,
    certificates,
    drawing,
    signed_calls,
    connections,
    accounts,
    workloads,
    owners,
    access,
    inventory,
    rounds,
    leftovers,
    today,
    replacing,
    journal,
    own_health,
    own_settings,
    own_safe,
    finds,
    object_notes,
    bulk,
    decommissioning,
    names,
    unknown_connections,
):
    api.add_router("", router)


@api.exception_handler(Problem)
def on_problem(request: HttpRequest, problem: Problem) -> HttpResponse:
    """Our own refusals."""
    return problems.answer(problem)


# An answer names so many wrong fields at most, by so many characters: it is never larger than what
# was sent.
_MOST_ERRORS, _LONGEST_NAME = 50, 100


def _field_of(error: Any) -> str:
    """The field that a fault is about.

    A text that is too long is found while its body is looked at.
    """
    where = [*error["loc"][2:], error.get("ctx", {}).get("field", "")]
    named = ".".join(str(part) for part in where if part != "")
    return (named or ".".join(str(part) for part in error["loc"]))[:_LONGEST_NAME]


def _in_words(error: Any) -> str:
    """One fault that the framework found, as our own refusals put it."""
    if error["type"] == "extra_forbidden":
        return f"There is no field “{str(error['loc'][-1])[:_LONGEST_NAME]}”."
    if error["type"] == "timezone_aware":
        return "Say its zone as well: 2027-01-31T12:00:00Z."
    if error["type"] == "unsound_text":
        return f"It {error['ctx']['wrong']}."
    return str(error["msg"]).removeprefix("Value error, ")


@api.exception_handler(ValidationError)
def on_validation(request: HttpRequest, error: ValidationError) -> HttpResponse:
    """What was sent does not have the required form.

    The values sent are not repeated: they may be secrets.
    """
    told = error.errors[:_MOST_ERRORS]
    errors = {_field_of(error): _in_words(error) for error in told}
    return problems.answer(
        problems.wrong_fields(errors or {"body": "The body is not what is expected."})
    )


@api.exception_handler(AuthenticationError)
def on_stranger(request: HttpRequest, error: AuthenticationError) -> HttpResponse:
    """Nobody is logged in."""
    return problems.answer(problems.not_logged_in())


@api.exception_handler(Http404)
def on_missing(request: HttpRequest, error: Http404) -> HttpResponse:
    """Nothing is there."""
    return problems.answer(problems.not_found("thing"))


@api.exception_handler(HttpError)
def on_http(request: HttpRequest, error: HttpError) -> HttpResponse:
    """What the framework refuses."""
    if isinstance(error.__cause__, Problem):  # ours, raised where it expects its own
        return problems.answer(error.__cause__)
    if error.status_code == 403:
        return problems.answer(problems.page_too_old())
    return problems.answer(
        Problem(
            error.status_code, "The request cannot be read.", str(error), code="unreadable-request"
        )
    )


@api.exception_handler(RequestDataTooBig)
def on_too_big(request: HttpRequest, error: RequestDataTooBig) -> HttpResponse:
    """The body is larger than anything that is read."""
    says = (
        f"More than {settings.DATA_UPLOAD_MAX_MEMORY_SIZE // 2**20} MiB is not read. Send only "
        f"the part with the values."
    )
    return problems.answer(
        Problem(413, "This is too large.", says, {"text": says}, code="too-large")
    )


@api.exception_handler(caller.CallerGone)
def on_hang_up(request: HttpRequest, error: caller.CallerGone) -> HttpResponse:
    """Nobody reads this: the caller has gone."""
    return problems.answer(Problem(503, "The caller hung up.", code="caller-gone"))


@api.exception_handler(PermissionDenied)
def on_denied(request: HttpRequest, error: PermissionDenied) -> HttpResponse:
    """Locked out."""
    return problems.answer(Problem(403, "This is not allowed.", str(error), code="not-allowed"))


@api.exception_handler(CannotOpen)
def on_sealed(request: HttpRequest, error: CannotOpen) -> HttpResponse:
    """A sealed value does not open."""
    return problems.answer(
        Problem(503, "A sealed value does not open.", str(error), code="sealed-value-does-not-open")
    )


@api.exception_handler(OperationalError)
def on_refusal(request: HttpRequest, error: OperationalError) -> HttpResponse:
    """The database was locked for longer than anybody should wait, or cannot be written.

    Whatever else it says is a fault of ours.
    """
    if refusals.is_lock(error):
        return problems.answer(
            Problem(
                503,
                "The database is busy.",
                "Nothing was changed. Try again in a moment.",
                code="database-busy",
            )
        )
    log.error("the database refused", path=request.path, exc_info=error)
    if refusals.will_pass(error):
        return problems.answer(
            Problem(
                507,
                "The database cannot be written.",
                "Its disk may be full. Make room, then try again.",
                code="database-not-writable",
            )
        )
    raise error
