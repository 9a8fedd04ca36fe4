"""Django's settings. Everything that differs between installations comes from the environment."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

import dj_database_url
from csp.constants import NONE, SELF, UNSAFE_INLINE

ROOT = Path(os.environ.get("WIRBEL_ROOT") or Path(__file__).resolve().parents[3])
HOME = Path(os.environ.get("WIRBEL_HOME") or ROOT / ".wirbel" / "home")


def _secret_key() -> str:
    """Made once and kept beside the data, readable by its owner only."""
    file = HOME / "secret-key"
    if not file.exists():
        HOME.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "w") as handle:
            handle.write(secrets.token_urlsafe(50))
    return file.read_text().strip()


def _database(url: str) -> dict[str, object]:
    own = {
        "CONN_HEALTH_CHECKS": True,
        # Stock exporters give up after ten seconds: whoever waits for a database that went away is told before.
        "OPTIONS": {"pool": {"min_size": 1, "max_size": 12, "timeout": 3}},
        "DISABLE_SERVER_SIDE_CURSORS": True,
        "TEST": {"NAME": "wirbel_test"},
    }
    return {**dj_database_url.parse(url), **own}


SECRET_KEY = _secret_key()
DEBUG = False
ALLOWED_HOSTS = os.environ.get("WIRBEL_HOSTS", "127.0.0.1,localhost,[::1]").split(",")
CSRF_TRUSTED_ORIGINS = [origin for origin in os.environ.get("WIRBEL_ORIGINS", "").split(",") if origin]
DATABASES = {"default": _database(os.environ.get("WIRBEL_DATABASE_URL", "postgresql://wirbel@127.0.0.1:5499/wirbel"))}

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.postgres",
    "procrastinate.contrib.django",
    "wirbel.accounts",
    "wirbel.store",
    "wirbel.intake",
    "wirbel.inquiry",
    "wirbel.scopes",
    "wirbel.watch",
]
MIDDLEWARE = [
    "wirbel.server.away.told",
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "wirbel.server.middleware.no_store",
    "wirbel.accounts.audit.told",
]
ROOT_URLCONF = "wirbel.server.urls"
ASGI_APPLICATION = "wirbel.server.asgi.application"
AUTH_USER_MODEL = "accounts.Person"
PASSWORD_HASHERS = ["wirbel.accounts.passwords.Hasher"]
_VALIDATION = "django.contrib.auth.password_validation."
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": _VALIDATION + "MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": _VALIDATION + "UserAttributeSimilarityValidator"},
    {"NAME": _VALIDATION + "CommonPasswordValidator"},  # twenty thousand, which come with Django
]
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
STATIC_URL = "/assets/"
WHITENOISE_ROOT = ROOT / "web" / "dist"
WHITENOISE_INDEX_FILE = False
DATA_UPLOAD_MAX_MEMORY_SIZE = 17 * 2**20
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
# Behind TLS, say so: cookies are then sent over TLS only.
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = os.environ.get("WIRBEL_TLS") == "1"
if SESSION_COOKIE_SECURE:  # which no other host, and nothing without TLS, can set
    SESSION_COOKIE_NAME, CSRF_COOKIE_NAME = "__Host-sessionid", "__Host-csrftoken"
SESSION_COOKIE_AGE = round(float(os.environ.get("WIRBEL_SESSION_HOURS", 14 * 24)) * 3600)
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if SESSION_COOKIE_SECURE else 0
SECURE_CONTENT_TYPE_NOSNIFF = True
X_FRAME_OPTIONS = "DENY"
# Scripts, fonts and data come from Wirbel itself only.
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [SELF],
        "style-src": [SELF, UNSAFE_INLINE],
        "img-src": [SELF, "data:"],
        "frame-ancestors": [NONE],
        "base-uri": [NONE],
        "form-action": [SELF],
    }
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"format": "{asctime} {levelname} {name}: {message}", "style": "{"}},
    "handlers": {"stderr": {"class": "logging.StreamHandler", "formatter": "line"}},
    "root": {"handlers": ["stderr"], "level": "WARNING"},
    # A wrong password or a stranger is no event for the log of a server that says so in its answer.
    "loggers": {"wirbel": {"level": "INFO"}, "django.request": {"level": "ERROR"}, "procrastinate": {"level": "ERROR"}},
}
