"""A table for what several server processes must know together for a minute, such as wrong passwords."""

from django.core.management import call_command
from django.db import migrations


def make(apps, schema_editor):
    call_command("createcachetable", "accounts_cache", verbosity=0)


class Migration(migrations.Migration):
    dependencies = [("accounts", "0001_initial")]
    operations = [migrations.RunPython(make, migrations.RunPython.noop)]
