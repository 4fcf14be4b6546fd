"""The stream of Vessel positions: TLS, then frames of four octets of length (network order) and so much JSON. Its register of message formats
is a second endpoint, over HTTP Basic, with accounts of its own."""

from __future__ import annotations

import asyncio
import json
import secrets
import ssl
import struct
import time
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response
from starlette.routing import Route

from . import proofs
from .office import Office
from .shelf import ENVIRONMENTS, form_of, page

TOPICS: dict[str, dict[str, Any]] = {
    "positions": {"vessel": "Gannet Sound", "at": [58.98, -2.96]},
    "arrivals": {"vessel": "Little Auk", "quay": "South slip"},
}


class Positions:
    """Keys are made in the office; each begins with the environment it is for."""

    def __init__(self, office: Office) -> None:
        self.office = office

    def _record(self, key: str) -> dict[str, Any] | None:
        for drawer in (self.office.shelf.data[one] for one in ENVIRONMENTS):
            if key in drawer["keys"]:
                found: dict[str, Any] = drawer["keys"][key]
                return found
        return None

    async def serve(self, port: int, context: ssl.SSLContext) -> asyncio.Server:
        """Listen."""
        return await asyncio.start_server(self._talk, "127.0.0.1", port, ssl=context)

    async def _talk(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        known: dict[str, Any] | None = None
        try:
            while True:
                size = struct.unpack("!I", await asyncio.wait_for(reader.readexactly(4), 30))[0]
                if size > 65536:
                    break
                given = json.loads(await reader.readexactly(size))
                known, answer = self._answer(given, known)
                body = json.dumps(answer).encode()
                writer.write(struct.pack("!I", len(body)) + body)
                await writer.drain()
        except (asyncio.IncompleteReadError, TimeoutError, ValueError, ConnectionError, ssl.SSLError):
            pass
        finally:
            writer.close()

    def _answer(self, given: dict[str, Any], known: dict[str, Any] | None) -> tuple[dict[str, Any] | None, dict[str, Any]]:
        act = given.get("do")
        if act == "sign_in":
            record = self._record(str(given.get("key")))
            if record is None:
                return None, {"ok": False, "error": "unknown_key", "says": "This key ID is not known"}
            if record["ends"] and record["ends"] < time.time():
                return None, {"ok": False, "error": "key_ended", "says": "This key has ended"}
            if not secrets.compare_digest(record["secret"].encode(), str(given.get("secret")).encode()):
                return None, {"ok": False, "error": "wrong_secret", "says": "The secret is not this key's"}
            return record, {"ok": True, "as": record["account"]}
        if known is None:
            return None, {"ok": False, "error": "forbidden", "says": "Sign in first"}
        if act == "list":
            return known, {"ok": True, "topics": sorted(TOPICS)}
        if act == "peek" and given.get("topic") in TOPICS:
            return known, {"ok": True, "message": TOPICS[str(given["topic"])]}
        return known, {"ok": False, "error": "unknown", "says": "There is no such thing to do"}

    # The register

    def routes(self) -> list[Route]:
        """The register's API, below the environment."""
        return [Route("/{env}/register/formats", self.formats)]

    def screens(self) -> list[Route]:
        """Where passwords of the register are handed out."""
        return [Route("/{env}/register", self.accounts), Route("/{env}/register/make", self.make, methods=["POST"])]

    def _accounts(self, request: Request) -> dict[str, dict[str, Any]]:
        found: dict[str, dict[str, Any]] = self.office.shelf.data[request.path_params["env"]].setdefault("register", {})
        return found

    async def formats(self, request: Request) -> Response:
        """The message formats, for those who have an account of the register."""
        if request.path_params["env"] not in ENVIRONMENTS:
            return JSONResponse({"error": "not found"}, 404)
        shown = proofs.basic(request, self._accounts(request), "")
        if isinstance(shown, Response):
            return shown
        return JSONResponse({"formats": {name: sorted(example) for name, example in TOPICS.items()}})

    async def accounts(self, request: Request) -> Response:
        """Who has one, and the form for more."""
        if request.path_params["env"] not in ENVIRONMENTS:
            return RedirectResponse("/sandbox/register", 303)
        rows = "".join(f"<tr><td>{name}" for name in self._accounts(request))
        return page(f"Register of message formats, {request.path_params['env']}", self.office.style.colour,
                    f"<table><tr><th>User name{rows}</table><form method=post action='/{request.path_params['env']}/register/make'><p>User name <input name=name required></p>"
                    "<button>Make</button></form>")  # fmt: skip

    async def make(self, request: Request) -> Response:
        """A new account, its password shown once."""
        name = (await form_of(request)).get("name", "").strip()
        password = secrets.token_urlsafe(18)
        self._accounts(request)[name] = {
            "name": name,
            "account": name,
            "role": "reader",
            "made": time.time(),
            "ends": 0,
            "secret": password,
        }
        self.office.shelf.save()
        return page(
            "Write this down",
            self.office.style.colour,
            f"<table><tr><th>User name<td><code>{name}</code><tr><th>Password<td><code>{password}</code></table>",
        )
