"""Settings. Everything that differs between machines comes from the environment;
``docs/running.md`` lists it.
"""

from __future__ import annotations

import gc
import os
import re
from pathlib import Path
from urllib.parse import urlsplit

from csp.constants import NONE, SELF
from django.core.exceptions import ImproperlyConfigured
from huey.serializer import SignedSerializer

from neatlatch import locations
from neatlatch.core.addresses import is_loopback_host, is_network
from neatlatch.desk.ground.common import clock
from neatlatch.desk.ground.common.keyfile import BadKeyFile, secret_key

# Before anything takes the time: tests and demos may let all processes go by one clock.
clock.follow()
# Python looks for cycles after every 700 new objects, and loading a desk makes a million that stay:
# a third of each program's start went there.
gc.set_threshold(50_000, 20, 20)

HOME = Path(os.environ.get("NEATLATCH_HOME") or locations.default_home())
# Whatever a program of ours writes, a copy or an export too, is for its owner only.
os.umask(0o077)
HOME.mkdir(parents=True, exist_ok=True, mode=0o700)

# The address people open, and the one providers send them back to.
PUBLIC_URL = os.environ.get("NEATLATCH_URL", "http://127.0.0.1:8600").rstrip("/")
RETURN_ADDRESS = f"{PUBLIC_URL}/return"
_public = urlsplit(PUBLIC_URL)
SECURE = _public.scheme == "https"
if not SECURE and not is_loopback_host(_public.hostname):
    raise ImproperlyConfigured(
        "NEATLATCH_URL must be https, unless it is a loopback address: sessions and codes "
        "would travel in the open."
    )

# Certificate authorities to trust beside the machine's own, and private ranges that may be called.
TRUST = os.environ.get("NEATLATCH_TRUST", "")
ALLOWED_RANGES = tuple(
    part for part in os.environ.get("NEATLATCH_ALLOWED_RANGES", "").split(",") if part
)
# The addresses that our calls come from, as providers see them; for allow-lists. The addresses of
# proxies in front of the desk: what they say of callers in X-Forwarded-For and X-Forwarded-Proto
# counts, and what others say does not.
PROXIES = tuple(
    part for part in os.environ.get("NEATLATCH_PROXY", "").replace(",", " ").split() if part
)
if wrong := [proxy for proxy in PROXIES if not is_network(proxy)]:
    raise ImproperlyConfigured(
        f"NEATLATCH_PROXY holds {wrong[0]!r}, which is neither an address nor a network."
    )
# Whether such a proxy terminates TLS and passes the client's certificate on in a header, having
# taken away what callers put there (RFC 9440 §4). Anyone who reaches the desk past the proxy could
# tell it too, so the proxy proves itself by a secret.
PROXY_TELLS_CERTIFICATE = os.environ.get("NEATLATCH_PROXY_TELLS_CERTIFICATE", "") == "yes"
PROXY_SECRET = os.environ.get("NEATLATCH_PROXY_SECRET", "")
if PROXY_TELLS_CERTIFICATE and (not PROXIES or len(PROXY_SECRET) < 32):
    raise ImproperlyConfigured(
        "NEATLATCH_PROXY_TELLS_CERTIFICATE requires NEATLATCH_PROXY, and a "
        "NEATLATCH_PROXY_SECRET of 32 characters or more."
    )
# What certificates of the house name as their organization.
FIRM = os.environ.get("NEATLATCH_FIRM", "The house")[:64]
OUTGOING = tuple(
    part for part in os.environ.get("NEATLATCH_OUTGOING", "").replace(",", " ").split() if part
)
ROUND_MINUTES = float(
    os.environ.get("NEATLATCH_ROUND_MINUTES", "5")
)  # 0: no round begins by schedule
# Backups by schedule: where to, how often, and how many are kept.
BACKUPS = os.environ.get("NEATLATCH_BACKUPS", "")
BACKUP_HOURS = float(os.environ.get("NEATLATCH_BACKUP_HOURS", "24"))
BACKUPS_KEPT = int(os.environ.get("NEATLATCH_BACKUPS_KEPT", "14"))
if not BACKUP_HOURS > 0 or BACKUPS_KEPT < 1:
    raise ImproperlyConfigured(
        "NEATLATCH_BACKUP_HOURS must be more than 0, and NEATLATCH_BACKUPS_KEPT 1 or more."
    )
# Between two looks at whether a refresh token lives.
TOKEN_MINUTES = ROUND_MINUTES or 5.0

try:
    SECRET_KEY = secret_key(HOME)
except BadKeyFile as error:
    raise ImproperlyConfigured(str(error)) from error
DEBUG = False
# A desk of this machine goes by each of its names: commands here ask 127.0.0.1, people open
# localhost. No page from elsewhere can send these as Host.
_HERE = ["localhost", "127.0.0.1", "[::1]"]
_named = _public.hostname or "127.0.0.1"
ALLOWED_HOSTS = [
    *(_HERE if _named in ("localhost", "127.0.0.1", "::1") else [_named]),
    *os.environ.get("NEATLATCH_HOSTS", "").split(),
]
CSRF_TRUSTED_ORIGINS = [PUBLIC_URL]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "ninja",
    "csp",
    "huey.contrib.djhuey",
    "neatlatch.desk.ground.common",
    "neatlatch.desk.ground.people",
    "neatlatch.desk.ground.journal",
    "neatlatch.desk.estate.records.applications",
    "neatlatch.desk.estate.records.clients",
    "neatlatch.desk.estate.records.credentials",
    "neatlatch.desk.estate.records.connections",
    "neatlatch.desk.authority.records.house",
    "neatlatch.desk.authority.records.certificates",
    "neatlatch.desk.estate.records.workloads",
    "neatlatch.desk.estate.records.annotations",
    "neatlatch.desk.estate",
    "neatlatch.desk.work.drawing",
    "neatlatch.desk.work.access",
    "neatlatch.desk.work.inventory",
    "neatlatch.desk.work.finding",
    "neatlatch.desk.work.rounds",
    "neatlatch.desk.work.replacing",
    "neatlatch.desk.work.decommissioning",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "neatlatch.desk.ground.common.caching.of_the_api",
    "neatlatch.desk.ground.common.narrowed.middleware",
]
ROOT_URLCONF = "neatlatch.desk.pages.urls"
ASGI_APPLICATION = "neatlatch.desk.pages.asgi.application"
TEMPLATES: list[dict[str, object]] = []
DATABASES = {
    "default": {
        "ENGINE": "neatlatch.desk.ground.common.sqlite",
        "NAME": HOME / "desk.sqlite3",
        "OPTIONS": {
            "timeout": 5,
            "transaction_mode": "IMMEDIATE",
            # FULL: a refresh token that was saved must survive a power cut, because the old one may
            # be dead already.
            "init_command": (
                "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA busy_timeout=5000; "
                "PRAGMA foreign_keys=ON;"
            ),
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
TIME_ZONE = "UTC"
USE_TZ = True
LANGUAGE_CODE = "en"

# People
AUTH_USER_MODEL = "people.Person"
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {
        "NAME": "django.contrib.auth.password_validation.MinimumLengthValidator",
        "OPTIONS": {"min_length": 12},
    },
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]

# Cookies: “Secure” on everything but a loopback address, where browsers may drop such cookies.
SESSION_COOKIE_NAME = "__Host-neatlatch" if SECURE else "neatlatch"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE
SESSION_COOKIE_HTTPONLY = CSRF_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Lax"  # people come back from providers by a link
SESSION_COOKIE_AGE = 12 * 3600
SESSION_ENGINE = "neatlatch.desk.ground.people.sessions"
CSRF_COOKIE_NAME = "__Host-neatlatch-csrf" if SECURE else "neatlatch-csrf"
CSRF_FAILURE_VIEW = "neatlatch.desk.ground.common.problems.csrf_failure"
SECURE_HSTS_SECONDS = 31536000 if SECURE else 0
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
SECURE_CROSS_ORIGIN_OPENER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "img-src": [SELF],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
        "require-trusted-types-for": ["'script'"],
        "trusted-types": ["svelte-trusted-html"],
    }
}

# What an inventory may have, the largest of all bodies; a larger one is refused as a problem, not
# as a page. The ASGI application has counted before, by address; and no body is put on disk on its
# way, for it may hold secrets.
DATA_UPLOAD_MAX_MEMORY_SIZE = FILE_UPLOAD_MAX_MEMORY_SIZE = 40 * 1024 * 1024

# The built front end
DIST = Path(os.environ.get("NEATLATCH_DIST") or locations.front_end())
STATIC_URL = "/static/"
STATIC_ROOT = HOME / "static"
STATICFILES_DIRS = [("web", DIST)] if DIST.exists() else []
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {"BACKEND": "whitenoise.storage.CompressedStaticFilesStorage"},
}


def WHITENOISE_IMMUTABLE_FILE_TEST(path: str, url: str) -> bool:
    """Vite puts a hash into the names of what it builds."""
    return re.match(r"^/static/web/assets/.+-[\w-]{8}\.\w+$", url) is not None


# Background work. Its queue has a file of its own; one setting moves it to Redis. What lies in it
# is run, so what did not come from here is refused before it is unpacked.
HUEY = {
    "name": "neatlatch",
    "serializer": SignedSerializer(secret=SECRET_KEY, salt="neatlatch.queue"),
    **(
        {"huey_class": "huey.RedisHuey", "url": os.environ["NEATLATCH_REDIS"]}
        if os.environ.get("NEATLATCH_REDIS")
        else {
            "huey_class": "huey.SqliteHuey",
            "filename": str(HOME / "queue.sqlite3"),
            "fsync": True,
            "immediate": False,
        }
    ),
}

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {
        "lines": {
            "()": "structlog.stdlib.ProcessorFormatter",
            "processor": "ext://neatlatch.desk.ground.common.logs.render",
        }
    },
    "handlers": {"out": {"class": "logging.StreamHandler", "formatter": "lines"}},
    "root": {"handlers": ["out"], "level": os.environ.get("NEATLATCH_LOG", "INFO")},
    "loggers": {
        "httpx": {"level": "WARNING"},
        "httpcore": {"level": "WARNING"},
        "huey": {"level": "WARNING"},
        "django.request": {"level": "ERROR"},
        "py.warnings": {"level": "ERROR"},
    },
}
