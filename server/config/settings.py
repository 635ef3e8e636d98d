"""Django's settings. What comes from the environment is read in :mod:`config.environment`."""

import sys
import tomllib
import warnings
from datetime import timedelta
from pathlib import Path

from django.utils.crypto import salted_hmac

from config.environment import PROJECT, read

GIVEN = read()
STATE = GIVEN.state
VERSION = tomllib.loads((PROJECT / "pyproject.toml").read_text())["project"]["version"]
DIST = PROJECT / "web" / "dist"


SECRET_KEY = GIVEN.secret_key
DEBUG = False
ALLOWED_HOSTS = GIVEN.hosts.split(",")
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
    "sweeps",
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
    "config.edge.Edge",
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
TEMPLATES: list[dict[str, object]] = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": GIVEN.db_host,
        "PORT": GIVEN.db_port,
        "NAME": GIVEN.db_name,
        "USER": GIVEN.db_user,
        "PASSWORD": GIVEN.db_password,
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

# browsers keep cookies by host whatever the port: two installations on one machine must not sign each other out
_HERE = salted_hmac("cookies", "installation", secret=SECRET_KEY).hexdigest()[:8]
SESSION_COOKIE_NAME, CSRF_COOKIE_NAME = f"strell_session_{_HERE}", f"strell_csrf_{_HERE}"
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

CHAIN_CACHE = GIVEN.chain_cache or STATE / "cubes"
INTAKE = GIVEN.intake or STATE / "intake"
FIX_STATE = GIVEN.fix_state or STATE / "fix"
VENV_SHARE = Path(sys.prefix) / "share"
RUN_LEASE_SECONDS = GIVEN.run_lease
STALE_SECONDS = GIVEN.stale_seconds

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": GIVEN.log_level},
    "loggers": {"strell": {"level": "INFO"}, "django": {"level": GIVEN.log_level}},
}
