from django.apps import AppConfig


class StoreConfig(AppConfig):
    name = "wirbel.store"
    default_auto_field = "django.db.models.BigAutoField"
