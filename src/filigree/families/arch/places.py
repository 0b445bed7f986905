"""Where an `arch` system keeps its records, as paths below the root."""

LOCAL = "/var/lib/pacman/local"
SYNC = "/var/lib/pacman/sync"
SETTINGS = "/etc/pacman.conf"
LOG = "/var/log/pacman.log"
ARCHIVES = "/var/cache/pacman/pkg"
KEYRINGS = "/usr/share/pacman/keyrings"
HOME = "/etc/pacman.d/gnupg"
KEYS = f"{HOME}/pubring.gpg"
TRUST = f"{HOME}/trustdb.gpg"
HOOKS = ("/etc/pacman.d/hooks", "/usr/share/libalpm/hooks")
