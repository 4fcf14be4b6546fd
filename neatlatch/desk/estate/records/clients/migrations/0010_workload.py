"""A key belongs to a workload; they were called users."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("clients", "0009_by_name"), ("users", "0004_workloads")]
    operations = [migrations.RenameField("client", "user", "workload")]
