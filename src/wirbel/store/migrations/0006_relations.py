"""Relations between entities, with the time in which each was seen; what each service sends."""

import django.contrib.postgres.fields
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("store", "0005_peer_addresses")]
    operations = [
        migrations.AddField(
            model_name="service",
            name="streams",
            field=django.contrib.postgres.fields.ArrayField(base_field=models.TextField(), default=list, size=None),
        ),
        migrations.CreateModel(
            name="Relation",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("environment", models.TextField()),
                ("subject_kind", models.TextField()),
                ("subject", models.TextField()),
                ("verb", models.TextField()),
                ("object_kind", models.TextField()),
                ("object", models.TextField()),
                ("first_seen", models.BigIntegerField()),
                ("last_seen", models.BigIntegerField()),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(fields=("environment", "subject_kind", "subject", "verb", "object_kind", "object"), name="one_relation")
                ]
            },
        ),
    ]
