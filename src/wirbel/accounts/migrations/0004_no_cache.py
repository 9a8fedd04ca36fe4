"""Wrong passwords are counted by django-axes in tables of its own."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("accounts", "0003_administrator")]
    operations = [migrations.RunSQL("DROP TABLE IF EXISTS accounts_cache", migrations.RunSQL.noop)]
