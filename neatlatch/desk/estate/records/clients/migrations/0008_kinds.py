"""What a client is stands in a column of its own: an OAuth client, an account, a certificate
holder, a resource server, a user's key.
"""

from typing import Any

from django.db import migrations, models
from django.db.models import Case, Q, Value, When

_OAUTH2 = ("oauth2_code", "oauth2_client", "oauth2_jwt")
_PROXIES = ("OAuthClient", "ProviderAccount", "CertificateHolder", "ResourceServer", "WorkloadKey")


def name_kinds(apps: Any, editor: Any) -> None:
    apps.get_model("clients", "Client").objects.update(
        kind=Case(
            When(Q(resource=True), then=Value("resource_server")),
            When(Q(user__isnull=False), then=Value("workload_key")),
            When(Q(scheme="certificate"), then=Value("certificate_holder")),
            When(Q(scheme__in=_OAUTH2), then=Value("oauth_client")),
            default=Value("account"),
        )
    )


def name_resources(apps: Any, editor: Any) -> None:
    apps.get_model("clients", "Client").objects.filter(kind="resource_server").update(resource=True)


class Migration(migrations.Migration):
    dependencies = [("clients", "0007_ceiling")]
    operations = [
        migrations.AddField(
            "client",
            "kind",
            models.CharField(
                choices=[
                    ("oauth_client", "Oauth Client"),
                    ("account", "Account"),
                    ("certificate_holder", "Certificate Holder"),
                    ("resource_server", "Resource Server"),
                    ("workload_key", "Workload Key"),
                ],
                default="",
                max_length=20,
            ),
            preserve_default=False,
        ),
        migrations.RunPython(name_kinds, name_resources),
        migrations.RemoveField("client", "resource"),
        *(
            migrations.CreateModel(
                name,
                [],
                {"proxy": True, "indexes": [], "constraints": []},
                bases=("clients.client",),
            )
            for name in _PROXIES
        ),
    ]
