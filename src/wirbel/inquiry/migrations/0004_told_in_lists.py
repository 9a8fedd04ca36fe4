"""Answers kept before get what lists tell of them."""

from django.db import migrations

AT_ONCE = 100


def told(answer):
    """Operation, title of the first candidate, and its confidence, as far as an answer of any form tells them."""
    answer = answer if isinstance(answer, dict) else {}
    candidates, symptom = answer.get("candidates"), answer.get("symptom")
    first = candidates[0] if isinstance(candidates, list) and candidates and isinstance(candidates[0], dict) else {}
    entity = first.get("entity") if isinstance(first.get("entity"), dict) else {}
    confidence = first.get("confidence")
    return {
        "operation": symptom.get("operation") if isinstance(symptom, dict) else None,
        "candidate": first.get("title") or entity.get("name") or None,
        "confidence": confidence if isinstance(confidence, int | float) else None,
    }


def fill(apps, schema_editor):
    Inquiry = apps.get_model("inquiry", "Inquiry")
    for inquiry in Inquiry.objects.only("id", "answer").iterator(chunk_size=AT_ONCE):
        Inquiry.objects.filter(pk=inquiry.pk).update(**told(inquiry.answer))


class Migration(migrations.Migration):
    atomic = False  # many answers are not rewritten in one transaction; begun again, it does the same
    dependencies = [("inquiry", "0003_forms")]
    operations = [migrations.RunPython(fill, migrations.RunPython.noop)]
