"""What each answer about an `arch` system rests on."""

from collections.abc import Mapping

from filigree.families.arch import places

RESTS_ON: Mapping[str, str] = {
    "packages": f"`desc` in the folder of each package below `{places.LOCAL}`",
    "state": "what has a folder is installed",
    "reason": "the field `REASON`",
    "held": f"`IgnorePkg`, `IgnoreGroup` and `HoldPkg` in `{places.SETTINGS}`",
    "paths": "`files` in the folder of each package",
    "content": "the digests of `mtree` in the folder of each package",
    "aspects": "size, mode, owner, group, link and time of `mtree`",
    "config": "the field `BACKUP`",
    "moved": f"`NoExtract` in `{places.SETTINGS}`",
    "needs": "the fields `DEPENDS`, `OPTDEPENDS` (with what each is for), `CONFLICTS`, `REPLACES`",
    "archives": "its payload, held against the listing that it carries",
    "offers": f"the databases in `{places.SYNC}`, as `{places.SETTINGS}` says",
    "paths_offered": "the databases of files there, where they were fetched",
    "offers_signature": "a signature beside each database, and one of each archive within it",
    "keys": f"the key ring in `{places.HOME}`, filled from `{places.KEYRINGS}`, as "
    f"`{places.TRUST}` holds them for valid",
    "choice": "the first repository that has a package",
    "order": "epoch, version and release, run by run",
    "groups": "the field `GROUPS` of what is offered",
    "history": f"`{places.LOG}`",
}
