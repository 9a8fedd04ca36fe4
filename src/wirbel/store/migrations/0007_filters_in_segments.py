"""Filters of trace ids and words are made again in segments, of which a look-up reads one; and stored so that it can."""

from io import BytesIO

import numpy as np
import pyarrow.parquet as pq
from django.db import migrations

from wirbel.core import arrow, words
from wirbel.store import bloom


def make_again(apps, schema_editor):
    Block = apps.get_model("store", "Block")
    held = Block.objects.exclude(trace_filter=None, word_filter=None)
    for block_id in list(held.order_by("id").values_list("id", flat=True)):
        block = held.filter(id=block_id).only("data", "word_filter", "trace_filter").get()
        file = pq.ParquetFile(BytesIO(block.data))
        changed = {}
        if block.trace_filter is not None:
            traces = np.unique(arrow.ids(file.read(columns=["trace_id"])["trace_id"], 16), axis=0)
            changed["trace_filter"] = bloom.build(traces[traces.any(axis=1)])
        if block.word_filter is not None:
            changed["word_filter"] = bloom.build(words.distinct(file.read(columns=["body"])["body"]))
        Block.objects.filter(id=block_id).update(**changed)


class Migration(migrations.Migration):
    atomic = False  # block by block: what is done may stay

    dependencies = [("store", "0006_relations")]

    operations = [
        migrations.RunSQL(
            "ALTER TABLE store_block ALTER COLUMN trace_filter SET STORAGE EXTERNAL",
            "ALTER TABLE store_block ALTER COLUMN trace_filter SET STORAGE EXTENDED",
        ),
        migrations.RunPython(make_again, make_again),
    ]
