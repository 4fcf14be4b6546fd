"""A key belongs to a workload; they were called users."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [
        ("clients", "0009_by_name"),
        ("users", "0004_workloads"),
        # It reads the field by the name that it had.
        ("credentials", "0012_owners"),
    ]
    operations = [migrations.RenameField("client", "user", "workload")]
