"""No secret in the database file, logs, journal, evidence or API answers: known ones are planted
and searched for everywhere.
"""

from __future__ import annotations

import json
import logging
from pathlib import Path

import pytest
import structlog
from django.db import connection as database
from django.test import Client as WebClient

from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections import tokens
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, SignIn, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.ground.common import keyfile, safe

from .conftest import PASSWORD, Setup
from .test_tokens import bring_near_the_end, hold

PLANTED = "planted-secret-value-9f3a-QUAY"


def everything_secret() -> set[tuple[str, str]]:
    """Every secret that the desk holds now, opened."""
    found = {
        f"credential {credential.hint}": credential.open().reveal()
        for credential in Credential.objects.all()
    }
    for token_set in TokenSet.objects.all():
        found |= {
            "access token": token_set.open_access().reveal(),
            "refresh token": token_set.open_refresh().reveal(),
        }
    for client in Client.objects.exclude(management_token=None):
        found["management token"] = safe.unseal(
            client.management_token, client.token_place
        ).reveal()
    for sign_in in SignIn.objects.all():
        found["verifier"] = safe.unseal(sign_in.verifier, f"sign_in:{sign_in.pk}:verifier").reveal()
    return set((found | {"password": PASSWORD, "planted": PLANTED}).items())


def test_planted_secrets_are_found_nowhere(
    setup: Setup, caplog: pytest.LogCaptureFixture, capfd: pytest.CaptureFixture[str]
) -> None:
    caplog.set_level(logging.DEBUG)
    web = WebClient()
    web.post(
        "/api/session",
        json.dumps({"username": "morag", "password": PASSWORD}),
        content_type="application/json",
    )
    connection = setup.latched("manifest.read", "berth.read")
    secrets = everything_secret()
    setup.test(connection)
    bring_near_the_end(connection)
    hold(connection)
    setup.stand_ins.fault("refuse", where="token", count=5)
    setup.test(connection)
    setup.stand_ins.fault("none")
    answers = []
    body = json.dumps({"secret": f" {PLANTED}\n"})
    answers.append(
        web.post(
            f"/api/connections/{connection.ref}/secrets", body, content_type="application/json"
        )
    )
    setup.test(connection)
    setup.stand_ins.age(9999, "access")
    setup.test(connection)
    secrets |= everything_secret()
    # Two secrets and the planted one, the tokens before and after renewal, and those of client,
    # sign-in and person.
    assert len(secrets) >= 10
    assert all(len(value) >= 12 for _, value in secrets)

    handover = Handover.objects.get()
    shown = web.post(f"/api/handovers/{handover.pk}/revelations").json()[
        "value"
    ]  # the one answer that may hold a secret
    assert shown in {value for _, value in secrets}
    web.post(f"/api/handovers/{handover.pk}/confirmations")
    client = Client.objects.get()
    tests = [test["id"] for test in web.get(f"/api/connections/{connection.ref}/tests").json()]
    for address in [
        "/api/today",
        "/api/connections",
        f"/api/connections/{connection.ref}",
        "/api/credentials",
        f"/api/clients/{client.pk}",
        f"/api/handovers/{handover.pk}",
        "/api/journal",
        "/api/rounds",
        "/api/search?words=a",
        "/api/applications/cargo-manifests",
        *(f"/api/tests/{test}" for test in tests),
    ]:
        answers.append(web.get(address))
        assert answers[-1].status_code == 200, address
    assert len(tests) == 4

    with database.cursor() as cursor:
        cursor.execute("PRAGMA wal_checkpoint(PASSIVE)")
    file = Path(database.settings_dict["NAME"])
    octets = {path.name: path.read_bytes() for path in file.parent.iterdir() if path.is_file()}
    assert any(name.endswith("-wal") for name in octets)
    for name, secret in secrets:
        for file_name, content in octets.items():
            assert secret.encode() not in content, f"{name} stands in {file_name}"
        for answer in answers:
            assert secret not in answer.content.decode(), (
                f"{name} was answered by {answer.request['PATH_INFO']}"
            )
        out, err = capfd.readouterr()
        assert secret not in caplog.text + out + err, f"{name} was logged"


def test_sealed_values_open_in_their_place_only(setup: Setup) -> None:
    sealed = safe.seal("hush-hush", "a:1:value")
    assert safe.unseal(sealed, "a:1:value").reveal() == "hush-hush"
    assert safe.seal("hush-hush", "a:1:value") != sealed
    with pytest.raises(safe.CannotOpen):
        safe.unseal(sealed, "a:2:value")
    with pytest.raises(safe.CannotOpen):
        safe.unseal(sealed[:-1] + bytes([sealed[-1] ^ 1]), "a:1:value")
    with pytest.raises(safe.CannotOpen):
        safe.unseal(sealed[:1] + b"\x00\x09" + sealed[3:], "a:1:value")


def test_fingerprints_are_keyed(setup: Setup, tmp_path: Path) -> None:
    one = keyfile.read_keys(tmp_path / "a.key", create=True)
    other = keyfile.read_keys(tmp_path / "b.key", create=True)
    assert one.fingerprint != other.fingerprint
    assert safe.fingerprint("x") == safe.fingerprint("x") != safe.fingerprint("y")
    assert (tmp_path / "a.key").stat().st_mode & 0o777 == 0o600
    assert "•••" in repr(one)


def test_a_key_file_that_is_gone_open_or_damaged_is_told(setup: Setup, tmp_path: Path) -> None:
    file = tmp_path / "safe.key"
    with pytest.raises(keyfile.BadKeyFile, match="missing"):
        keyfile.read_keys(file, create=False)
    keyfile.read_keys(file, create=True)
    file.chmod(0o644)
    with pytest.raises(keyfile.BadKeyFile, match="chmod 600"):
        keyfile.read_keys(file, create=False)
    file.chmod(0o600)
    file.write_text("{}")
    with pytest.raises(keyfile.BadKeyFile, match="damaged"):
        keyfile.read_keys(file, create=False)


def test_a_secret_does_not_reach_a_log_line(capfd: pytest.CaptureFixture[str]) -> None:
    from neatlatch.core.secret import Secret

    structlog.get_logger().warning(
        "something", value=Secret(PLANTED), held=tokens.HeldToken(PLANTED, frozenset())
    )
    out, err = capfd.readouterr()
    assert PLANTED not in out + err


def test_the_same_secret_pasted_twice_is_one_entry(setup: Setup) -> None:
    connection = setup.latched()
    for _ in range(2):
        connections.put_secret(setup.by, Connection.objects.get(pk=connection.pk), PLANTED)
    assert Credential.objects.count() == 2  # the registered one, and this
