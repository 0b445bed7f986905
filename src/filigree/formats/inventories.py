"""Inventories of other programs: CycloneDX (ECMA-424) and SPDX 2 in JSON, as far as they tell of
packages."""

import json
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

_DEEPEST = 32
_MOST = 2_000_000


class InventoryError(Exception):
    """Why a document is no inventory that can be read."""


class ListedPackage(NamedTuple):
    """A package as an inventory lists it. `kind` is the type of its package URL, None without one;
    `architecture` is None where nothing tells it."""

    name: str
    version: str
    architecture: str | None
    kind: str | None


class ReadInventory(NamedTuple):
    """An inventory: in which form, what it is of, when it was made (as it says), its packages, and how
    many parts of it name no package and version."""

    form: str
    label: str
    made_at: str | None
    packages: tuple[ListedPackage, ...]
    unnamed: int


def read_inventory(data: bytes) -> ReadInventory:
    """An inventory out of a document. Raises InventoryError."""
    try:
        told = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise InventoryError("it is no JSON") from error
    if not isinstance(told, dict):
        raise InventoryError("it is no document of a known form")
    if told.get("bomFormat") == "CycloneDX":
        return _cyclonedx(told)
    if str(told.get("spdxVersion", "")).startswith("SPDX-2"):
        return _spdx(told)
    raise InventoryError("it is no CycloneDX and no SPDX 2")


def _cyclonedx(told: Mapping[str, Any]) -> ReadInventory:
    metadata = _mapping(told.get("metadata"))
    label = _text(_mapping(metadata.get("component")).get("name")) or "an inventory"
    found, unnamed = [], 0
    for one in _components(told.get("components"), 0):
        if one.get("type") in ("file", "operating-system"):
            continue
        listed = _listed(one.get("purl"), one.get("name"), one.get("version"))
        if listed is None:
            unnamed += 1
        else:
            found.append(listed)
    return _whole("CycloneDX", label, metadata.get("timestamp"), found, unnamed)


def _components(told: Any, depth: int) -> Iterator[Mapping[str, Any]]:
    if depth > _DEEPEST:
        raise InventoryError(f"components within each other, more than {_DEEPEST} deep")
    for one in told if isinstance(told, list) else ():
        if isinstance(one, dict):
            yield one
            yield from _components(one.get("components"), depth + 1)


def _spdx(told: Mapping[str, Any]) -> ReadInventory:
    found, unnamed = [], 0
    packages = told.get("packages")
    for one in packages if isinstance(packages, list) else ():
        if not isinstance(one, dict) or one.get("primaryPackagePurpose") == "OPERATING-SYSTEM":
            continue
        references = one.get("externalRefs")
        urls = [
            ref.get("referenceLocator")
            for ref in (references if isinstance(references, list) else ())
            if isinstance(ref, dict) and ref.get("referenceType") == "purl"
        ]
        listed = _listed(urls[0] if urls else None, one.get("name"), one.get("versionInfo"))
        if listed is None:
            unnamed += 1
        else:
            found.append(listed)
    created = _mapping(told.get("creationInfo")).get("created")
    return _whole("SPDX", _text(told.get("name")) or "an inventory", created, found, unnamed)


def _whole(
    form: str, label: str, made_at: Any, found: list[ListedPackage], unnamed: int
) -> ReadInventory:
    if len(found) > _MOST:
        raise InventoryError(f"it lists more than {_MOST:,} packages")
    return ReadInventory(form, label, _text(made_at), tuple(dict.fromkeys(found)), unnamed)


def _listed(url: Any, name: Any, version: Any) -> ListedPackage | None:
    """What a component tells: its package URL first, and else its own name and version."""
    if isinstance(url, str) and url.startswith("pkg:"):
        from packageurl import PackageURL

        try:
            parsed = PackageURL.from_string(url)
        except ValueError:
            parsed = None
        if parsed is not None and parsed.version:
            more = {str(key): str(value) for key, value in dict(parsed.qualifiers or {}).items()}
            epoch = more.get("epoch")
            full = parsed.version
            if epoch not in (None, "", "0") and not full.startswith(f"{epoch}:"):
                full = f"{epoch}:{full}"
            return ListedPackage(parsed.name, full, more.get("arch"), parsed.type)
    words = _text(name), _text(version)
    if words[0] is None or words[1] is None:
        return None
    return ListedPackage(words[0], words[1], None, None)


def _mapping(value: Any) -> Mapping[str, Any]:
    return value if isinstance(value, dict) else {}


def _text(value: Any) -> str | None:
    return value if isinstance(value, str) and value else None
