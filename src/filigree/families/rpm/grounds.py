"""What each answer about an `rpm` system rests on."""

from collections.abc import Mapping

from filigree.families.rpm import places

_DATABASES = ", ".join(f"`{folder}`" for folder in places.DATABASES)

RESTS_ON: Mapping[str, str] = {
    "packages": f"the headers in the database below one of {_DATABASES}",
    "state": "what is in the database is installed",
    "reason": f"`{places.REASONS}`, `{places.HISTORY}`, or `{places.OLD_STATE}`",
    "held": f"`{places.LOCK_TABLE}` and older lists of locks, `{places.PROTECTED[0]}`",
    "paths": "the names in the headers",
    "content": "the digests in the headers",
    "aspects": "size, mode, owner, group, link, device, time and capabilities in the headers",
    "config": "the flags of files in the headers",
    "moved": f"the states and flags of files in the headers, and `{places.LINK_GROUPS}`",
    "needs": "the dependencies of the headers, with paths, libraries and whole conditions",
    "record_signature": "the signatures and digests that are kept with each header",
    "archives": "its header, and the payload that this tells the digest of",
    "offers": f"`primary` in the caches `{places.CACHES[0]}`, `{places.CACHES[1]}` and others",
    "paths_offered": "`filelists`, where it was fetched",
    "offers_signature": "`repomd.xml.asc` on `repomd.xml`, which tells the digest of each index",
    "keys": f"keys in the database, and in `{places.KEYS}`",
    "choice": "the priority of each repository, then the newest version; streams of versions",
    "order": "epoch, version and release, run by run",
    "advisories": "`updateinfo`, with its severities and references",
    "groups": "`comps`",
    "history": f"the transactions of `{places.HISTORY}` and `{places.TRANSACTIONS}`, and before those "
    f"`{places.LOGS[0]}` and `{places.LOGS[1]}`",
}
