"""Where an `arch` system keeps its records, as paths below the root."""

LOCAL = "/var/lib/pacman/local"
SYNC = "/var/lib/pacman/sync"
SETTINGS = "/etc/pacman.conf"
ARCHIVES = "/var/cache/pacman/pkg"
KEYRINGS = "/usr/share/pacman/keyrings"
HOME = "/etc/pacman.d/gnupg"
KEYS = f"{HOME}/pubring.gpg"
