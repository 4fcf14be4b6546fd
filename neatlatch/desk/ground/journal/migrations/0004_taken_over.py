"""A journal that was written before entries were keyed is taken over by a keyed entry at once."""

from typing import Any

from django.db import migrations

from neatlatch.desk.ground.journal import services


def take_over(apps: Any, editor: Any) -> None:
    # The service, because what a code covers is the model's own business. A later migration that
    # changes the columns of an entry has to write out here what is done today.
    services.take_over_old()


class Migration(migrations.Migration):
    dependencies = [("journal", "0003_keyed")]
    operations = [migrations.RunPython(take_over, migrations.RunPython.noop)]
