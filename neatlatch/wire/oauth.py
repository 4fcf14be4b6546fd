"""Sending OAuth requests and reading their answers."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from neatlatch.core import metadata, openapi, replies
from neatlatch.core.evidence import CauseClass, Exchange, Failure
from neatlatch.core.intake import trees
from neatlatch.core.oauth2 import Request
from neatlatch.core.replies import Reading

from .transport import HttpReply, Transport, TransportError


@dataclass(frozen=True)
class OAuthReply:
    """What an endpoint told us: the reading, and the masked exchange behind it."""

    reading: Reading
    exchange: Exchange


def ask(transport: Transport, endpoint: str, request: Request, now: datetime) -> OAuthReply:
    """Send a request to an OAuth endpoint (``endpoint`` names its kind, see :func:`replies.read`).

    Raises :class:`TransportError`.

    Secrets in the answer are masked by name in the evidence (``access_token`` and the like).
    """
    answer = transport.send(request)
    return OAuthReply(
        replies.read(endpoint, answer.status, answer.headers, answer.text, now), answer.exchange
    )


def failure_of(reading: Reading, kind: str, status: int | None) -> Failure:
    """A refusal as the diagnosis wants it."""
    code = reading.error or ("pace" if status == 429 else f"status_{status}")
    if status == 429:
        cause = CauseClass.PACE
    elif (
        status is not None
        and status >= 500
        or reading.error in ("server_error", "temporarily_unavailable")
    ):
        cause = CauseClass.THEIRS
    elif (
        reading.error
        in (
            "invalid_scope",
            "insufficient_scope",
            "access_denied",
            "unauthorized_client",
            "consent_required",
        )
        or status == 403
    ):
        cause = CauseClass.RIGHT
    elif reading.error in ("invalid_client", "invalid_grant", "invalid_token") or status == 401:
        cause = CauseClass.CREDENTIAL
    else:
        cause = CauseClass.UNKNOWN
    detail = reading.description or ("" if reading.error else _sentence(reading.meaning))
    return Failure(
        kind, code, cause, detail, status, tuple(reading.fields.get("required_scopes", ()))
    )


def _sentence(meaning: str) -> str:
    """A meaning as a sentence; one that begins with a parameter's name says what the
    answer lacks.
    """
    if "_" in meaning.split(" ")[0]:
        return f"The answer is not complete: {meaning}."
    return f"{meaning[:1].upper()}{meaning[1:]}."


def would_take(answer: HttpReply, state: str, redirect_uri: str) -> Failure | None:
    """Whether an authorization endpoint would take a request, by its answer to the bare request of
    a browser nobody signed in with.

    A page (2xx) or a way on to a sign-in page (3xx elsewhere): yes. Sent back with an error, or
    refused without sending back (RFC 6749 §4.1.2.1: the redirect URI or the client is wrong): no.
    Nothing at the address (RFC 9110 §15.5.5, §15.5.6, §15.5.11): no, whatever the caller.
    """
    location = answer.headers.get("location", "")
    if 300 <= answer.status < 400 and location:
        if location.split("?")[0] == redirect_uri.split("?")[0]:
            values = dict(parse_qsl(urlsplit(location).query))
            if error := values.get("error"):
                # Signed in or consenting comes later, with a person: these are no refusals of the
                # request.
                if error in (
                    "login_required",
                    "interaction_required",
                    "account_selection_required",
                ):
                    return None
                return failure_of(
                    Reading(False, error, "", description=values.get("error_description")),
                    "authorize",
                    None,
                )
        return None
    if answer.status < 400:
        return None
    if answer.status == 429 or answer.status >= 500:
        return failure_of(
            Reading(False, None, "the sign-in page is not available"), "authorize", answer.status
        )
    if answer.status in (404, 405, 410):
        detail = (
            f"Their sign-in page answered {answer.status}: "
            f"{replies.STATUS_MEANINGS[answer.status]}."
        )
        return Failure("authorize", "no_sign_in_page", CauseClass.UNKNOWN, detail, answer.status)
    return Failure(
        "authorize",
        "refused_without_return",
        CauseClass.CREDENTIAL,
        f"Their sign-in page answered {answer.status} and sent nobody back.",
        answer.status,
    )


class Unreadable(Exception):
    """A document could not be fetched or read; the message says why, in words for a person."""


def fetch_text(transport: Transport, address: str, accept: str) -> str:
    """Fetch a document. Raises :class:`Unreadable`."""
    try:
        answer = transport.send(Request("GET", address, (("Accept", accept),)))
    except TransportError as error:
        raise Unreadable(f"{address} could not be reached. {error.failure.detail}") from error
    if answer.status != 200:
        raise Unreadable(
            f"{address} answered {answer.status}: "
            f"{replies.STATUS_MEANINGS.get(answer.status, 'no document')}."
        )
    return answer.text


def fetch_json(transport: Transport, address: str) -> Any:
    """Fetch a JSON document. Raises :class:`Unreadable`."""
    try:
        return trees.read_json(fetch_text(transport, address, "application/json"))
    except trees.TreeRefused as error:
        raise Unreadable(f"What {address} answered is not JSON. {error}") from error


def fetch_metadata(transport: Transport, given: str) -> tuple[str, metadata.ServerMetadata]:
    """Fetch the metadata of an issuer, or at its own address; returns where it was found.

    Raises :class:`Unreadable`.
    """
    said = ""
    for address in metadata.addresses_to_try(given):
        try:
            return address, metadata.read_metadata(fetch_json(transport, address), address)
        except Unreadable as error:
            said = said or str(error)
        except metadata.BadMetadata as error:
            raise Unreadable(str(error)) from error
    raise Unreadable(said)


def fetch_description(transport: Transport, address: str) -> openapi.ApiDescription:
    """Fetch an OpenAPI description, in JSON or YAML. Raises :class:`Unreadable`."""
    try:
        return openapi.read_text(
            fetch_text(transport, address, "application/json, application/yaml;q=0.9")
        )
    except openapi.BadDescription as error:
        raise Unreadable(str(error)) from error
