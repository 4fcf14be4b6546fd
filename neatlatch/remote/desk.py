"""Asking the API of a desk."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator, Mapping
from typing import Any, Protocol
from urllib.parse import quote

import httpx

from neatlatch.client.errors import CannotReach, NotFound, error_of

# Seconds. A test or an import's preview takes as long as it takes.
_TOTAL, _CONNECTS = 180.0, 10.0


class TokenSource(Protocol):
    """Where the token of a request comes from. It is asked before each one."""

    def token(self) -> str:
        """Return a token that is valid now. Raises :class:`~neatlatch.client.LatchError`."""
        ...


def path_of(*parts: str) -> str:
    """Return an address of the API from its parts; a reference keeps its slash."""
    return "".join(f"/{quote(part, safe='/')}" for part in parts)


class Desk:
    """The API of one desk, asked with a token."""

    def __init__(
        self, url: str, source: TokenSource, verify: Any = True, transport: Any = None
    ) -> None:
        self.url, self._source = url.rstrip("/"), source
        self._web = httpx.Client(
            base_url=f"{self.url}/api",
            verify=verify,
            timeout=httpx.Timeout(_TOTAL, connect=_CONNECTS),
            transport=transport,
        )

    def ask(self, method: str, path: str, **more: Any) -> httpx.Response:
        """Ask, and return the answer where it is a success. Raises
        :class:`~neatlatch.client.LatchError`.
        """
        headers = {"Authorization": f"Bearer {self._source.token()}"} | more.pop("headers", {})
        try:
            answer = self._web.request(method, path, headers=headers, **more)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            says = str(error) or type(error).__name__
            raise CannotReach(f"{self.url} does not answer: {says}.") from error
        if not answer.is_success:
            raise error_of(answer.status_code, answer.headers, answer.content)
        return answer

    def get(self, path: str, **params: str) -> Any:
        """Read something."""
        return _json(self.ask("GET", path, params=_told(params)))

    def text(self, path: str, **params: str) -> str:
        """Read a file."""
        return self.ask("GET", path, params=_told(params)).text

    def post(
        self, path: str, body: Any = None, headers: Mapping[str, str] | None = None, **params: str
    ) -> Any:
        """Do something, or add something. What makes a thing carries an idempotency key, so that a
        request that is sent again makes no second one.
        """
        sent = {"Idempotency-Key": secrets.token_hex(16), **(headers or {})}
        answer = self.ask(
            "POST",
            path,
            headers=sent,
            params=_told(params),
            **({} if body is None else {"json": body}),
        )
        return _json(answer)

    def delete(self, path: str, **params: str) -> None:
        """Remove something."""
        self.ask("DELETE", path, params=_told(params))

    def edit(self, path: str, body: Mapping[str, Any]) -> Any:
        """Change something as it is now. Raises :class:`~neatlatch.client.NotReady` where somebody
        else changes it at the same time.
        """
        tag = self.ask("GET", path).headers.get("ETag", "*")
        return _json(self.ask("PATCH", path, json=body, headers={"If-Match": tag}))

    def rows(self, path: str, most: int = 0, **params: str) -> Iterator[Any]:
        """Read a list page by page, at ``most`` so many rows (0: all)."""
        count, cursor = 0, ""
        while True:
            page = self.get(path, cursor=cursor, **params)
            for row in page["items"]:
                yield row
                count += 1
                if count == most:
                    return
            cursor = page["next"] or ""
            if not cursor:
                return

    def the_one(self, path: str, says: str, fits: Callable[[Any], bool], **params: str) -> Any:
        """Return the only row of a list that fits; ``None`` where none does. Raises
        :class:`~neatlatch.client.LatchError` where several do.
        """
        found = [row for row in self.rows(path, 0, **params) if fits(row)]
        if len(found) > 1:
            raise NotFound(f"There are {len(found)} of {says}.", "Name one that is unique.")
        return found[0] if found else None


def _told(params: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, value in params.items() if value}


def _json(answer: httpx.Response) -> Any:
    if answer.status_code == 204 or not answer.content:
        return None
    try:
        return answer.json()
    except ValueError as error:
        raise error_of(answer.status_code, {}, b"") from error
