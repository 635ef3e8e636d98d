"""Settings. Secrets and addresses come from the environment; `./strell` sets them."""

import os
import sys
import warnings
from datetime import timedelta
from pathlib import Path

from django.core.exceptions import ImproperlyConfigured

PROJECT = Path(__file__).resolve().parents[2]
STATE = Path(os.environ.get("STRELL_STATE", PROJECT / ".state"))
DIST = PROJECT / "web" / "dist"


def required(name: str) -> str:
    value = os.environ.get(name)
    if not value:
        raise ImproperlyConfigured(f"{name} is not set; start Strell with ./strell, which sets it")
    return value


SECRET_KEY = required("STRELL_SECRET_KEY")
DEBUG = False
ALLOWED_HOSTS = os.environ.get("STRELL_HOSTS", "127.0.0.1,localhost").split(",")
ROOT_URLCONF = "config.urls"
ASGI_APPLICATION = "config.asgi.application"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "axes",
    "ninja",
    "procrastinate.contrib.django",
    "people",
    "market",
    "facts",
    "venue",
    "observe",
    "strategies",
    "runs",
    "intake",
    "replay",
    "journal",
    "desk",
    "demo",
    "practice_exchange",
    "practice_broker",
    "fix_gateway",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "config.policy.ContentSecurityPolicy",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "axes.middleware.AxesMiddleware",
]
TEMPLATES: list[dict] = []

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": os.environ.get("STRELL_DB_HOST", "127.0.0.1"),
        "PORT": required("STRELL_DB_PORT"),
        "NAME": os.environ.get("STRELL_DB_NAME", "strell"),
        "USER": os.environ.get("STRELL_DB_USER", "strell"),
        "PASSWORD": required("STRELL_DB_PASSWORD"),
        "CONN_HEALTH_CHECKS": True,
        # a short reconnect: when the database is back, requests find it within seconds however long it was away
        "OPTIONS": {"pool": {"min_size": 1, "max_size": 12, "timeout": 5, "reconnect_timeout": 3}},
    }
}

PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AXES_FAILURE_LIMIT = 5
AXES_COOLOFF_TIME = timedelta(minutes=15)
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_VERBOSE = False
AXES_LOCKOUT_CALLABLE = "people.api.locked_out"

SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 14 * 24 * 3600
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
CONTENT_SECURITY_POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; "
    "font-src 'self' data:; connect-src 'self'; object-src 'none'; base-uri 'self'; form-action 'self'; "
    "frame-ancestors 'none'"
)
DATA_UPLOAD_MAX_MEMORY_SIZE = 1_000_000

# WhiteNoise sends its files by synchronous iterators; they are small
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
STATIC_URL = "/static/"
STATIC_ROOT = DIST
STORAGES = {"staticfiles": {"BACKEND": "whitenoise.storage.CompressedStaticFilesStorage"}}
WHITENOISE_IMMUTABLE_FILE_TEST = r"^.+[.-][0-9a-zA-Z_-]{8,}\.(js|css|woff2)$"

CHAIN_CACHE = Path(os.environ.get("STRELL_CHAIN_CACHE", STATE / "cubes"))
INTAKE = Path(os.environ.get("STRELL_INTAKE", STATE / "intake"))
FIX_STATE = Path(os.environ.get("STRELL_FIX_STATE", STATE / "fix"))
FIX_PORT = int(os.environ.get("STRELL_FIX_PORT", "0")) or None
VENV_SHARE = Path(sys.prefix) / "share"
RUN_LEASE_SECONDS = int(os.environ.get("STRELL_RUN_LEASE", "15"))

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": os.environ.get("STRELL_LOG_LEVEL", "WARNING")},
    "loggers": {"strell": {"level": "INFO"}, "django": {"level": os.environ.get("STRELL_LOG_LEVEL", "WARNING")}},
}
