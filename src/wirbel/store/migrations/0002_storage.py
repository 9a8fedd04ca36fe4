"""Block and segment bytes are compressed already: store them as they are, which reads faster."""

from django.db import migrations

SET = "ALTER TABLE {} ALTER COLUMN {} SET STORAGE EXTERNAL"
UNSET = "ALTER TABLE {} ALTER COLUMN {} SET STORAGE EXTENDED"
COLUMNS = [("store_block", "data"), ("store_block", "trace_filter"), ("store_segment", "data")]


class Migration(migrations.Migration):
    dependencies = [("store", "0001_initial")]
    operations = [migrations.RunSQL(SET.format(*column), UNSET.format(*column)) for column in COLUMNS]
