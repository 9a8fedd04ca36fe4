"""Answers kept before get the names that answers have now."""

from django.db import migrations


def with_candidates(answer):
    if "suspects" not in answer:
        return answer
    answer["candidates"] = answer.pop("suspects")
    for judged in answer.get("changes", []):
        on_path = judged.pop("on_path", False)
        service = judged["change"].get("service")
        judged["entity"] = {"kind": "service", "name": service} if on_path and service else None
        judged["control"] = None
        judged["change"].setdefault("entity", {})
    for moved in answer.get("moved", []):
        moved["kind"], moved["name"], moved["is_symptom"] = "service", moved.pop("service"), moved.pop("symptom")
        moved["onset"] = {name: moved.pop(name) for name in ("at", "low", "high")}
    for one in answer.get("contributions", []):
        one["part"] = {name: one.pop(name) for name in ("kind", "service", "operation", "peer", "peer_kind")}
    return answer


def rename(apps, schema_editor):
    Inquiry = apps.get_model("inquiry", "Inquiry")
    for inquiry in Inquiry.objects.only("id", "answer").iterator(chunk_size=100):
        inquiry.answer = with_candidates(inquiry.answer)
        inquiry.save(update_fields=["answer"])


class Migration(migrations.Migration):
    dependencies = [("inquiry", "0001_initial")]
    operations = [migrations.RunPython(rename, migrations.RunPython.noop)]
