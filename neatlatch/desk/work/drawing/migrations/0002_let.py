"""Whoever may draw a secret today was let to."""

from typing import Any

from django.db import migrations


def let(apps: Any, editor: Any) -> None:
    client, use = apps.get_model("clients", "Client"), apps.get_model("users", "Use")
    held, credential = (
        apps.get_model("connections", "HeldSecret"),
        apps.get_model("credentials", "Credential"),
    )
    drawing = {
        one.user_id
        for one in client.objects.exclude(user=None).only("user_id", "scopes").iterator()
        if "draw" in one.scopes
    }
    found: dict[Any, set[str]] = {}
    for one in use.objects.filter(user__in=list(drawing)).exclude(connection=None).iterator():
        for identity in held.objects.filter(connection=one.connection_id).values_list(
            "credential", flat=True
        ):
            found.setdefault(identity, set()).add(str(one.user_id))
    for identity, users in found.items():
        credential.objects.filter(pk=identity).update(drawn_by=sorted(users))


class Migration(migrations.Migration):
    dependencies = [
        ("drawing", "0001_initial"),
        ("credentials", "0009_drawn_by"),
        ("connections", "0008_sent_to"),
        ("clients", "0007_ceiling"),
        ("users", "0002_from_connections"),
    ]
    operations = [migrations.RunPython(let, migrations.RunPython.noop)]
