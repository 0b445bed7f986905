"""Who vouches for a host: the auditor's own list, and the keys in it."""

import os
from collections.abc import Collection

from filigree.formats.host_list import ListedHost, read_hosts
from filigree.formats.office_files import OfficeFileError
from filigree.model.errors import BadQuestion
from filigree.model.signatures import SignatureVerdict
from filigree.questions.keeping.statement import judge_snapshot
from filigree.system import System

_LIST_LIMIT = 64 << 20


def listed_hosts(path: str) -> dict[str, ListedHost]:
    """The hosts of a list by name, their files of keys from where the list is. Raises BadQuestion."""
    try:
        with open(path, "rb") as file:
            data = file.read(_LIST_LIMIT + 1)
        hosts = read_hosts(data)
    except OfficeFileError as error:
        raise BadQuestion(str(error), path) from error
    except OSError as error:
        raise BadQuestion(f"it cannot be read: {error.strerror}", path) from error
    folder = os.path.dirname(os.path.abspath(path))
    return {
        one.name: ListedHost(one.name, tuple(os.path.join(folder, key) for key in one.keys))
        for one in hosts
    }


def signer_of(system: System, hosts: Collection[ListedHost]) -> tuple[str, str] | None:
    """The name of the first of some hosts whose key signed a snapshot, and the fingerprint of that key;
    None where none did. It is judged once, by all of their keys."""
    judge_snapshot(system, sorted({key for host in hosts for key in host.keys}))
    found = system.snapshot_signature
    if found is None or found.verdict is not SignatureVerdict.GOOD:
        return None
    for signer in found.signers:
        for host in hosts if signer.verdict is SignatureVerdict.GOOD else ():
            if signer.key_file in host.keys:
                return host.name, signer.fingerprint
    return None
