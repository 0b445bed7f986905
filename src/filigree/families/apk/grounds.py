"""What each answer about an `apk` system rests on."""

from collections.abc import Mapping

from filigree.families.apk import places

_INSTALLED = (
    f"`{places.RECORDS[0]}/{places.INSTALLED}` (newer: `{places.RECORDS[1]}/{places.INSTALLED}`)"
)
RESTS_ON: Mapping[str, str] = {
    "packages": _INSTALLED,
    "state": "what is on record is installed; its flags of what is broken",
    "reason": f"`{places.WORLD}`: what was asked for",
    "held": f"a version, or an identity, that `{places.WORLD}` asks for",
    "paths": _INSTALLED,
    "content": (
        "digests by SHA-1 (newer records: SHA-256), of a link those of its target. Whoever makes two "
        "files of one SHA-1 can have the one shipped and put the other in its place: nothing on record "
        "tells them apart. An archive that is signed with SHA-256, or more, does"
    ),
    "aspects": (
        "mode, owner and group of the record, the usual ones where it is silent (newer records: size, "
        "time, link and device, too)"
    ),
    "config": (
        "what is below `/etc`, but for `/etc/init.d` and `/etc/apk`, as the lists in "
        f"`{places.PROTECTED}` change that"
    ),
    "needs": (
        "what is needed, what must be absent, what is provided, what comes with others, whose files are "
        "taken over"
    ),
    "archives": (
        "members of gzip, of which the second tells the digest of the third; or blocks, of which the "
        "first tells the digests of the others"
    ),
    "offers": (
        f"indexes in `{places.CACHE}`, or where `{places.CACHE_LINK}` leads, as "
        f"`{places.REPOSITORIES}` says; what is for security by a branch's own database of fixes, where "
        "a file of it (JSON) lies there or among your own copies: nobody signs it"
    ),
    "offers_signature": (
        "the first member of an index, by a bare RSA key: weak where it is made with SHA-1"
    ),
    "keys": (
        f"files in `{places.KEYS}`, and in `{places.SHIPPED_KEYS}` for the kind of machine, by their "
        "names"
    ),
    "choice": "the newest version; of repositories with a tag only what is asked for by it",
    "order": "numbers, letter, suffixes before and after a release, a commit's mark, revision",
    "history": f"`{places.LOG}`, where the system keeps one",
}
