"""An inventory as SPDX 2.3 in JSON (ISO/IEC 5962 describes 2.2.1; 2.3 is its published successor)."""

import re
from collections.abc import Iterator
from typing import Any

from filigree.model.answer import Answer
from filigree.model.files import FileRecord
from filigree.questions.reporting.inventory import Component, InventorySummary
from filigree.views.handover.shared import (
    Handed,
    digest_of,
    identifier_of,
    is_file,
    json_lines,
    licence_expression,
    stamp,
)

NOTHING = "NOASSERTION"
_ALGORITHMS = {
    "md5": "MD5", "sha1": "SHA1", "sha256": "SHA256", "sha384": "SHA384", "sha512": "SHA512",
}  # fmt: skip
_SYSTEM = "SPDXRef-System"
_ODD = re.compile(r"[^A-Za-z0-9.]")
_BACK = re.compile(r"-([0-9a-f]+)-")


def mangled(text: str) -> str:
    """A text as the end of an identifier: letters, digits and dots stand for themselves, any other sign
    is its number between hyphens.

    >>> mangled("a+b"), original(mangled("a+b"))
    ('a-2b-b', 'a+b')
    """
    return _ODD.sub(lambda found: f"-{ord(found[0]):x}-", text)


def original(text: str) -> str:
    """The text that an end of an identifier was made of."""
    return _BACK.sub(lambda found: chr(int(found[1], 16)), text)


def spdx(answer: Answer[Component, InventorySummary], made: Handed) -> Iterator[str]:
    """The document, line by line. What nobody says is NOASSERTION; licences in words of their own are
    kept as they are told, under a reference."""
    yield from json_lines(document(answer, made))


def document(answer: Answer[Component, InventorySummary], made: Handed) -> dict[str, Any]:
    """The document as plain values."""
    unique = identifier_of("spdx", stamp(made.made_at), *(one.url for one in answer.records))
    licences: dict[str, str] = {}
    packages = [_package(one, licences) for one in answer.records]
    files = [file for one in answer.records for file in _files(one)]
    whole: dict[str, Any] = {
        "spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT",
        "name": answer.system.label or answer.system.root,
        "documentNamespace": f"urn:uuid:{unique}",
        "creationInfo": {
            "created": stamp(made.made_at), "creators": [f"Tool: {made.product}-{made.version}"],
        },
        "comment": _comment(answer),
        "packages": [_system(answer), *packages],
        "relationships": list(_relationships(answer)),
    }  # fmt: skip
    if files:
        whole["files"] = files
    if licences:
        whole["hasExtractedLicensingInfos"] = [
            {"licenseId": name, "extractedText": text, "name": text}
            for text, name in licences.items()
        ]
    return whole


def _comment(answer: Answer[Component, InventorySummary]) -> str:
    plan = answer.summary.plan
    what = f"It is what a plan would give: {plan}. " if plan else ""
    if not answer.gaps:
        return f"{what}Nothing of it could not be read."
    gaps = "; ".join(f"{gap.what}: {gap.why}" for gap in answer.gaps)
    return f"{what}It is incomplete. Not looked at: {gaps}"


def _system(answer: Answer[Component, InventorySummary]) -> dict[str, Any]:
    about = answer.summary.about
    return {
        "SPDXID": _SYSTEM, "name": about.get("NAME") or answer.system.label or answer.system.root,
        "versionInfo": about.get("VERSION_ID") or about.get("BUILD_ID") or "unknown",
        "downloadLocation": NOTHING, "filesAnalyzed": False,
        "licenseConcluded": NOTHING, "licenseDeclared": NOTHING, "copyrightText": NOTHING,
        "primaryPackagePurpose": "OPERATING-SYSTEM",
    }  # fmt: skip


def _identity(one: Component) -> str:
    return f"SPDXRef-Package-{mangled(one.url.removeprefix('pkg:'))}"


def _package(one: Component, licences: dict[str, str]) -> dict[str, Any]:
    package = one.package
    made: dict[str, Any] = {
        "SPDXID": _identity(one), "name": package.name, "versionInfo": package.version,
        "downloadLocation": NOTHING, "filesAnalyzed": False,
        "licenseConcluded": NOTHING, "licenseDeclared": _licence(package.license, licences),
        "copyrightText": NOTHING,
        "supplier": _person(package.maintainer, package.vendor),
        "externalRefs": [{
            "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl",
            "referenceLocator": one.url.partition("&also=")[0],
        }],
    }  # fmt: skip
    checksum = _checksum(one.digest)
    if checksum is not None:
        made["checksums"] = [checksum]
    if package.summary:
        made["summary"] = package.summary
    if package.homepage:
        made["homepage"] = package.homepage
    if package.source:
        made["sourceInfo"] = f"built from {package.source} {package.source_version or ''}".strip()
    if package.built_at:
        made["builtDate"] = stamp(package.built_at)
    told = [f"needs {text}, and nothing meets that" for text in one.unmet]
    if one.outsider:
        told.insert(0, "no known repository offers it")
    files = sum(map(is_file, one.files))
    missing = files - sum(1 for _ in _summed(one))
    if missing:
        told.append(f"{missing:,} files without a digest on record are left out")
    if told:
        made["comment"] = "; ".join(told)
    return made


def _person(maintainer: str | None, vendor: str | None) -> str:
    if vendor:
        return f"Organization: {vendor}"
    return f"Person: {maintainer}" if maintainer else NOTHING


def _licence(text: str | None, licences: dict[str, str]) -> str:
    if not text:
        return NOTHING
    expression = licence_expression(text)
    return expression or licences.setdefault(text, f"LicenseRef-{len(licences) + 1}")


def _summed(one: Component) -> Iterator[tuple[FileRecord, dict[str, str]]]:
    """The files that have a digest on record, each with that: the format holds no others."""
    for record in one.files:
        checksum = _checksum(record.digest) if is_file(record) else None
        if checksum is not None:
            yield record, checksum


def _checksum(told: str | None) -> dict[str, str] | None:
    digest = digest_of(told)
    algorithm = digest and _ALGORITHMS.get(digest.algorithm)
    if digest is None or algorithm is None:
        return None
    return {"algorithm": algorithm, "checksumValue": digest.hexadecimal}


def _files(one: Component) -> Iterator[dict[str, Any]]:
    for record, checksum in _summed(one):
        yield {
            "SPDXID": _file_identity(one, record), "fileName": f".{record.path}",
            "checksums": [checksum],
            "licenseConcluded": NOTHING, "licenseInfoInFiles": [NOTHING], "copyrightText": NOTHING,
        }  # fmt: skip


def _file_identity(one: Component, record: FileRecord) -> str:
    return f"SPDXRef-File-{mangled(one.url.removeprefix('pkg:'))}-23-{mangled(record.path)}"


def _relationships(answer: Answer[Component, InventorySummary]) -> Iterator[dict[str, Any]]:
    def related(one: str, how: str, other: str) -> dict[str, Any]:
        return {"spdxElementId": one, "relationshipType": how, "relatedSpdxElement": other}

    identities = {one.url: _identity(one) for one in answer.records}
    yield related("SPDXRef-DOCUMENT", "DESCRIBES", _SYSTEM)
    for one in answer.records:
        yield related(_SYSTEM, "CONTAINS", identities[one.url])
        if not answer.summary.needs_told or one.unmet:
            yield related(identities[one.url], "DEPENDS_ON", NOTHING)
        for need in sorted(one.needs):
            yield related(identities[one.url], "DEPENDS_ON", identities[need])
        for record, _ in _summed(one):
            yield related(identities[one.url], "CONTAINS", _file_identity(one, record))
