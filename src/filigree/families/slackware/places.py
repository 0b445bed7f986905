"""Where a `slackware` system keeps its records, as paths below the root; newer places first."""

RECORDS = ("/var/lib/pkgtools/packages", "/var/log/packages")
SCRIPTS = ("/var/lib/pkgtools/scripts", "/var/log/scripts")
REMOVED = (
    "/var/lib/pkgtools/removed_packages", "/var/log/pkgtools/removed_packages",
    "/var/log/removed_packages",
)  # fmt: skip
SETTINGS = "/etc/slackpkg/slackpkg.conf"
MIRRORS = "/etc/slackpkg/mirrors"
LEFT_OUT = "/etc/slackpkg/blacklist"
LISTS = "/var/lib/slackpkg"
ARCHIVES = "/var/cache/packages"
BUILD_SCRIPTS = "/usr/src/slackbuilds"
RING = "/root/.gnupg"
KEYS = f"{LISTS}/GPG-KEY"
"""The key of the distribution as it is fetched, before it is put into the ring."""

CHECKSUMS = "CHECKSUMS.md5"
PACKAGES = "PACKAGES.TXT"
FILES = "FILELIST.TXT"
CHANGES = "ChangeLog.txt"
MANIFEST = "MANIFEST.bz2"
SCRIPT_LIST = "SLACKBUILDS.TXT"
PARTS = ("patches", "slackware64", "slackware", "extra", "pasture", "testing")
"""The parts of a repository that have lists of their own, in the order in which they are asked."""
