"""Pins of many connections in one pass, and a page of a long list against the bare SQL for the same rows.

    python -m bench.pins [how many, 10000]

Fills a database of its own in a temporary folder. Prints the time for the pins of N/10 and of N connections (aim: growth linear), and the time of
``GET /api/connections`` with N connections against the bare SQL that fetches the same hundred rows (aim: within 3 times).
"""

from __future__ import annotations

import json
import os
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any


def median_ms(act: Callable[[], Any], times: int) -> float:
    """The median of several runs, in milliseconds."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        act()
        found.append((time.perf_counter() - begun) * 1000)
    return statistics.median(found)


def fill(count: int) -> None:
    """``count`` connections of four kinds over a hundred applications in three environments, each with a secret and a user."""
    from django.utils import timezone

    from neatlatch.core import profiles
    from neatlatch.desk.estate.applications.shipped import shipped
    from neatlatch.desk.estate.records.applications.models import Application, Environment, Place
    from neatlatch.desk.estate.records.clients.models import Client
    from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
    from neatlatch.desk.estate.records.credentials.models import Credential
    from neatlatch.desk.estate.records.users.models import Use, User

    now, environments = timezone.now(), list(Environment.objects.all())
    kinds = [("cargo-manifests", "oauth2_client"), ("fare-kiosks", "api_key"), ("repair-tickets", "basic"), ("lost-property", "bearer")]
    kept = {name: profiles.to_dict(profiles.from_dict(shipped()[name]["profile"])) for name, _ in kinds}
    applications = [Application.objects.create(key=f"app-{n}", name=f"Application {n}", profile=kept[kinds[n % 4][0]]) for n in range(100)]
    places = [Place.objects.create(application=one, environment=env, issuer="https://ids.example", token_endpoint="https://ids.example/t",
                                   api_base=f"https://{env.key}.example/{one.key}", changed_at=now) for one in applications for env in environments]  # fmt: skip
    clients, made, secrets, held, users, used = [], [], [], [], [], []
    for number in range(count):
        place = places[number % len(places)]
        scheme = kinds[(place.application_id - 1) % 4][1]
        client = Client(place=place, name="Ferries", client_id="c1", scheme=scheme, grants=["client_credentials"], scopes=["manifest.read"],
                        facts={"username": "svc"}, state="live", changed_at=now)  # fmt: skip
        values = {"api_base": place.api_base, "client_id": "c1", "issuer": place.issuer, "token_endpoint": place.token_endpoint,
                  "client_sign_in": "client_secret_basic", "username": "svc"}  # fmt: skip
        one = Connection(
            ref=f"connection-{number:05}",
            place=place,
            client=client,
            scheme=scheme,
            values=values,
            scopes=["manifest.read"],
            changed_at=now,
        )
        key = {"oauth2_client": "client_secret", "api_key": "api_key", "basic": "password", "bearer": "token"}[scheme]
        secret = Credential(kind=key, value=b"", fingerprint=f"{number:064x}", hint="…k7Qd", issued=now, client=client, source="pasted")
        clients.append(client)
        made.append(one)
        secrets.append(secret)
        held.append(HeldSecret(connection=one, key=key, credential=secret))
        user = User(name=f"Night run {number}", environment=place.environment, changed_at=now)
        users.append(user)
        used.append(Use(user=user, application=place.application, connection=one, operations=["GET /manifests"]))
    for rows in (clients, made, secrets, held, users, used):
        type(rows[0]).objects.bulk_create(rows, batch_size=500)


def main() -> None:
    """Fill, measure, print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    home = Path(tempfile.mkdtemp(prefix="neatlatch-bench-"))
    os.environ.update({"NEATLATCH_HOME": str(home), "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings"})
    import django

    django.setup()
    from django.core.management import call_command
    from django.db import connection as database
    from django.test import Client as WebClient
    from django.utils import timezone

    from neatlatch.desk.estate.connections import halves
    from neatlatch.desk.estate.records.connections.models import Connection
    from neatlatch.desk.ground.people.models import Person
    from neatlatch.desk.pages.connections.rows import _kept as kept_rows

    call_command("migrate", verbosity=0)
    fill(count)
    now = timezone.now()

    def pins(some: int) -> int:
        return sum(len(halves.work_out(one, now)) for one in halves.each(Connection.objects.order_by("ref")[:some]))

    few, many = median_ms(lambda: pins(count // 10), 3), median_ms(lambda: pins(count), 3)
    print(f"pins of {count // 10} connections: {few:.0f} ms; of {count}: {many:.0f} ms; {many / few:.1f} times for 10 times as many")
    print(f"that is {many / count * 1000:.0f} µs for each connection, reading it included")

    web = WebClient(HTTP_HOST="127.0.0.1")
    web.force_login(Person.objects.create_user("bench", password="x", role="reader"), backend="django.contrib.auth.backends.ModelBackend")
    query = str(Connection.objects.select_related("place__application", "place__environment", "client").order_by("ref")[:100].query)
    wanted = """SELECT * FROM connections_heldsecret h JOIN credentials_credential c ON c.id = h.credential_id WHERE h.connection_id IN
                (SELECT id FROM connections_connection ORDER BY ref LIMIT 100)"""
    users = "SELECT * FROM users_use JOIN users_user ON users_user.id = users_use.user_id WHERE connection_id IN (SELECT id FROM connections_connection ORDER BY ref LIMIT 100)"

    def bare() -> str:
        with database.cursor() as cursor:
            found = [cursor.execute(one).fetchall() for one in (query, wanted, users)]
        return json.dumps([len(one) for one in found])

    def page() -> None:
        assert web.get("/api/connections").status_code == 200

    page()
    plain, served = [], []
    for _ in range(30):
        plain.append(median_ms(bare, 1))
        served.append(median_ms(page, 1))
    a, b = statistics.median(plain), statistics.median(served)
    cold = median_ms(lambda: (kept_rows.clear(), page()), 5)
    print(f"a page of 100 whose rows are all to be worked out anew: {cold:.0f} ms")
    print(f"a page of 100 out of {count}: {b:.1f} ms; the bare SQL for the same rows: {a:.1f} ms; {b / a:.1f} times")


if __name__ == "__main__":
    main()
