"""The role that may change set-up is called what the trade calls it."""

from django.db import migrations, models


def rename(before, after):
    return lambda apps, schema_editor: apps.get_model("accounts", "Person").objects.filter(role=before).update(role=after)


class Migration(migrations.Migration):
    dependencies = [("accounts", "0002_cache")]
    operations = [
        migrations.AlterField(
            model_name="person",
            name="role",
            field=models.CharField(
                choices=[
                    ("reader", "may look at everything"),
                    ("responder", "may also open and conclude inquiries"),
                    ("administrator", "may also change set-up: tokens, rules, people"),
                ],
                default="reader",
                max_length=14,
            ),
        ),
        migrations.RunPython(rename("keeper", "administrator"), rename("administrator", "keeper")),
    ]
