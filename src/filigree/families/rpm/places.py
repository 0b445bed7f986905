"""Where an `rpm` system keeps its records, as paths below the root."""

DATABASES = ("/var/lib/rpm", "/usr/lib/sysimage/rpm", "/usr/share/rpm")
SQLITE, SLOTS, HASH = "rpmdb.sqlite", "Packages.db", "Packages"
CONTAINERS = (SQLITE, SLOTS, HASH)

HISTORY = "/var/lib/dnf/history.sqlite"
STATE = "/usr/lib/sysimage/libdnf5"
REASONS = f"{STATE}/packages.toml"
SOURCES = f"{STATE}/nevras.toml"
TRANSACTIONS = f"{STATE}/transaction_history.sqlite"
LOGS = ("/var/log/dnf.rpm.log", "/var/log/yum.log")
OLD_STATE = "/var/lib/yum/yumdb"

LOCKS = ("/etc/dnf/plugins/versionlock.list", "/etc/yum/pluginconf.d/versionlock.list")
LOCK_TABLE = "/etc/dnf/versionlock.toml"
PROTECTED = ("/etc/dnf/protected.d", "/etc/yum/protected.d")

LINK_GROUPS = "/var/lib/alternatives"
CHOSEN_LINKS = "/etc/alternatives"

REPOSITORIES = ("/etc/yum.repos.d", "/etc/zypp/repos.d")
VARIABLES = ("/etc/yum/vars", "/etc/dnf/vars")
CACHES = ("/var/cache/dnf", "/var/cache/libdnf5", "/var/cache/zypp/raw")
OLD_CACHE = "/var/cache/yum"
OLD_CACHES = (OLD_CACHE, "/var/cache/zypp/packages")
PACKAGES = ("packages", "x86_64", "noarch", "aarch64", "i686")
SETTINGS = ("/etc/dnf/dnf.conf", "/etc/yum.conf")
KEYS = "/etc/pki/rpm-gpg"
KEY_FOLDER = "pubkeys"
STREAMS = "/etc/dnf/modules.d"
HOOKS = (
    "/etc/dnf/plugins",
    "/etc/dnf/libdnf5-plugins",
    "/etc/yum/pluginconf.d",
    "/etc/rpm",
    "/usr/lib/rpm/macros.d",
)
