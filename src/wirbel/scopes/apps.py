from django.apps import AppConfig


class ScopesConfig(AppConfig):
    name = "wirbel.scopes"
    default_auto_field = "django.db.models.BigAutoField"
