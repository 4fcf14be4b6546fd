"""Start the stand-ins: ``python -m standins --folder DIR --port N``.

The control address, where faults are switched on, is at N. Cargo manifests has two ports for each
environment: N + 10, 20, 30 for the screens (http, for a browser on this machine) and one above each
for tokens and API (TLS). Every other application has two ports for all its environments, which are
the first part of the path: see ``PORTS``.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import json
import signal
import ssl
import sys
from asyncio import Transport
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import uvicorn
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, RedirectResponse, Response
from starlette.routing import BaseRoute, Mount, Route
from uvicorn.protocols.http.h11_impl import H11Protocol

from . import small_ca
from .house import House
from .oauth.about import ALL, About
from .oauth.api import Api
from .oauth.faults import Faults
from .oauth.provider import Provider
from .oauth.screens import Screens
from .oauth.store import Store
from .offices.all import offices
from .offices.shelf import ENVIRONMENTS
from .offices.stream import Positions

CARGO_PORTS = {"sandbox": 10, "staging": 20, "production": 30}
# Where each application's screens are, counted from the control port; its TLS side is one above.
# The stream of Vessel positions is two above.
PORTS = {
    "returns": 40,
    "fuel": 42,
    "berths": 44,
    "payroll": 46,
    "tides": 48,
    "fares": 50,
    "messages": 52,
    "positions": 54,
    "tickets": 58,
    "lost": 60,
    "crew": 62,
}


class QuietServer(uvicorn.Server):
    """A server that leaves signals to the program, which runs several."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


class KnowsTheClient(H11Protocol):
    """Tells the application the thumbprint of the client certificate on the line."""

    def connection_made(self, transport: Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        shown = transport.get_extra_info("ssl_object").getpeercert(binary_form=True)
        thumbprint = (
            x509.load_der_x509_certificate(shown).fingerprint(hashes.SHA256()).hex()
            if shown
            else ""
        )
        inner = self.app

        async def with_certificate(scope: Any, receive: Any, send: Any) -> None:
            if scope["type"] == "http":
                scope.setdefault("extensions", {})["client_certificate"] = thumbprint
                scope["extensions"]["client_certificate_der"] = shown
            await inner(scope, receive, send)

        self.app = with_certificate


class Harbour:
    """All applications, their servers, and what the control address needs."""

    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port, self.certificates = folder, port, folder / "certificates"
        small_ca.make(self.certificates)
        self.house = House(folder / "house.json")
        self.configs: list[uvicorn.Config] = []
        self.faults: dict[str, Faults] = {}
        self.stores: dict[str, Store] = {}
        self.contexts: dict[str, ssl.SSLContext] = {}
        for environment, offset in CARGO_PORTS.items():
            self._cargo(environment, port + offset)
        for key, about in ALL.items():
            if key != "cargo":
                self._oauth(about, port + PORTS[key])
        self.offices = offices(folder, self.faults, self.house)
        self.positions = Positions(self.offices["positions"])
        for key, office in self.offices.items():
            screens: list[BaseRoute] = [Route("/", lambda request: RedirectResponse("/production"))]
            api: list[BaseRoute] = []
            if key == "positions":
                screens += self.positions.screens()
                api += self.positions.routes()
            context = (
                small_ca.wants_client(self.certificates)
                if key == "crew"
                else small_ca.context(self.certificates)
            )
            for root in self.house.roots() if key == "crew" else ():
                context.load_verify_locations(cadata=root)
            self._serve(
                key,
                screens + [*office.screens()],
                [*api, office.api()],
                port + PORTS[key],
                context,
                knows=key == "crew",
            )

    def _serve(
        self,
        key: str,
        screens: list[BaseRoute],
        api: list[BaseRoute],
        port: int,
        context: ssl.SSLContext,
        knows: bool = False,
    ) -> None:
        self.contexts[key] = context
        self.configs.append(
            uvicorn.Config(
                Starlette(routes=screens),
                host="127.0.0.1",
                port=port,
                log_level="error",
                timeout_graceful_shutdown=1,
            )
        )
        secured = uvicorn.Config(
            Starlette(routes=api),
            host="127.0.0.1",
            port=port + 1,
            log_level="error",
            timeout_graceful_shutdown=1,
            timeout_keep_alive=2,
            http=KnowsTheClient if knows else "auto",
        )
        secured.load()
        secured.ssl = context
        self.configs.append(secured)

    def _cargo(self, environment: str, port: int) -> None:
        """One environment of Cargo manifests.

        Staging knows no registration by protocol: there, clients are entered by hand.
        """
        about, screens, issuer = (
            ALL["cargo"],
            f"http://127.0.0.1:{port}",
            f"https://localhost:{port + 1}",
        )
        store, faults = (
            Store(self.folder / f"cargo-{environment}.json", environment, about),
            Faults(),
        )
        self.stores[environment], self.faults[environment] = store, faults
        provider = Provider(
            store, faults, issuer, screens, registers=environment in about.registers
        )
        self._serve(
            environment,
            [*Screens(store, issuer).routes()],
            [*provider.routes(), *Api(store, faults, issuer, screens).routes()],
            port,
            small_ca.context(self.certificates),
        )

    def _oauth(self, about: About, port: int) -> None:
        """Another OAuth application: its environments, and its tenant if it has any, stand in the
        path.
        """
        faults = self.faults[about.key] = Faults()
        screens: list[BaseRoute] = [
            Route("/", lambda request: RedirectResponse(f"/production{tenant}/office"))
        ]
        api: list[BaseRoute] = []
        tenant = f"/t/{about.tenant}" if about.tenant else ""
        for environment in ENVIRONMENTS:
            path = f"/{environment}{tenant}"
            base, issuer = f"http://127.0.0.1:{port}{path}", f"https://localhost:{port + 1}{path}"
            store = self.stores[f"{about.key}-{environment}"] = Store(
                self.folder / f"{about.key}-{environment}.json", environment, about
            )
            provider = Provider(
                store, faults, issuer, base, registers=environment in about.registers
            )
            screens.append(Mount(path, routes=Screens(store, issuer, path).routes()))
            # RFC 8414 §3.1: the well-known part stands between host and path.
            api.append(Route(f"/.well-known/oauth-authorization-server{path}", provider.metadata))
            api.append(
                Mount(
                    path,
                    routes=[
                        *provider.routes(),
                        *Api(store, faults, issuer, base, self.house).routes(),
                    ],
                )
            )
        self._serve(about.key, screens, api, port, small_ca.context(self.certificates))

    def control(self) -> Starlette:
        """The control address: ``POST /faults``, ``POST /ages``, ``POST /house`` and ``GET
        /state``. ``environment`` names one of Cargo manifests' or an application.
        """

        async def set_fault(request: Request) -> Response:
            try:
                wanted: dict[str, Any] = await request.json()
                where = wanted["environment"]
                self.faults[where].set(wanted)
            except (ValueError, KeyError) as error:
                return JSONResponse({"error": f"{error}"}, 400)
            small_ca.use(
                self.contexts[where],
                self.certificates,
                "ended" if wanted["kind"] == "ended_certificate" else "good",
            )
            return JSONResponse({"set": wanted})

        async def age(request: Request) -> Response:
            """Let codes, tokens or secrets of an environment be so many seconds older."""
            wanted: dict[str, Any] = await request.json()
            store = self.stores[wanted["environment"]]
            for kind in wanted.get("kinds", ["codes"]):
                for secret in store.secrets() if kind == "secrets" else store.data[kind].values():
                    secret["ends"] -= wanted["seconds"]
                    if "made" in secret:
                        secret["made"] -= wanted["seconds"]
            store.save()
            return JSONResponse({"aged": wanted})

        async def learn(request: Request) -> Response:
            """What an application's people set it up with, so that it accepts what the firm's own
            authority issues.
            """
            told: dict[str, str] = await request.json()
            self.house.learn(told.pop("application"), told.pop("environment"), told)
            for root in self.house.roots():
                self.contexts["crew"].load_verify_locations(cadata=root)
            return JSONResponse({"learnt": True})

        async def state(request: Request) -> Response:
            return JSONResponse(
                {
                    name: {
                        "calls": one.data["calls"],
                        "manifests": sorted(one.data["things"]),
                        "clients": sorted(one.data["clients"]),
                        "refresh": len(one.data["refresh"]),
                        "access": len(one.data["access"]),
                        "held": self.faults[
                            name.split("-")[0] if name not in CARGO_PORTS else name
                        ].held,
                    }
                    for name, one in self.stores.items()
                }
            )

        return Starlette(
            routes=[
                Route("/faults", set_fault, methods=["POST"]),
                Route("/ages", age, methods=["POST"]),
                Route("/house", learn, methods=["POST"]),
                Route("/state", state),
            ]
        )


async def run(folder: Path, port: int) -> None:
    """Run until told to stop."""
    harbour = Harbour(folder, port)
    configs = [
        *harbour.configs,
        uvicorn.Config(
            harbour.control(),
            host="127.0.0.1",
            port=port,
            log_level="warning",
            timeout_graceful_shutdown=1,
        ),
    ]
    servers = [QuietServer(config) for config in configs]

    def stop() -> None:
        for server in servers:
            server.should_exit = True

    for name in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(name, stop)
    stream = await harbour.positions.serve(
        port + PORTS["positions"] + 2, small_ca.context(harbour.certificates)
    )
    tasks = [asyncio.create_task(server.serve()) for server in servers]
    while not all(
        server.started or task.done() for server, task in zip(servers, tasks, strict=True)
    ):
        await asyncio.sleep(0.02)
    if not any(task.done() for task in tasks):
        print(json.dumps({"ready": True, "control": f"http://127.0.0.1:{port}"}), flush=True)
    await asyncio.gather(*tasks)
    stream.close()


def main() -> None:
    """Read the command line and run."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "--folder", type=Path, required=True, help="where clients, tokens and certificates are kept"
    )
    parser.add_argument(
        "--port", type=int, default=8700, help="the control port; the others follow from it"
    )
    given = parser.parse_args()
    given.folder.mkdir(parents=True, exist_ok=True)
    try:
        asyncio.run(run(given.folder, given.port))
    except (KeyboardInterrupt, SystemExit):
        sys.exit(0)


if __name__ == "__main__":
    main()
