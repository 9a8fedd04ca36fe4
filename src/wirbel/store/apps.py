from django.apps import AppConfig
from django.db.models import TextField

from wirbel.store import lean, lookups


class StoreConfig(AppConfig):
    name = "wirbel.store"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        lean.without_pandas()
        TextField.register_lookup(lookups.AnyOf)
