"""The block table becomes partitioned (see store.partitions), and blocks of logs get a filter of words."""

from django.db import migrations, models

MAKE = """
ALTER TABLE store_block RENAME TO store_block_before;
DROP INDEX block_time;
DROP INDEX block_merge;
CREATE TABLE store_block (LIKE store_block_before INCLUDING STORAGE) PARTITION BY RANGE (stream, step, hour);
CREATE SEQUENCE store_block_number OWNED BY store_block.id;
SELECT setval('store_block_number', (SELECT coalesce(max(id), 0) + 1 FROM store_block_before));
ALTER TABLE store_block ALTER COLUMN id SET DEFAULT nextval('store_block_number');
CREATE INDEX store_block_id ON store_block (id);
CREATE INDEX block_time ON store_block (stream, step, time_to, time_from);
CREATE INDEX block_merge ON store_block (stream, environment, step, hour, level);
"""
KINDS = "SELECT DISTINCT stream, step, hour / %(width)s FROM store_block_before WHERE (step > 0) = %(summary)s"
DAY_NS = 24 * 3600 * 10**9


def fill(apps, schema_editor):
    """Partitions for the blocks that are there already. Their widths are those of store.partitions at this time."""
    with schema_editor.connection.cursor() as cursor:
        for summary, width in ((False, DAY_NS), (True, 28 * DAY_NS)):
            cursor.execute(KINDS, {"width": width, "summary": summary})
            for stream, step, number in cursor.fetchall():
                bounds = [stream, step, number * width, stream, step, (number + 1) * width]
                cursor.execute(
                    f"CREATE TABLE store_block_{stream}_{step}_{number} PARTITION OF store_block FOR VALUES FROM (%s, %s, %s) TO (%s, %s, %s)", bounds
                )
        cursor.execute("INSERT INTO store_block SELECT * FROM store_block_before")
        cursor.execute("DROP TABLE store_block_before")


class Migration(migrations.Migration):
    dependencies = [("store", "0003_streams")]
    operations = [
        migrations.AddField("block", "word_filter", models.BinaryField(null=True)),
        migrations.RunSQL("ALTER TABLE store_block ALTER COLUMN word_filter SET STORAGE EXTERNAL", migrations.RunSQL.noop),
        migrations.RunSQL(MAKE),
        migrations.RunPython(fill),
    ]
