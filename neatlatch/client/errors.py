"""What can go wrong, each with what to do next."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any


class LatchError(Exception):
    """Neat Latch did not do what was asked. Its text is title, detail and next step.

    ``status`` is the HTTP status (0: nothing was answered), ``code`` names the problem and stays
    when its words change (docs/problems.md lists them), ``errors`` are those of single fields,
    ``problem`` is all of the problem details (RFC 9457).
    """

    # What the caller can do, where the answer does not say.
    advice = "Ask the connection's administrator, and quote the code."

    def __init__(
        self,
        title: str,
        detail: str = "",
        *,
        status: int = 0,
        code: str = "",
        problem: Mapping[str, Any] | None = None,
    ) -> None:
        self.title, self.detail, self.status, self.code = title, detail, status, code
        self.problem: dict[str, Any] = dict(problem or {})
        errors = self.problem.get("errors")
        self.errors: dict[str, str] = errors if isinstance(errors, dict) else {}
        super().__init__(" ".join(part for part in (title, detail, self.next_step) if part))

    @property
    def next_step(self) -> str:
        """What to do next; empty where the detail says it."""
        return "" if self.detail else self.advice


class NoKey(LatchError):
    """No key, token or certificate is set, or the file that should hold it cannot be read."""

    advice = "Set NLATCH_KEY, or NLATCH_KEY_FILE, or pass key= or key_file=."


class CannotReach(LatchError):
    """Neat Latch did not answer: not reachable, its certificate is not trusted, or too slow."""

    advice = "Check NLATCH_URL and NLATCH_CA. The same request may be sent again."


class KeyRefused(LatchError):
    """The key or token lets nobody in: unknown, expired, revoked, or from another address (401)."""

    advice = "Ask for another key; this one will not be accepted again."


class NotAllowed(LatchError):
    """The key is good, and does not allow this (403)."""

    advice = "Ask for a key with this right."


class NotFound(LatchError):
    """No such thing; or a connection that this workload does not use (404)."""

    advice = "Check the name. An administrator adds workloads on the connection's page."


class NotReady(LatchError):
    """The thing is not in a state for this (409, 410, 412, 423, 428)."""

    advice = "An administrator sees what is missing on the connection's page."


class BadRequest(LatchError):
    """The request itself is wrong (400, 405, 413, 415, 422)."""

    advice = "Correct the request; the same one will be refused again."


class TooManyRequests(LatchError):
    """Too many requests (429). ``retry_after``: seconds to wait, 0 where it is not said."""

    advice = "Wait, and send it again."
    retry_after = 0.0


class TokenUnavailable(LatchError):
    """The application gives no token at the moment, or cannot be reached (502, 503, 504)."""

    advice = "Try again later; test the connection if it lasts."


class DeskFailed(LatchError):
    """A fault of Neat Latch (other 5xx), or an answer that is none of its own."""

    advice = "Its operator finds the reason in the server log."


class CallRejected(LatchError):
    """A signed call is not what the application sent. ``reason``: ``unsigned``, ``unreadable``,
    ``wrong``, ``too-old`` or ``too-new``.
    """

    advice = "Answer it with 401, and do nothing of what it says."

    @property
    def reason(self) -> str:
        """Why, as a word that stays when the text changes."""
        return str(self.problem.get("reason") or "")


class WrongOrigin(LatchError):
    """A request would have carried a drawn header to another server than the application's.

    Nothing was sent.
    """

    advice = "Send it with another client, or ask for the connection of that server."


_BY_CODE: dict[str, type[LatchError]] = {"call-rejected": CallRejected}
_BY_STATUS: dict[int, type[LatchError]] = {
    401: KeyRefused,
    403: NotAllowed,
    404: NotFound,
    409: NotReady,
    410: NotReady,
    412: NotReady,
    423: NotReady,
    428: NotReady,
    429: TooManyRequests,
    502: TokenUnavailable,
    503: TokenUnavailable,
    504: TokenUnavailable,
}


def error_of(status: int, headers: Mapping[str, str], body: bytes) -> LatchError:
    """Return the error that a response of Neat Latch means."""
    problem = _problem(headers, body)
    if status >= 400:
        usual = DeskFailed if status >= 500 else BadRequest
        kind = _BY_CODE.get(str(problem.get("code"))) or _BY_STATUS.get(status, usual)
        made = kind(
            str(problem.get("title") or f"Neat Latch answered with status {status}."),
            str(problem.get("detail") or ""),
            status=status,
            code=str(problem.get("code") or ""),
            problem=problem,
        )
    else:
        made = DeskFailed(
            f"The answer with status {status} is none of Neat Latch's.",
            "Check NLATCH_URL: it is the address of the desk, without a path.",
            status=status,
        )
    if isinstance(made, TooManyRequests):
        wait = headers.get("Retry-After", "")
        made.retry_after = float(wait) if wait.isdecimal() else 0.0
    return made


def _problem(headers: Mapping[str, str], body: bytes) -> dict[str, Any]:
    if "json" not in headers.get("Content-Type", ""):
        return {}
    try:
        problem = json.loads(body)
    except ValueError:
        return {}
    return problem if isinstance(problem, dict) else {}
