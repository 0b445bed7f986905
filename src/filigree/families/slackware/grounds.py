"""What each answer about a `slackware` system rests on."""

from collections.abc import Mapping

from filigree.families.slackware import places

RESTS_ON: Mapping[str, str] = {
    "packages": f"a text for each in `{places.RECORDS[0]}`, or `{places.RECORDS[1]}`",
    "state": "what has a record is installed",
    "held": f"`{places.LEFT_OUT}`",
    "paths": f"the list in each record, and the links that its script in `{places.SCRIPTS[0]}` makes",
    "aspects": (
        "the kind by the record; size, mode, owner, group and time by `MANIFEST.bz2` of the same build, "
        "where it is at hand"
    ),
    "config": "what is shipped with the ending `.new`",
    "archives": "its payload; its version by its name alone",
    "offers": f"`PACKAGES.TXT` in `{places.LISTS}`, and build scripts in `{places.BUILD_SCRIPTS}`",
    "paths_offered": "`MANIFEST.bz2`, where it was fetched",
    "offers_signature": "`CHECKSUMS.md5.asc` on `CHECKSUMS.md5`: it tells digests of lists and archives",
    "keys": f"the key ring of root in `{places.RING}`",
    "choice": f"the first part of a repository that has a package, by `{places.SETTINGS}`",
    "advisories": "what `ChangeLog.txt` marks as a fix for security",
    "groups": "the series that an archive lies in",
    "history": f"`{places.REMOVED[0]}` and older places: what was removed or replaced, and when",
}
