"""An inventory as CycloneDX 1.6 in JSON (ECMA-424)."""

from collections.abc import Iterator, Sequence
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

_ALGORITHMS = {
    "md5": "MD5", "sha1": "SHA-1", "sha256": "SHA-256", "sha384": "SHA-384", "sha512": "SHA-512",
}  # fmt: skip


def cyclonedx(answer: Answer[Component, InventorySummary], made: Handed) -> Iterator[str]:
    """The document, line by line. Its serial number is the same for the same inventory at the same time.
    What is not sure is told as that: outsiders as of third parties, gaps as an incomplete whole."""
    yield from json_lines(document(answer, made))


def document(answer: Answer[Component, InventorySummary], made: Handed) -> dict[str, Any]:
    """The document as plain values."""
    about = answer.summary.about
    whole = f"system:{answer.system.label}"
    serial = identifier_of("cyclonedx", stamp(made.made_at), *(one.url for one in answer.records))
    return {
        "bomFormat": "CycloneDX", "specVersion": "1.6", "serialNumber": f"urn:uuid:{serial}",
        "version": 1,
        "metadata": {
            "timestamp": stamp(made.made_at),
            "tools": {
                "components": [
                    {"type": "application", "name": made.product, "version": made.version}
                ]
            },
            "component": {
                "type": "operating-system", "bom-ref": whole,
                "name": about.get("NAME") or answer.system.label,
                "version": about.get("VERSION_ID") or about.get("BUILD_ID") or "unknown",
                "properties": _properties(
                    ("family", answer.system.family), ("label", answer.system.label),
                    ("root", answer.system.root), ("seen_at", answer.system.seen_at),
                    ("plan", answer.summary.plan),
                ),
            },
            "properties": _properties(
                *(("gap", f"{gap.what}: {gap.why}") for gap in answer.gaps),
            ),
        },
        "components": [_component(one) for one in answer.records],
        "dependencies": [
            {"ref": whole, "dependsOn": [one.url for one in answer.records]},
            *({"ref": one.url, "dependsOn": sorted(one.needs)} for one in answer.records),
        ],
        "compositions": list(_compositions(answer, whole)),
    }  # fmt: skip


def _compositions(
    answer: Answer[Component, InventorySummary], whole: str
) -> Iterator[dict[str, Any]]:
    aggregate = "incomplete" if answer.gaps else "complete"
    yield {"aggregate": aggregate, "assemblies": [whole]}
    outsiders = [one.url for one in answer.records if one.outsider]
    if outsiders:
        yield {"aggregate": "incomplete_third_party_only", "dependencies": outsiders}
    unmet = [one.url for one in answer.records if one.unmet and not one.outsider]
    if unmet:
        yield {"aggregate": "incomplete", "dependencies": unmet}
    if not answer.summary.needs_told:
        every = [one.url for one in answer.records]
        yield {"aggregate": "unknown", "dependencies": every}


def _component(one: Component) -> dict[str, Any]:
    package = one.package
    made: dict[str, Any] = {
        "type": "library", "bom-ref": one.url, "name": package.name, "version": package.version,
        "purl": one.url.partition("&also=")[0], **_hashes(one.digest),
    }  # fmt: skip
    supplier = package.vendor or package.maintainer
    if supplier:
        made["supplier"] = {"name": supplier}
    if package.maintainer:
        made["publisher"] = package.maintainer
    if package.summary:
        made["description"] = package.summary
    if package.license:
        expression = licence_expression(package.license)
        made["licenses"] = (
            [{"expression": expression}] if expression else [{"license": {"name": package.license}}]
        )
    if package.homepage:
        made["externalReferences"] = [{"type": "website", "url": _address(package.homepage)}]
    made["properties"] = _properties(
        ("architecture", package.architecture), ("state", package.state.value),
        ("reason", package.reason and package.reason.value), ("source", package.source),
        ("outsider", None if one.outsider is None else str(one.outsider).lower()),
        *(("unmet", text) for text in one.unmet),
    )  # fmt: skip
    made["evidence"] = {
        "identity": [{
            "field": "purl", "confidence": 1,
            "methods": [{"technique": "manifest-analysis", "confidence": 1, "value": one.told_in}],
        }],
    }  # fmt: skip
    if one.files:
        made["components"] = [_file(one.url, record) for record in one.files if is_file(record)]
    return made


def _file(owner: str, record: FileRecord) -> dict[str, Any]:
    made: dict[str, Any] = {
        "type": "file", "bom-ref": f"{owner}#{record.path}", "name": record.path,
    }  # fmt: skip
    return made | _hashes(record.digest)


def _hashes(told: str | None) -> dict[str, Any]:
    digest = digest_of(told)
    if digest is None or digest.algorithm not in _ALGORITHMS:
        return {}
    return {"hashes": [{"alg": _ALGORITHMS[digest.algorithm], "content": digest.hexadecimal}]}


def _properties(*told: tuple[str, str | None]) -> Sequence[dict[str, str]]:
    return [{"name": f"filigree:{name}", "value": value} for name, value in told if value]


def _address(text: str) -> str:
    """An address as an IRI reference: what may not stand in one is written in percent."""
    from urllib.parse import quote

    return quote(text.encode("utf-8", "surrogateescape"), safe=":/?#@!$&'()*+,;=%-._~")
