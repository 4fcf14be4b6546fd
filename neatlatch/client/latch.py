"""Drawing, relaying and testing by name."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from datetime import datetime
from types import TracebackType
from typing import Any
from urllib.parse import quote

import httpx

from .auth import AsyncDrawAuth, DrawAuth
from .drawn import Connection, Drawn, Rung, SignedCall, TestResult
from .errors import CannotReach, DeskFailed, error_of
from .settings import Settings

# Seconds. A draw may wait for a renewal, a relayed request as long as the application takes.
_DRAWS, _RELAYS, _CONNECTS = 60.0, 150.0, 10.0
# What stands on every relayed answer of an application.
_FROM_APPLICATION = "Neat-Latch-Tries"


def _timeout(total: float) -> httpx.Timeout:
    return httpx.Timeout(total, connect=_CONNECTS)


def _draw_params(method: str, url: str, refused: Drawn | None) -> dict[str, str]:
    params = {"method": method, "url": url, "refused": refused.digest if refused else ""}
    return {name: value for name, value in params.items() if value}


def _path(*parts: str) -> str:
    return "".join(f"/{quote(part, safe='')}" for part in parts)


def _relay_path(name: str, path: str) -> str:
    return f"{_path('relay', name)}/{path.lstrip('/')}"


def _answer(response: httpx.Response) -> Any:
    """Return what the desk answered as JSON. Raises :class:`LatchError`."""
    if not response.is_success or "json" not in response.headers.get("Content-Type", ""):
        raise error_of(response.status_code, response.headers, response.content)
    try:
        return response.json()
    except ValueError as error:
        raise DeskFailed("The answer is no JSON.", status=response.status_code) from error


def _drawn(response: httpx.Response) -> Drawn:
    answer = _answer(response)
    try:
        return Drawn.of(answer)
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise error_of(response.status_code, {}, b"") from error


def _relayed(response: httpx.Response) -> httpx.Response:
    """Return the application's answer. Raises :class:`LatchError` where it is the desk's."""
    if _FROM_APPLICATION not in response.headers:
        raise error_of(response.status_code, response.headers, response.content)
    return response


def _connections(answer: Any) -> list[Connection]:
    return [
        Connection(
            entry["name"],
            entry["ref"],
            entry["application"],
            entry["state"],
            tuple(entry["operations"]),
        )
        for entry in answer["connections"]
    ]


def _tested(answer: Any) -> TestResult:
    rungs = (
        Rung(rung["rung"], bool(rung["passed"]), bool(rung["skipped"]), rung["says"])
        for rung in answer["rungs"]
    )
    return TestResult(answer["ref"], bool(answer["passed"]), tuple(rungs), tuple(answer["causes"]))


def _call(headers: Mapping[str, str], body: bytes | str) -> dict[str, Any]:
    """A call that is to be checked, as the desk takes it."""
    octets = body.encode() if isinstance(body, str) else body
    return {
        "headers": {str(name): str(value) for name, value in headers.items()},
        "body": base64.b64encode(octets).decode("ascii"),
    }


def _checked(answer: Any) -> SignedCall:
    sent, seen = answer["sent_at"], answer["seen_at"]
    return SignedCall(
        answer["id"],
        datetime.fromisoformat(sent) if sent else None,
        datetime.fromisoformat(seen) if seen else None,
    )


def _unreachable(url: str, error: httpx.HTTPError | httpx.InvalidURL) -> CannotReach:
    return CannotReach(f"{url} does not answer: {error or type(error).__name__}.")


class Latch:
    """Neat Latch, for a job.

    Each argument is read from the environment where it is left out (:class:`Settings`):
    ``NLATCH_URL``, ``NLATCH_KEY``, ``NLATCH_KEY_FILE``, ``NLATCH_CERTIFICATE``, ``NLATCH_CA``,
    ``NLATCH_WORKLOAD``. Raises :class:`NoKey` where nothing says who asks. Threads may share one.
    Close it, or use it in ``with``.
    """

    def __init__(
        self,
        url: str = "",
        *,
        key: str = "",
        key_file: str = "",
        certificate: str = "",
        ca: str = "",
        workload: str = "",
        transport: httpx.BaseTransport | None = None,
    ) -> None:
        self.settings = Settings.of(
            url=url,
            key=key,
            key_file=key_file,
            certificate=certificate,
            ca=ca,
            workload=workload,
        )
        self._web = httpx.Client(
            base_url=self.settings.url.rstrip("/"),
            headers=self.settings.headers(),
            verify=self.settings.tls(),
            timeout=_timeout(_DRAWS),
            transport=transport,
        )

    def draw(
        self, name: str, *, method: str = "", url: str = "", refused: Drawn | None = None
    ) -> Drawn:
        """Take a ready header of a connection, by its name without the environment.

        ``method`` and ``url``: the request, for a connection that signs each one. ``refused``: a
        header that the application has refused, so that it is renewed. Raises :class:`LatchError`.
        """
        params = _draw_params(method, url, refused)
        return _drawn(self._ask("GET", _path("draw", name), params=params))

    def httpx_auth(self, name: str) -> httpx.Auth:
        """Return authentication for an :class:`httpx.Client`.

        It draws when the first request is sent, draws again before the header expires, and repeats
        a request that was refused (401) once with a new one. A request to another server than the
        application's raises :class:`WrongOrigin` and is not sent. Where redirects are followed, a
        header other than ``Authorization`` would go along to another server: leave
        ``follow_redirects`` off.
        """
        return DrawAuth(self, name)

    def relay(
        self,
        name: str,
        path: str = "/",
        *,
        method: str = "GET",
        params: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
        content: bytes | str | None = None,
        json: Any = None,
        data: Mapping[str, Any] | None = None,
    ) -> httpx.Response:
        """Send a request through a connection; return the application's answer, whatever its
        status. Raises :class:`LatchError` where the application did not answer.
        """
        return _relayed(
            self._ask(
                method,
                _relay_path(name, path),
                params=params,
                headers=headers,
                content=content,
                json=json,
                data=data,
                timeout=_timeout(_RELAYS),
            )
        )

    def test(self, name: str) -> TestResult:
        """Test a connection, and wait for the result. Raises :class:`LatchError`."""
        path = f"{_path('draw', name)}/tests"
        return _tested(_answer(self._ask("POST", path, timeout=_timeout(_RELAYS))))

    def check_call(self, name: str, headers: Mapping[str, str], body: bytes | str) -> SignedCall:
        """Check a call that the application of a connection sent to this program, by its signature.

        ``headers`` and ``body`` as they came: one octet changed, and the signature fits no more.
        Raises :class:`CallRejected` where the application did not sign it so, or too long ago;
        another :class:`LatchError` where it cannot be checked.
        """
        path = f"{_path('draw', name)}/signed-calls"
        return _checked(_answer(self._ask("POST", path, json=_call(headers, body))))

    def connections(self) -> list[Connection]:
        """Return the connections that the workload uses. Raises :class:`LatchError`."""
        return _connections(_answer(self._ask("GET", "/draw")))

    def _ask(self, method: str, path: str, **more: Any) -> httpx.Response:
        try:
            return self._web.request(method, path, **more)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise _unreachable(self.settings.url, error) from error

    def close(self) -> None:
        """Close its connections to the desk."""
        self._web.close()

    def __enter__(self) -> Latch:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


class AsyncLatch:
    """The same as :class:`Latch`, for code with ``await``. Close it with :meth:`aclose`, or use it
    in ``async with``.
    """

    def __init__(
        self,
        url: str = "",
        *,
        key: str = "",
        key_file: str = "",
        certificate: str = "",
        ca: str = "",
        workload: str = "",
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        self.settings = Settings.of(
            url=url,
            key=key,
            key_file=key_file,
            certificate=certificate,
            ca=ca,
            workload=workload,
        )
        self._web = httpx.AsyncClient(
            base_url=self.settings.url.rstrip("/"),
            headers=self.settings.headers(),
            verify=self.settings.tls(),
            timeout=_timeout(_DRAWS),
            transport=transport,
        )

    async def draw(
        self, name: str, *, method: str = "", url: str = "", refused: Drawn | None = None
    ) -> Drawn:
        """As :meth:`Latch.draw`."""
        params = _draw_params(method, url, refused)
        return _drawn(await self._ask("GET", _path("draw", name), params=params))

    def httpx_auth(self, name: str) -> httpx.Auth:
        """As :meth:`Latch.httpx_auth`, for an :class:`httpx.AsyncClient`."""
        return AsyncDrawAuth(self, name)

    async def relay(
        self,
        name: str,
        path: str = "/",
        *,
        method: str = "GET",
        params: Mapping[str, str] | None = None,
        headers: Mapping[str, str] | None = None,
        content: bytes | str | None = None,
        json: Any = None,
        data: Mapping[str, Any] | None = None,
    ) -> httpx.Response:
        """As :meth:`Latch.relay`."""
        return _relayed(
            await self._ask(
                method,
                _relay_path(name, path),
                params=params,
                headers=headers,
                content=content,
                json=json,
                data=data,
                timeout=_timeout(_RELAYS),
            )
        )

    async def test(self, name: str) -> TestResult:
        """As :meth:`Latch.test`."""
        path = f"{_path('draw', name)}/tests"
        return _tested(_answer(await self._ask("POST", path, timeout=_timeout(_RELAYS))))

    async def check_call(
        self, name: str, headers: Mapping[str, str], body: bytes | str
    ) -> SignedCall:
        """As :meth:`Latch.check_call`."""
        path = f"{_path('draw', name)}/signed-calls"
        return _checked(_answer(await self._ask("POST", path, json=_call(headers, body))))

    async def connections(self) -> list[Connection]:
        """As :meth:`Latch.connections`."""
        return _connections(_answer(await self._ask("GET", "/draw")))

    async def _ask(self, method: str, path: str, **more: Any) -> httpx.Response:
        try:
            return await self._web.request(method, path, **more)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise _unreachable(self.settings.url, error) from error

    async def aclose(self) -> None:
        """Close its connections to the desk."""
        await self._web.aclose()

    async def __aenter__(self) -> AsyncLatch:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.aclose()
