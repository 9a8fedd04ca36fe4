from django.apps import AppConfig


class WatchConfig(AppConfig):
    name = "wirbel.watch"
    default_auto_field = "django.db.models.BigAutoField"
