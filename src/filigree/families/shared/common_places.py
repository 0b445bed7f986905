"""Where systems of whatever family declare what is made when they start, as paths below the root."""

import re

TEMPORARY = (
    "/usr/lib/tmpfiles.d", "/usr/local/lib/tmpfiles.d", "/run/tmpfiles.d", "/etc/tmpfiles.d",
)  # fmt: skip
USERS = ("/usr/lib/sysusers.d", "/run/sysusers.d", "/etc/sysusers.d")
COMMON = ("/etc/", "/usr/lib/os-release")
"""What every family's systems have: settings, accounts, what the system says of itself."""
ACCOUNTS = re.compile(r"/etc/(?:passwd|group|shadow|gshadow|subuid|subgid)-?")
