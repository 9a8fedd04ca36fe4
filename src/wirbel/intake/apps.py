from django.apps import AppConfig


class IntakeConfig(AppConfig):
    name = "wirbel.intake"
    default_auto_field = "django.db.models.BigAutoField"
