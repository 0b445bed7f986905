"""What each answer about a `deb` system rests on."""

from collections.abc import Mapping

from filigree.families.deb import places

RESTS_ON: Mapping[str, str] = {
    "packages": f"the stanzas of `{places.STATUS}`, or of the files below `{places.STATUS_PARTS}`",
    "state": "the field `Status`",
    "reason": f"`{places.AUTOMATIC}`: what is not marked there was chosen",
    "held": "the field `Status`, and the fields `Essential` and `Protected`",
    "paths": f"the lists in `{places.INFO}`",
    "content": f"the MD5 digests in `{places.INFO}`, and those of configuration in `{places.STATUS}`",
    "aspects": f"overrides of mode and owner in `{places.OVERRIDES}`; all of them by an archive alone",
    "config": "the field `Conffiles`",
    "moved": (
        f"`{places.DIVERSIONS}`, `{places.LINK_GROUPS}`, and what `{places.CONFIGURATION}` leaves out"
    ),
    "needs": "the relation fields of the record, with versions, alternatives and architectures",
    "archives": "both payloads, and a detached signature where there is one",
    "offers": f"the indexes of packages in `{places.LISTS}`, as `{places.SOURCES}` and its parts say",
    "paths_offered": "the indexes `Contents`, where they were fetched",
    "offers_signature": "`InRelease`, or `Release` and `Release.gpg`: they tell each index's digest",
    "keys": "the key files that a repository names, or else those that count for every one",
    "choice": f"priorities by `{places.PREFERENCES}` and its parts",
    "order": "the order that the policy of the family defines",
    "advisories": "repositories that are there for security, by their label or suite",
    "history": f"`{places.LOG}`, `{places.TRANSACTIONS}` (who asked for what), and what was rotated of "
    "them",
    "groups": "the field `Task` of what is offered",
}
