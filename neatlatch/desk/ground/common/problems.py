"""Errors of the API as problem details (RFC 9457): what happened, why, and what to do next."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from django.http import HttpRequest, JsonResponse


class Problem(Exception):
    """An error to respond with.

    ``code`` names the problem for programs and tests, in lower case with hyphens; it stays when the
    words change. ``errors`` names fields of the form and what is wrong with each.
    ``challenge`` says how to authenticate (RFC 9110 §11.6.1).
    """

    def __init__(
        self,
        status: int,
        title: str,
        detail: str = "",
        errors: dict[str, str] | None = None,
        *,
        code: str,
        challenge: str = "",
        **extra: Any,
    ) -> None:
        super().__init__(f"{title} {detail}")
        self.status, self.code, self.title, self.detail = status, code, title, detail
        self.errors, self.extra = errors or {}, extra
        self.challenge = challenge


def not_found(what: str) -> Problem:
    """The problem of an object that does not exist (404)."""
    return Problem(
        404,
        f"There is no such {what}.",
        "It may have been renamed or removed. Go back to the list.",
        code="not-found",
    )


def broken() -> Problem:
    """Something here is wrong: said without what, which is in the log."""
    return Problem(
        500,
        "Something went wrong here.",
        "See the server log. Check whether the change was made before you retry.",
        code="internal-error",
    )


def wrong_fields(errors: dict[str, str]) -> Problem:
    """Return the problem of a form with wrong fields."""
    first = next(iter(errors.values()))
    return Problem(422, "Something is not right yet.", first, errors, code="invalid-fields")


def check_unchanged(stands: int, seen: int | None) -> None:
    """That what is about to be saved stands at the version that was seen (``None``: any).

    Ask it where the row is locked: two edits of the same moment have both seen the version that the
    first of them replaces. Raises :class:`Problem`.
    """
    if seen is not None and stands != seen:
        raise changed_meanwhile(stands)


def changed_meanwhile(
    stands: int, told: str = "", meanwhile: Sequence[dict[str, Any]] = ()
) -> Problem:
    """That an edit was made on an older version than the one that stands; ``told`` and
    ``meanwhile`` are what was changed since, where that is known.
    """
    says = (
        f"{told} Nothing of yours was saved and nothing was overwritten. Look at it, then make "
        f"your change again."
    ).strip()
    return Problem(
        412,
        "Somebody changed this in the meantime.",
        says,
        current_version=stands,
        meanwhile=list(meanwhile),
        code="changed-meanwhile",
    )


def _body(problem: Problem) -> dict[str, Any]:
    body = {
        "type": "about:blank",
        "code": problem.code,
        "title": problem.title,
        "status": problem.status,
        "detail": problem.detail,
        **problem.extra,
    }
    return {**body, "errors": problem.errors} if problem.errors else body


def octets(problem: Problem) -> bytes:
    """The problem as the body of a reply."""
    return json.dumps(_body(problem)).encode()


def answer(problem: Problem) -> JsonResponse:
    """The problem as a reply; one that knows how long to wait says so (``retry_after`` in seconds,
    RFC 9110 §10.2.3).
    """
    reply = JsonResponse(
        _body(problem), status=problem.status, content_type="application/problem+json"
    )
    if problem.challenge:
        reply["WWW-Authenticate"] = problem.challenge
    if "retry_after" in problem.extra:
        reply["Retry-After"] = str(problem.extra["retry_after"])
    return reply


def not_logged_in() -> Problem:
    """Return the problem of a request by nobody (401)."""
    return Problem(401, "Nobody is logged in.", "Log in, then try again.", code="not-logged-in")


def page_too_old() -> Problem:
    """Return the problem of a page that was opened before its session (403)."""
    return Problem(
        403,
        "This page is too old.",
        "Reload it and try again; what you typed is still there.",
        code="page-too-old",
    )


def csrf_failure(request: HttpRequest, reason: str = "") -> JsonResponse:
    """Django refused a request that did not come from our own page."""
    return answer(page_too_old())
