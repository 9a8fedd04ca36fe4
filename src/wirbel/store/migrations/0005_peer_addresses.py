"""Addresses are of an environment and grow old. What was known is learned anew from the next calls."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("store", "0004_partitions")]
    operations = [
        migrations.DeleteModel("PeerAddress"),
        migrations.CreateModel(
            name="PeerAddress",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("environment", models.TextField()),
                ("address", models.TextField()),
                ("service", models.TextField()),
                ("last_seen", models.BigIntegerField()),
            ],
            options={"constraints": [models.UniqueConstraint(fields=("environment", "address"), name="one_peer_address")]},
        ),
    ]
