"""Where an `apk` system keeps its records, as paths below the root."""

RECORDS = ("/lib/apk/db", "/usr/lib/apk/db")
"""Where records may lie; newer systems have them in the second. The first that is there counts."""
INSTALLED = "installed"
SCRIPTS = ("scripts.tar", "scripts.tar.gz")
TRIGGERS = "triggers"
SETTINGS = "/etc/apk"
WORLD = f"{SETTINGS}/world"
MACHINE = f"{SETTINGS}/arch"
PROTECTED = f"{SETTINGS}/protected_paths.d"
REPOSITORIES = f"{SETTINGS}/repositories"
MORE_REPOSITORIES = f"{SETTINGS}/repositories.d"
KEYS = f"{SETTINGS}/keys"
SHIPPED_KEYS = "/usr/share/apk/keys"
CACHE_LINK = f"{SETTINGS}/cache"
CACHE = "/var/cache/apk"
LOG = "/var/log/apk.log"
HOOKS = (f"{SETTINGS}/commit_hooks.d",)
KEPT_ENDING = ".apk-new"
