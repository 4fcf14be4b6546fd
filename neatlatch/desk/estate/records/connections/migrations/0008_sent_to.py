"""Where secrets and tokens that stand are sent today is what they are cleared for."""

from typing import Any
from urllib.parse import urlsplit

from django.db import migrations, models

ASIDE = ("revocation_endpoint", "introspection_endpoint")
NOT_CALLED = ("redirect_uri", "issuer", "audience", "authorization_endpoint", "account")
USUAL = {"http": 80, "https": 443}
BLOCK = 500


def origin(address: str) -> str:
    try:
        parts = urlsplit(address.strip())
        host, port = (parts.hostname or "").lower(), parts.port or USUAL.get(parts.scheme)
    except ValueError:
        return ""
    if parts.scheme not in ("http", "https", "tls") or not host or not port or "{" in host:
        return ""
    return f"{parts.scheme}://{f'[{host}]' if ':' in host else host}:{port}"


def of_connection(connection: Any, prefix: str) -> set[str]:
    found: set[str] = set()
    for key, value in connection.values.items():
        before, _, bare = key.rpartition(".")
        if before != prefix or bare in NOT_CALLED or not isinstance(value, str):
            continue
        found.add(origin(f"tls://{value}" if bare == "stream_address" else value))
    return found - {""}


def aside(place: Any) -> set[str]:
    known = {**place.more, **(place.metadata or {})}
    return {origin(str(known[key])) for key in ASIDE if known.get(key)} - {""}


def fill(apps: Any, editor: Any) -> None:
    credential, tokens = (
        apps.get_model("credentials", "Credential"),
        apps.get_model("connections", "TokenSet"),
    )
    held = apps.get_model("connections", "HeldSecret")
    found: dict[Any, set[str]] = {}
    for one in held.objects.select_related("connection__place").iterator(chunk_size=BLOCK):
        prefix = one.key.rpartition(".")[0]
        found.setdefault(one.credential_id, set()).update(
            of_connection(one.connection, prefix) | aside(one.connection.place)
        )
    for identity, places in found.items():
        credential.objects.filter(pk=identity).update(sent_to=sorted(places))
    for one in tokens.objects.select_related("connection__place").iterator(chunk_size=BLOCK):
        tokens.objects.filter(pk=one.pk).update(
            sent_to=sorted(of_connection(one.connection, "") | aside(one.connection.place))
        )


class Migration(migrations.Migration):
    dependencies = [
        ("connections", "0007_token_sets"),
        ("credentials", "0008_sent_to"),
        ("applications", "0006_handing"),
    ]
    operations = [
        migrations.AddField("tokenset", "sent_to", models.JSONField(default=list)),
        migrations.RunPython(fill, migrations.RunPython.noop),
    ]
