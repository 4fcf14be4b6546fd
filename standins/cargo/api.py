"""The API of Cargo manifests: operations that want different scopes, refused as RFC 6750 §3 says."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from .faults import Faults
from .store import SCOPES, Store, digest

OPERATIONS: dict[tuple[str, str], tuple[str, list[list[str]]]] = {
    ("get", "/manifests"): ("List the manifests", [["manifest.read"], ["manifest.write"]]),
    ("put", "/manifests/{number}"): ("Enter or change a manifest", [["manifest.write"]]),
    ("delete", "/manifests/{number}"): ("Withdraw a manifest", [["manifest.write"]]),
    ("get", "/berths"): ("List the berths", [["berth.read"]]),
    ("post", "/manifests/{number}/customs"): ("File a manifest with customs", [["customs.file", "manifest.read"]]),
}
BERTHS = [{"berth": "North quay 2", "ship": "Gannet Sound"}, {"berth": "South slip", "ship": "Little Auk"}]


class Api:
    """The resource side of one environment."""

    def __init__(self, store: Store, faults: Faults, issuer: str, screens: str) -> None:
        self.store, self.faults, self.issuer, self.screens = store, faults, issuer, screens

    def routes(self) -> list[Route]:
        """The operations and their description."""
        handlers: dict[tuple[str, str], Callable[[Request], Response]] = {
            ("get", "/manifests"): self.list_manifests,
            ("put", "/manifests/{number}"): self.put_manifest,
            ("delete", "/manifests/{number}"): self.delete_manifest,
            ("get", "/berths"): lambda _: JSONResponse({"berths": BERTHS}),
            ("post", "/manifests/{number}/customs"): self.file_customs,
        }
        routes = [Route("/openapi.json", self.description)]
        for (method, path), handler in handlers.items():
            routes.append(Route("/api" + path, self._guarded(handler, OPERATIONS[method, path][1]), methods=[method.upper()]))
        return routes

    def _guarded(self, handler: Callable[[Request], Response], alternatives: list[list[str]]) -> Callable[[Request], Awaitable[Response]]:
        async def run(request: Request) -> Response:
            self.store.count("api")
            instead, hold = await self.faults.before("api")
            answer = instead or self._refusal(request, alternatives)
            if answer is None:
                body = await request.body()
                if request.method in ("PUT", "POST") and body:
                    try:
                        request.state.given = await request.json()
                    except ValueError:
                        answer = JSONResponse({"error": "The body is not JSON"}, 400)
            answer = answer or handler(request)
            if hold:
                await asyncio.sleep(hold)
            return answer

        return run

    def _refusal(self, request: Request, alternatives: list[list[str]]) -> Response | None:
        header = request.headers.get("authorization", "")
        if not header:
            return _challenge(401)
        if not header.lower().startswith("bearer "):
            return _challenge(400, error="invalid_request")
        kept = self.store.data["access"].get(digest(header[7:]))
        if kept is None or kept["ends"] < time.time():
            return _challenge(401, error="invalid_token", error_description="The access token has ended or is not known")
        follower = self.store.data["refresh"].get(kept.get("refresh", ""))
        if follower is not None:
            follower["used"] = True
        held = set(kept["scope"].split())
        if not any(set(some) <= held for some in alternatives):
            return _challenge(403, error="insufficient_scope", scope=" ".join(alternatives[0]))
        return None

    def list_manifests(self, request: Request) -> Response:
        """All manifests."""
        return JSONResponse({"manifests": list(self.store.data["manifests"].values())})

    def put_manifest(self, request: Request) -> Response:
        """Enter or change one; ship and sailing are wanted."""
        given: Any = getattr(request.state, "given", None)
        if not isinstance(given, dict) or (lacking := [one for one in ("ship", "sailing") if not given.get(one)]):
            return JSONResponse(
                {"error": "ship and sailing are wanted"} if not isinstance(given, dict) else {"error": f"wanted: {', '.join(lacking)}"}, 422
            )
        number = request.path_params["number"]
        new = number not in self.store.data["manifests"]
        self.store.data["manifests"][number] = {
            "number": number,
            "ship": given["ship"],
            "sailing": given["sailing"],
            "note": given.get("note", ""),
        }
        self.store.count("manifest_made" if new else "manifest_changed")
        self.store.save()
        return JSONResponse(self.store.data["manifests"][number], 201 if new else 200)

    def delete_manifest(self, request: Request) -> Response:
        """Withdraw one; one that is not there is withdrawn already."""
        self.store.data["manifests"].pop(request.path_params["number"], None)
        self.store.save()
        return Response(status_code=204)

    def file_customs(self, request: Request) -> Response:
        """File one with customs."""
        if request.path_params["number"] not in self.store.data["manifests"]:
            return JSONResponse({"error": "no such manifest"}, 404)
        return JSONResponse({"filed": request.path_params["number"]}, 202)

    async def description(self, request: Request) -> Response:
        """The OpenAPI description."""
        paths: dict[str, Any] = {}
        for (method, path), (summary, alternatives) in OPERATIONS.items():
            paths.setdefault(path, {})[method] = {"summary": summary, "security": [{"oauth": some} for some in alternatives],
                                                  "responses": {"default": {"description": "answer"}}}  # fmt: skip
        flow = {"authorizationUrl": f"{self.screens}/authorize", "tokenUrl": f"{self.issuer}/token", "scopes": SCOPES}
        return JSONResponse({
            "openapi": "3.1.0", "info": {"title": "Cargo manifests", "version": "1"}, "servers": [{"url": f"{self.issuer}/api"}], "paths": paths,
            "components": {"securitySchemes": {"oauth": {"type": "oauth2", "flows": {"authorizationCode": flow}}}},
        })  # fmt: skip


def _challenge(status: int, **params: str) -> Response:
    told = ", ".join(f'{key}="{value}"' for key, value in {"realm": "cargo", **params}.items())
    return Response(status_code=status, headers={"WWW-Authenticate": f"Bearer {told}"})
