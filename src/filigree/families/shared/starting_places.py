"""Places that decide what is run, on systems of every family (Filesystem Hierarchy Standard 3.0)."""

import re

STARTS = re.compile(
    r"/etc/(?:systemd|init\.d|rc\.d|rc[0-6S]?\.d|rc\.local$|inittab$|cron[^/]*|anacrontab$|at\.|profile\.d"
    r"|profile$|bash\.bashrc$|xdg/autostart|ld\.so\.|pam\.d|sudoers|udev/rules\.d|modules-load\.d"
    r"|modprobe\.d|NetworkManager/dispatcher\.d|network/if-|ssh/sshrc$|environment$)"
    r"|/(?:usr/)?lib/(?:systemd|udev/rules\.d|modules-load\.d|modprobe\.d)/"
    r"|/usr/share/dbus-1/(?:system-)?services/"
)
"""Where things lie that start other things, or decide what is run."""
SEARCHED = (
    "/usr/local/sbin/", "/usr/local/bin/", "/usr/sbin/", "/usr/bin/", "/sbin/", "/bin/", "/usr/games/",
)  # fmt: skip
"""Where a shell looks for programs, in its usual order."""
CERTIFICATE_STORES = (
    "/etc/ssl/certs", "/etc/pki/ca-trust", "/etc/ca-certificates", "/var/lib/ca-certificates",
)  # fmt: skip
"""Where tools of the system's own write the certificates that are trusted."""
