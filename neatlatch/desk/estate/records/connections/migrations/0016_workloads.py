"""The workloads of a connection are counted; they were called users."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("connections", "0015_lacks")]
    operations = [migrations.RenameField("summary", "users", "workloads")]
