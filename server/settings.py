"""Settings of the server, read once from the environment of one instance."""

from __future__ import annotations

import os
from pathlib import Path

from server.instance.bounds import BYTES_PER_MINUTE as BYTES_PER_MINUTE
from server.instance.bounds import MESSAGES_PER_MINUTE as MESSAGES_PER_MINUTE
from server.instance.instance import Instance

INSTANCE = Instance.from_environment()
BASE_DIR = Path(__file__).resolve().parent.parent

SECRET_KEY = INSTANCE.secret("django")
DEBUG = False
PUBLIC_ADDRESS = os.environ.get("OCULUM_ADDRESS") or INSTANCE.address  # what stands in messages
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *filter(None, os.environ.get("OCULUM_HOSTS", "").split(","))]
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "rest_framework",
    "drf_spectacular",
    "drf_spectacular_sidecar",
    "server.records.people",
    "server.records.fleet",
    "server.records.senders",
    "server.records.definitions",
    "server.records.again",
    "server.records.alarms",
    "server.records.telling",
    "server.store",
]
MIDDLEWARE = [
    "django.middleware.gzip.GZipMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "server.requests.policy.ContentPolicy",
    "server.requests.errors.Readable",
]
ROOT_URLCONF = "server.api.urls"
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": str(INSTANCE.database_host),
        "PORT": str(INSTANCE.database_port),
        "NAME": INSTANCE.database_name,
        "USER": "oculum",
        "PASSWORD": INSTANCE.secret("database"),
        "CONN_HEALTH_CHECKS": True,  # a connection that a restart of the database has cut is not handed to anybody
        "OPTIONS": {
            "pool": {"min_size": 1, "max_size": 12, "timeout": 15},
            # In the web process: no question of a person holds a connection for ever, or waits for ever for another's.
            "options": os.environ.get("OCULUM_DATABASE_OPTIONS", ""),
        },
    }
}
AUTH_USER_MODEL = "access.Person"
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
SESSION_COOKIE_NAME = f"oculum_session_{INSTANCE.web_port}"
CSRF_COOKIE_NAME = f"oculum_csrf_{INSTANCE.web_port}"
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 14 * 86400
# Behind a proxy that speaks TLS, cookies travel by TLS only.
PROXIED = bool(os.environ.get("OCULUM_PROXIES"))
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = PROXIED
CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in filter(None, os.environ.get("OCULUM_HOSTS", "").split(","))]
X_FRAME_OPTIONS = "DENY"
SECURE_REFERRER_POLICY = "same-origin"
DATA_UPLOAD_MAX_MEMORY_SIZE = 2 * 1024 * 1024
LANGUAGE_CODE = "en"
TIME_ZONE = "UTC"
USE_TZ = True
USE_I18N = False
DEFAULT_AUTO_FIELD = "django.db.models.AutoField"
STATIC_URL = "/static/"
STATIC_ROOT = INSTANCE.folder / "static"
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {
        "plain": {
            "()": "server.instance.logs.SafeFormatter",
            "format": "%(asctime)s %(levelname)s %(name)s: %(message)s",
        }
    },
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "plain"}},
    "root": {"handlers": ["console"], "level": "INFO"},
    "loggers": {"django.request": {"level": "ERROR"}, "psycopg.pool": {"level": "ERROR"}},
}
REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "server.requests.authentication.TokenAuthentication",
        "server.requests.authentication.SessionAuthentication",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["server.requests.permissions.ByRole"],
    "DEFAULT_PAGINATION_CLASS": "server.requests.paging.Pages",
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["server.requests.parsing.Json"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "server.requests.errors.handler",
    "UNAUTHENTICATED_USER": None,
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Oculum",
    "DESCRIPTION": "Devices, arrivals, definitions, readings and alarms.",
    "VERSION": "1",
    "SERVE_INCLUDE_SCHEMA": False,
    "SWAGGER_UI_DIST": "SIDECAR",
    "SWAGGER_UI_FAVICON_HREF": "SIDECAR",
    "COMPONENT_SPLIT_REQUEST": True,
    "PATH_CONVERTER_OVERRIDES": {"id": {"type": "integer", "minimum": 0, "maximum": 999_999_999_999_999}},
    "POSTPROCESSING_HOOKS": ["drf_spectacular.hooks.postprocess_schema_enums", "server.api.document.complete"],
    "ENUM_NAME_OVERRIDES": {
        "FieldKind": "server.records.fleet.models.KINDS",
        "DeviceStateWord": "server.rules.states.STATES",
    },
}

# Bounds. Each stands in docs/operation.md.
MESSAGE_BYTES = 65_536
UNKNOWN_SENDERS = 100
UNKNOWN_MESSAGES = 1_000
RAW_RETENTION_DAYS = int(os.environ.get("OCULUM_RAW_DAYS", "90"))
READING_RETENTION_DAYS = 1_000
DISK_RESERVE_BYTES = int(os.environ.get("OCULUM_DISK_RESERVE", str(512 * 1024 * 1024)))

# The map: what is drawn below (GeoJSON), and tiles of somebody else over it, as `https://.../{z}/{x}/{y}.png`.
GROUND = Path(os.environ.get("OCULUM_GROUND") or Path(__file__).parent / "api" / "places" / "ground.geojson")
TILES = os.environ.get("OCULUM_TILES", "")
TILES_WORDS = os.environ.get("OCULUM_TILES_WORDS", "")
