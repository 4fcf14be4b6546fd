"""The API of an application: operations that want different scopes, refused as RFC 6750 §3 says."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from .. import clock
from ..house import House
from .faults import Faults
from .store import Store, digest


class Api:
    """The resource side of one environment."""

    def __init__(
        self, store: Store, faults: Faults, issuer: str, screens: str, house: House | None = None
    ) -> None:
        self.store, self.faults, self.issuer, self.screens, self.about, self.house = (
            store,
            faults,
            issuer,
            screens,
            store.about,
            house,
        )

    def routes(self) -> list[Route]:
        """The operations and their description."""
        handlers: dict[str, Callable[[Request], Response]] = {
            "put": self.put_thing,
            "delete": self.delete_thing,
            "post": self.file_thing,
        }
        routes = [Route("/openapi.json", self.description)]
        for (method, path), (_, alternatives) in self.about.operations.items():
            handler = handlers.get(method) or self._lister(path.strip("/"))
            routes.append(
                Route("/api" + path, self._guarded(handler, alternatives), methods=[method.upper()])
            )
        return routes

    def _lister(self, what: str) -> Callable[[Request], Response]:
        rest = self.about.rest
        return lambda _: JSONResponse(
            {what: rest[what] if what in rest else list(self.store.data["things"].values())}
        )

    def _guarded(
        self, handler: Callable[[Request], Response], alternatives: list[list[str]]
    ) -> Callable[[Request], Awaitable[Response]]:
        async def run(request: Request) -> Response:
            self.store.count("api")
            instead, hold = await self.faults.before("make" if request.method == "PUT" else "api")
            answer = instead or await self._refusal(request, alternatives)
            if answer is None:
                body = await request.body()
                if request.method in ("PUT", "POST") and body:
                    try:
                        request.state.given = await request.json()
                    except ValueError:
                        answer = JSONResponse({"error": "The body is not JSON"}, 400)
            answer = answer or handler(request)
            await self.faults.hold(hold)
            return answer

        return run

    async def _refusal(self, request: Request, alternatives: list[list[str]]) -> Response | None:
        header = request.headers.get("authorization", "")
        if not header:
            return _challenge(401)
        if not header.lower().startswith("bearer "):
            return _challenge(400, error="invalid_request")
        kept = self.store.data["access"].get(digest(header[7:]))
        by_house = None
        if kept is None and self.house is not None:
            address = request.client.host if request.client else ""
            by_house = await self.house.scopes(
                self.about.key, self.store.environment, header[7:], address
            )
        if by_house is None and (kept is None or kept["ends"] < clock.now()):
            return _challenge(
                401,
                error="invalid_token",
                error_description="The access token has ended or is not known",
            )
        if kept is None:
            held = set(by_house or ())
        else:
            follower = self.store.data["refresh"].get(kept.get("refresh", ""))
            if follower is not None:
                follower["used"] = True
            held = set(kept["scope"].split())
        if not any(set(some) <= held for some in alternatives):
            return _challenge(403, error="insufficient_scope", scope=" ".join(alternatives[0]))
        return None

    def put_thing(self, request: Request) -> Response:
        """Enter or change one; some fields are wanted."""
        given: Any = getattr(request.state, "given", None)
        wanted = self.about.wanted
        if not isinstance(given, dict) or (
            lacking := [text for text in wanted if not given.get(text)]
        ):
            said = (
                f"{' and '.join(wanted)} are wanted"
                if not isinstance(given, dict)
                else f"wanted: {', '.join(lacking)}"
            )
            return JSONResponse({"error": said}, 422)
        number = request.path_params["number"]
        new = number not in self.store.data["things"]
        self.store.data["things"][number] = {
            "number": number,
            **{text: given[text] for text in wanted},
            "note": given.get("note", ""),
        }
        self.store.count("manifest_made" if new else "manifest_changed")
        self.store.save()
        return JSONResponse(self.store.data["things"][number], 201 if new else 200)

    def delete_thing(self, request: Request) -> Response:
        """Withdraw one; one that is not there is withdrawn already."""
        self.store.data["things"].pop(request.path_params["number"], None)
        self.store.save()
        return Response(status_code=204)

    def file_thing(self, request: Request) -> Response:
        """File one with customs."""
        if request.path_params["number"] not in self.store.data["things"]:
            return JSONResponse({"error": "no such manifest"}, 404)
        return JSONResponse({"filed": request.path_params["number"]}, 202)

    async def description(self, request: Request) -> Response:
        """The OpenAPI description."""
        paths: dict[str, Any] = {}
        for (method, path), (summary, alternatives) in self.about.operations.items():
            paths.setdefault(path, {})[method] = {
                "summary": summary,
                "security": [{"oauth": some} for some in alternatives],
                "responses": {"default": {"description": "answer"}},
            }
        scopes = {"tokenUrl": f"{self.issuer}/token", "scopes": self.about.scopes}
        flows: dict[str, Any] = {}
        if "authorization_code" in self.about.grants:
            flows["authorizationCode"] = {"authorizationUrl": f"{self.screens}/authorize", **scopes}
        if "client_credentials" in self.about.grants:
            flows["clientCredentials"] = scopes
        return JSONResponse(
            {
                "openapi": "3.1.0",
                "info": {"title": self.about.name, "version": "1"},
                "servers": [{"url": f"{self.issuer}/api"}],
                "paths": paths,
                "components": {"securitySchemes": {"oauth": {"type": "oauth2", "flows": flows}}},
            }
        )


def _challenge(status: int, **params: str) -> Response:
    told = ", ".join(f'{key}="{value}"' for key, value in {"realm": "harbour", **params}.items())
    return Response(status_code=status, headers={"WWW-Authenticate": f"Bearer {told}"})
