"""Time of a full ladder against the same calls made bare with httpx, in the same run.

Run manually: ``.venv/bin/python -m bench.ladder``.

Both find, connect, secure and make the same six calls of a code connection: sign-in page,
introspection, the harmless call, and make, look and clear of the probe. The aim: less than 1.3
times the bare time.
"""

from __future__ import annotations

import random
import secrets
import ssl
import statistics
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import httpx
import yaml

from neatlatch.core import oauth2, pkce, profiles
from neatlatch.core.destinations import origins
from neatlatch.core.evidence import Exchange, RungResult
from neatlatch.core.schemes import CODE
from neatlatch.demo.visitor import Visitor
from neatlatch.wire.ladder import LadderRun
from neatlatch.wire.ladder_plan import Plan
from neatlatch.wire.token_source import HeldToken
from neatlatch.wire.transport import Policy, Transport
from tests.harness import StandIns

from .table import row

RUNS = 60
URI = "http://127.0.0.1:8600/return"
SCOPES = frozenset({"manifest.read", "manifest.write"})


class OneToken:
    """Keeps one token and never renews it."""

    def __init__(self, token: str) -> None:
        self.held = HeldToken(token, SCOPES)

    def token(self, transport: Transport, force: bool) -> tuple[HeldToken, tuple[Exchange, ...]]:
        return self.held, ()

    def report_account(self, account: str) -> None:
        pass


def set_up(stand_ins: StandIns, trust: str) -> tuple[Plan, str]:
    """Register, consent and sign in, bare."""
    issuer = stand_ins.issuer()
    web = httpx.Client(verify=ssl.create_default_context(cafile=trust))
    told = web.get(f"{issuer}/.well-known/oauth-authorization-server").json()
    made = web.post(
        told["registration_endpoint"],
        json={
            "client_name": "bench",
            "redirect_uris": [URI],
            "scope": " ".join(sorted(SCOPES)),
            "grant_types": ["authorization_code", "refresh_token"],
        },
    ).json()
    visitor = Visitor(stand_ins.screens())
    visitor.enter_office()
    visitor.consent(made["client_id"], "manifest.write")
    verifier = pkce.verifier_from(bytes(32))
    address = oauth2.authorization_url(
        told["authorization_endpoint"],
        made["client_id"],
        URI,
        SCOPES,
        "s",
        pkce.challenge(verifier),
    )
    back = visitor.sign_in(address, "svc-manifests@gannet.example")
    client = oauth2.Client(made["client_id"], made["client_secret"])
    request = oauth2.code_request(
        told["token_endpoint"], client, parse_qs(urlsplit(back).query)["code"][0], URI, verifier
    )
    token = web.post(request.url, content=request.body, headers=dict(request.headers)).json()[
        "access_token"
    ]
    profile = profiles.from_dict(
        yaml.safe_load(
            (Path(__file__).parents[1] / "neatlatch/profiles/cargo-manifests.yaml").read_text()
        )
    )
    plan = Plan(
        scheme=CODE,
        mark="TEST-bench",
        token_endpoint=told["token_endpoint"],
        api_base=f"{issuer}/api",
        client=client,
        authorization_endpoint=told["authorization_endpoint"],
        introspection_endpoint=told["introspection_endpoint"],
        redirect_uri=URI,
        scopes=SCOPES,
        harmless=profile.harmless_call(),
        operations=profile.operations,
        probe=profile.probe,
    )
    return plan, token


def ladder(plan: Plan, token: str, trust: str) -> float:
    """One full ladder, in milliseconds."""
    begun = time.perf_counter()
    with Transport(
        Policy(("127.0.0.0/8", "::1/128")),
        trust=trust,
        goes_to=origins((plan.api_base, plan.token_endpoint, plan.introspection_endpoint)),
    ) as transport:
        climb = LadderRun(
            plan,
            transport,
            OneToken(token),
            lambda: datetime.now(UTC),
            random.random,
            lambda: secrets.token_urlsafe(9),
        )
        rungs = [item for item in climb.run() if isinstance(item, RungResult)]
    assert len(rungs) == 6, rungs[-1]
    assert all(rung.passed for rung in rungs), rungs[-1]
    return (time.perf_counter() - begun) * 1000


def bare(plan: Plan, token: str, context: ssl.SSLContext) -> float:
    """The same calls with httpx alone, in milliseconds.

    Its trust store has been read before, as the ladder's has.
    """
    begun = time.perf_counter()
    with httpx.Client(verify=context) as web:
        url = oauth2.authorization_url(
            plan.authorization_endpoint,
            plan.client.client_id,
            URI,
            SCOPES,
            "probe",
            pkce.challenge("x" * 43),
        )
        assert web.get(url).status_code == 200
        asked = oauth2.introspection_request(plan.introspection_endpoint, plan.client, token)
        assert web.post(asked.url, content=asked.body, headers=dict(asked.headers)).json()["active"]
        bearer = {"Authorization": f"Bearer {token}"}
        assert web.get(f"{plan.api_base}/manifests", headers=bearer).status_code == 200
        body = {"ship": "TEST, not a ship", "sailing": "TEST"}
        assert (
            web.put(f"{plan.api_base}/manifests/TEST-bare", headers=bearer, json=body).status_code
            == 201
        )
        assert "TEST-bare" in web.get(f"{plan.api_base}/manifests", headers=bearer).text
        assert web.delete(f"{plan.api_base}/manifests/TEST-bare", headers=bearer).status_code == 204
    return (time.perf_counter() - begun) * 1000


def _context(trust: str) -> ssl.SSLContext:
    """The trust store as the ladder has it: the machine's own authorities and the file."""
    context = ssl.create_default_context()
    context.load_verify_locations(cafile=trust)
    return context


def main() -> None:
    """Measure in turns, so that both meet the same machine, and print the ratio."""
    with tempfile.TemporaryDirectory() as folder:
        stand_ins = StandIns(Path(folder))
        trust = str(Path(folder) / "certificates" / "root.pem")
        try:
            plan, token = set_up(stand_ins, trust)
            times: dict[str, list[float]] = {"ladder": [], "bare": []}
            context = _context(trust)
            for _ in range(RUNS):
                times["ladder"].append(ladder(plan, token, trust))
                times["bare"].append(bare(plan, token, context))
        finally:
            stand_ins.stop()
    for name, some in times.items():
        print(
            f"{name:<8} median {statistics.median(some):6.1f} ms   p95 "
            f"{sorted(some)[int(RUNS * 0.95)]:6.1f} ms"
        )
    a, b = (statistics.median(times[name]) for name in ("ladder", "bare"))
    row(
        "a full ladder of six rungs",
        f"{a:.0f} ms",
        f"the same calls bare, by httpx: {b:.0f} ms",
        a / b,
        "1.3 ×",
        a < 1.3 * b,
    )
    print(
        f"ratio of the medians: "
        f"{statistics.median(times['ladder']) / statistics.median(times['bare']):.2f} (aim: "
        f"under 1.3)"
    )


if __name__ == "__main__":
    main()
