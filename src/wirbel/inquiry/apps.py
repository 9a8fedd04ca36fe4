from django.apps import AppConfig


class InquiryConfig(AppConfig):
    name = "wirbel.inquiry"
    default_auto_field = "django.db.models.BigAutoField"
