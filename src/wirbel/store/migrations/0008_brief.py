"""What most questions want of a block is kept beside it; of older blocks it is made when they are asked."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("store", "0007_filters_in_segments")]

    operations = [
        migrations.AddField("block", "brief", models.BinaryField(null=True)),
        migrations.AddField("block", "brief_rest", models.BinaryField(null=True)),
        *(
            migrations.RunSQL(
                f"ALTER TABLE store_block ALTER COLUMN {name} SET STORAGE EXTERNAL", f"ALTER TABLE store_block ALTER COLUMN {name} SET STORAGE EXTENDED"
            )
            for name in ("brief", "brief_rest")
        ),
    ]
