"""Start the stand-ins: ``python -m standins --folder DIR --port N``.

For each environment of Cargo manifests there are two ports: N + 10, 20, 30 for the screens (http, for a browser on this machine) and one
above each for tokens and API (TLS). The control address, where faults are switched on, is at N.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import json
import signal
import ssl
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse, Response
from starlette.routing import Route

from . import small_ca
from .cargo.api import Api
from .cargo.faults import Faults
from .cargo.oauth import Provider
from .cargo.screens import Screens
from .cargo.store import Store

ENVIRONMENTS = {"sandbox": 10, "staging": 20, "production": 30}


class QuietServer(uvicorn.Server):
    """A server that leaves signals to the program, which runs several."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


def cargo(folder: Path, environment: str, port: int, certificates: Path) -> tuple[list[uvicorn.Config], Faults, Store, ssl.SSLContext]:
    """One environment of Cargo manifests: its two servers, and what the control address needs."""
    screens, issuer = f"http://127.0.0.1:{port}", f"https://localhost:{port + 1}"
    store, faults = Store(folder / f"cargo-{environment}.json", environment), Faults()
    # Staging knows no registration by protocol: there, clients are entered by hand.
    provider = Provider(store, faults, issuer, screens, registers=environment != "staging")
    api = Api(store, faults, issuer, screens)
    plain = uvicorn.Config(Starlette(routes=Screens(store, issuer).routes()), host="127.0.0.1", port=port, log_level="warning",
                           timeout_graceful_shutdown=1)  # fmt: skip
    secured = uvicorn.Config(Starlette(routes=provider.routes() + api.routes()), host="127.0.0.1", port=port + 1, log_level="warning",
                             timeout_graceful_shutdown=1, timeout_keep_alive=2)  # fmt: skip
    secured.load()
    context = small_ca.context(certificates)
    secured.ssl = context
    return [plain, secured], faults, store, context


def control(faults: dict[str, Faults], stores: dict[str, Store], contexts: dict[str, ssl.SSLContext], certificates: Path) -> Starlette:
    """The control address: ``POST /faults``, ``POST /ages`` and ``GET /state``."""

    async def set_fault(request: Request) -> Response:
        try:
            wanted: dict[str, Any] = await request.json()
            environment = wanted["environment"]
            faults[environment].set(wanted)
        except (ValueError, KeyError) as error:
            return JSONResponse({"error": f"{error}"}, 400)
        small_ca.use(contexts[environment], certificates, "ended" if wanted["kind"] == "ended_certificate" else "good")
        return JSONResponse({"set": wanted})

    async def age(request: Request) -> Response:
        """Let every code and token of an environment be so many seconds older."""
        wanted: dict[str, Any] = await request.json()
        store = stores[wanted["environment"]]
        for kind in wanted.get("kinds", ["codes"]):
            for one in store.data[kind].values():
                one["ends"] -= wanted["seconds"]
        store.save()
        return JSONResponse({"aged": wanted})

    async def state(request: Request) -> Response:
        return JSONResponse({name: {"calls": one.data["calls"], "manifests": sorted(one.data["manifests"]), "clients": sorted(one.data["clients"]),
                                    "refresh": len(one.data["refresh"]), "access": len(one.data["access"])} for name, one in stores.items()})  # fmt: skip

    return Starlette(routes=[Route("/faults", set_fault, methods=["POST"]), Route("/ages", age, methods=["POST"]), Route("/state", state)])


async def run(folder: Path, port: int) -> None:
    """Run until told to stop."""
    certificates = folder / "certificates"
    small_ca.make(certificates)
    configs: list[uvicorn.Config] = []
    faults, stores, contexts = {}, {}, {}
    for environment, offset in ENVIRONMENTS.items():
        some, faults[environment], stores[environment], contexts[environment] = cargo(folder, environment, port + offset, certificates)
        configs += some
    app = control(faults, stores, contexts, certificates)
    configs.append(uvicorn.Config(app, host="127.0.0.1", port=port, log_level="warning", timeout_graceful_shutdown=1))
    servers = [QuietServer(config) for config in configs]

    def stop() -> None:
        for server in servers:
            server.should_exit = True

    for name in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(name, stop)
    tasks = [asyncio.create_task(server.serve()) for server in servers]
    while not all(server.started or task.done() for server, task in zip(servers, tasks, strict=True)):
        await asyncio.sleep(0.02)
    if not any(task.done() for task in tasks):
        print(json.dumps({"ready": True, "control": f"http://127.0.0.1:{port}"}), flush=True)
    await asyncio.gather(*tasks)


def main() -> None:
    """Read the command line and run."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--folder", type=Path, required=True, help="where clients, tokens and certificates are kept")
    parser.add_argument("--port", type=int, default=8700, help="the control port; the others follow from it")
    given = parser.parse_args()
    given.folder.mkdir(parents=True, exist_ok=True)
    try:
        asyncio.run(run(given.folder, given.port))
    except (KeyboardInterrupt, SystemExit):
        sys.exit(0)


if __name__ == "__main__":
    main()
