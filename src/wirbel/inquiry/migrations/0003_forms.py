"""What lists tell of an answer gets columns of its own, so that no answer of an older form can keep a list from being shown."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("inquiry", "0002_candidates")]
    operations = [
        migrations.AddField("inquiry", "operation", models.TextField(null=True)),
        migrations.AddField("inquiry", "candidate", models.TextField(null=True)),
        migrations.AddField("inquiry", "confidence", models.FloatField(null=True)),
        migrations.AddField("inquiry", "form", models.IntegerField(default=0)),
    ]
