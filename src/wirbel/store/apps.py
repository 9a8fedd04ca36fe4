from django.apps import AppConfig

from wirbel.store import lean


class StoreConfig(AppConfig):
    name = "wirbel.store"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        lean.without_pandas()
